"""How well a sound repeats itself after each lag: the cumulative mean normalised difference.

(A. de Cheveigne and H. Kawahara, YIN, a fundamental frequency estimator for speech and music, 2002.)
"""

from __future__ import annotations

import numpy as np
import scipy.fft


def normalised(blocks: np.ndarray, energy: np.ndarray) -> np.ndarray:
    """(n, lags) 0 where a block repeats itself exactly after a lag, about 1 where it does not at all.

    blocks  (n, size) samples: their first size - lags + 1 are compared with as many after each lag
    energy  (n, lags) of what is compared with, for each lag
    """
    size, lags = blocks.shape[1], energy.shape[1]
    half = size - lags + 1
    # The first part reaches no further than the block with any lag, so nothing wraps round.
    length = scipy.fft.next_fast_len(size, real=True)
    head = scipy.fft.rfft(blocks[:, :half], length)
    correlation = scipy.fft.irfft(scipy.fft.rfft(blocks, length) * np.conj(head), length)[:, :lags]
    mean = energy[:, :1] + energy - 2 * correlation
    np.maximum(mean, 0, out=mean)
    total = np.cumsum(mean[:, 1:], axis=1)
    mean[:, 0] = 1.0
    mean[:, 1:] *= np.arange(1, lags, dtype=mean.dtype)
    mean[:, 1:] /= np.maximum(total, 1e-12, out=total)
    return np.asarray(mean)


def of_moment(block: np.ndarray, sums: np.ndarray, longest: int) -> np.ndarray:
    """(longest + 1,) what `normalised` says of one block: worked out lag by lag, for one several times as quick.

    block  (size,) samples; sums  (size + 1 or more,) of their squares, from 0 on
    """
    half = len(block) - longest
    mean = sums[half : half + longest + 1] - sums[: longest + 1]
    mean += mean[0] - 2 * np.correlate(block, block[:half], "valid")
    total = np.cumsum(mean)
    total -= mean[0]
    mean *= np.arange(longest + 1)
    mean /= np.maximum(total, 1e-12)
    mean[0] = 1.0
    return np.asarray(mean, np.float32)


def between(before: np.ndarray, here: np.ndarray, after: np.ndarray) -> np.ndarray:
    """Where between samples a dip or a peak lies, -0.5..0.5, by a parabola through three."""
    bend = before - 2 * here + after
    shift = np.where(np.abs(bend) > 1e-9, 0.5 * (before - after) / np.where(np.abs(bend) > 1e-9, bend, 1), 0)
    return np.asarray(np.clip(shift, -0.5, 0.5))
