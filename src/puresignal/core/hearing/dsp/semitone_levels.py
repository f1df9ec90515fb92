"""Level of each semitone in the newest moments of a stream, and the pitches that these levels suggest.

While a note rings into the next, or swells, the sound has no period of either note for some time; yet the partials
of the new note are already louder than before. The windows rise slowly and end steeply, so that the newest samples
count at once; they are short, hence wide enough for any tuning.

Source  partials summed per pitch: D. J. Hermes, Measurement of pitch by subharmonic summation, 1988
"""

from __future__ import annotations

import numpy as np
import scipy.fft

RATE = 22_050
SIZES = (512, 1536)
"""Samples of the two windows."""
STEEP = 55
"""Samples over which a window ends."""
FIRST, SEMITONES = 28, 98
NOISE_FLOOR = 1e-9
"""Power added to every band, so that silence has a finite level."""
NOTHING = 0.5 * np.float32(np.log10(NOISE_FLOOR))
QUIET = 6e-4
"""Level of the loudest pitch, all its partials summed, below which no pitch is evaluated."""
PARTIALS = np.array((0, 12, 19, 24, 28, 31, 36))
"""Semitones from a note to its partials."""
_COUNT = (1.0, 0.8, 0.6, 0.5, 0.4, 0.35, 0.3)
# Semitones from a note to the notes it is easily confused with.
_BESIDE = np.array((-12, -7, -5, -2, -1, 1, 2, 5, 7))
_LOUDEST = 5
"""Number of lowest partials whose mean is followed."""
PAST = 16
"""Number of frames before the present one that are used: their mean is compared with each of them."""
# Frames ago with which the partials are compared, in the short window and in the long one.
_SHORT_AGO, _LONG_AGO = (1, 2, 4, 8, 14), np.array((0, 3, 7, PAST))
# Frames over which the growth of a pitch is measured.
_SINCE = 8


def _window(size: int) -> np.ndarray:
    rise = size - STEEP
    parts = (np.sin(np.pi / 2 * (np.arange(rise) + 0.5) / rise), np.cos(np.pi / 2 * (np.arange(STEEP) + 0.5) / STEEP))
    window = np.concatenate(parts) ** 2
    return np.asarray(window * 2 / window.sum(), np.float32)


def _bands(size: int) -> np.ndarray:
    """(bins, SEMITONES) weights of bands a semitone wide, or as narrow as the window resolves."""
    centre = 440 * 2 ** ((FIRST + np.arange(SEMITONES) - 69) / 12)
    frequency = np.linspace(0, RATE / 2, size // 2 + 1)
    width = np.maximum(centre * (2 ** (1 / 12) - 1), RATE / size)
    weights = np.clip(1 - np.abs(frequency[:, None] - centre) / width, 0, None)
    return np.asarray(weights / (weights.sum(axis=0) + 1e-9), np.float32)


_WINDOWS = [(_window(size), _bands(size)) for size in SIZES]
_TOGETHER = np.sum(
    [c * np.eye(SEMITONES, k=-up) for up, c in zip(PARTIALS, _COUNT, strict=True)], axis=0, dtype=np.float32
)
AT_ONCE = 512
"""Frames transformed together."""


def levels(seen: np.ndarray) -> np.ndarray:
    """(frames, 2, SEMITONES) log10 amplitude at the end of each frame. seen: (frames, SIZES[1] or more) samples."""
    out = np.empty((len(seen), len(SIZES), SEMITONES), np.float32)
    for k, (window, bands) in enumerate(_WINDOWS):
        for begin in range(0, len(seen), AT_ONCE):
            found = scipy.fft.rfft(seen[begin : begin + AT_ONCE, -len(window) :] * window, axis=1)
            power = found.real**2 + found.imag**2
            out[begin : begin + AT_ONCE, k] = 0.5 * np.log10(power @ bands + NOISE_FLOOR)
    return out


def together(levels: np.ndarray) -> np.ndarray:
    """(frames, SEMITONES) level of the partials of each pitch in the long window; lower partials weigh more."""
    return np.asarray(10 ** levels[:, 1] @ _TOGETHER)


def plainest(loud: np.ndarray, past: int, count: int) -> np.ndarray:
    """(frames - past, pitches) bool: the pitches that each frame from `past` on suggests.

    loud  (frames, pitches) the result of together() for some pitches
    Each frame suggests the `count` loudest pitches and the `count` that grew most.
    """
    now = loud[past:]
    spoken = [
        by >= np.partition(by, by.shape[1] - count, axis=1)[:, by.shape[1] - count :][:, :1]
        for by in (now, now - loud[past - _SINCE : len(loud) - _SINCE])
    ]
    return np.asarray((spoken[0] | spoken[1]) & (now.max(axis=1, keepdims=True) > QUIET))


def rows(levels: np.ndarray, look: np.ndarray, number: np.ndarray) -> np.ndarray:
    """(n, features) for some frames and MIDI notes: partials now, against the loudest and against earlier frames."""
    place, when = number - FIRST, look[:, None]
    at = np.clip(place[:, None] + PARTIALS, 0, SEMITONES - 1)[:, None]
    short, long = (levels[(when - ago)[:, :, None], k, at] for k, ago in enumerate((np.arange(PAST + 1), _LONG_AGO)))
    top = levels.max(axis=2)[look]
    beside = levels[when, 1, np.clip(place[:, None] + _BESIDE, 0, SEMITONES - 1)]
    mean = short[:, :, :_LOUDEST].mean(axis=2)
    parts = [
        short[:, 0] - top[:, :1], long[:, 0] - top[:, 1:], top,
        (short[:, :1] - short[:, _SHORT_AGO]).reshape(len(look), len(_SHORT_AGO) * len(PARTIALS)),
        (long[:, :1] - long[:, 1:]).reshape(len(look), (len(_LONG_AGO) - 1) * len(PARTIALS)),
        beside - top[:, 1:], mean[:, :1] - mean[:, 1:],
    ]  # fmt: skip
    return np.concatenate(parts, axis=1)
