"""Where something was played round and round: the bars after which the playing is alike again."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.timing.beat_finder import Beats
from puresignal.core.timing.onsets import Onsets

LENGTHS = (1, 2, 4, 8, 16)
ALIKE, BETTER = 0.62, 0.06
"""How alike rounds have to be, 0..1; and by how much a longer round has to be more alike than a shorter one."""
MOST_OF = 0.5
"""Part of the take that the rounds have to make up."""
PARTS = 4
"""Parts of a beat by which bars are compared."""


@dataclass(frozen=True)
class Rounds:
    """A stretch that repeats.

    first  number of the downbeat with which it begins, from 0
    bars   its length
    times  how often it was played
    alike  0..1 how alike its rounds are
    """

    first: int
    bars: int
    times: int
    alike: float


def find(beats: Beats, onsets: Onsets) -> Rounds | None:
    """The stretch that was played round and round at least twice in a row, or None."""
    bars = _bars(beats, onsets)
    if len(bars) < 2:
        return None
    best: Rounds | None = None
    for length in LENGTHS:
        if 2 * length > len(bars):
            break
        alike = np.array([_alike(bars[i], bars[i + length]) for i in range(len(bars) - length)])
        good = alike > ALIKE
        begin, end = _longest(good)
        times = (end - begin) // length + 1 if end > begin else 0
        # A single stumble in a bar does not end the rounds, but as many bars as the round has to be alike.
        if times < 2 or end - begin < length or times * length < MOST_OF * len(bars):
            continue
        found = Rounds(begin, length, int(times), float(alike[begin:end].mean()))
        if best is None or found.alike > best.alike + BETTER or found.times * length > 2 * best.times * best.bars:
            best = found
    return best


def _longest(good: np.ndarray) -> tuple[int, int]:
    """The longest run of True: its first place, and the place after its last."""
    edges = np.flatnonzero(np.diff(np.concatenate([[0], good.astype(np.int8), [0]])))
    runs = edges.reshape(-1, 2)
    if not len(runs):
        return 0, 0
    begin, end = runs[int(np.argmax(runs[:, 1] - runs[:, 0]))].tolist()
    return begin, end


def _alike(one: np.ndarray, other: np.ndarray) -> float:
    """0..1 how much of two bars is the same."""
    whole = float(np.maximum(one, other).sum())
    return float(np.minimum(one, other).sum()) / whole if whole else 0.0


def _bars(beats: Beats, onsets: Onsets) -> list[np.ndarray]:
    """The events of each whole bar: strength, low, snare and pitches by parts of its beats."""
    downs = np.flatnonzero(beats.down)
    rows: list[np.ndarray] = []
    for begin in downs[:-1].tolist():
        end = min(len(beats.time) - 1, begin + beats.meter)
        grid = np.zeros((beats.meter * PARTS, 15))
        first, last = beats.time[begin], beats.time[end]
        step = float(last - first) / max(1, end - begin)
        here = np.flatnonzero((onsets.time >= first - 0.12 * step) & (onsets.time < last - 0.12 * step))
        number = np.clip(np.searchsorted(beats.time, onsets.time[here], "right") - 1, 0, len(beats.time) - 2)
        within = (onsets.time[here] - beats.time[number]) / np.diff(beats.time)[number]
        place = np.clip(np.rint((number - begin + within) * PARTS).astype(int), 0, len(grid) - 1)
        value = np.column_stack([
            0.7 * onsets.weight[here], onsets.low[here], onsets.back[here], 0.5 * onsets.pitch[here],
        ])  # fmt: skip
        np.maximum.at(grid, place, value)
        rows.append(grid.ravel())
    return rows
