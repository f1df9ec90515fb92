"""Guesses whether a recording contains a melody, drums, or chords."""

from __future__ import annotations

import numpy as np

from puresignal.core.hearing.dsp import spectra
from puresignal.core.hearing.networks import multipitch
from puresignal.core.hearing.networks.dense import Network

SECONDS = 30.0
"""Length of the part that is listened to."""
SOUNDS, QUIET_DB = 0.5, 30.0
"""Probability from which a note counts as sounding; decibels below the loud moments from which a moment counts."""
PITCHED_AT, PITCHED_OVER = 0.45, 0.06
"""Share of the loud moments with a note at which drums and pitches are as likely, and how fast that turns."""
TOGETHER_AT, TOGETHER_OVER = 1.55, 0.16
"""Notes at once at which a melody and chords are as likely, and how fast that turns."""


def features(network: Network, samples: np.ndarray) -> tuple[float, float]:
    """Share of the loud moments in which notes sound, and how many sound at once in those.

    samples  (n,) at the rate of multipitch.py; network: its own
    """
    flat = np.asarray(samples, np.float32)
    if not len(flat):
        return 0.0, 0.0
    level = spectra.decibels(spectra.loudness(flat, multipitch.HOP, 2 * multipitch.HOP))
    probability = multipitch.probability(network, *multipitch.levels(flat))[: len(level)]
    loud = level[: len(probability)] > np.quantile(level, 0.95) - QUIET_DB
    count = (probability[loud, :, 0] > SOUNDS).sum(axis=1)
    with_notes = count > 0
    return float(with_notes.mean()), float(count[with_notes].mean()) if with_notes.any() else 0.0


def kinds(pitched: float, together: float) -> list[tuple[str, float]]:
    """(kind, probability), likeliest first, from the features."""
    has_pitch = 1 / (1 + np.exp(-(pitched - PITCHED_AT) / PITCHED_OVER))
    is_many = 1 / (1 + np.exp(-(together - TOGETHER_AT) / TOGETHER_OVER))
    odds = {"drums": 1 - has_pitch, "melody": has_pitch * (1 - is_many), "chords": has_pitch * is_many}
    return sorted(((kind, float(p)) for kind, p in odds.items()), key=lambda row: -row[1])
