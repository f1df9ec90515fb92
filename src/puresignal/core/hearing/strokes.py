"""What a stroke sounds like: loudness by band and by time after its beginning, against what sounded before.

The same features serve drums (drums.py) and taught sounds (taught.py).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing import begin, frames
from puresignal.core.hearing.frames import Envelope
from puresignal.core.hearing.network import Network, peaks
from puresignal.core.hearing.pieces import Piece, Progress, Source, excerpts, pieces

RATE, HOP, SIZE = 44_100, 220, 1024
BANDS = 26
SLICES_MS = ((0, 12), (12, 30), (30, 60), (60, 110), (110, 190))
"""Times after the beginning over which loudness is taken."""
FEATURES = BANDS * len(SLICES_MS)
DEEPEST = -3.4
"""Log energy below a stroke's own loudest that is still told apart; what lies deeper is the room's."""


@dataclass(frozen=True, eq=False)
class StrokeAnalysis:
    """The slow part, kept.

    level     (frames, BANDS) log energy against that of the loud moments
    begins    how likely something begins, begin.STEP seconds apart
    envelope  for the exact moment of a beginning
    """

    level: np.ndarray
    begins: np.ndarray
    envelope: Envelope


FINE_HOP, FINE_REACH = 22, 176
_WEIGHTS = frames.bands(RATE, SIZE, BANDS, 40.0, 16_000.0)


def halves(source: Source) -> Source:
    """The recording at half its rate."""
    if isinstance(source, np.ndarray):
        return frames.halved(source)
    return lambda: (frames.halved(block) for block in source())


def analyse(network: Network, source: Source, progress: Progress | None = None) -> StrokeAnalysis:
    """The network of begin.py; the recording at RATE, all at once or in blocks."""
    loud = begin.LOOK.loud(halves(source))
    powers = [frames.spectra(part, SIZE, 2 * HOP) ** 2 @ _WEIGHTS for part in excerpts(source)]
    reference = float(np.quantile(np.concatenate([p.sum(axis=1) for p in powers]), 0.97)) if powers else 0.0
    parts: list[tuple[np.ndarray, ...]] = []
    for piece in pieces(source, progress):
        flat = piece.samples
        level = np.log10(1e-8 + frames.spectra(flat, SIZE, HOP) ** 2 @ _WEIGHTS * (10 / (reference + 1e-12)))
        begins = begin.LOOK.likely(network, begin.LOOK.levels(frames.halved(flat), loud))[:, 0]
        half = Piece(flat, piece.lead // 2, piece.own // 2, piece.last)
        fine = frames.envelope(flat, RATE, FINE_HOP, FINE_REACH).level[piece.frames(FINE_HOP)]
        parts.append((level[piece.frames(HOP)].astype(np.float32), begins[half.frames(begin.HOP)], fine))
    if not parts:
        return StrokeAnalysis(np.zeros((0, BANDS), np.float32), np.zeros(0), Envelope(np.zeros(0), FINE_HOP / RATE))
    level, begins, fine = (np.concatenate(each) for each in zip(*parts, strict=True))
    return StrokeAnalysis(level, begins, Envelope(fine, FINE_HOP / RATE))


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
    for first_ms, last_ms in SLICES_MS:
        first = round(first_ms / 1000 / hop)
        ks = range(first, max(first + 1, round(last_ms / 1000 / hop)))
        parts.append(np.stack([level[np.clip(places + k, 0, last)] for k in ks]).mean(axis=0))
    stack = np.stack(parts, axis=1)
    # What the stroke adds: where something rang before, only what rises above it tells.
    rises = np.maximum(stack, before[:, None, :]) - before[:, None, :]
    absolute = np.maximum(stack - stack.max(axis=(1, 2), keepdims=True), DEEPEST)
    mixed = np.where(rises > 0.12, absolute, np.minimum(absolute, -2.5))
    return np.asarray(mixed.reshape(len(moments), -1), np.float32)


def beginnings(analysis: StrokeAnalysis, eagerness: float, apart: float = 0.03) -> np.ndarray:
    """Seconds at which strokes begin."""
    limit = 0.5 - 0.7 * (eagerness - 0.5)
    found = peaks(analysis.begins, limit, max(2, round(apart / begin.STEP))) * begin.STEP
    exact = analysis.envelope.steepest(found)
    return np.unique(np.round(exact, 5))
