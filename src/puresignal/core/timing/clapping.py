"""The delay of a microphone, from claps along with a click, or from the click itself where the microphone hears it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

EARLIEST, LATEST = -0.08, 0.3
"""Seconds before and after a click in which a clap belongs to it: hands can be early, the way inwards is late."""
FEWEST = 5
ITSELF = 0.0025
"""Seconds of spread below which nobody has clapped: hands spread by 10 ms and more, a loudspeaker by none."""


@dataclass(frozen=True)
class Clapped:
    """The result.

    delay   seconds by which claps arrive later than their clicks, the median
    spread  seconds between the quartiles
    count   claps that have a click
    itself  whether the microphone heard the click itself, from a loudspeaker or a cable
    """

    delay: float
    spread: float
    count: int
    itself: bool


def measured(clicks: np.ndarray, claps: np.ndarray) -> Clapped | None:
    """The delay between clicks and claps, None with fewer than five of them.

    clicks, claps  (n,), (m,) seconds of one clock, rising
    """
    if not len(clicks) or not len(claps):
        return None
    apart = claps[:, None] - clicks[None, :]
    middle_of = (EARLIEST + LATEST) / 2
    nearest = np.abs(apart - middle_of).argmin(axis=1)
    off = apart[np.arange(len(claps)), nearest]
    # A click has one clap: the one that is nearest to it.
    kept = []
    for click in np.unique(nearest).tolist():
        mine = off[nearest == click]
        best = float(mine[np.abs(mine - middle_of).argmin()])
        if EARLIEST <= best <= LATEST:
            kept.append(best)
    if len(kept) < FEWEST:
        return None
    # One clap that went wrong counts as little as the median lets it.
    low, middle, high = np.quantile(kept, (0.25, 0.5, 0.75)).tolist()
    return Clapped(middle, high - low, len(kept), high - low < ITSELF)
