"""Strums: chords whose notes follow each other upwards or downwards within a moment."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

LEAST = 4
"""Notes that a strum has at least: fewer in a row are a broken chord or a grace note."""
APART, LONGEST = 0.05, 0.25
"""Seconds between two of its notes, and from its first to its last, at most."""
SHORTEST = 0.02
"""Seconds from the first to the last note from which the order says anything."""
IN_ORDER = 0.75
"""Rank correlation of pitch and time from which notes follow each other in order."""


@dataclass(frozen=True, eq=False)
class Strum:
    """A strum.

    notes  (n,) indices of its notes, by start; direction: 1 from the lowest string up, a downstroke; -1 an upstroke
    start  seconds of its first note; spread: seconds from there to its last
    """

    notes: np.ndarray
    direction: int
    start: float
    spread: float


def found(start: np.ndarray, pitch: np.ndarray) -> list[Strum]:
    """The strums among notes, in sequence.

    start, pitch  (n,) seconds and MIDI numbers, in any order
    """
    order = np.lexsort((pitch, start))
    strums: list[Strum] = []
    first = 0
    for i in range(1, len(order) + 1):
        begins = start[order[first]]
        if i < len(order) and start[order[i]] - start[order[i - 1]] <= APART and start[order[i]] - begins <= LONGEST:
            continue
        strum = _as_strum(order[first:i], start, pitch)
        strums += [strum] if strum is not None else []
        first = i
    return strums


def _as_strum(notes: np.ndarray, start: np.ndarray, pitch: np.ndarray) -> Strum | None:
    if len(notes) < LEAST:
        return None
    when, spread = start[notes], float(np.ptp(start[notes]))
    if spread < SHORTEST or np.ptp(pitch[notes]) < 1:
        return None
    order = float(np.corrcoef(_ranks(when), _ranks(pitch[notes]))[0, 1])
    if abs(order) < IN_ORDER:
        return None
    return Strum(notes, 1 if order > 0 else -1, float(when[0]), spread)


def _ranks(values: np.ndarray) -> np.ndarray:
    """(n,) places in rising order; equal values have the same. scipy.stats takes a second to import."""
    return np.unique(values, return_inverse=True)[1]
