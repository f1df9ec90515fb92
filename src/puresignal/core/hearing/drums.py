"""Drum recordings to drum notes: which drums begin at each moment, several at once.

A network says for every drum how likely it begins at each moment (the frame-wise activations of R. Vogl and others,
Drum transcription via joint beat and drum modeling, 2017, here by a plain feed-forward network); hits are the peaks
of that. It is trained by bench/train_ear.py on drums of our own synthesis, and run here in plain NumPy.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing import frames, strokes
from puresignal.core.hearing.heard import velocities
from puresignal.core.hearing.network import Look, Network, peaks

SORTS = (
    "kick", "snare.head", "snare.side", "hat.closed", "hat.open", "hat.pedal", "tom1.head", "tom2.head", "tom3.head",
    "tom4.head", "crash1.bow", "ride.bow",
)  # fmt: skip
"""What can be told."""
RIVALS = (
    ("hat.closed", "hat.open", "hat.pedal"), ("snare.head", "snare.side"), ("crash1.bow", "ride.bow"),
    ("tom1.head", "tom2.head", "tom3.head", "tom4.head"),
)  # fmt: skip
"""Of each of these at most one at a time: the likeliest."""
RATE, HOP = strokes.RATE, 441
LOOK = Look(
    RATE, HOP, ((512, 20, 80.0, 17_000.0), (2048, 40, 38.0, 16_000.0)),
    (-8, -4, -2, -1, 0, 1, 2, 3, 4, 6, 9, 13),
)  # fmt: skip
STEP = HOP / RATE
TOGETHER = 0.03
"""Seconds within which two of a sort, or of rivals, are one hit."""


@dataclass(frozen=True, eq=False)
class DrumAnalysis:
    """likely (frames, sorts); samples the sound itself."""

    likely: np.ndarray
    samples: np.ndarray


@dataclass(frozen=True, eq=False)
class DrumHits:
    """Hits that were heard: seconds, number in SORTS, velocity, how sure."""

    start: np.ndarray
    sort: np.ndarray
    velocity: np.ndarray
    sure: np.ndarray


def analyse(network: Network, samples: np.ndarray) -> DrumAnalysis:
    """samples: (n,) at RATE."""
    flat = frames.mono(samples)
    return DrumAnalysis(LOOK.likely(network, LOOK.levels(flat)), flat)


def hits(analysis: DrumAnalysis, eagerness: float = 0.5) -> DrumHits:
    """Every drum at every beginning. eagerness: 0 only the plainest .. 1 all there may be."""
    limit = 0.5 - 0.4 * (eagerness - 0.5)
    found: list[tuple[float, int, float]] = []
    for sort in range(len(SORTS)):
        column = analysis.likely[:, sort]
        for place in peaks(column, limit, 4).tolist():
            found.append((place * STEP, sort, float(column[round(place)])))
    found = _without_rivals(sorted(found))
    if not found:
        return DrumHits(np.zeros(0), np.zeros(0, int), np.zeros(0), np.zeros(0))
    at, sort_of, sure = (
        np.array([f[0] for f in found]),
        np.array([f[1] for f in found]),
        np.array([f[2] for f in found]),
    )
    exact = frames.refine(analysis.samples, RATE, at, 0.02, 0.02)
    level = strokes.loudness_of(analysis.samples, exact)
    return DrumHits(exact, sort_of, velocities(level), sure)


def _without_rivals(found: list[tuple[float, int, float]]) -> list[tuple[float, int, float]]:
    """Of rivals at one moment the likeliest stays."""
    group = {SORTS.index(name): number for number, names in enumerate(RIVALS) for name in names}
    kept: list[tuple[float, int, float]] = []
    for hit in found:
        rival = next(
            (
                i
                for i in range(len(kept) - 1, -1, -1)
                if hit[0] - kept[i][0] < TOGETHER and group.get(kept[i][1], -1) == group.get(hit[1], -2)
            ),
            None,
        )
        if rival is None:
            kept.append(hit)
        elif hit[2] > kept[rival][2]:
            kept[rival] = hit
    return sorted(kept)
