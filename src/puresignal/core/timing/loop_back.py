"""Delay and jitter of a way out and back in, from notes that were sent and came back."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

BINS = 24
LONGEST = 1.0
"""Seconds after which a note that has not come back is taken for lost."""
FEWEST = 4


@dataclass(frozen=True, eq=False)
class LoopBack:
    """The result of a measurement.

    delay     seconds, the median
    jitter    seconds between the 5th and the 95th percentile
    lost      notes that did not come back
    counts    (BINS,) how many came back in each part of `spread`
    spread    (first, last) seconds of delay that the histogram covers
    """

    delay: float
    jitter: float
    lost: int
    counts: np.ndarray
    spread: tuple[float, float]


def measured(sent: np.ndarray, note: np.ndarray, came: np.ndarray, came_note: np.ndarray) -> LoopBack | None:
    """Delay of each sent note to the first of the same number that came after it; None if fewer than four came back.

    sent, came       (n,), (m,) seconds, in order
    note, came_note  their note numbers
    """
    delays, free = [], np.ones(len(came), bool)
    for at, number in zip(sent.tolist(), note.tolist(), strict=True):
        there = np.flatnonzero(free & (came_note == number) & (came >= at - 1e-4) & (came < at + LONGEST))
        if len(there):
            free[there[0]] = False
            delays.append(float(came[there[0]]) - at)
    if len(delays) < FEWEST:
        return None
    found = np.array(delays)
    low, middle, high = np.quantile(found, (0.05, 0.5, 0.95)).tolist()
    # Never finer than the steps that arrival is stored in.
    half = max(0.0005, float(np.abs(found - middle).max()))
    spread = (middle - half, middle + half)
    counts, _ = np.histogram(found, BINS, spread)
    return LoopBack(middle, high - low, len(sent) - len(delays), counts, spread)
