"""Phrases: stretches of playing without a long pause, found in everything that arrived."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from puresignal.core.midi import messages
from puresignal.core.midi.columns import distinct

PAUSE = 4.0
"""Seconds of silence that separate two phrases."""
SLOTS = 48
"""Bins of a phrase's density picture."""


@dataclass(frozen=True)
class Stretch:
    """Playing on one input between two pauses.

    begin, end   seconds on the clock of the rows
    first, last  its range of rows, which may include rows of other inputs
    port         number of the input
    notes        number of note-ons
    picture      note-ons in each of SLOTS equal bins
    """

    begin: float
    end: float
    first: int
    last: int
    port: int
    notes: int
    picture: tuple[int, ...]


def stretches(rows: Sequence[tuple[float, int, bytes]], pause: float = PAUSE) -> tuple[Stretch, ...]:
    """The phrases in rows of (seconds, input, bytes) with non-decreasing times; oldest first.

    A phrase holds at least one note. Other messages do not prolong a phrase, but those within it and the ends
    of its notes belong to it.
    """
    on = np.array([messages.is_note_on(d) for _, _, d in rows], bool)
    at = np.array([t for t, _, _ in rows], float)
    port = np.array([p for _, p, _ in rows], int)
    found = []
    for one in distinct(port[on]):
        mine = np.flatnonzero(on & (port == one))
        cuts = np.flatnonzero(np.diff(at[mine]) > pause) + 1
        for part in np.split(mine, cuts):
            begin, end = float(at[part[0]]), float(at[part[-1]])
            # Note-offs and chokes follow their notes closely; the next phrase is farther away than this.
            last = int(np.searchsorted(at, end + pause / 2, "right")) - 1
            counts, _ = np.histogram(at[part], SLOTS, (begin, max(end, begin + 0.5)))
            found.append(Stretch(begin, end, int(part[0]), last, int(one), len(part), tuple(int(c) for c in counts)))
    return tuple(sorted(found, key=lambda s: (s.begin, s.port)))


def rows_of(rows: Sequence[tuple[float, int, bytes]], stretch: Stretch) -> list[tuple[float, int, bytes]]:
    """The rows of a phrase: only those of its own input."""
    return [(t, 0, d) for t, p, d in rows[stretch.first : stretch.last + 1] if p == stretch.port]
