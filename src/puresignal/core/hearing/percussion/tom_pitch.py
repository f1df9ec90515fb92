"""Distinguish toms by pitch, as far as one recording has several.

The pitch of a stroke is its strongest low partial, minus what still rings of the stroke before it and minus the kick
where both are struck together. Pitches are clustered into at most four groups with the least spread, which are named
from low to high.

Source  one-dimensional clustering by dynamic programming: H. Wang and M. Song, Ckmeans.1d.dp, 2011, here with the
        median and a cost for each group
"""

from __future__ import annotations

from itertools import combinations

import numpy as np

USUAL = (55.0, 51.0, 46.5, 41.5)
"""Usual pitches of toms, high to low, as MIDI notes; kits differ by a fifth."""
LOWEST, HIGHEST = 50.0, 330.0
"""Range of their strongest partial in Hz."""
AFTER, LASTS = 0.015, 0.11
"""Start and length in seconds of the part of a stroke that is analysed."""
RINGS_ON = 0.4
"""Fraction of the power just before a stroke that still sounds within it."""
TOGETHER, NEAR = 0.03, 0.18
"""Seconds within which strokes are one, and within which a tom overlaps with a kick."""
STEP, PRICE, FARTHEST = 0.25, 1.0, 6.0
"""Resolution in semitones, cost of a further group, and largest error of a stroke."""
SIZE = 1 << 12
AT_ONCE = 256
"""Strokes whose spectra are held together: those of hours would take a gigabyte."""


def named(toms: np.ndarray, confidence: np.ndarray, kicks: np.ndarray, low: np.ndarray, rate: float) -> np.ndarray:
    """(n,) 0 the highest tom .. 3 the lowest.

    toms, kicks  seconds
    confidence   (n,) weight of each tom when the groups are formed
    low          the low part of the sound, at `rate`
    """
    if not len(toms):
        return np.zeros(0, int)
    pitch = pitches(toms, kicks, low, rate)
    own = groups(pitch, confidence)
    _, own = np.unique(own, return_inverse=True)
    middles = [float(np.median(pitch[own == k])) for k in range(own.max() + 1)]
    # Low to high onto as many of the four as there are, each as near as possible to its usual pitch.
    best = min(
        combinations(range(3, -1, -1), len(middles)),
        key=lambda chosen: sum(abs(m - USUAL[c]) for m, c in zip(middles, chosen, strict=True)),
    )
    return np.array(best)[own]


def pitches(toms: np.ndarray, kicks: np.ndarray, low: np.ndarray, rate: float) -> np.ndarray:
    """(n,) the strongest low partial of each stroke as a fractional MIDI note."""
    length = round(LASTS * rate)
    hz = np.arange(SIZE // 2 + 1) * rate / SIZE
    band = slice(int(np.searchsorted(hz, LOWEST)), int(np.searchsorted(hz, HIGHEST)))
    begins = np.rint(toms * rate).astype(int)
    late = round(AFTER * rate)
    padded = np.pad(low, (length, 2 * length))
    alone = kicks[_away(kicks, toms) > NEAR][:32]
    kick = _power(padded, np.rint(alone * rate).astype(int) + late, length)[:, band]
    kick = np.sum(kick / (kick.sum(axis=1, keepdims=True) + 1e-12), axis=0) / max(1, len(alone))
    highest, with_kick = int(np.argmax(kick)), (_away(toms, kicks) < TOGETHER) & bool(len(alone))
    strongest = np.zeros(len(toms), int)
    for first in range(0, len(toms), AT_ONCE):
        part = slice(first, first + AT_ONCE)
        power = _power(padded, begins[part] + late, length)[:, band]
        power -= RINGS_ON * _power(padded, begins[part] - length, length)[:, band]
        both = with_kick[part]
        share = np.maximum(0, power[both, highest]) / max(kick[highest], 1e-12)
        power[both] -= share[:, None] * kick
        strongest[part] = np.argmax(power, axis=1)
    return np.asarray(69 + 12 * np.log2(hz[band][strongest] / 440))


def _away(moments: np.ndarray, others: np.ndarray) -> np.ndarray:
    """(moments,) distance of the nearest of the others."""
    ordered = np.concatenate([[-np.inf], np.sort(others), [np.inf]])
    after = np.clip(np.searchsorted(ordered, moments), 1, len(ordered) - 1)
    return np.asarray(np.minimum(moments - ordered[after - 1], ordered[after] - moments))


def _power(padded: np.ndarray, begins: np.ndarray, length: int) -> np.ndarray:
    """(n, bins) spectra of `length` samples; padded: the recording with `length` before it and twice that after.

    Outside the recording there is silence.
    """
    places = np.clip(begins + length, 0, len(padded) - length)[:, None] + np.arange(length)
    return np.asarray(np.abs(np.fft.rfft(padded[places] * np.hanning(length), SIZE)) ** 2)


def groups(pitch: np.ndarray, weight: np.ndarray) -> np.ndarray:
    """(n,) group of each pitch in semitones: 0 (low), 1 .. 3."""
    bins = np.rint(pitch / STEP).astype(int)
    bins -= bins.min()
    count = int(bins.max()) + 1
    many = np.bincount(bins, weight)
    away = np.minimum(np.abs(np.arange(count)[:, None] - np.arange(count)) * STEP, FARTHEST) * many
    summed = np.pad(np.cumsum(away, axis=1), ((0, 0), (1, 0)))
    # [i, j]: total error of bins i to j around their median.
    spread = np.stack([(summed - summed[:, i : i + 1]).min(axis=0) for i in range(count + 1)])
    spread[np.tril_indices(count + 1, -1)] = np.inf
    least, back = [np.where(np.arange(count + 1) == 0, 0.0, np.inf)], []
    for _ in range(4):
        costs = least[-1][:, None] + spread + PRICE
        back.append(costs.argmin(axis=0))
        least.append(costs.min(axis=0))
    number = min(range(1, 5), key=lambda k: least[k][count])
    cuts, end = [], count
    for k in range(number, 0, -1):
        end = int(back[k - 1][end])
        cuts.append(end)
    return np.searchsorted(sorted(cuts)[1:], bins, side="right")
