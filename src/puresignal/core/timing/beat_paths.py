"""Beats at several speeds, each the best path through the onsets there is at that speed.

Each step between two beats has a length near the one before, and is worth what falls on it, on its half and on its
thirds and quarters.

Source  dynamic programming over beats and periods after D. Ellis, Beat tracking by dynamic programming, 2007, and
        F. Krebs, S. Böck and G. Widmer, An efficient state-space model for joint tempo and meter tracking, 2015
"""

from __future__ import annotations

import numpy as np

from puresignal.core.timing.onsets import Onsets

FRAME = 0.02
"""Seconds of a frame."""
SHORTEST, LONGEST = 0.18, 1.45
"""Seconds of a beat that can be found."""
REACH = 2
"""Frames by which the next beat may be longer or shorter."""
CHANGE = 1.6
"""Cost of a change of the period by a tenth."""
SPEEDS = ((9, 15), (13, 22), (18, 31), (26, 44), (36, 72))
"""Frames of a beat, from and to, in each of which a path is looked for: a path that may also double its speed does."""
PLACES = ((0.0, 1.0), (1.0, 1.0), (1 / 2, 0.34), (1 / 3, 0.08), (2 / 3, 0.14), (1 / 4, 0.02), (3 / 4, 0.06))
"""Where in a beat an onset is worth how much; elsewhere it costs."""
ELSEWHERE, EMPTY, WIDTH = -0.42, 0.22, 0.026
"""Costs of an onset where none is expected and of a beat without one, and how exactly hands strike (s)."""


def paths(onsets: Onsets) -> list[np.ndarray]:
    """Beats in seconds at several speeds; none if there is too little to go by. No two of them are alike."""
    lead = float(onsets.time[0]) - 0.1
    activation = _activation(onsets, lead)
    count = len(activation)
    periods = np.concatenate([np.arange(a, b + 1) for a, b in SPEEDS])
    group = np.concatenate([np.full(b + 1 - a, i) for i, (a, b) in enumerate(SPEEDS)])
    on_beat = np.convolve(activation, (0.6, 1.0, 0.6), "same").clip(0, 1)
    worth_of = {}
    for period in range(SPEEDS[0][0], SPEEDS[-1][1] + 1):
        full = np.correlate(np.pad(activation, (0, period)), _profile(period), "valid")[:count]
        worth_of[period] = full - EMPTY * (1 - on_beat)
    worth = np.array([worth_of[period] for period in periods.tolist()])
    score, came = _forward(worth, periods, group)
    found: list[np.ndarray] = []
    for one in range(len(SPEEDS)):
        best = (-1e9, 0, 0)
        for i in np.flatnonzero(group == one).tolist():
            begin = max(0, count - int(periods[i]) - 30)
            at = int(np.argmax(score[i, begin:])) + begin
            best = max(best, (float(score[i, at]), i, at))
        frames = _trace(came, periods, best[1], best[2])
        if len(frames) >= 3:
            beats = _refined(onsets, frames * FRAME + lead)
            if not any(same(beats, other) for other in found):
                found.append(beats)
    return _with_relatives(onsets, found)


def _activation(onsets: Onsets, lead: float) -> np.ndarray:
    """(frames,) how much begins in each frame, spread over its neighbours."""
    count = int((onsets.time[-1] - lead) / FRAME) + 60
    place = (onsets.time - lead) / FRAME
    activation = np.zeros(count)
    for offset in (-1, 0, 1, 2):
        frame = np.floor(place).astype(int) + offset
        near = np.exp(-0.5 * ((frame - place) / 0.9) ** 2)
        inside = (frame >= 0) & (frame < count)
        np.maximum.at(activation, frame[inside], (onsets.weight * near)[inside])
    return activation


def _profile(period: int) -> np.ndarray:
    """(period,) what an onset in each frame of a beat is worth."""
    phase = np.arange(period) / period
    worth = np.full(period, ELSEWHERE)
    for place, value in PLACES:
        near = np.exp(-0.5 * ((phase - place) * period * FRAME / WIDTH) ** 2)
        worth = np.maximum(worth, ELSEWHERE + (value - ELSEWHERE) * near)
    return worth


def _with_relatives(onsets: Onsets, found_paths: list[np.ndarray]) -> list[np.ndarray]:
    """The paths, and those of half, double and a third of the speed of each that are not among them."""
    found = list(found_paths)

    def add(other: np.ndarray) -> None:
        if len(other) < 3 or not SHORTEST <= float(np.median(np.diff(other))) <= LONGEST:
            return
        if not any(same(other, one) for one in found):
            found.append(_refined(onsets, other))

    for beats in found_paths:
        halves = np.empty(2 * len(beats) - 1)
        halves[::2], halves[1::2] = beats, (beats[1:] + beats[:-1]) / 2
        add(halves)
        # The offbeat may be struck harder than the beat.
        add(halves[1::2])
        for phase in (0, 1):
            add(beats[phase::2])
        # Three eighths are a beat of six eight, whichever of the two the path took.
        for phase in (0, 1, 2):
            add(beats[phase::3])
            add(halves[phase::3])
    return found


def same(one: np.ndarray, other: np.ndarray) -> bool:
    """Whether two paths are one: nearly as many beats, in nearly the same places."""
    if abs(len(one) - len(other)) > 0.05 * len(other) + 1:
        return False
    right = np.clip(np.searchsorted(other, one), 1, len(other) - 1)
    off = np.minimum(np.abs(one - other[right]), np.abs(one - other[right - 1]))
    return bool(np.median(off) < 0.05 and np.mean(off < 0.07) > 0.9)


def _forward(worth: np.ndarray, periods: np.ndarray, group: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(periods, frames) the best score with a beat in a frame whose last step had a period, and where it came from.

    worth  (periods, frames) what a step from a frame on is worth
    group  (periods,) paths stay within one. Where it came from: row of the step before, or -1 at the beginning
    """
    kinds, count = worth.shape
    longest = int(periods.max())
    # Time first, so that a frame is one row; begins with as many empty frames as the longest step.
    score = np.full((count + longest, kinds), -1e9)
    gained = np.full((count + longest) * kinds, -1e9)
    came = np.full((count, kinds), -1, np.int32)
    worth = np.ascontiguousarray(worth.T)
    rows = np.arange(kinds, dtype=np.int32)
    steps = [0, *(step for by in range(1, REACH + 1) for step in (-by, by))]
    # What a step from a neighbouring row costs; beyond the ends of the rows there is nothing.
    cost = np.full((len(steps), kinds), 1e9)
    for of, step in zip(cost, steps, strict=True):
        here = (rows + step >= 0) & (rows + step < kinds)
        here[here] = group[rows[here]] == group[(rows + step)[here]]
        of[here] = CHANGE * 10 * np.abs(np.log(periods[here] / periods[(rows + step)[here]]))
    # The first beat may be anywhere in the first step.
    begin = longest + 4
    # No step is shorter than so many frames, so what they need has been worked out before them.
    together = int(periods.min())
    arrived = np.zeros((together, kinds + 2 * REACH))
    places = (np.arange(together)[:, None] + longest - periods) * kinds + rows
    for first in range(0, count, together):
        t = np.arange(first, min(first + together, count))
        arrived[: len(t), REACH : REACH + kinds] = gained.take(places[: len(t)] + first * kinds)
        best = arrived[: len(t), REACH : REACH + kinds] - cost[0]
        origin = np.zeros(best.shape, np.int32)
        for step, costs in zip(steps[1:], cost[1:], strict=True):
            value = arrived[: len(t), REACH + step : REACH + step + kinds] - costs
            np.copyto(origin, step, where=value > best)
            np.maximum(best, value, out=best)
        origin += rows
        if first < begin:
            fresh = np.where(t[:, None] < begin, -0.3 * t[:, None] / periods, -np.inf)
            np.copyto(origin, -1, where=fresh > best)
            np.maximum(best, fresh, out=best)
        score[first + longest : first + longest + len(t)] = best
        gained[(first + longest) * kinds : (first + longest + len(t)) * kinds] = (best + worth[t]).ravel()
        came[t] = origin
    return score[longest:].T, came.T


def _trace(came: np.ndarray, periods: np.ndarray, i: int, t: int) -> np.ndarray:
    """The frames of the beats that led to one."""
    frames = [t]
    while came[i, t] >= 0:
        origin = int(came[i, t])
        t, i = t - int(periods[origin]), origin
        if t < 0:
            break
        frames.append(t)
    return np.array(frames[::-1])


def _refined(onsets: Onsets, beats: np.ndarray) -> np.ndarray:
    """Beats moved to what was played there, those without an onset between their neighbours."""
    step = float(np.median(np.diff(beats))) if len(beats) > 1 else 0.5
    near = min(0.065, 0.18 * step)
    place = np.clip(np.searchsorted(onsets.time, beats), 1, len(onsets.time) - 1)
    left, right = onsets.time[place - 1], onsets.time[place]
    nearest = np.where(np.abs(beats - left) < np.abs(beats - right), place - 1, place)
    off = onsets.time[nearest] - beats
    told = np.abs(off) < near
    if told.sum() < 2:
        return beats
    number = np.arange(len(beats))
    # Half of the way: a hand wavers around a pulse that is steadier than it.
    moved = beats + np.interp(number, number[told], 0.6 * off[told])
    return np.asarray(moved)
