"""Short-time spectra, levels and envelopes."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import scipy.fft
import scipy.sparse

BATCH = 256
"""Frames transformed at once: bounds the memory for any length, and keeps the data in the cache."""


def mono(samples: np.ndarray) -> np.ndarray:
    """(n,) or (n, channels) samples to (n,) float32, without DC."""
    flat = np.asarray(samples if samples.ndim == 1 else samples.mean(axis=1), np.float32)
    if len(flat):
        flat = flat - flat.mean()
    return np.asarray(flat)


def usable(samples: np.ndarray) -> np.ndarray:
    """(n,) float32 with NaN and infinity as silence, so that they do not affect later samples of a stream."""
    return np.nan_to_num(np.asarray(samples, np.float32), nan=0.0, posinf=0.0, neginf=0.0)


def _transformed(samples: np.ndarray, size: int, hop: int) -> Iterator[tuple[slice, np.ndarray]]:
    """Ranges of frames with their complex spectra (frames, size // 2 + 1); a sine of amplitude 1 has magnitude 1."""
    window = np.hanning(size)
    window = (window * (2 / window.sum())).astype(np.float32)
    count = 1 + len(samples) // hop
    view = np.lib.stride_tricks.sliding_window_view(np.pad(samples, (size // 2, size)), size)[::hop][:count]
    # Long windows in smaller batches, which stay in the cache.
    batch = max(64, BATCH * 1024 // max(1024, size))
    for begin in range(0, count, batch):
        yield slice(begin, min(count, begin + batch)), scipy.fft.rfft(view[begin : begin + batch] * window, axis=1)


def spectra(samples: np.ndarray, size: int, hop: int) -> np.ndarray:
    """(frames, size // 2 + 1) float32 magnitudes with a Hann window; frame i is centred on sample i * hop."""
    out = np.empty((1 + len(samples) // hop, size // 2 + 1), np.float32)
    for part, found in _transformed(samples, size, hop):
        out[part] = np.abs(found)
    return out


@dataclass(frozen=True, eq=False)
class Bands:
    """Bands of a spectrum.

    weights  (bins, count), or (count, bins) sparse for bands of few bins; bins beyond them are ignored
    """

    weights: np.ndarray | scipy.sparse.csr_array

    @property
    def shape(self) -> tuple[int, int]:
        """Number of bins, and of bands."""
        first, second = self.weights.shape
        return (first, second) if isinstance(self.weights, np.ndarray) else (second, first)

    def of(self, power: np.ndarray) -> np.ndarray:
        """(frames, bins or more) power to (frames, count)."""
        own = power[:, : self.shape[0]]
        if isinstance(self.weights, np.ndarray):
            return np.asarray(own @ self.weights)
        return np.asarray((self.weights @ np.ascontiguousarray(own.T)).T)


def powers(samples: np.ndarray, size: int, hop: int, *wanted: Bands) -> list[np.ndarray]:
    """(frames, count) float32 power in each set of bands, computed without keeping the spectra."""
    count = 1 + len(samples) // hop
    out = [np.empty((count, each.shape[1]), np.float32) for each in wanted]
    used = max(each.shape[0] for each in wanted)
    for part, found in _transformed(samples, size, hop):
        squares = found.view(found.real.dtype)[:, : 2 * used] ** 2
        power = squares[:, 0::2] + squares[:, 1::2]
        for each, own in zip(wanted, out, strict=True):
            own[part] = each.of(power)
    return out


def powers_and_changes(samples: np.ndarray, size: int, hop: int, wanted: Bands) -> tuple[np.ndarray, np.ndarray]:
    """(frames, count) float32 twice: power, and power of what the two frames before do not explain.

    A tone that goes on has the same amplitude and turns as far as between the frames before, whatever its frequency. A
    tone that is struck again while it rings differs from that even where it grows no louder.

    Source  J. P. Bello and others, On the use of phase and energy for musical onset detection in the complex domain,
            2004
    """
    count, bins = 1 + len(samples) // hop, wanted.shape[0]
    power, change = (np.empty((count, wanted.shape[1]), np.float32) for _ in range(2))
    before = np.zeros((2, bins), np.complex64)
    for part, found in _transformed(samples, size, hop):
        known = np.concatenate([before, found[:, :bins]])
        size_of = np.abs(known)
        turn = known[1:-1] / (size_of[1:-1] + _TINY)
        turn *= np.conj(known[:-2])
        turn /= size_of[:-2] + _TINY
        turn *= known[1:-1]
        turn -= known[2:]
        power[part] = wanted.of(size_of[2:] ** 2)
        change[part] = wanted.of(turn.real**2 + turn.imag**2)
        before = known[-2:]
    return power, change


_TINY = np.float32(1e-12)


@lru_cache(maxsize=32)
def used_bands(rate: int, size: int, count: int, low: float, high: float) -> Bands:
    """bands() without the empty bins above them."""
    weights = bands(rate, size, count, low, high)
    return Bands(weights[: 1 + int(np.flatnonzero(weights.any(axis=1))[-1])])


@lru_cache(maxsize=32)
def bands(rate: int, size: int, count: int, low: float, high: float) -> np.ndarray:
    """(size // 2 + 1, count) weights of triangular bands of equal width in log frequency."""
    edges = np.geomspace(low, high, count + 2)
    frequency = np.linspace(0, rate / 2, size // 2 + 1)
    rise = (frequency[:, None] - edges[:-2]) / (edges[1:-1] - edges[:-2])
    fall = (edges[2:] - frequency[:, None]) / (edges[2:] - edges[1:-1])
    weights = np.clip(np.minimum(rise, fall), 0, None)
    # A band narrower than a bin takes the nearest bin.
    empty = weights.sum(axis=0) == 0
    nearest = np.argmin(np.abs(frequency[:, None] - edges[1:-1]), axis=0)
    weights[nearest[empty], np.flatnonzero(empty)] = 1.0
    shared = np.asarray(weights / weights.sum(axis=0), np.float32)
    shared.flags.writeable = False
    return shared


def with_those_between(every_other: np.ndarray, count: int) -> np.ndarray:
    """(count, bands) levels interpolated from every other frame by cubics: long windows change slowly."""
    out = np.empty((count, *every_other.shape[1:]), np.float32)
    out[::2] = every_other
    wide = np.pad(every_other, ((1, 2), (0, 0)), mode="edge")
    between = wide[1:-2] + wide[2:-1]
    between *= np.float32(9 / 16)
    outer = wide[:-3] + wide[3:]
    outer *= np.float32(1 / 16)
    between -= outer
    out[1::2] = between[: count // 2]
    return out


def halved(samples: np.ndarray) -> np.ndarray:
    """(n,) samples at half the rate, low-pass filtered."""
    taps = np.arange(-31, 32)
    sinc = (np.sinc(taps / 2) * np.hamming(63)).astype(np.float32)
    return np.asarray(np.convolve(samples, sinc / sinc.sum(), "same")[::2]) if len(samples) else samples


def decibels(power: np.ndarray, floor: float = -100.0) -> np.ndarray:
    """Power to decibels, not below `floor`."""
    return np.asarray(np.maximum(floor, 10 * np.log10(np.maximum(power, 1e-12))))


def loudness(samples: np.ndarray, hop: int, reach: int) -> np.ndarray:
    """(frames,) mean power over `reach` samples around each multiple of `hop`."""
    total = np.concatenate([[0.0], np.cumsum(samples.astype(np.float64) ** 2)])
    centre = np.arange(1 + len(samples) // hop) * hop
    low, high = np.clip(centre - reach // 2, 0, len(samples)), np.clip(centre + reach // 2, 0, len(samples))
    return np.asarray((total[high] - total[low]) / np.maximum(1, high - low))


def windows(values: np.ndarray, centres: np.ndarray, steps: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(places, steps) values around some places, and a mask of those within range; others repeat the edge values."""
    at = centres[:, None] + steps
    return values[np.clip(at, 0, len(values) - 1)], (at >= 0) & (at < len(values))


@dataclass(frozen=True, eq=False)
class Envelope:
    """A fine level envelope: (n,) root mean square, `step` seconds apart."""

    level: np.ndarray
    step: float

    def steepest(self, moments: np.ndarray, before: float = 0.02, after: float = 0.02) -> np.ndarray:
        """Moments moved to the nearby start of a stroke: the foot of the steepest rise."""
        if not len(moments) or len(self.level) < 4:
            return np.asarray(moments, float)
        if len(moments) > AT_ONCE:
            parts = range(0, len(moments), AT_ONCE)
            return np.concatenate([self.steepest(moments[k : k + AT_ONCE], before, after) for k in parts])
        begin = np.maximum(0, np.rint((moments - before) / self.step).astype(int))
        rises = np.minimum(len(self.level), np.rint((moments + after) / self.step).astype(int) + 1) - begin - 2
        place = np.arange(max(1, int(rises.max())))
        (low, _), (high, _) = (windows(self.level, begin + k, place) for k in (0, 2))
        rise = np.where(place < rises[:, None], high - low, -np.inf)
        steepest = rise.argmax(axis=1)[:, None]
        top = np.take_along_axis(rise, steepest, 1)
        # Down to where the rise begins.
        foot = np.where((rise <= 0.25 * top) & (place < steepest), place, -1).max(axis=1) + 1
        return np.where((rises >= 2) & (top[:, 0] > 1e-5), (begin + foot + 1) * self.step, moments)

    def rises(self, moments: np.ndarray) -> np.ndarray:
        """Moments moved to where the level leaves the level before it, for swelling sounds as well as for strokes.

        A moment without a rise (one note led into the next) stays.
        """
        if not len(moments) or not len(self.level):
            return np.asarray(moments, float)
        if len(moments) > AT_ONCE:
            # Surroundings are processed in parts: for recordings of hours they would not fit into memory.
            parts = range(0, len(moments), AT_ONCE)
            return np.concatenate([self.rises(moments[begin : begin + AT_ONCE]) for begin in parts])
        steps = np.arange(-round(0.06 / self.step), round(0.08 / self.step))
        around, there = windows(self.level, np.rint(moments / self.step).astype(int), steps)
        before, after = there & (steps < round(0.01 / self.step)), there & (steps >= -round(0.02 / self.step))
        low = np.where(before, around, np.inf).argmin(axis=1)[:, None]
        top = np.where(after, around, -np.inf).argmax(axis=1)[:, None]
        floor, peak = np.take_along_axis(around, low, 1), np.take_along_axis(around, top, 1)
        place = np.arange(len(steps))
        foot = (place >= low) & (place < top) & (around < floor + RISEN * (peak - floor))
        rises = before.any(axis=1) & after.any(axis=1) & (top > low)[:, 0] & (peak >= 1.5 * floor + 1e-6)[:, 0]
        rises &= foot.any(axis=1)
        last = len(steps) - 1 - foot[:, ::-1].argmax(axis=1)
        moved = (np.rint(moments / self.step) + steps[last] + 1) * self.step
        return np.where(rises, moved, moments)

    def decibels_after(self, moments: np.ndarray, reach: float = 0.06) -> np.ndarray:
        """(moments,) mean level after each moment, in dB."""
        if not len(self.level):
            return np.full(len(moments), -120.0)
        if len(moments) > AT_ONCE:
            parts = range(0, len(moments), AT_ONCE)
            return np.concatenate([self.decibels_after(moments[begin : begin + AT_ONCE], reach) for begin in parts])
        begins = np.maximum(0, np.rint(moments / self.step)).astype(int)
        around, there = windows(self.level, begins, np.arange(max(1, round(reach / self.step))))
        power = np.where(there, around.astype(np.float64) ** 2, 0).sum(axis=1) / np.maximum(1, there.sum(axis=1))
        return decibels(power, -120.0)


def envelope(samples: np.ndarray, rate: int, hop: int, reach: int) -> Envelope:
    """The envelope of a sound, `hop` samples apart, each value over `reach` samples."""
    return Envelope(np.sqrt(loudness(samples, hop, reach)).astype(np.float32), hop / rate)


AT_ONCE = 2048
"""Moments processed together."""
RISEN = 0.08
"""Fraction of its rise at which a sound has begun."""
