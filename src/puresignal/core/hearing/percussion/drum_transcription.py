"""Drum recordings to drum notes: which drums are struck at each moment, several at once.

A convolutional network gives the onset probability of each drum per frame; a stroke is a peak of any of them. A second
network compares the strokes of the recording with each other (attention.py) and decides which drums each consists of.
The toms are distinguished by pitch (tom_pitch.py). Both networks are trained by training/train_ear.py on synthesised
drums.

Source  onset activations: R. Vogl and others, Drum transcription via joint beat and drum modeling, 2017
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing.dsp import spectra
from puresignal.core.hearing.dsp.chunks import Progress, Source, pieces
from puresignal.core.hearing.dsp.spectra import Envelope
from puresignal.core.hearing.networks import attention
from puresignal.core.hearing.networks.attention import AttentionEnsemble
from puresignal.core.hearing.networks.convolutional import ConvNet, LogSpectrogram
from puresignal.core.hearing.percussion import stroke_features, tom_pitch
from puresignal.core.hearing.transcribed import REMOVAL_REASONS, TranscribedHits, velocities

KINDS = (
    "kick", "snare.head", "snare.side", "hat.closed", "hat.open", "hat.pedal", "tom1.head", "tom2.head", "tom3.head",
    "tom4.head", "crash1.bow", "ride.bow",
)  # fmt: skip
"""Kinds of drum in the result."""
TOM = KINDS.index("tom3.head")
LEARNT = (
    "kick", "snare.head", "snare.side", "hat.closed", "hat.open", "hat.pedal", "tom3.head", "crash1.bow", "ride.bow",
)  # fmt: skip
"""Kinds the network distinguishes: all toms are one."""
RIVALS = (("hat.closed", "hat.open", "hat.pedal"), ("snare.head", "snare.side"), ("crash1.bow", "ride.bow"))
"""At most one of each group per stroke: the likeliest."""
RATE, HOP = stroke_features.RATE, 440
SPECTROGRAM = LogSpectrogram(RATE, HOP, 48, 40.0, 17_000.0, (1024, 4096), seldom=4096)
STEP = HOP / RATE


@dataclass(frozen=True, eq=False)
class DrumAnalysis:
    """The analysis of a recording, kept for all decisions.

    at           (strokes,) seconds of possible strokes
    probability  (strokes, LEARNT) that each drum is part of the stroke
    envelope     for exact onsets
    low          (n,) the sound below some 600 Hz, at LOW_RATE
    """

    at: np.ndarray
    probability: np.ndarray
    envelope: Envelope
    low: np.ndarray


DOWN = 28
LOW_RATE = RATE / DOWN


def analyse(
    network: ConvNet, comparison: AttentionEnsemble, source: Source, progress: Progress | None = None
) -> DrumAnalysis:
    """Analyse a recording at RATE, whole or in blocks, with the networks trained on drums."""
    loud = SPECTROGRAM.loud(source)
    parts: list[tuple[np.ndarray, ...]] = []
    frames_before = 0
    for piece in pieces(source, progress):
        flat, own = piece.samples, piece.frames(HOP)
        levels = SPECTROGRAM.levels(flat, loud)
        probability = network.probability(levels)
        places = attention.candidates(probability)
        rounded = np.rint(places)
        places = places[(rounded >= own.start) & (rounded < own.stop)]
        fine = spectra.envelope(flat, RATE, stroke_features.FINE_HOP, stroke_features.FINE_REACH).level[
            piece.frames(stroke_features.FINE_HOP)
        ]
        low = _downsampled(flat)[piece.lead // DOWN : (piece.lead + piece.own) // DOWN]
        taken = comparison.embed(attention.about(levels, probability, places))
        parts.append(((places - own.start + frames_before) * STEP, taken, fine, low))
        frames_before += own.stop - own.start
    if not parts:
        nothing = np.zeros((0, len(LEARNT)), np.float32)
        return DrumAnalysis(np.zeros(0), nothing, Envelope(np.zeros(0), stroke_features.FINE_HOP / RATE), np.zeros(0))
    at, taken, fine, low = (np.concatenate(each) for each in zip(*parts, strict=True))
    return DrumAnalysis(at, comparison.probability(taken, at), Envelope(fine, stroke_features.FINE_HOP / RATE), low)


def _downsampled(samples: np.ndarray) -> np.ndarray:
    """Samples downsampled by DOWN, low-pass filtered before."""
    taps = np.arange(-4 * DOWN, 4 * DOWN + 1)
    kernel = (np.sinc(taps / DOWN) * np.hamming(len(taps))).astype(np.float32)
    # Each block of DOWN samples is multiplied once for all the sums it is part of.
    weights = np.pad(kernel / kernel.sum(), (0, DOWN - 1)).reshape(-1, DOWN)
    count = -(-len(samples) // DOWN)
    after = (count + len(weights) - 4) * DOWN - len(samples)
    parts = np.pad(samples, (4 * DOWN, after)).reshape(-1, DOWN) @ weights.T
    return np.asarray(np.sum([parts[k : k + count, k] for k in range(len(weights))], axis=0))


def hits(analysis: DrumAnalysis, sensitivity: float = 0.5) -> TranscribedHits:
    """Decide the hits. sensitivity: 0 only the clearest .. 1 everything there may be."""
    limit = LIMIT - 0.4 * (sensitivity - 0.5)
    probability = _without_rivals(analysis.probability)
    stroke, drum = np.nonzero(probability > limit - DOUBTED)
    found = [
        (float(analysis.at[i]), KINDS.index(LEARNT[k]), float(probability[i, k]))
        for i, k in zip(stroke, drum, strict=True)
    ]
    found = _toms_by_pitch(found, limit, analysis.low)
    if not found:
        return TranscribedHits.empty()
    at, kind_of, confidence = (
        np.array([f[0] for f in found]),
        np.array([f[1] for f in found]),
        np.array([f[2] for f in found]),
    )
    exact = analysis.envelope.steepest(at)
    level = analysis.envelope.decibels_after(exact)
    return TranscribedHits(exact, kind_of, velocities(level), confidence, np.where(confidence < limit, UNSURE, 0))


LIMIT, DOUBTED = 0.42, 0.14
"""Probability a hit needs at medium sensitivity; margin below it in which removal is proposed instead."""
UNSURE = REMOVAL_REASONS.index("barely audible")


def _toms_by_pitch(
    found: list[tuple[float, int, float]], limit: float, low: np.ndarray
) -> list[tuple[float, int, float]]:
    """Name each tom by pitch; hits below the limit have little weight in forming the groups."""
    kind_of, at = np.array([hit[1] for hit in found], int), np.array([hit[0] for hit in found])
    own = np.flatnonzero(kind_of == TOM)
    confidence = np.array([found[i][2] for i in own.tolist()])
    which = tom_pitch.named(
        at[own], np.where(confidence < limit, 0.01, confidence), at[kind_of == KINDS.index("kick")], low, LOW_RATE
    )
    out = list(found)
    for i, tom in zip(own.tolist(), which.tolist(), strict=True):
        out[i] = (found[i][0], KINDS.index("tom1.head") + tom, found[i][2])
    return sorted(out)


def _without_rivals(probability: np.ndarray) -> np.ndarray:
    """(strokes, LEARNT) probabilities with only the likeliest of each group of rivals."""
    out = probability.copy()
    for names in RIVALS:
        columns = [LEARNT.index(name) for name in names]
        own = out[:, columns]
        own[own < own.max(axis=1, keepdims=True)] = 0
        out[:, columns] = own
    return out
