"""Whether a pitch sounds and begins, judged by itself: the network that hears one voice.

It sees the spectrum about a pitch, as in multipitch.py, with a window of middle length and a look before and after. All
pitches share it. Trained by training/train_melody.py.

Source  onsets and frames: C. Hawthorne and others, 2018
"""

from __future__ import annotations

import numpy as np

from puresignal.core.hearing.networks import multipitch
from puresignal.core.hearing.networks.dense import Network
from puresignal.core.hearing.networks.multipitch import FIRST, LOWEST, PITCHES, SEMITONES
from puresignal.core.hearing.networks.pitch_levels import Levels

RELATED = multipitch.RELATED
QUICK, MOMENTS = multipitch.QUICK, multipitch.MOMENTS
FIRM, AROUND = (0, 12, 19, 24), (-8, -5, 5, 8)
"""Harmonics seen in the long window, and the frames in which they are seen."""
NEAR = (-12, -7, -5, 0, 7, 12, 19, 24, 28, 31, 34, 36)
"""Semitones seen in the window of middle length."""
TURNS = (-4, -2, 2, 4)
"""Further frames in which QUICK is seen in the window of middle length."""
INPUTS = 3 * len(RELATED) + len(FIRM) * len(AROUND) + len(NEAR) + len(QUICK) * (len(TURNS) + len(MOMENTS)) + 2
AT_ONCE = 1024
"""Rows evaluated at once, so that they stay in the cache."""


def rows(seen: Levels, frame: np.ndarray, pitch: np.ndarray) -> np.ndarray:
    """(n, INPUTS) float32: inputs of the network for each (frame, MIDI note)."""
    count = len(seen)
    place = pitch - FIRST
    parts = []
    near = np.clip(place[:, None] + np.array(RELATED), 0, SEMITONES - 1)
    fine = (near[:, :, None] * 3 + np.arange(3)).reshape(len(frame), 3 * len(RELATED))
    parts.append(seen.long.ravel().take(frame[:, None] * seen.long.shape[1] + fine))
    at = np.clip(frame[:, None] + np.array(AROUND), 0, count - 1)
    bands = np.clip(place[:, None] + np.array(FIRM), 0, SEMITONES - 1) * 3 + 1
    parts.append(_taken(seen.long, at, bands))
    own = frame[:, None]
    parts.append(_taken(seen.middle, own, np.clip(place[:, None] + np.array(NEAR), 0, SEMITONES - 1)))
    quick = np.clip(place[:, None] + np.array(QUICK), 0, SEMITONES - 1)
    parts.append(_taken(seen.middle, np.clip(own + np.array(TURNS), 0, count - 1), quick))
    parts.append(_taken(seen.short, np.clip(own + np.array(MOMENTS), 0, count - 1), quick))
    first, last = (int(frame.min()), int(frame.max())) if len(frame) else (0, -1)
    top = seen.long[first : last + 1].max(axis=1)[frame - first][:, None]
    return np.concatenate([*(p - top for p in parts), top, place[:, None] / 60.0], axis=1).astype(np.float32)


def _taken(levels: np.ndarray, frames: np.ndarray, bands: np.ndarray) -> np.ndarray:
    """(n, frames * bands) values of each row's frames and bands."""
    found = levels.ravel().take(frames[:, :, None] * levels.shape[1] + bands[:, None, :])
    return np.asarray(found.reshape(len(frames), -1))


def probability(network: Network, seen: Levels, among: np.ndarray | None = None) -> np.ndarray:
    """(frames, PITCHES, 2): probability that each pitch sounds, and begins; 0 if it is far too soft.

    among  (frames, PITCHES) bool: estimate only these
    """
    out = np.zeros((len(seen), PITCHES, 2), np.float32)
    loud = audible(seen)
    frame, pitch = np.nonzero(loud if among is None else loud & among)
    for begin in range(0, len(frame), AT_ONCE):
        part = slice(begin, begin + AT_ONCE)
        out[frame[part], pitch[part]] = network.probability(rows(seen, frame[part], pitch[part] + LOWEST))
    return out


def audible(seen: Levels) -> np.ndarray:
    """(frames, PITCHES) bool: whether the lowest or second harmonic of a pitch is there at all."""
    third = np.maximum(np.maximum(seen.long[:, 0::3], seen.long[:, 1::3]), seen.long[:, 2::3])
    own, second = (third[:, LOWEST + up - FIRST :][:, :PITCHES] for up in (0, 12))
    # A single missing low harmonic does not rule out a note.
    return np.asarray(np.maximum(own, second) > np.maximum(third.max(axis=1, keepdims=True) - 2.2, -3.2))
