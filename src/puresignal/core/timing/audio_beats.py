"""Beat tracking in a recording: tempo, beats and bars, so that notes can be placed on a grid.

Beats are the cheapest path through the onsets with steps near the tempo period; the tempo is the period at which
onsets repeat, preferring a walking pace; a bar starts at the low sounds.

Source  D. Ellis, Beat tracking by dynamic programming, 2007
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing.dsp import spectra
from puresignal.core.hearing.networks import onset

SLOWEST, QUICKEST = 50.0, 210.0
USUAL = 98.0
"""Preferred tempo in BPM where a piece could be counted at half or double speed."""
TIGHT = 90.0
STEP = onset.STEP


@dataclass(frozen=True, eq=False)
class Beat:
    """bpm; beats and bars in seconds; meter: beats per bar; confidence 0..1."""

    bpm: float
    beats: np.ndarray
    bars: np.ndarray
    meter: int
    confidence: float


def beat(samples: np.ndarray, begins: np.ndarray) -> Beat:
    """samples: (n,) at onset.RATE; begins: onset probability, onset.STEP apart."""
    low = _low_rises(samples)[: len(begins)]
    strength = begins[: len(low)] + 1.5 * low
    if len(strength) * STEP < 2.0 or strength.max(initial=0.0) < 0.2:
        return Beat(0.0, np.zeros(0), np.zeros(0), 4, 0.0)
    smooth = np.convolve(strength, np.hanning(7) / np.hanning(7).sum(), "same")
    period, confidence = _period(smooth)
    places = _walk(smooth, period)
    beats = places * STEP
    if len(beats) >= 3:
        # A line through all beats: the tempo of a player wavers, but not from beat to beat.
        period = float(np.polyfit(np.arange(len(beats)), beats, 1)[0]) / STEP
    meter, first = _bars(places, low, smooth)
    return Beat(60 / (period * STEP), beats, beats[first::meter], meter, confidence)


def _low_rises(samples: np.ndarray) -> np.ndarray:
    """(frames,) rise of the level below 150 Hz, 0..1."""
    magnitudes = spectra.spectra(np.asarray(samples, np.float32), 2048, onset.HOP)
    level = magnitudes[:, 3:14].sum(axis=1)
    rise = np.zeros(len(level))
    rise[4:] = np.clip(level[4:] - level[:-4], 0, None)
    return np.asarray(np.minimum(1.0, rise / (np.quantile(rise, 0.99) + 1e-9)))


def _period(strength: np.ndarray) -> tuple[float, float]:
    """Frames per beat, and how clearly onsets repeat at that period."""
    centred = strength - strength.mean()
    size = 1 << (2 * len(centred)).bit_length()
    likeness = np.fft.irfft(np.abs(np.fft.rfft(centred, size)) ** 2, size)[: len(centred)]
    likeness /= likeness[0] + 1e-9
    lags = np.arange(int(60 / QUICKEST / STEP), min(len(likeness) - 1, int(60 / SLOWEST / STEP)) + 1)
    score = likeness[lags].copy()
    for times, weight in ((2, 0.6), (4, 0.4)):
        # A multiple of the period may fall between frames, so neighbours count too.
        far = np.clip(lags * times, 0, len(likeness) - 2)
        score += weight * np.maximum(np.maximum(likeness[far - 1], likeness[far]), likeness[far + 1])
    bpm = 60 / (lags * STEP)
    score *= np.exp(-0.5 * (np.log2(bpm / USUAL) / 0.75) ** 2)
    best = int(np.argmax(score))
    if 0 < best < len(lags) - 1:
        before, here, after = score[best - 1 : best + 2]
        bend = before - 2 * here + after
        exact = lags[best] + (0.5 * (before - after) / bend if bend < -1e-12 else 0.0)
    else:
        exact = float(lags[best])
    return float(exact), float(np.clip(likeness[lags[best]] * 1.6, 0, 1))


def _walk(strength: np.ndarray, period: float) -> np.ndarray:
    """Frames of the beats."""
    far = np.arange(-round(2 * period), -max(1, round(period / 2)) + 1)
    cost = -TIGHT * np.log(-far / period) ** 2
    total, back = np.zeros(len(strength)), np.full(len(strength), -1)
    scaled = strength / (strength.std() + 1e-9)
    for t in range(len(strength)):
        before = t + far
        inside = before >= 0
        if inside.any():
            options = total[before[inside]] + cost[inside]
            best = int(np.argmax(options))
            if options[best] > 0:
                back[t], total[t] = int(before[inside][best]), options[best]
        total[t] += scaled[t]
    place = max(0, len(total) - round(period)) + int(np.argmax(total[-round(period) :]))
    found = []
    while place >= 0:
        found.append(place)
        place = int(back[place])
    return np.array(found[::-1])


def _bars(places: np.ndarray, low: np.ndarray, strength: np.ndarray) -> tuple[int, int]:
    """Beats per bar, and the number of the first beat that starts one."""
    if len(places) < 6:
        return 4, 0

    def around(values: np.ndarray) -> np.ndarray:
        wide = np.lib.stride_tricks.sliding_window_view(np.pad(values, 4), 9).max(axis=1)
        return np.asarray(wide[np.clip(places, 0, len(wide) - 1)])

    weight = around(low) + 0.3 * around(strength)
    best = (-1.0, 4, 0)
    for meter, liking in ((4, 1.0), (3, 0.85)):
        for first in range(meter):
            stands_out = weight[first::meter].mean() - weight.mean()
            best = max(best, (float(stands_out * liking), meter, first))
    return best[1], best[2]
