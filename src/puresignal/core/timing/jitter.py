"""How evenly a device's messages arrive, measured against its own clock: by what it sends at even intervals."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

BINS = 24
FEWEST = 8
UNEVEN = 0.2
"""Part of the interval that most messages may be off; beyond it they were not meant to be even."""


@dataclass(frozen=True, eq=False)
class Jitter:
    """The result of a measurement.

    interval  seconds of the device's own clock
    jitter    seconds between the 5th and the 95th percentile of how late messages are
    count     messages; lost: intervals in which none came
    counts    (BINS,) how many came in each part of `spread`, (first, last) seconds late
    """

    interval: float
    jitter: float
    count: int
    lost: int
    counts: np.ndarray
    spread: tuple[float, float]


def measured(at: np.ndarray) -> Jitter | None:
    """Fit an even clock to arrivals; None if there are too few, or they are not even.

    at  (n,) seconds, in order. Messages of one moment count once; a few may be missing.
    """
    at = np.asarray(at, float)
    if len(at) < FEWEST:
        return None
    apart = np.diff(at)
    usual = float(np.median(apart))
    if usual <= 0:
        return None
    # Several that arrive together, as through a bus that bundles them, are one each all the same.
    interval = usual
    place = np.zeros(len(at))
    for _ in range(8):
        # Counted from one to the next, so that an error in the interval does not add up.
        place = np.concatenate([[0.0], np.cumsum(np.maximum(np.rint(apart / interval), 1.0))])
        fitted, _ = np.polyfit(place, at, 1)
        if abs(fitted - interval) < 1e-9 * interval:
            break
        interval = float(fitted)
    slope, start = np.polyfit(place, at, 1)
    late = at - (start + slope * place)
    late = late - float(np.median(late))
    if float(np.quantile(np.abs(late), 0.9)) > UNEVEN * slope:
        return None
    low, high = np.quantile(late, (0.05, 0.95)).tolist()
    half = max(0.0005, float(np.abs(late).max()))
    counts, _ = np.histogram(late, BINS, (-half, half))
    return Jitter(float(slope), high - low, len(at), int(place[-1]) + 1 - len(at), counts, (-half, half))
