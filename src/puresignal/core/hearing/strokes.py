"""What a stroke sounds like: loudness by band and by time after its beginning, against what sounded before.

The same features serve drums (drums.py) and taught sounds (taught.py).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing import begin, frames
from puresignal.core.hearing.network import Network, peaks

RATE, HOP, SIZE = 44_100, 220, 1024
BANDS = 26
SLICES_MS = ((0, 12), (12, 30), (30, 60), (60, 110), (110, 190))
"""Times after the beginning over which loudness is taken."""
FEATURES = BANDS * len(SLICES_MS) + 2


@dataclass(frozen=True, eq=False)
class StrokeAnalysis:
    """The slow part, kept.

    level    (frames, BANDS) log energy
    begins   how likely something begins, begin.STEP seconds apart
    samples  the sound itself
    """

    level: np.ndarray
    begins: np.ndarray
    samples: np.ndarray


def analyse(network: Network, samples: np.ndarray) -> StrokeAnalysis:
    """network: begin.py's; samples: (n,) at RATE."""
    flat = frames.mono(samples)
    peak = float(np.abs(flat).max()) if len(flat) else 0.0
    if peak > 0:
        flat = flat / np.float32(peak)
    magnitudes = frames.spectra(flat, SIZE, HOP)
    weights = frames.bands(RATE, SIZE, BANDS, 40.0, 16_000.0)
    level = np.log10(1e-4 + magnitudes**2 @ weights * 100)
    begins = begin.LOOK.likely(network, begin.LOOK.levels(frames.halved(flat)))[:, 0]
    return StrokeAnalysis(level, begins, flat)


def at(analysis: StrokeAnalysis, moments: np.ndarray) -> np.ndarray:
    """(moments, FEATURES) float32: the stroke at each moment, without its overall loudness."""
    level = analysis.level
    if not len(moments) or not len(level):
        return np.zeros((0, FEATURES), np.float32)
    hop = HOP / RATE
    last = len(level) - 1
    places = np.rint(moments / hop).astype(int)
    before = np.stack([level[np.clip(places - k, 0, last)] for k in (3, 4, 5)]).mean(axis=0)
    parts = []
    for begin, end in SLICES_MS:
        ks = range(round(begin / 1000 / hop), max(round(begin / 1000 / hop) + 1, round(end / 1000 / hop)))
        parts.append(np.stack([level[np.clip(places + k, 0, last)] for k in ks]).mean(axis=0))
    stack = np.stack(parts, axis=1)
    # What the stroke adds: where something rang before, only what rises above it tells.
    rises = np.maximum(stack, before[:, None, :]) - before[:, None, :]
    absolute = stack - stack.max(axis=(1, 2), keepdims=True)
    mixed = np.where(rises > 0.12, absolute, np.minimum(absolute, -2.5))
    loud = stack.max(axis=(1, 2))
    size = np.column_stack([loud - np.quantile(loud, 0.95), rises.max(axis=(1, 2))])
    return np.concatenate([mixed.reshape(len(moments), -1), size], axis=1).astype(np.float32)


def loudness_at(analysis: StrokeAnalysis, moments: np.ndarray, reach: float = 0.06) -> np.ndarray:
    """(moments,) decibels of each stroke's first moments."""
    return loudness_of(analysis.samples, moments, reach)


def loudness_of(samples: np.ndarray, moments: np.ndarray, reach: float = 0.06) -> np.ndarray:
    """(moments,) decibels of what follows each moment; samples at RATE."""
    out = []
    for moment in moments.tolist():
        begin = max(0, round(moment * RATE))
        part = samples[begin : begin + round(reach * RATE)]
        out.append(10 * np.log10(float(np.mean(part**2)) + 1e-12) if len(part) else -120.0)
    return np.array(out)


def beginnings(analysis: StrokeAnalysis, eagerness: float, apart: float = 0.03) -> np.ndarray:
    """Seconds at which strokes begin."""
    limit = 0.5 - 0.7 * (eagerness - 0.5)
    found = peaks(analysis.begins, limit, max(2, round(apart / begin.STEP))) * begin.STEP
    exact = frames.refine(analysis.samples, RATE, found, 0.02, 0.02)
    return np.unique(np.round(exact, 5))
