"""Several pitches at once: a network estimates for each frame and pitch whether it sounds and whether it begins.

It sees a pitch's harmonics, and those of the pitches that it could be confused with, in a long and a short window.
All pitches share the same network, so pitches that never occurred in training work too. Trained by
training/train_ear.py on synthesised sound.
"""

from __future__ import annotations

import numpy as np
import scipy.sparse

from puresignal.core.hearing.dsp import spectra
from puresignal.core.hearing.dsp.chunks import Source, excerpts
from puresignal.core.hearing.networks.dense import Network

RATE, HOP = 22_050, 440
STEP = HOP / RATE
LOWEST, HIGHEST = 28, 98
PITCHES = HIGHEST - LOWEST + 1
FIRST = LOWEST - 14
"""The lowest semitone used."""
SEMITONES = 140 - FIRST
LONG, SHORT = 8192, 2048
RELATED = (-19, -12, -7, -5, -4, -3, -2, -1, 0, 1, 2, 3, 4, 5, 7, 12, 19, 24, 28, 31, 34, 36)
"""Semitones relative to a pitch: its harmonics, and pitches that share them."""
QUICK = (0, 12, 19, 24, 28)
AT_ONCE = 2048
"""Rows evaluated at once, so that they stay in the cache."""
MOMENTS = (-6, -4, -3, -2, -1, 0, 1, 2, 3, 4, 6)
INPUTS = 3 * len(RELATED) + len(QUICK) * len(MOMENTS) + 2


def grid(size: int, parts: int) -> np.ndarray:
    """(bins, SEMITONES * parts) weights of bands 1/parts semitone wide, or as narrow as the window resolves."""
    centre = 440 * 2 ** ((FIRST + (np.arange(SEMITONES * parts) - (parts - 1) / 2) / parts - 69) / 12)
    frequency = np.linspace(0, RATE / 2, size // 2 + 1)
    width = np.maximum(centre * (2 ** (1 / (12 * parts)) - 1), RATE / size)
    weights = np.clip(1 - np.abs(frequency[:, None] - centre) / width, 0, None)
    return np.asarray(weights / (weights.sum(axis=0) + 1e-9), np.float32)


# The matrix is nearly empty: most bands use a few bins each.
LONG_BANDS, SHORT_BANDS = (
    spectra.Bands(scipy.sparse.csr_array(grid(size, parts).T)) for size, parts in ((LONG, 3), (SHORT, 1))
)


def loud(source: Source) -> tuple[float, float]:
    """Level of the loud moments of a recording, in the long window and in the short one."""
    return loud_of([loudness(part) for part in excerpts(source)])


def loudness(samples: np.ndarray) -> np.ndarray:
    """(moments, 2) levels of an excerpt."""
    long, short = long_powers(samples), spectra.powers(samples, SHORT, 2 * HOP, SHORT_BANDS)[0]
    return np.stack([long.max(axis=1), short.max(axis=1)], axis=1)


def long_powers(samples: np.ndarray) -> np.ndarray:
    """(frames, SEMITONES * 3) of every other frame."""
    return spectra.powers(samples, LONG, 2 * HOP, LONG_BANDS)[0]


def loud_of(parts: list[np.ndarray]) -> tuple[float, float]:
    """Level of the loud moments among some excerpts."""
    if not parts:
        return 0.0, 0.0
    long, short = np.quantile(np.concatenate(parts), 0.95, axis=0).tolist()
    return long, short


def levels(samples: np.ndarray, against: tuple[float, float] | None = None) -> tuple[np.ndarray, np.ndarray]:
    """(frames, SEMITONES * 3) and (frames, SEMITONES): log10 levels in long and short windows, relative to the loud
    ones."""
    against = loud(samples) if against is None else against
    flat = np.asarray(samples, np.float32)
    return levels_of(long_powers(flat), spectra.powers(flat, SHORT, HOP, SHORT_BANDS)[0], against)


def levels_of(long: np.ndarray, short: np.ndarray, against: tuple[float, float]) -> tuple[np.ndarray, np.ndarray]:
    """The same as levels(), from powers of every other frame in long windows and of every frame in short ones."""
    return spectra.with_those_between(level_of(long, against[0]), len(short)), level_of(short, against[1])


def level_of(power: np.ndarray, loud: float) -> np.ndarray:
    """log10 levels of powers, relative to that of the loud moments."""
    return np.asarray(0.5 * np.log10(power / (loud + 1e-12) + 1e-8), np.float32)


def rows(long: np.ndarray, short: np.ndarray, frame: np.ndarray, pitch: np.ndarray) -> np.ndarray:
    """(n, INPUTS): the network's inputs for each (frame, pitch), pitch as MIDI note."""
    place = pitch - FIRST
    near = np.clip(place[:, None] + np.array(RELATED), 0, SEMITONES - 1)
    fine = (near[:, :, None] * 3 + np.arange(3)).reshape(len(frame), 3 * len(RELATED))
    still = long.ravel().take(frame[:, None] * long.shape[1] + fine)
    at = np.clip(frame[:, None] + np.array(MOMENTS), 0, len(short) - 1)
    bands = np.clip(place[:, None] + np.array(QUICK), 0, SEMITONES - 1)
    moving = short.ravel().take(at[:, :, None] * short.shape[1] + bands[:, None, :])
    moving = moving.reshape(len(frame), len(MOMENTS) * len(QUICK))
    # Many rows share a frame.
    first, last = (int(frame.min()), int(frame.max())) if len(frame) else (0, -1)
    top = long[first : last + 1].max(axis=1)[frame - first][:, None]
    # Relative to the loudest of the frame, so that soft passages are treated like loud ones; plus that level.
    return np.concatenate([still - top, moving - top, top, place[:, None] / 60.0], axis=1).astype(np.float32)


def probability(network: Network, long: np.ndarray, short: np.ndarray, among: np.ndarray | None = None) -> np.ndarray:
    """(frames, PITCHES, 2): probability that each pitch sounds, and begins; 0 if it is far too soft.

    among  (frames, PITCHES) bool: evaluate only these
    """
    out = np.zeros((len(long), PITCHES, 2), np.float32)
    third = np.maximum(np.maximum(long[:, 0::3], long[:, 1::3]), long[:, 2::3])
    # A single missing low harmonic does not rule out a note.
    own, second = (third[:, LOWEST + up - FIRST : HIGHEST + up - FIRST + 1] for up in (0, 12))
    loud = np.maximum(own, second) > np.maximum(long.max(axis=1, keepdims=True) - 2.2, -3.2)
    frame, pitch = np.nonzero(loud if among is None else loud & among)
    for begin in range(0, len(frame), AT_ONCE):
        part = slice(begin, begin + AT_ONCE)
        out[frame[part], pitch[part]] = network.probability(rows(long, short, frame[part], pitch[part] + LOWEST))
    return out
