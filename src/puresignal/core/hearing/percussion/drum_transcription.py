"""Drum recordings to drum notes: which drums begin at each moment, several at once.

A network says for every drum how likely it begins at each moment (the frame-wise activations of R. Vogl and others,
Drum transcription via joint beat and drum modeling, 2017, here by a small network of convolutions); where any may
begin there is a stroke. A second one weighs the strokes of the recording against each other (compared.py) and says
which drums each of them is of. Which of the toms it is their pitches say. Both are trained by bench/train_ear.py on
drums of our own synthesis, and run here in plain NumPy.
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

SORTS = (
    "kick", "snare.head", "snare.side", "hat.closed", "hat.open", "hat.pedal", "tom1.head", "tom2.head", "tom3.head",
    "tom4.head", "crash1.bow", "ride.bow",
)  # fmt: skip
"""What can be told."""
TOM = SORTS.index("tom3.head")
LEARNT = (
    "kick", "snare.head", "snare.side", "hat.closed", "hat.open", "hat.pedal", "tom3.head", "crash1.bow", "ride.bow",
)  # fmt: skip
"""What the network tells: it hears all toms as one."""
RIVALS = (("hat.closed", "hat.open", "hat.pedal"), ("snare.head", "snare.side"), ("crash1.bow", "ride.bow"))
"""Of each of these at most one at a time: the likeliest."""
RATE, HOP = stroke_features.RATE, 440
SPECTROGRAM = LogSpectrogram(RATE, HOP, 48, 40.0, 17_000.0, (1024, 4096), seldom=4096)
STEP = HOP / RATE


@dataclass(frozen=True, eq=False)
class DrumAnalysis:
    """The slow part, kept.

    at        (strokes,) seconds at which something may begin
    likely    (strokes, LEARNT) how likely each drum is one of those that do
    envelope  for exact moments
    low       (n,) what lies below some 600 Hz, LOW_RATE a second
    """

    at: np.ndarray
    probability: np.ndarray
    envelope: Envelope
    low: np.ndarray


DOWN = 28
LOW_RATE = RATE / DOWN


def analyse(
    network: ConvNet, comparing: AttentionEnsemble, source: Source, progress: Progress | None = None
) -> DrumAnalysis:
    """The networks that were trained on drums; the recording at RATE, all at once or in blocks."""
    loud = SPECTROGRAM.loud(source)
    parts: list[tuple[np.ndarray, ...]] = []
    begun = 0
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
        low = _lowered(flat)[piece.lead // DOWN : (piece.lead + piece.own) // DOWN]
        taken = comparing.embed(attention.about(levels, probability, places))
        parts.append(((places - own.start + begun) * STEP, taken, fine, low))
        begun += own.stop - own.start
    if not parts:
        nothing = np.zeros((0, len(LEARNT)), np.float32)
        return DrumAnalysis(np.zeros(0), nothing, Envelope(np.zeros(0), stroke_features.FINE_HOP / RATE), np.zeros(0))
    at, taken, fine, low = (np.concatenate(each) for each in zip(*parts, strict=True))
    return DrumAnalysis(at, comparing.probability(taken, at), Envelope(fine, stroke_features.FINE_HOP / RATE), low)


def _lowered(samples: np.ndarray) -> np.ndarray:
    """Every DOWN-th sample of what lies below half that rate."""
    taps = np.arange(-4 * DOWN, 4 * DOWN + 1)
    kernel = (np.sinc(taps / DOWN) * np.hamming(len(taps))).astype(np.float32)
    # Each DOWN samples are weighed at once for all the sums that they are part of.
    weights = np.pad(kernel / kernel.sum(), (0, DOWN - 1)).reshape(-1, DOWN)
    count = -(-len(samples) // DOWN)
    after = (count + len(weights) - 4) * DOWN - len(samples)
    parts = np.pad(samples, (4 * DOWN, after)).reshape(-1, DOWN) @ weights.T
    return np.asarray(np.sum([parts[k : k + count, k] for k in range(len(weights))], axis=0))


def hits(analysis: DrumAnalysis, sensitivity: float = 0.5) -> TranscribedHits:
    """Every drum at every beginning. eagerness: 0 only the plainest .. 1 all there may be."""
    limit = LIMIT - 0.4 * (sensitivity - 0.5)
    probability = _without_rivals(analysis.probability)
    stroke, drum = np.nonzero(probability > limit - DOUBTED)
    found = [
        (float(analysis.at[i]), SORTS.index(LEARNT[k]), float(probability[i, k]))
        for i, k in zip(stroke, drum, strict=True)
    ]
    found = _toms_by_pitch(found, limit, analysis.low)
    if not found:
        return TranscribedHits.empty()
    at, sort_of, confidence = (
        np.array([f[0] for f in found]),
        np.array([f[1] for f in found]),
        np.array([f[2] for f in found]),
    )
    exact = analysis.envelope.steepest(at)
    level = analysis.envelope.decibels_after(exact)
    return TranscribedHits(exact, sort_of, velocities(level), confidence, np.where(confidence < limit, UNSURE, 0))


LIMIT, DOUBTED = 0.42, 0.14
"""How likely a hit must be, at the usual eagerness; by how much less it is still proposed for removal."""
UNSURE = REMOVAL_REASONS.index("barely audible")


def _toms_by_pitch(
    found: list[tuple[float, int, float]], limit: float, low: np.ndarray
) -> list[tuple[float, int, float]]:
    """Each tom that was found as the one that it is; those below the limit do not say which there are."""
    sort_of, at = np.array([hit[1] for hit in found], int), np.array([hit[0] for hit in found])
    own = np.flatnonzero(sort_of == TOM)
    confidence = np.array([found[i][2] for i in own.tolist()])
    which = tom_pitch.named(
        at[own], np.where(confidence < limit, 0.01, confidence), at[sort_of == SORTS.index("kick")], low, LOW_RATE
    )
    out = list(found)
    for i, tom in zip(own.tolist(), which.tolist(), strict=True):
        out[i] = (found[i][0], SORTS.index("tom1.head") + tom, found[i][2])
    return sorted(out)


def _without_rivals(probability: np.ndarray) -> np.ndarray:
    """(strokes, LEARNT) of rivals in one stroke the likeliest alone."""
    out = probability.copy()
    for names in RIVALS:
        columns = [LEARNT.index(name) for name in names]
        own = out[:, columns]
        own[own < own.max(axis=1, keepdims=True)] = 0
        out[:, columns] = own
    return out
