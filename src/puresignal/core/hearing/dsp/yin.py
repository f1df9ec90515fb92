"""Periodicity by the cumulative mean normalised difference.

Source  A. de Cheveigne and H. Kawahara, YIN, a fundamental frequency estimator for speech and music, 2002
"""

from __future__ import annotations

import numpy as np
import scipy.fft


def normalised(samples: np.ndarray, count: int, hop: int, hops: int, longest: int) -> np.ndarray:
    """(count, longest + 1) normalised difference by lag: 0 for exact repetition, about 1 for none.

    Row i compares `hops` times `hop` samples from i * hop on with as many after each lag.
    samples  ((count + hops - 1) * hop + longest or more,)
    """
    view = np.lib.stride_tricks.sliding_window_view(samples, hop + longest)[::hop][: count + hops - 1]
    # The part that several rows share is compared once. It reaches no farther than its length with any lag, so
    # nothing wraps round.
    length = scipy.fft.next_fast_len(hop + longest, real=True)
    both = scipy.fft.rfft(view, length) * np.conj(scipy.fft.rfft(view[:, :hop], length))
    correlation = _running(scipy.fft.irfft(both, length)[:, : longest + 1], hops)
    sums = np.concatenate([[0.0], np.cumsum(samples.astype(np.float64) ** 2)])
    power = np.lib.stride_tricks.sliding_window_view(sums, longest + 1)
    ends = slice(hop * hops, hop * hops + count * hop, hop)
    energy = (power[ends] - power[: count * hop : hop]).astype(samples.dtype)
    mean = energy[:, :1] + energy - 2 * correlation
    np.maximum(mean, 0, out=mean)
    total = np.cumsum(mean[:, 1:], axis=1)
    mean[:, 0] = 1.0
    mean[:, 1:] *= np.arange(1, longest + 1, dtype=mean.dtype)
    mean[:, 1:] /= np.maximum(total, 1e-12, out=total)
    return np.asarray(mean)


def _running(rows: np.ndarray, width: int) -> np.ndarray:
    """(n - width + 1, ...) running sums of `width` rows, by doubling."""
    count, span, done = len(rows) - width + 1, 1, 0
    out = np.zeros_like(rows[:count])
    while width:
        if width & 1:
            out += rows[done : done + count]
            done += span
        width >>= 1
        if width:
            rows, span = rows[:-span] + rows[span:], 2 * span
    return out


def of_moment(block: np.ndarray, sums: np.ndarray, longest: int) -> np.ndarray:
    """(longest + 1,) the result of `normalised` for one moment, lag by lag: several times as fast for a single one.

    block  (size,) samples; sums: (size + 1 or more,) cumulative sums of their squares, from 0 on
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
    """Position of a dip or peak between samples, -0.5..0.5, by a parabola through three values."""
    bend = before - 2 * here + after
    shift = np.where(np.abs(bend) > 1e-9, 0.5 * (before - after) / np.where(np.abs(bend) > 1e-9, bend, 1), 0)
    return np.asarray(np.clip(shift, -0.5, 0.5))
