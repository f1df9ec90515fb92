"""Features of a stroke: level by band and time after its onset, relative to what sounded before.

Used for taught sounds (example_classifier.py).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing.dsp import spectra, spectral_flux
from puresignal.core.hearing.dsp.chunks import Progress, Source, excerpts, pieces
from puresignal.core.hearing.dsp.spectra import Envelope

RATE, HOP, SIZE = 44_100, 220, 1024
BANDS = 26
SLICES_MS = ((0, 12), (12, 30), (30, 60), (60, 110), (110, 190))
"""Times after the onset over which levels are averaged."""
FEATURES = BANDS * len(SLICES_MS)
DEEPEST = -2.8
"""Lowest log energy, relative to a stroke's loudest, that is used; below that is the room."""
RISES = 0.12
"""Log energy by which a stroke must rise above what rang before to be audible."""
FALLS, ROOM = 0.15, 1.0
"""Log energy by which a band must have fallen to be partly reverberation, and the largest such part."""


@dataclass(frozen=True, eq=False)
class StrokeAnalysis:
    """The analysis of a recording, kept for all decisions.

    level     (frames, BANDS) log energy relative to the loud moments
    rises     (frames,) onset strength, spectral_flux.HOP samples apart
    envelope  for exact onsets
    """

    level: np.ndarray
    rises: np.ndarray
    envelope: Envelope


FINE_HOP, FINE_REACH = 22, 176
LOW, HIGH = 40.0, 16_000.0


def analyse(source: Source, progress: Progress | None = None) -> StrokeAnalysis:
    """Analyse a recording at RATE, all at once or in blocks."""
    bands = spectra.used_bands(RATE, SIZE, BANDS, LOW, HIGH)
    powers = [spectra.powers(part, SIZE, 2 * HOP, bands)[0] for part in excerpts(source)]
    reference = float(np.quantile(np.concatenate([p.sum(axis=1) for p in powers]), 0.97)) if powers else 0.0
    parts: list[tuple[np.ndarray, ...]] = []
    # The flux frames do not divide a piece evenly, so they continue from one piece to the next.
    held = np.zeros(spectral_flux.SIZE - spectral_flux.HOP, np.float32)
    past = np.full((spectral_flux.PAST, spectral_flux.BANDS), spectral_flux.NOISE_FLOOR_DB / 10 - 1, np.float32)
    for piece in pieces(source, progress):
        flat = piece.samples
        power = spectra.powers(flat, SIZE, HOP, bands)[0]
        level = np.log10(1e-8 + power * (10 / (reference + 1e-12)))
        held = np.concatenate([held, flat[piece.lead : piece.lead + piece.own]])
        new = spectral_flux.rows(held, RATE, spectral_flux.HOP)
        held = held[len(new) * spectral_flux.HOP :]
        levels = np.concatenate([past, new])
        past = levels[-spectral_flux.PAST :]
        fine = spectra.envelope(flat, RATE, FINE_HOP, FINE_REACH).level[piece.frames(FINE_HOP)]
        parts.append((level[piece.frames(HOP)].astype(np.float32), spectral_flux.strengths(levels), fine))
    if not parts:
        return StrokeAnalysis(np.zeros((0, BANDS), np.float32), np.zeros(0), Envelope(np.zeros(0), FINE_HOP / RATE))
    level, rise, fine = (np.concatenate(each) for each in zip(*parts, strict=True))
    return StrokeAnalysis(level, rise, Envelope(fine, FINE_HOP / RATE))


def at(analysis: StrokeAnalysis, moments: np.ndarray) -> np.ndarray:
    """(moments, FEATURES) float32 of the stroke at each moment, independent of its level; DEEPEST where it is
    inaudible."""
    heard, level, _ = _seen(analysis, moments)
    return np.where(heard, level, DEEPEST).reshape(len(level), FEATURES)


def with_bounds(analysis: StrokeAnalysis, moments: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The result of at(), and (moments, 2, FEATURES) lower and upper bounds of the stroke by itself.

    Where the stroke is inaudible behind what rang before, it may be as loud as that. A decaying band may be
    reverberation, and the stroke by itself may have decayed sooner.

    Source  bounded marginalisation: M. Cooke and others, Robust automatic speech recognition with missing and
            unreliable acoustic data, 2001
    """
    heard, level, before = _seen(analysis, moments)
    highest = np.where(heard, level, np.maximum(level, before))
    so_far = np.maximum.accumulate(highest, axis=1)
    plain = np.where(heard, level, DEEPEST)
    lowest = plain.copy()
    falls = highest[:, 1:] < so_far[:, :-1] - FALLS
    lowest[:, 1:] -= np.where(falls, np.minimum(ROOM, lowest[:, 1:] - DEEPEST), np.float32(0))
    # A stroke that is entirely inaudible gets no bounds, or it could match anything.
    highest = np.where(heard.any(axis=(1, 2), keepdims=True), highest, plain)
    both = np.stack([lowest, highest], axis=1)
    return plain.reshape(len(level), FEATURES), both.reshape(len(level), 2, FEATURES)


def _seen(analysis: StrokeAnalysis, moments: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(moments, slices, BANDS): whether the stroke is audible, its level relative to its loudest, and the level
    before."""
    level = analysis.level
    if not len(moments) or not len(level):
        nothing = np.zeros((0, len(SLICES_MS), BANDS), np.float32)
        return nothing > 0, nothing, nothing
    hop = HOP / RATE
    last = len(level) - 1
    places = np.rint(moments / hop).astype(int)
    before = np.stack([level[np.clip(places - k, 0, last)] for k in (3, 4, 5)]).mean(axis=0)[:, None, :]
    parts = []
    for first_ms, last_ms in SLICES_MS:
        first = round(first_ms / 1000 / hop)
        ks = range(first, max(first + 1, round(last_ms / 1000 / hop)))
        parts.append(np.stack([level[np.clip(places + k, 0, last)] for k in ks]).mean(axis=0))
    stack = np.stack(parts, axis=1)
    heard = stack > before + RISES
    loudest = np.where(heard, stack, -np.inf).max(axis=(1, 2), keepdims=True)
    loudest = np.where(np.isfinite(loudest), loudest, stack.max(axis=(1, 2), keepdims=True))
    deepest = np.float32(DEEPEST)
    return heard, np.maximum(stack - loudest, deepest), np.maximum(before - loudest, deepest)


def beginnings(analysis: StrokeAnalysis, sensitivity: float, apart: float = spectral_flux.APART) -> np.ndarray:
    """Onsets of strokes in seconds."""
    between = max(1, round(apart * RATE / spectral_flux.HOP))
    at = spectral_flux.found(analysis.rises, spectral_flux.limit(sensitivity), between, -between)
    exact = analysis.envelope.steepest((np.array(at) + 0.5) * spectral_flux.HOP / RATE, 0.015, 0.01)
    return np.unique(np.round(exact, 5))
