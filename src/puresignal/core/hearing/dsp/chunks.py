"""Long recordings piece by piece: each with what sounds before and after it, so that nothing is heard otherwise there.

What a whole recording needs in memory is then what was found out about it, not the sound itself.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing.dsp import spectra

COMMON = 6_160
"""Samples into which the hop of every analysis goes, at full and at half rate."""
OWN, MARGIN = 100 * COMMON, 4 * COMMON

Source = np.ndarray | Callable[[], Iterator[np.ndarray]]
"""A recording: (n,) samples, or what gives it block by block, as often as it is asked."""
Progress = Callable[[float], None]
"""Told how many samples have been heard; what it raises ends the analysis."""


@dataclass(frozen=True, eq=False)
class Piece:
    """samples (n,) float32; `lead` of them belong to the piece before, then `own` are its own. last: none follows."""

    samples: np.ndarray
    lead: int
    own: int
    last: bool

    def frames(self, hop: int) -> slice:
        """Its own among frames `hop` samples apart, of which the first is at the first sample."""
        first = self.lead // hop
        return slice(first, first + self.own // hop + (1 if self.last else 0))


def blocks(source: Source) -> Iterator[np.ndarray]:
    """The recording block by block."""
    if isinstance(source, np.ndarray):
        if len(source):
            yield np.asarray(source, np.float32)
    else:
        yield from source()


def pieces(source: Source, progress: Progress | None = None) -> Iterator[Piece]:
    """The recording in pieces; none for no samples."""
    held, lead, heard = np.zeros(0, np.float32), 0, 0
    for block in blocks(source):
        held = np.concatenate([held, block]) if len(held) else block
        while len(held) > lead + OWN + MARGIN:
            yield Piece(spectra.mono(held[: lead + OWN + MARGIN]), lead, OWN, False)
            heard += OWN
            if progress is not None:
                progress(heard)
            held, lead = held[lead + OWN - MARGIN :], MARGIN
    if len(held) > lead:
        yield Piece(spectra.mono(held), lead, len(held) - lead, True)
        if progress is not None:
            progress(heard + len(held) - lead)


def excerpts(source: Source, every: int = 8, length: int = 16_384) -> Iterator[np.ndarray]:
    """Excerpts from all over the recording, one of `every` stretches; all of what is short."""
    number = 0
    for block in blocks(source):
        for begin in range(0, len(block), length):
            if len(block) <= 8 * length or number % every == 0:
                yield block[begin : begin + length]
            number += 1
