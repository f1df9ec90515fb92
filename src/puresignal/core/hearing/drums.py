"""Drum recordings to drum notes: at each beginning, which drums it is, several at once.

A small network over the stroke's features (strokes.py), trained by bench/train_drums.py on drums of our
own synthesis in rooms and noise; run here in plain NumPy.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing import strokes
from puresignal.core.hearing.heard import velocities
from puresignal.core.hearing.strokes import StrokeAnalysis

SORTS = (
    "kick", "snare.head", "snare.side", "hat.closed", "hat.open", "hat.pedal", "tom1.head", "tom2.head", "tom3.head",
    "tom4.head", "crash1.bow", "ride.bow",
)  # fmt: skip
"""What can be told."""
EXCLUDE = (("hat.closed", "hat.open", "hat.pedal"), ("snare.head", "snare.side"), ("crash1.bow", "ride.bow"))
"""Of each of these at most one at a time."""


@dataclass(frozen=True, eq=False)
class Network:
    """Two layers. mean, scale (features,); first (features, hidden), bias1; second (hidden, sorts), bias2."""

    mean: np.ndarray
    scale: np.ndarray
    first: np.ndarray
    bias1: np.ndarray
    second: np.ndarray
    bias2: np.ndarray

    def likely(self, features: np.ndarray) -> np.ndarray:
        """(n, sorts) how likely each drum is part of each stroke."""
        scaled = np.clip((features - self.mean) / self.scale, -5, 5)
        hidden = np.maximum(0, scaled @ self.first + self.bias1)
        return np.asarray(1 / (1 + np.exp(-np.clip(hidden @ self.second + self.bias2, -30, 30))))


@dataclass(frozen=True, eq=False)
class DrumHits:
    """Hits that were heard: seconds, number in SORTS, velocity, how sure."""

    start: np.ndarray
    sort: np.ndarray
    velocity: np.ndarray
    sure: np.ndarray


def hits(network: Network, analysis: StrokeAnalysis, eagerness: float = 0.5) -> DrumHits:
    """Every drum at every beginning."""
    found = strokes.beginnings(analysis, eagerness, 0.025)
    likely = network.likely(strokes.at(analysis, found))
    level = strokes.loudness_at(analysis, found)
    limit = 0.62 - 0.3 * eagerness
    chosen = likely >= limit
    for names in EXCLUDE:
        columns = [SORTS.index(name) for name in names]
        best = np.argmax(likely[:, columns], axis=1) if len(likely) else np.zeros(0, int)
        for k, column in enumerate(columns):
            chosen[:, column] &= best == k
    # Something began: where nothing is likely enough, the likeliest it was, if it is loud enough to be a stroke.
    nothing = ~chosen.any(axis=1)
    if nothing.any():
        top = np.argmax(likely, axis=1)
        good = nothing & (likely.max(axis=1) > 0.5 * limit) & (level > level.max() - 30)
        chosen[good, top[good]] = True
    rows, columns_ = np.nonzero(chosen)
    volume = velocities(level)[rows] if len(rows) else np.zeros(0)
    return DrumHits(found[rows], columns_, volume, likely[rows, columns_])
