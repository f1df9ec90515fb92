"""How often notes of a confidence are right: the ear's own numbers, made into chances.

A network's output is no chance: of chord notes at 0.7, little more than half are right. A curve fitted to recordings
with known notes (training/calibrate.py) turns one into the other. It only rises, so the order of the notes stays.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True, eq=False)
class ConfidenceCurve:
    """raw, chance: (n,) rising 0..1, the points of the curve."""

    raw: np.ndarray
    chance: np.ndarray

    def at(self, confidence: np.ndarray) -> np.ndarray:
        """(n,) the part of notes with these confidences that is right, 0..1."""
        return np.asarray(np.interp(confidence, self.raw, self.chance))


def fitted(confidence: np.ndarray, right: np.ndarray, points: int = 12) -> ConfidenceCurve:
    """The curve of notes of which it is known whether they are right.

    confidence  (n,) 0..1; right: (n,) bool; points: of the curve, each of about as many notes
    Source      isotonic regression: R. E. Barlow and others, Statistical inference under order restrictions, 1972
    """
    from scipy.optimize import isotonic_regression

    order = np.argsort(confidence, kind="stable")
    groups = np.array_split(order, min(points, max(1, len(order) // 20)))
    raw = np.array([confidence[group].mean() for group in groups])
    # One right and one wrong note more keep a small group from being certain.
    part = np.array([(right[group].sum() + 1) / (len(group) + 2) for group in groups])
    weight = np.array([len(group) for group in groups], float)
    return ConfidenceCurve(raw, np.asarray(isotonic_regression(part, weights=weight).x))


def error(confidence: np.ndarray, right: np.ndarray, bins: int = 10) -> float:
    """The mean distance between confidence and the part that is right, over bins of equal width, by their notes.

    Source  expected calibration error: M. P. Naeini and others, 2015
    """
    return sum(abs(told - true) * count for told, true, count in curve(confidence, right, bins)) / max(
        1, len(confidence)
    )


def curve(confidence: np.ndarray, right: np.ndarray, bins: int = 10) -> list[tuple[float, float, int]]:
    """(mean confidence, part that is right, notes) of each bin of equal width that has notes."""
    which = np.minimum((confidence * bins).astype(int), bins - 1)
    return [
        (float(confidence[which == k].mean()), float(right[which == k].mean()), int((which == k).sum()))
        for k in range(bins) if (which == k).any()
    ]  # fmt: skip
