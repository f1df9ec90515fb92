"""A path of beats as a network sees it: each beat in twelve parts, what begins in each, and how beats repeat.

Seen from its own beats, a pattern looks the same at any speed, so that what was learnt at one holds at all.
"""

from __future__ import annotations

import numpy as np

from puresignal.core.timing.onsets import Onsets

PARTS = 12
"""Parts of a beat."""
LAGS = (1, 2, 3, 4, 5, 6, 7, 8, 12, 16)
"""Beats back and ahead with which a beat is compared."""
RECENT, BEFORE = 0.8, 3.0
"""Seconds back in which a harmony is looked for that is new in an event."""
COLUMNS = 13
LONG = 7
"""Column that is counted in beats."""
WIDE = PARTS * COLUMNS + 2 * len(LAGS) + 4
"""Figures of a beat."""
AROUND = 4
"""Events to each side that an event is louder or softer than."""
USUAL = 0.55
"""Seconds of a usual beat."""


def columns_of(onsets: Onsets) -> np.ndarray:
    """(events, COLUMNS) what each event is to a path: drums, pitched notes and their height, what is new in harmony,
    accents.
    """
    count = len(onsets.time)
    pitched = ~np.isnan(onsets.lowest)
    lowest, highest = np.nan_to_num(onsets.lowest), np.nan_to_num(onsets.highest)
    middle = float(np.median(np.r_[lowest[pitched], highest[pitched]])) if pitched.any() else 60.0
    columns = np.zeros((count, COLUMNS))
    columns[:, 0] = np.where(pitched, 0, onsets.low)
    columns[:, 1], columns[:, 2], columns[:, 3] = onsets.back, onsets.light, onsets.ring
    columns[:, 4] = np.where(pitched, onsets.weight, 0)
    columns[:, 5] = np.where(pitched, onsets.low, 0)
    columns[:, 6] = np.where(pitched, np.clip((highest - middle) / 12, -2, 2), 0)
    columns[:, 8], columns[:, 10] = _new(onsets, RECENT), _new(onsets, BEFORE)
    columns[1:, 9] = pitched[1:] & pitched[:-1] & (lowest[1:] != lowest[:-1])
    columns[:, 11] = np.minimum(onsets.count, 8) / 8
    columns[:, 12] = _accents(onsets.weight)
    return columns


def _accents(weight: np.ndarray) -> np.ndarray:
    """(events,) by how much, as a logarithm, each is louder than those around it are on the mean, a half at most."""
    loud = np.log(weight + 0.02)
    sums = np.r_[0.0, np.cumsum(loud)]
    number = np.arange(len(loud))
    begin, end = np.maximum(0, number - AROUND), np.minimum(len(loud), number + AROUND + 1)
    return np.asarray(np.clip(loud - (sums[end] - sums[begin]) / (end - begin), -0.5, 0.5))


def _new(onsets: Onsets, seconds: float) -> np.ndarray:
    """(events,) share of the pitch classes of each event that none in the seconds before it had."""
    total = onsets.pitch.sum(axis=1)
    sums = np.vstack([np.zeros((1, 12)), np.cumsum(onsets.pitch, axis=0)])
    before = sums[:-1] - sums[np.searchsorted(onsets.time, onsets.time - seconds)] > 0
    share = (onsets.pitch * ~before).sum(axis=1) / np.maximum(total, 1)
    return np.asarray(np.where((total > 0) & before.any(axis=1), share, 0.0))


def picture(onsets: Onsets, columns: np.ndarray, beats: np.ndarray) -> np.ndarray:
    """(beats, WIDE) a path. columns: of `columns_of`"""
    count, step = len(beats), np.diff(beats)
    period = float(np.median(step))
    number = np.clip(np.searchsorted(beats, onsets.time, "right") - 1, 0, count - 2)
    place = number + (onsets.time - beats[number]) / np.minimum(step[number], 1.8 * period)
    inside = (place > -0.5) & (place < number + 1.5) & (place < count + 0.5)
    columns = columns[inside]
    columns[:, LONG] = np.minimum(onsets.long[inside] / period, 4) / 4
    # Each event is shared between the two parts that it is between. A beat has one part and some before and after.
    part = np.floor(place[inside] * PARTS).astype(int)
    late = place[inside] * PARTS - part
    places = (count + 2) * PARTS
    cells = np.column_stack(
        [
            np.bincount(part + PARTS, column * (1 - late), places)
            + np.bincount(part + PARTS + 1, column * late, places)
            for column in columns.T
        ]
    )
    rows = np.minimum(cells[PARTS - 1 : PARTS - 1 + count * PARTS].reshape(count, -1), 2.5)
    apart = rows - rows.mean(axis=0)
    size = np.sqrt((apart**2).sum(axis=1)) + 0.3
    alike = np.zeros((count, 2 * len(LAGS)))
    for i, lag in enumerate(LAGS):
        if count > lag:
            back = (apart[lag:] * apart[:-lag]).sum(axis=1) / (size[lag:] * size[:-lag])
            alike[lag:, 2 * i] = alike[:-lag, 2 * i + 1] = back
    pitched, drums = columns[:, 4].sum(), columns[:, :4].sum()
    whole = [
        np.full(count, np.log2(period / USUAL)),
        np.clip(np.log2(np.r_[step, step[-1]] / period), -1, 1),
        np.abs(rows).sum(axis=1) == 0,
        np.full(count, float(pitched > drums)),
    ]
    return np.column_stack([rows, alike, *whole])
