"""Edits on found beats: a line moved, beats tapped along, the speed halved or doubled, the first beat of the bars set.

What lies behind a moved line follows it: from there on each beat is looked for near where the last ones lead to.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from puresignal.core.timing.beat_finder import Beats
from puresignal.core.timing.onsets import Onsets

NEAR, PULL, LEARN = 0.16, 0.55, 0.12
"""Parts of a beat: how far an onset may be from where a beat is expected; how much of the way the beat moves
to it, and how much of it the length of a beat does.
"""
FEWEST_TAPS = 3


def moved(beats: Beats, which: int, second: float, onsets: Onsets) -> Beats:
    """Move a beat to a second. The bar before is stretched with it; what comes after follows anew."""
    time = beats.time
    if not 0 <= which < len(time):
        return beats
    lowest = float(time[which - 1]) + 0.05 if which else -np.inf
    second = max(lowest, second)
    begin = _bar_begin(beats, which)
    before = time[:which].copy()
    if which > begin:
        # The beats of the bar before keep their proportions.
        span = float(time[which] - time[begin])
        before[begin:] = time[begin] + (time[begin:which] - time[begin]) * (second - float(time[begin])) / span
    period = float(np.median(np.diff(time[max(0, which - 4) : which + 5]))) if len(time) > 1 else 0.5
    after = _follow(second, period, float(time[-1]) + 0.5 * period, onsets)
    return _with_time(beats, np.concatenate([before, [second], after]), onsets)


def _bar_begin(beats: Beats, which: int) -> int:
    """The number of the last downbeat before a beat, or 0."""
    downs = np.flatnonzero(beats.down[:which])
    return int(downs[-1]) if len(downs) else 0


def _follow(begin: float, period: float, end: float, onsets: Onsets) -> np.ndarray:
    """Beats after `begin`, or before it with a negative period, up to `end`, each drawn to what was played near it."""
    sign = 1.0 if period > 0 else -1.0
    usual, length, now, found = abs(period), abs(period), begin, []
    while True:
        expected = now + sign * length
        if sign * (expected - end) > 0:
            break
        nearest = _nearest(onsets.time, expected)
        off = sign * (nearest - expected)
        if abs(off) < NEAR * length:
            length = float(np.clip(length + LEARN * off, 0.6 * usual, 1.6 * usual))
            expected += sign * PULL * off
        found.append(expected)
        now = expected
    return np.array(found)


def _nearest(times: np.ndarray, second: float) -> float:
    if not len(times):
        return np.inf
    i = int(np.searchsorted(times, second))
    around = times[max(0, i - 1) : i + 1]
    return float(around[np.argmin(np.abs(around - second))])


def _with_time(beats: Beats, time: np.ndarray, onsets: Onsets) -> Beats:
    """Other times: downbeats are those nearest to the ones before, and from there on every `meter` beats."""
    count = min(len(time), len(beats.time))
    down = np.zeros(len(time), bool)
    down[:count] = beats.down[:count]
    last = np.flatnonzero(down)
    if len(last) and len(time) > count:
        down[np.arange(int(last[-1]), len(time), beats.meter)] = True
    return replace(beats, time=time, down=down, sure=how_sure(time, onsets))


def how_sure(time: np.ndarray, onsets: Onsets) -> np.ndarray:
    """(n,) 0..1 how well what was played tells of each beat: how near to it something loud begins."""
    if not len(time) or not len(onsets.time):
        return np.zeros(len(time))
    period = float(np.median(np.diff(time))) if len(time) > 1 else 0.5
    place = np.clip(np.searchsorted(onsets.time, time), 1, max(1, len(onsets.time) - 1))
    sure = np.zeros(len(time))
    for which in (place - 1, np.minimum(place, len(onsets.time) - 1)):
        off = np.abs(onsets.time[which] - time) / max(0.025, 0.06 * period)
        sure = np.maximum(sure, np.clip(0.25 + onsets.weight[which], 0, 1) * np.exp(-0.5 * off**2))
    return sure


def tapped(beats: Beats, taps: np.ndarray, onsets: Onsets, end: float) -> Beats:
    """Beats as they were tapped along, seconds of the take; before and after, they are followed from there.

    A tap that was missed is filled in, one too many is left out. Fewer than three taps change nothing.
    end: seconds of the take
    """
    taps = np.sort(np.asarray(taps, np.float64))
    if len(taps) < FEWEST_TAPS:
        return beats
    period = float(np.median(np.diff(taps)))
    kept = [float(taps[0])]
    for tap in taps[1:].tolist():
        steps = (tap - kept[-1]) / period
        if steps < 0.55:
            continue
        whole = max(1, round(steps))
        kept += [kept[-1] + (tap - kept[-1]) * i / whole for i in range(1, whole + 1)]
    there = np.array(kept)
    # A hand that taps along is a little off; what was played is where the beat was.
    near = np.array([_nearest(onsets.time, second) for second in kept])
    late = near - there
    close = np.abs(late) < 0.25 * period
    lag = float(np.median(late[close])) if close.any() else 0.0
    there = there + lag
    near = np.array([_nearest(onsets.time, second) for second in there.tolist()])
    there = np.where(np.abs(near - there) < NEAR * period, near, there)
    there = np.maximum.accumulate(there)
    before = _follow(float(there[0]), -period, 0.0, onsets)[::-1]
    after = _follow(float(there[-1]), period, end, onsets)
    time = np.concatenate([before, there, after])
    # The bars stay where they were, if any of their lines is near a new beat.
    places = np.array([int(np.argmin(np.abs(time - line))) for line in beats.bars] or [len(before)])
    first = int(np.bincount(places % beats.meter, minlength=beats.meter).argmax())
    down = np.arange(len(time)) % beats.meter == first
    return replace(beats, time=time, down=down, sure=how_sure(time, onsets), confidence=1.0)


def halved(beats: Beats, onsets: Onsets) -> Beats:
    """Half the speed: every second beat, bars with as many of them."""
    downs = np.flatnonzero(beats.down)
    first = int(downs[0]) if len(downs) else 0
    time = beats.time[first % 2 :: 2]
    down = (np.arange(len(time)) - first // 2) % beats.meter == 0
    return replace(beats, time=time, down=down, sure=how_sure(time, onsets))


def doubled(beats: Beats, onsets: Onsets) -> Beats:
    """Twice the speed: a beat between each two, bars with as many of them."""
    if len(beats.time) < 2:
        return beats
    time = np.empty(2 * len(beats.time) - 1)
    time[::2], time[1::2] = beats.time, (beats.time[1:] + beats.time[:-1]) / 2
    downs = np.flatnonzero(beats.down)
    first = 2 * int(downs[0]) if len(downs) else 0
    down = (np.arange(len(time)) - first) % beats.meter == 0
    return replace(beats, time=time, down=down, sure=how_sure(time, onsets))


def with_downbeat(beats: Beats, which: int) -> Beats:
    """A beat begins a bar; the bars after it and before it are counted from there."""
    return replace(beats, down=(np.arange(len(beats.time)) - which) % beats.meter == 0)


def with_downbeat_moved(beats: Beats, by: int) -> Beats:
    """All bars begin so many beats later."""
    return replace(beats, down=np.roll(beats.down, by)) if not len(beats.time) else with_downbeat(
        beats, (int(np.argmax(beats.down)) + by) % beats.meter
    )  # fmt: skip


def with_meter(beats: Beats, meter: int, thirds: bool) -> Beats:
    """Bars of another number of beats, from the first downbeat on."""
    changed = replace(beats, meter=meter, thirds=thirds)
    return with_downbeat(changed, int(np.argmax(beats.down)) if len(beats.time) else 0)
