"""Onsets of strokes: moments at which the sound rises in several bands at once, well above the moments before.

A frame ends at the newest sample that it uses, so recordings and streams are treated alike.

Source  S. Dixon, Onset detection revisited, 2006; here relative to the loudest of the last frames, so that beating
        and rattling sounds do not trigger again and again
"""

from __future__ import annotations

import numpy as np
import scipy.fft

from puresignal.core.hearing.dsp import spectra

HOP, SIZE = 64, 256
APART = 0.07
"""Shortest time between two strokes, in seconds."""
NOISE_FLOOR_DB = -55.0
"""Level in dBFS below which nothing counts as an onset."""
PAST = 12
"""Number of earlier frames that each frame is compared with."""
BANDS, TOGETHER = 10, 5
"""Number of bands, and how many of them have to rise."""
_WINDOW = np.hanning(SIZE).astype(np.float32)


def limit(sensitivity: float) -> float:
    """The strength that an onset needs."""
    return 0.5 - 0.4 * (sensitivity - 0.5)


def rows(samples: np.ndarray, rate: int, hop: int) -> np.ndarray:
    """(frames, BANDS) log10 power of each complete frame of SIZE samples."""
    weights = spectra.bands(rate, SIZE, BANDS, 120.0, min(16_000.0, 0.45 * rate))
    count = max(0, (len(samples) - SIZE) // hop + 1)
    out = np.zeros((count, BANDS), np.float32)
    view = np.lib.stride_tricks.sliding_window_view(samples, SIZE)[::hop] if count else out
    for begin in range(0, count, 4096):
        found = scipy.fft.rfft(view[begin : begin + 4096] * _WINDOW, axis=1)
        out[begin : begin + 4096] = (found.real**2 + found.imag**2) @ weights
    out /= 0.25 * _WINDOW.sum() ** 2
    return np.asarray(np.log10(out + 10 ** (NOISE_FLOOR_DB / 10) / BANDS), np.float32)


def strengths(levels: np.ndarray, reach: int = 9) -> np.ndarray:
    """(frames - PAST,) rise of each frame after the first PAST above the `reach` frames that end three before it."""
    count = len(levels) - PAST
    if count <= 0:
        return np.zeros(0, np.float32)
    before = levels[PAST - 3 - reach : PAST - 3 - reach + count].copy()
    for k in range(1, reach):
        np.maximum(before, levels[PAST - 3 - reach + k :][:count], out=before)
    rise = np.clip(levels[PAST:] - before, 0, 1.6)
    # Several bands at once, or much in a few: strokes, not swells.
    return np.asarray(np.partition(rise, BANDS - TOGETHER, axis=1)[:, BANDS - TOGETHER :].mean(axis=1), np.float32)


def found(strength: np.ndarray, least: float, apart: int, last: int) -> list[int]:
    """The frames with onsets: the first above `least`, at least `apart` frames after the one before it."""
    out: list[int] = []
    for frame in np.flatnonzero(strength > least).tolist():
        if frame - last >= apart:
            out.append(frame)
            last = frame
    return out


class Beginnings:
    """Onsets in a stream of blocks of any length."""

    def __init__(
        self, rate: int, sensitivity: float = 0.5, hop: int = HOP, reach: int = 9, apart: float = APART
    ) -> None:
        self._rate, self._hop, self._reach = rate, hop, reach
        self._least, self._apart = limit(sensitivity), max(1, round(apart * rate / hop))
        self._held = np.zeros(SIZE - hop, np.float32)
        self._past = np.full((PAST, BANDS), NOISE_FLOOR_DB / 10 - 1, np.float32)
        self._frames, self._last = 0, -self._apart

    def feed(self, samples: np.ndarray) -> list[float]:
        """Seconds, from the first sample ever fed, of the onsets that are now certain."""
        self._held = np.concatenate([self._held, np.asarray(samples, np.float32)])
        new = rows(self._held, self._rate, self._hop)
        if not len(new):
            return []
        self._held = self._held[len(new) * self._hop :]
        levels = np.concatenate([self._past, new])
        self._past = levels[-PAST:]
        at = found(strengths(levels, self._reach), self._least, self._apart, self._last - self._frames)
        if at:
            self._last = at[-1] + self._frames
        moments = [(self._frames + frame + 0.5) * self._hop / self._rate for frame in at]
        self._frames += len(new)
        return moments
