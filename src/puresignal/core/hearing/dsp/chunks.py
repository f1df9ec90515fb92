"""Long recordings in overlapping pieces, so that the edges of a piece do not change the analysis.

Memory then depends on the results of the analysis, not on the length of the sound.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing.dsp import spectra

COMMON = 6_160
"""Samples per piece are multiples of this, which every analysis hop divides, at full and at half rate."""
OWN, MARGIN = 100 * COMMON, 4 * COMMON

Source = np.ndarray | Callable[[], Iterator[np.ndarray]]
"""A recording: (n,) samples, or a function that yields it block by block each time it is called."""
Progress = Callable[[float], None]
"""Called with the number of samples analysed; an exception from it ends the analysis."""


@dataclass(frozen=True, eq=False)
class Piece:
    """samples: (n,) float32, of which `lead` belong to the piece before and the next `own` are its own. last: the
    end."""

    samples: np.ndarray
    lead: int
    own: int
    last: bool

    def frames(self, hop: int) -> slice:
        """Its own frames among frames `hop` samples apart, the first of which is at the first sample."""
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
    """The recording in pieces; none if it is empty."""
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
    """Excerpts spread over the recording, one in every `every` stretches; all of a short recording."""
    number = 0
    for block in blocks(source):
        for begin in range(0, len(block), length):
            if len(block) <= 8 * length or number % every == 0:
                yield block[begin : begin + length]
            number += 1
