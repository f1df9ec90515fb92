"""Frames of sound: spectra, loudness, and where something begins."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

BATCH = 512
"""Frames transformed at once: bounds the memory, whatever the length."""


def mono(samples: np.ndarray) -> np.ndarray:
    """(n,) or (n, channels) to (n,) float32, without its mean."""
    flat = np.asarray(samples if samples.ndim == 1 else samples.mean(axis=1), np.float32)
    if len(flat):
        flat = flat - flat.mean()
    return np.asarray(flat)


def spectra(samples: np.ndarray, size: int, hop: int) -> np.ndarray:
    """(frames, size // 2 + 1) float32 magnitudes; frame i is centred on sample i * hop. Hann window."""
    window = np.hanning(size).astype(np.float32)
    padded = np.pad(samples, (size // 2, size))
    count = 1 + len(samples) // hop
    view = np.lib.stride_tricks.sliding_window_view(padded, size)[::hop][:count]
    out = np.empty((len(view), size // 2 + 1), np.float32)
    for begin in range(0, len(view), BATCH):
        out[begin : begin + BATCH] = np.abs(np.fft.rfft(view[begin : begin + BATCH] * window, axis=1))
    out /= np.float32(window.sum() / 2)
    return out


def bands(rate: int, size: int, count: int, low: float, high: float) -> np.ndarray:
    """(size // 2 + 1, count) weights of triangular bands, equally wide in log frequency."""
    edges = np.geomspace(low, high, count + 2)
    frequency = np.linspace(0, rate / 2, size // 2 + 1)
    rise = (frequency[:, None] - edges[:-2]) / (edges[1:-1] - edges[:-2])
    fall = (edges[2:] - frequency[:, None]) / (edges[2:] - edges[1:-1])
    weights = np.clip(np.minimum(rise, fall), 0, None)
    # Where a band is narrower than a bin, it takes the nearest bin.
    empty = weights.sum(axis=0) == 0
    nearest = np.argmin(np.abs(frequency[:, None] - edges[1:-1]), axis=0)
    weights[nearest[empty], np.flatnonzero(empty)] = 1.0
    return np.asarray(weights / weights.sum(axis=0), np.float32)


def halved(samples: np.ndarray) -> np.ndarray:
    """(n,) at half the rate, without what that rate cannot carry."""
    taps = np.arange(-31, 32)
    sinc = (np.sinc(taps / 2) * np.hamming(63)).astype(np.float32)
    return np.asarray(np.convolve(samples, sinc / sinc.sum(), "same")[::2]) if len(samples) else samples


def decibels(power: np.ndarray, floor: float = -100.0) -> np.ndarray:
    """Power to decibels, not below a floor."""
    return np.asarray(np.maximum(floor, 10 * np.log10(np.maximum(power, 1e-12))))


def loudness(samples: np.ndarray, hop: int, reach: int) -> np.ndarray:
    """(frames,) mean power around each multiple of `hop`, over `reach` samples."""
    total = np.concatenate([[0.0], np.cumsum(samples.astype(np.float64) ** 2)])
    centre = np.arange(1 + len(samples) // hop) * hop
    low, high = np.clip(centre - reach // 2, 0, len(samples)), np.clip(centre + reach // 2, 0, len(samples))
    return np.asarray((total[high] - total[low]) / np.maximum(1, high - low))


@dataclass(frozen=True, eq=False)
class Onsets:
    """Evidence for beginnings.

    strength  (frames,) how much rises there, in decibels summed over bands
    hop       seconds between frames
    """

    strength: np.ndarray
    hop: float

    def peaks(self, eagerness: float = 0.5, apart: float = 0.03) -> np.ndarray:
        """Seconds of the beginnings. eagerness: 0 only the plainest .. 1 all there may be; apart: seconds at least.

        A peak must stand out of its surroundings (S. Dixon, Onset Detection Revisited, 2006).
        """
        s = self.strength
        if len(s) < 3:
            return np.zeros(0)
        wide = max(1, round(0.1 / self.hop))
        padded = np.pad(s, wide, mode="edge")
        around = np.lib.stride_tricks.sliding_window_view(padded, 2 * wide + 1)
        typical = np.median(around, axis=1)
        near = max(1, round(0.03 / self.hop))
        local = np.lib.stride_tricks.sliding_window_view(np.pad(s, near), 2 * near + 1).max(axis=1)
        reach = float(np.quantile(s, 0.995)) if len(s) > 200 else float(s.max())
        limit = typical + (0.34 - 0.26 * eagerness) * max(reach, 1e-9)
        found = np.flatnonzero((s >= local) & (s > limit))
        kept: list[int] = []
        for i in found.tolist():
            if not kept or (i - kept[-1]) * self.hop >= apart:
                kept.append(i)
            elif s[i] > s[kept[-1]]:
                kept[-1] = i
        return np.array(kept, float) * self.hop


def onsets(magnitudes: np.ndarray, rate: int, size: int, hop: int, count: int = 40, low: float = 60.0) -> Onsets:
    """Rising log energy, band by band, against what was there two frames before."""
    weights = bands(rate, size, count, low, min(16_000.0, 0.45 * rate))
    level = np.log10(1 + 1000 * (magnitudes @ weights))
    rise = np.zeros(len(level), np.float32)
    lag = 2
    # Against the loudest of the neighbouring bands, so that a vibrato is no onset (S. Boeck and G. Widmer, 2013).
    spread = np.maximum(np.maximum(level, np.roll(level, 1, axis=1)), np.roll(level, -1, axis=1))
    rise[lag:] = np.clip(level[lag:] - spread[:-lag], 0, None).mean(axis=1)
    return Onsets(rise, hop / rate)


def refine(
    samples: np.ndarray, rate: int, moments: np.ndarray, before: float = 0.03, after: float = 0.03
) -> np.ndarray:
    """Moments moved to where the sound's envelope rises most steeply nearby."""
    hop = max(1, rate // 2000)
    power = loudness(samples, hop, max(2, rate // 250))
    level = np.sqrt(power)
    out = []
    for moment in moments.tolist():
        begin = max(0, round((moment - before) * rate / hop))
        end = min(len(level), round((moment + after) * rate / hop) + 1)
        if end - begin < 4:
            out.append(moment)
            continue
        part = level[begin:end]
        rise = part[2:] - part[:-2]
        steepest = int(np.argmax(rise))
        # The foot of the rise is where the ear says it begins.
        foot = steepest
        while foot > 0 and rise[foot - 1] > 0.25 * rise[steepest]:
            foot -= 1
        out.append((begin + foot + 1) * hop / rate if rise[steepest] > 1e-5 else moment)
    return np.array(out)


def rises(samples: np.ndarray, rate: int, moments: np.ndarray) -> np.ndarray:
    """Moments moved to where the envelope leaves what was before it, for sounds that swell as well as those that hit.

    Where nothing rises (one note led into the next), a moment stays.
    """
    hop = max(1, rate // 1000)
    level = np.sqrt(loudness(samples, hop, max(2, rate // 100)))
    out = []
    for moment in moments.tolist():
        here = round(moment * rate / hop)
        begin, end = max(0, here - 60), min(len(level), here + 80)
        around = level[begin : max(begin, here + 10)]
        after = level[max(0, here - 20) : end]
        if not len(around) or not len(after):
            out.append(moment)
            continue
        low = begin + int(np.argmin(around))
        top = max(0, here - 20) + int(np.argmax(after))
        floor, peak = float(level[low]), float(level[top])
        if top <= low or peak < 1.5 * floor + 1e-6:
            out.append(moment)
            continue
        below = np.flatnonzero(level[low:top] < floor + RISEN * (peak - floor))
        out.append((low + int(below[-1]) + 1) * hop / rate if len(below) else moment)
    return np.array(out)


RISEN = 0.16
"""So much of its way up a sound has begun."""
