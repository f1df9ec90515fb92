"""Beats, bars and meter found in playing without a click, from onsets alone.

Beats are the best path through the onsets: each step between two beats has a length near the one before, and is worth
what falls on it, on its half and on its thirds and quarters. Of paths at several speeds the one is taken at which the
playing looks most like playing does: how full a beat is, what the backbeat and the lowest notes do, how bars repeat.

Source  the path: dynamic programming over beats and periods after D. Ellis, Beat tracking by dynamic programming,
        2007, and F. Krebs, S. Böck and G. Widmer, An efficient state-space model for joint tempo and meter tracking,
        2015. The weights between speeds were fitted on takes made for it (bench/tempo.py), half of whose kinds were
        kept aside
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

FRAME = 0.02
"""Seconds of a frame."""
SHORTEST, LONGEST = 0.18, 1.45
"""Seconds of a beat that can be found."""
TOGETHER = 0.03
"""Seconds within which onsets are one event: a chord, or hands that do not strike at once."""
REACH = 2
"""Frames by which the next beat may be longer or shorter."""
CHANGE = 1.6
"""Cost of a change of the period by a tenth."""
SILENCE, RESUME = 0.9, 0.6
"""Seconds without an onset after which playing may go on anywhere, and within which it then does."""
CANDIDATES = 7
"""Speeds at which paths are compared."""
METERS = (2, 3, 4, 5, 6, 7)


@dataclass(frozen=True, eq=False)
class Onsets:
    """Events by time.

    time    (n,) seconds, rising
    weight  (n,) how much each counts: its velocity and how many notes it has
    low     (n,) how much of a bass drum or lowest note is in it
    back    (n,) how much of a snare is in it
    long    (n,) seconds that it lasts
    pitch   (n, 12) pitch classes that begin
    """

    time: np.ndarray
    weight: np.ndarray
    low: np.ndarray
    back: np.ndarray
    long: np.ndarray
    pitch: np.ndarray


@dataclass(frozen=True, eq=False)
class Beats:
    """What was found.

    time        (n,) seconds of the beats, rising
    sure        (n,) 0..1, how well each is told by what was played
    down        (n,) bool, which of them begin a bar
    meter       beats in a bar
    thirds      whether beats are divided in three
    confidence  0..1, of speed and meter together
    """

    time: np.ndarray
    sure: np.ndarray
    down: np.ndarray
    meter: int
    thirds: bool
    confidence: float

    @property
    def bars(self) -> np.ndarray:
        """Seconds of the downbeats."""
        return np.asarray(self.time[self.down])


NOTHING = Beats(np.zeros(0), np.zeros(0), np.zeros(0, bool), 4, False, 0.0)


def onsets_of(
    start: np.ndarray, velocity: np.ndarray, note: np.ndarray, end: np.ndarray, kick: np.ndarray, snare: np.ndarray,
    pitched: np.ndarray,
) -> Onsets:  # fmt: skip
    """Events from notes. kick, snare, pitched: (n,) bool; the other columns as in `Notes`."""
    order = np.argsort(start, kind="stable")
    start, velocity, note, end = (np.asarray(column, np.float64)[order] for column in (start, velocity, note, end))
    kick, snare, pitched = kick[order], snare[order], pitched[order]
    if not len(start):
        nothing = np.zeros(0)
        return Onsets(nothing, nothing, nothing, nothing, nothing, np.zeros((0, 12)))
    first = np.concatenate([[True], np.diff(start) > TOGETHER])
    which = np.cumsum(first) - 1
    count = int(which[-1]) + 1
    loud = (velocity / 127.0) ** 1.2
    total = np.bincount(which, loud, count)
    time = np.bincount(which, loud * start, count) / total
    weight = 1 - np.exp(-1.3 * total)
    low = np.zeros(count)
    np.maximum.at(low, which[kick], loud[kick])
    back = np.zeros(count)
    np.maximum.at(back, which[snare], loud[snare])
    if pitched.any():
        lowest = np.full(count, 128.0)
        np.minimum.at(lowest, which[pitched], note[pitched])
        there = lowest < 128
        # Low against what is played around it: a bass line is not all downbeats.
        floor = np.quantile(lowest[there], (0.1, 0.9))
        depth = np.clip((floor[1] - lowest) / max(1.0, floor[1] - floor[0]), 0, 1)
        low = np.maximum(low, np.where(there, 0.8 * depth * weight, 0.0))
    long = np.zeros(count)
    np.maximum.at(long, which, np.where(np.isnan(end), 0.1, end - start) * np.where(pitched, 1.0, 0.0))
    pitch = np.zeros((count, 12))
    pitch[which[pitched], note[pitched].astype(int) % 12] = 1.0
    return Onsets(time, weight, low, back, long, pitch)


def find(onsets: Onsets) -> Beats:
    """The beats of a take. Fewer than four onsets, or nothing steady, gives beats of no confidence."""
    if len(onsets.time) < 4 or onsets.time[-1] - onsets.time[0] < 2 * SHORTEST:
        return NOTHING
    lead = float(onsets.time[0]) - 0.1
    paths = _paths(onsets, lead)
    if not paths:
        return NOTHING
    tried = [_Reading(onsets, beats) for beats in paths]
    scores = np.array([WEIGHTS @ one.features for one in tried])
    best = int(np.argmax(scores))
    odds = np.exp(scores - scores.max())
    chosen = tried[best]
    steady = float(np.clip(chosen.explained * 1.4 - 0.4, 0, 1))
    confidence = float(odds[best] / odds.sum()) * steady * chosen.meter_margin
    return Beats(chosen.beats, chosen.sure, chosen.down, chosen.meter, chosen.thirds, confidence)


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


PLACES = ((0.0, 1.0), (1.0, 1.0), (1 / 2, 0.34), (1 / 3, 0.08), (2 / 3, 0.14), (1 / 4, 0.02), (3 / 4, 0.06))
"""Where in a beat an onset is worth how much; elsewhere it costs."""
ELSEWHERE, EMPTY, WIDTH = -0.42, 0.22, 0.026
"""What an onset costs where none is expected, what a beat without one costs, and how exactly hands strike (s)."""


def _profile(period: int) -> np.ndarray:
    """(period,) what an onset in each frame of a beat is worth."""
    phase = np.arange(period) / period
    worth = np.full(period, ELSEWHERE)
    for place, value in PLACES:
        near = np.exp(-0.5 * ((phase - place) * period * FRAME / WIDTH) ** 2)
        worth = np.maximum(worth, ELSEWHERE + (value - ELSEWHERE) * near)
    return worth


def _paths(onsets: Onsets, lead: float) -> list[np.ndarray]:
    """Beats in seconds at several speeds, each the best path there."""
    activation = _activation(onsets, lead)
    count = len(activation)
    periods = np.arange(round(SHORTEST / FRAME), round(LONGEST / FRAME) + 1)
    worth = np.zeros((len(periods), count))
    on_beat = np.convolve(activation, (0.6, 1.0, 0.6), "same").clip(0, 1)
    for i, period in enumerate(periods.tolist()):
        full = np.correlate(np.pad(activation, (0, period)), _profile(period), "valid")[:count]
        worth[i] = full - EMPTY * (1 - on_beat)
    score, came = _forward(worth, periods, activation)
    # The end: the best beat in the last step of each period, by what a second of it is worth.
    found: list[tuple[float, int, int]] = []
    for i, period in enumerate(periods.tolist()):
        tail = score[i, count - period - 30 :]
        at = int(np.argmax(tail)) + count - period - 30
        found.append((float(score[i, at]), i, at))
    values = np.array([value for value, _, _ in found])
    order = np.argsort(-values)
    taken: list[int] = []
    for i in order.tolist():
        if all(abs(np.log(periods[i] / periods[j])) > 0.09 for j in taken):
            taken.append(i)
        if len(taken) == CANDIDATES:
            break
    found_paths: list[np.ndarray] = []
    for i in taken:
        path = _trace(came, periods, found[i][1], found[i][2])
        if len(path) >= 3:
            beats = _refined(onsets, path * FRAME + lead)
            # Two ends may have one past.
            if not any(len(beats) == len(other) and np.abs(beats - other).max() < 0.05 for other in found_paths):
                found_paths.append(beats)
    return _with_relatives(onsets, found_paths)


def _with_relatives(onsets: Onsets, paths: list[np.ndarray]) -> list[np.ndarray]:
    """The paths, and those of half and double the speed of each that are not among them."""
    found = list(paths)

    def add(other: np.ndarray) -> None:
        if len(other) < 3 or not SHORTEST <= float(np.median(np.diff(other))) <= LONGEST:
            return
        if not any(_same(other, one) for one in found):
            found.append(_refined(onsets, other))

    for beats in paths[:3]:
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


def _same(one: np.ndarray, other: np.ndarray) -> bool:
    """Whether two paths are one: nearly as many beats, in nearly the same places."""
    if abs(len(one) - len(other)) > 0.05 * len(other) + 1:
        return False
    near = np.abs(one[:, None] - other[np.clip(np.searchsorted(other, one), 1, len(other) - 1)][:, None])
    before = np.abs(one - other[np.clip(np.searchsorted(other, one) - 1, 0, len(other) - 1)])
    return bool(np.median(np.minimum(near[:, 0], before)) < 0.05)


def _forward(worth: np.ndarray, periods: np.ndarray, activation: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(periods, frames) the best score with a beat in a frame whose last step had a period, and where it came from.

    worth  (periods, frames) what a step from a frame on is worth. Where it came from: frames back * 100000 + period,
           or -1 at the beginning
    """
    kinds, count = worth.shape
    score = np.full((kinds, count), -1e9)
    came = np.full((kinds, count), -1, np.int64)
    rows = np.arange(kinds)
    costs = {
        step: CHANGE * 10 * np.abs(np.log(periods / periods[np.clip(rows + step, 0, kinds - 1)]))
        for step in range(-REACH, REACH + 1)
    }
    # The first beat may be anywhere in the first step.
    begin = int(periods[-1]) + 4
    resumes = _resumes(activation)
    for t in range(count):
        source = t - periods
        valid = source >= 0
        arrived = np.where(valid, score[rows, np.maximum(source, 0)] + worth[rows, np.maximum(source, 0)], -1e9)
        best, origin = arrived - costs[0], rows.copy()
        for step in range(-REACH, REACH + 1):
            if not step:
                continue
            other = np.clip(rows + step, 0, kinds - 1)
            value = arrived[other] - costs[step]
            better = value > best
            best = np.where(better, value, best)
            origin = np.where(better, other, origin)
        back = periods[origin]
        if t < begin:
            fresh = -0.3 * t / periods
            better = fresh > best
            best, back = np.where(better, fresh, best), np.where(better, 0, back)
        if t in resumes:
            silent = resumes[t]
            # After a silence playing goes on where it likes, at the speed that it had.
            lo = max(0, silent - int(periods[-1]))
            window = score[:, lo : silent + 1]
            at = np.argmax(window, axis=1)
            value = window[rows, at] - 1.5
            better = value > best
            best = np.where(better, value, best)
            origin, back = np.where(better, rows, origin), np.where(better, t - (lo + at), back)
        score[:, t] = best
        came[:, t] = np.where(back > 0, back * 100_000 + origin, -1)
    return score, came


def _resumes(activation: np.ndarray) -> dict[int, int]:
    """Frames at which something begins after a silence, and the last frame before it."""
    loud = np.flatnonzero(activation > 0.3)
    found = {}
    for before, after in zip(loud[:-1].tolist(), loud[1:].tolist(), strict=True):
        if (after - before) * FRAME > SILENCE:
            # What is heard first may lie between two beats.
            for frame in range(after, after + round(RESUME / FRAME)):
                found[frame] = before
    return found


def _trace(came: np.ndarray, periods: np.ndarray, i: int, t: int) -> np.ndarray:
    """The frames of the beats that led to one."""
    frames = [t]
    while came[i, t] >= 0:
        back, origin = divmod(int(came[i, t]), 100_000)
        t, i = t - back, origin
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


class _Reading:
    """One path with what it makes of the playing: bars, meter, and figures by which it is compared with others."""

    def __init__(self, onsets: Onsets, beats: np.ndarray):
        self.beats = beats
        step = np.diff(beats)
        self.period = float(np.median(step))
        number = np.clip(np.searchsorted(beats, onsets.time, "right") - 1, 0, len(beats) - 2)
        phase = (onsets.time - beats[number]) / np.minimum(step[number], 1.6 * self.period)
        inside = (phase > -0.5) & (phase < 1.5)
        beat = number + (phase > 0.92)
        into = np.where(phase > 0.92, phase - 1, phase)
        weight = onsets.weight * inside
        total = max(1e-9, float(weight.sum()))
        width = np.maximum(0.04, 0.035 / self.period)

        def share(*places: float) -> float:
            near = np.zeros(len(into), bool)
            for place in places:
                near |= np.abs(into - place) < width
            return float(weight[near].sum()) / total

        def share_of(column: np.ndarray, *places: float) -> float:
            near = np.zeros(len(into), bool)
            for place in places:
                near |= np.abs(into - place) < width
            whole = float((column * inside).sum())
            return float((column * inside)[near].sum()) / whole if whole > 0.2 else 0.5

        on, half = share(0.0), share(0.5)
        low_on, back_on = share_of(onsets.low, 0.0), share_of(onsets.back, 0.0)
        low_half = share_of(onsets.low, 0.5)
        begins = float(np.abs(into[:2]).min() < 0.12) if len(into) > 1 else 1.0
        thirds, quarters = share(1 / 3, 2 / 3), share(0.25, 0.75)
        self.explained = min(1.0, on + half + max(thirds, quarters))
        self.thirds = thirds > 0.5 * half and thirds > quarters and thirds > 0.08
        count = len(beats)
        at = np.abs(into) < np.maximum(width, 0.09)
        strength, low, back, long = (np.zeros(count) for _ in range(4))
        np.maximum.at(strength, np.minimum(beat[at], count - 1), onsets.weight[at])
        np.maximum.at(low, np.minimum(beat[at], count - 1), onsets.low[at])
        np.maximum.at(back, np.minimum(beat[at], count - 1), onsets.back[at])
        np.maximum.at(long, np.minimum(beat[at], count - 1), np.minimum(onsets.long[at] / self.period, 4.0))
        harmony = np.zeros((count, 12))
        np.maximum.at(harmony, np.minimum(beat, count - 1), onsets.pitch)
        self.sure = np.clip(0.25 + strength, 0, 1) * np.where(at.any(), 1.0, 0.5)
        filled = float((strength > 0.15).mean())
        self._bars(strength, low, back, long, harmony, _patterns(onsets, beat, into, count))
        per_beat = len(onsets.time) / count
        # Seven eighths are counted in eighths, twice as fast as what else is counted.
        speed = np.log2(self.period * (2.0 if self.meter == 7 and self.period < 0.48 else 1.0) / 0.58)
        backbeat = _alternation(back)
        self.features = np.array(
            [
                on, half, thirds, quarters, self.explained, filled,
                -(speed**2), -max(0.0, speed - 0.45) ** 2, -max(0.0, -speed - 0.55) ** 2,
                -((np.log2(per_beat / 2.0)) ** 2), backbeat, _alternation(low), self.meter_score, self.repeats,
                low_on, back_on, low_on - low_half, begins,
                1.0 if self.meter == 4 else 0.0, 1.0 if self.thirds else 0.0, float(np.std(np.diff(np.log(step)))),
            ]
        )  # fmt: skip

    def _downbeats(self, accent: np.ndarray, strength: np.ndarray, meter: int) -> tuple[np.ndarray, float]:
        """(beats,) which of them begin a bar, and how much they stand out. After a pause bars may begin anew."""
        down, lift = np.zeros(len(accent), bool), 0.0
        number = np.arange(len(accent))
        for begin, end in _segments(self.beats):
            here = accent[begin:end]
            means = [float(here[phase::meter].mean()) if len(here) > phase else -1.0 for phase in range(meter)]
            if not begin:
                # Most begin with a bar.
                means[int(np.argmax(strength > 0.2)) % meter] += BEGINS
            phase = int(np.argmax(means))
            down[begin:end] = (number[begin:end] - begin) % meter == phase
            lift += means[phase] * (end - begin) / len(accent)
        return down, lift

    def _bars(
        self, strength: np.ndarray, low: np.ndarray, back: np.ndarray, long: np.ndarray, harmony: np.ndarray,
        patterns: np.ndarray,
    ) -> None:  # fmt: skip
        """Meter and first downbeat: bars repeat, begin low, long and with another harmony, and not with the snare."""
        change = np.zeros(len(strength))
        for i in range(1, len(strength)):
            both = harmony[max(0, i - 2) : i].max(axis=0)
            if harmony[i].any() and both.any():
                change[i] = float((harmony[i] * (1 - both)).sum() / harmony[i].sum())
        accent = 1.0 * low + 0.45 * strength + 0.22 * np.minimum(long, 2.0) + 0.5 * change - 0.75 * back
        accent = accent - accent.mean()
        scale = float(accent.std()) + 1e-6
        best = (-1e9, 4, np.arange(len(strength)) % 4 == 0, 0.0)
        values = []
        for meter in METERS:
            if len(strength) < 2 * meter:
                continue
            repeats = _repetition(patterns, meter)
            down, lift = self._downbeats(accent / scale, strength, meter)
            value = METER_PRIOR[meter] + 2.6 * repeats + 0.95 * lift
            values.append(value)
            if value > best[0]:
                best = (value, meter, down, repeats)
        self.meter_score, self.meter, self.down, self.repeats = best
        ordered = sorted(values, reverse=True)
        gap = ordered[0] - ordered[1] if len(ordered) > 1 else 0.0
        if not values:
            self.meter_score = 0.0
        self.meter_margin = float(0.5 + 0.5 * np.clip(gap / 0.5, 0, 1))


BEGINS = 0.45
"""What it is worth that a take begins with its first bar and not with a pick-up."""
METER_PRIOR = {2: -0.45, 3: -0.12, 4: 0.12, 5: -0.25, 6: -0.5, 7: -0.3}
"""What a meter is worth before anything is heard: bars of four are played most."""


def _segments(beats: np.ndarray) -> list[tuple[int, int]]:
    """(first beat, beat after the last) of what was played without a pause."""
    step = np.diff(beats)
    if not len(step):
        return [(0, len(beats))]
    cuts = (np.flatnonzero(step > 1.7 * np.median(step)) + 1).tolist()
    return list(zip([0, *cuts], [*cuts, len(beats)], strict=True))


def _patterns(onsets: Onsets, beat: np.ndarray, into: np.ndarray, count: int) -> np.ndarray:
    """(beats, features) what happens in each beat: low, back, pitches and strength by sixths of it."""
    bins = 6
    place = np.clip(np.floor((into + 1 / 12) * bins), 0, bins - 1).astype(int)
    beat = np.minimum(beat, count - 1)
    found = np.zeros((count, bins, 3))
    for k, column in enumerate((onsets.low, onsets.back, 0.7 * onsets.weight)):
        np.maximum.at(found[:, :, k], (beat, place), column)
    return found.reshape(count, -1)


def _repetition(patterns: np.ndarray, lag: int) -> float:
    """How alike what is a bar apart is, against what is any other number of beats apart."""
    if len(patterns) <= 2 * lag:
        return 0.0
    scaled = patterns - patterns.mean(axis=0)
    norm = float((scaled**2).sum() / len(scaled)) + 1e-9
    return float((scaled[lag:] * scaled[:-lag]).sum() / (len(scaled) - lag)) / norm


def _alternation(strength: np.ndarray) -> float:
    """How much every second beat has it and the others have not, -1..1; 0 where there is none."""
    if len(strength) < 4 or strength.max() < 0.1:
        return 0.0
    even, odd = float(strength[::2].mean()), float(strength[1::2].mean())
    return abs(even - odd) / max(1e-9, even + odd)


WEIGHTS = np.array(
    [
        -6.41,
        4.06,
        1.17,
        -0.329,
        10.7,
        7.27,
        2.04,
        5.34,
        4.61,
        -0.123,
        0.268,
        -0.0891,
        1.21,
        -4.01,
        7.28,
        2.35,
        2.56,
        1.33,
        1.37,
        -1.1,
        -7.72,
    ]
)
"""What each feature of a reading is worth against those of other speeds."""
