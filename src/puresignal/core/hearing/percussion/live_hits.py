"""Taught sounds live: each hit is reported within 15 ms of its onset, plus a block.

An onset is a rise of the sound (spectral_flux.py). The sound is then recognised from its first moments only, in a
feature space of its own, learnt by training/train_ear.py like that of example_classifier.py.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy.fft

from puresignal.core.hearing.dsp import spectra
from puresignal.core.hearing.dsp.spectral_flux import Beginnings
from puresignal.core.hearing.percussion import example_classifier
from puresignal.core.hearing.percussion.example_classifier import ExampleSet, FeatureSpace, Stroke
from puresignal.core.hearing.percussion.stroke_features import RATE
from puresignal.core.hearing.transcribed import velocity_of

DECIDES = 0.015
"""Seconds after an onset at which it is decided."""
SIZE = 256
"""Samples of each window over the first moments."""
SURE, SURE_SOFT = 0.3, 0.6
"""Confidence a hit needs, and one as soft as a breath."""
SOFT_DB, RISES = -9.0, 1.12
"""A sound this many decibels below the loudest is a stroke only if it is this many times as loud as 5 to 20 ms before:
breath swells, a stroke does not.
"""
BANDS, SLICES = 24, 3
FEATURES = BANDS * (SLICES + 1)
_WEIGHTS = spectra.bands(RATE, 512, BANDS, 60.0, 16_000.0)
_QUICK_WEIGHTS = spectra.bands(RATE, SIZE, BANDS, 60.0, 16_000.0)
_WINDOW = np.hanning(SIZE).astype(np.float32)
DEEPEST = -3.4
"""Lowest log energy, relative to the loudest, that is used."""
BEFORE = 1024
"""Samples before an onset that its features use."""
AFTER = round(DECIDES * RATE)


@dataclass(frozen=True)
class LiveHit:
    """A hit: second, number of the sound, velocity, confidence."""

    start: float
    sound: int
    velocity: int
    confidence: float


def features(around: np.ndarray) -> np.ndarray:
    """(n, BEFORE + AFTER) samples around onsets to (n, FEATURES) of their first moments, independent of level."""
    x = np.asarray(around, np.float32)
    whole = _power(x[:, BEFORE - 32 : BEFORE - 32 + 512] * np.hanning(512).astype(np.float32)) @ _WEIGHTS
    feature_space = _power(x[:, BEFORE - 768 : BEFORE - 256] * np.hanning(512).astype(np.float32)) @ _WEIGHTS
    parts = [np.maximum(whole - feature_space, 0.02 * whole)]
    step = (AFTER - SIZE) // (SLICES - 1)
    for k in range(SLICES):
        first = BEFORE + k * step
        parts.append(_power(x[:, first : first + SIZE] * _WINDOW) @ _QUICK_WEIGHTS)
    stack = np.log10(np.stack(parts, axis=1) + 1e-10)
    return np.asarray(
        np.maximum(stack - stack.max(axis=(1, 2), keepdims=True), DEEPEST).reshape(len(x), -1), np.float32
    )


def _power(windowed: np.ndarray) -> np.ndarray:
    found = scipy.fft.rfft(windowed, axis=1)
    return np.asarray(found.real**2 + found.imag**2)


def example(recording: np.ndarray, sensitivity: float = 0.5) -> list[Stroke]:
    """The strokes of an example, those about as loud as its loudest. recording: (n,) at RATE."""
    padded = np.pad(np.asarray(recording, np.float32), round((0.05 + example_classifier.LATER[-1]) * RATE))
    found = Beginnings(RATE, sensitivity).feed(padded)
    if not found:
        return []

    def around(moments: np.ndarray) -> np.ndarray:
        return np.stack([padded[p - BEFORE : p + AFTER] for p in np.rint(moments * RATE).astype(int).tolist()])

    moments = np.array(found)
    level = spectra.decibels((around(moments)[:, BEFORE:] ** 2).mean(axis=1))
    first = moments[example_classifier.first_parts(moments, level)]
    rows = features(around(first))
    return [
        Stroke(row, features(around(moment + example_classifier.LATER)))
        for row, moment in zip(rows, first.tolist(), strict=True)
    ]


def teach(feature_space: FeatureSpace, examples: dict[str, list[np.ndarray]]) -> ExampleSet:
    """examples: for each name its recordings, (n,) at RATE, each with one or more strokes."""
    return example_classifier.placed(
        feature_space, {name: [example(each) for each in found] for name, found in examples.items()}
    )


class LiveHits:
    """The taught sounds in a stream of blocks.

    The result does not depend on the block length, only its delay does.
    """

    def __init__(self, known: ExampleSet, sensitivity: float = 0.5) -> None:
        self._known = known
        self._beginnings = Beginnings(RATE, sensitivity)
        self._held = np.zeros(BEFORE, np.float32)
        self._first = -BEFORE
        self._waiting: list[int] = []
        self._loudest = 1e-3
        self._continuations = example_classifier.ContinuationFilter(known)

    def feed(self, samples: np.ndarray) -> list[LiveHit]:
        """The hits decided now. samples: the next ones, (n,) at RATE."""
        block = spectra.usable(samples)
        self._held = np.concatenate([self._held, block])
        self._waiting += [round(moment * RATE) for moment in self._beginnings.feed(block)]
        known = self._first + len(self._held)
        found = []
        while self._waiting and self._waiting[0] + AFTER <= known:
            place = self._waiting.pop(0)
            begin = place - BEFORE - self._first
            hit = self._tell(place, self._held[max(0, begin) : begin + BEFORE + AFTER])
            found += [hit] if hit is not None else []
        keep = min([known - BEFORE - 1024, *(place - BEFORE for place in self._waiting)])
        if keep > self._first:
            self._held, self._first = self._held[keep - self._first :], keep
        return found

    def _tell(self, place: int, around: np.ndarray) -> LiveHit | None:
        around = np.pad(around, (BEFORE + AFTER - len(around), 0))
        row = features(around[None, :])
        sound, confidence = example_classifier.classify(self._known, example_classifier.exactly(row))
        level = float(np.sqrt((around[BEFORE:] ** 2).mean()))
        self._loudest = max(self._loudest, level)
        below = 20 * np.log10(max(level, 1e-6) / self._loudest)
        if sound[0] < 0 or confidence[0] < (SURE_SOFT if below < -example_classifier.BREATH_DB else SURE):
            return None
        if below < SOFT_DB and level < RISES * np.sqrt((around[BEFORE - 900 : BEFORE - 200] ** 2).mean()):
            return None
        if not self._continuations.hits(row, np.array([place / RATE]), sound)[0]:
            return None
        return LiveHit(place / RATE, int(sound[0]), int(velocity_of(below)), float(confidence[0]))
