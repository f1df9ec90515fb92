"""Readings of a path of beats: every meter and first downbeat it could have, in figures to compare.

Bars repeat, begin low, long, loud and with another harmony, and have the snare in their middle; a beat is divided in
two or in three; playing has a usual speed, and a usual number of notes in a beat.
"""

from __future__ import annotations

import numpy as np

from puresignal.core.timing.onsets import Onsets

METERS = (2, 3, 4, 5, 6, 7)
SIXTHS = 6
"""Parts of a beat in which what happens in it is compared."""
NEAR = 0.14
"""Part of a beat by which an onset may be off its place and still count for it, if the beat is slow enough."""


class Readings:
    """One path, and all that it may mean.

    features  (readings, figures); a reading is a meter and which of its beats the first one is
    """

    def __init__(self, onsets: Onsets, beats: np.ndarray):
        self.beats = beats
        step = np.diff(beats)
        self.period = float(np.median(step))
        self._place(onsets, step)
        self.thirds = self._thirds_heard
        common = self._common(onsets, step)
        self.kinds: list[tuple[int, int]] = [
            (meter, first) for meter in METERS if len(beats) >= 2 * meter or meter == 2 for first in range(meter)
        ]
        self._columns(onsets)
        meters = [meter for meter in METERS if (meter, 0) in self.kinds]
        own = np.concatenate([self._of(meter) for meter in meters])
        self.features = np.column_stack([np.tile(common, (len(own), 1)), own])

    def down(self, which: int) -> np.ndarray:
        """(beats,) which of them begin a bar in a reading."""
        meter, first = self.kinds[which]
        return np.asarray((np.arange(len(self.beats)) - first) % meter == 0)

    def _place(self, onsets: Onsets, step: np.ndarray) -> None:
        beats = self.beats
        number = np.clip(np.searchsorted(beats, onsets.time, "right") - 1, 0, len(beats) - 2)
        phase = (onsets.time - beats[number]) / np.minimum(step[number], 1.6 * self.period)
        self.inside = (phase > -0.5) & (phase < 1.5)
        late = phase > 0.92
        self.beat = np.minimum(number + late, len(beats) - 1)
        self.into = np.where(late, phase - 1, phase)
        self.width = max(0.04, 0.035 / self.period)
        weight = onsets.weight * self.inside
        self._total = max(1e-9, float(weight.sum()))
        self.on = self._share(weight, 0.0)
        self.half = self._share(weight, 0.5)
        self.third = self._share(weight, 1 / 3, 2 / 3)
        self.quarter = self._share(weight, 0.25, 0.75)
        self.explained = min(1.0, self.on + self.half + max(self.third, self.quarter))
        self._thirds_heard = self.third > 0.5 * self.half and self.third > self.quarter and self.third > 0.08
        at = np.abs(self.into) < max(self.width, 0.09)
        self.at = at & self.inside
        strength = np.zeros(len(beats))
        np.maximum.at(strength, self.beat[self.at], onsets.weight[self.at])
        self.strength = strength
        self.sure = np.clip(0.25 + strength, 0, 1)

    def _near(self, *places: float) -> np.ndarray:
        near = np.zeros(len(self.into), bool)
        for place in places:
            near |= np.abs(self.into - place) < self.width
        return near

    def _share(self, column: np.ndarray, *places: float) -> float:
        return float(column[self._near(*places)].sum()) / self._total

    def _part(self, column: np.ndarray, *places: float) -> float:
        """How much of a column's whole falls on places of the beat; a half where there is none of it."""
        column = column * self.inside
        whole = float(column.sum())
        return float(column[self._near(*places)].sum()) / whole if whole > 0.2 else 0.5

    def _louder(self, onsets: Onsets, one: tuple[float, ...], other: tuple[float, ...]) -> float:
        """How much louder what falls on some places is than what falls on others, as a difference of weights."""
        a, b = onsets.weight[self._near(*one)], onsets.weight[self._near(*other)]
        return float(a.mean() - b.mean()) if len(a) > 2 and len(b) > 2 else 0.0

    def _common(self, onsets: Onsets, step: np.ndarray) -> list[float]:
        """Figures that all readings of the path share."""
        speed = float(np.log2(self.period / 0.58))
        wander = float(np.std(np.diff(np.log(step)))) if len(step) > 2 else 0.0
        per_beat = float(np.log2(max(0.1, len(onsets.time) / len(self.beats)) / 2.0))
        filled = float((self.strength > 0.15).mean())
        low_on, back_on = self._part(onsets.low, 0.0), self._part(onsets.back, 0.0)
        return [
            self.on, self.half, self.third, self.quarter, self.explained, filled,
            speed, -(speed**2), -max(0.0, speed - 0.45) ** 2, -max(0.0, -speed - 0.55) ** 2,
            per_beat, -(per_beat**2), low_on, back_on, low_on - self._part(onsets.low, 0.5),
            back_on - self._part(onsets.back, 0.5), self._louder(onsets, (0.0,), (0.5,)),
            self._louder(onsets, (0.0,), (1 / 3, 2 / 3)), self._louder(onsets, (0.5,), (0.25, 0.75)),
            1.0 if self.thirds else 0.0, speed * self.thirds, wander,
            min(self.half, self.quarter), self.half * (1.0 if self.thirds else 0.0),
        ]  # fmt: skip

    def _columns(self, onsets: Onsets) -> None:
        """By beat: what is low, snare, crash, long, loud, and with another harmony; and how it repeats."""
        count = len(self.beats)

        def by_beat(column: np.ndarray) -> np.ndarray:
            found = np.zeros(count)
            np.maximum.at(found, self.beat[self.at], column[self.at])
            return found

        harmony = np.zeros((count, 12))
        bass = np.zeros((count, 12))
        np.maximum.at(harmony, self.beat, onsets.pitch)
        np.maximum.at(bass, self.beat, onsets.pitch * onsets.low[:, None])
        change, moved = np.zeros(count), np.zeros(count)
        both = np.zeros((count, 12))
        for lag in (1, 2):
            np.maximum(both[lag:], harmony[:-lag], out=both[lag:])
        told = harmony.any(axis=1) & both.any(axis=1)
        change[told] = (harmony * (1 - both)).sum(axis=1)[told] / harmony.sum(axis=1)[told]
        before = np.zeros((count, 12))
        for lag in range(1, min(5, count)):
            before[lag:] += bass[:-lag]
        told = bass.any(axis=1) & before.any(axis=1)
        size = np.linalg.norm(bass, axis=1) * np.linalg.norm(before, axis=1)
        moved[told] = 1 - (bass * before).sum(axis=1)[told] / (size[told] + 1e-9)
        self.columns = np.array(
            [
                by_beat(onsets.low), by_beat(onsets.back), by_beat(onsets.ring),
                by_beat(np.minimum(onsets.long / self.period, 4.0)), self.strength, change, moved,
            ]
        )  # fmt: skip
        place = np.clip(np.floor((self.into + 1 / 12) * SIXTHS), 0, SIXTHS - 1).astype(int)
        pattern = np.zeros((count, SIXTHS, 3))
        for k, column in enumerate((onsets.low, onsets.back, 0.7 * onsets.weight)):
            np.maximum.at(pattern[:, :, k], (self.beat, place), column)
        flat = np.concatenate([pattern.reshape(count, -1), 0.5 * change[:, None]], axis=1)
        scaled = flat - flat.mean(axis=0)
        norm = float((scaled**2).sum() / count) + 1e-9
        self.repeat = np.zeros(15)
        for lag in range(1, 15):
            if count > lag + 2:
                self.repeat[lag] = float((scaled[lag:] * scaled[:-lag]).sum() / (count - lag)) / norm
        busy = np.bincount(self.beat[self.inside], minlength=count).astype(float)
        self.columns = np.vstack([self.columns, busy[None, :]])
        spread = self.columns.std(axis=1) + 0.06
        self.scaled = (self.columns - self.columns.mean(axis=1, keepdims=True)) / spread[:, None]

    def _of(self, meter: int) -> np.ndarray:
        """(meter, figures) that set the readings of one meter apart, a row for each first downbeat."""
        count = len(self.beats)
        turn = np.arange(count) % meter
        first = np.arange(meter)
        sizes = np.bincount(turn, minlength=meter)

        def by_turn(columns: np.ndarray) -> np.ndarray:
            """(columns, meter) means of the beats that are as far after a bar line as each."""
            return np.array([np.bincount(turn, column, meter) for column in columns]) / sizes

        means = by_turn(self.scaled)
        lift, last = means, means[:, (first - 1) % meter]
        if meter % 2 == 0:
            middle = means[:, (first + meter // 2) % meter]
            halves = [self.scaled[:, k::2].mean(axis=1) for k in (0, 1)]
            odd = np.array([halves[(k + 1) % 2] for k in range(meter)]).T
        else:
            middle, odd = np.zeros_like(means), np.zeros_like(means)
        others = [self.repeat[k] for k in range(1, 15) if k % meter and meter % k]
        within = [self.repeat[k] for k in range(1, meter) if meter % k == 0]
        again = float(self.repeat[meter])
        into = (int(np.argmax(self.strength > 0.2)) - first) % meter
        bar = float(np.log2(meter * self.period / 2.1))
        kinds = [0.0] * (2 * len(METERS))
        kinds[METERS.index(meter) + (len(METERS) if self.thirds else 0)] = 1.0
        # Seven eighths are counted in eighths: twice as fast as what else is counted.
        sevenths = 1.0 if meter == 7 else 0.0
        ends = ((count - 1 - first) % meter == 0) * (self.strength[-1] > 0.2)
        rate = by_turn(self.columns[5:7])
        # A note that only the beginning of a bar has tells more than one that others have too.
        low = by_turn(self.columns[:1])[0]
        most = np.array([self.columns[0, turn == k].max(initial=0.0) for k in range(meter)])
        elsewhere = np.array([np.delete(most, k).max(initial=0.0) for k in range(meter)])
        alike = [
            again, again - max(others, default=0.0), again - max(within, default=0.0),
            float(self.repeat[2 * meter]) if 2 * meter < 15 else again,
        ]  # fmt: skip
        same = [bar, -(bar**2), *kinds, sevenths * float(np.log2(self.period / 0.58))]
        return np.column_stack([
            lift.T, middle[[0, 1, 3, 5, 6]].T, odd[[0, 1, 4]].T, last[[0, 1, 4, 7]].T, np.tile(alike, (meter, 1)),
            into == 0, into == meter - 1, ends, np.tile(same, (meter, 1)), rate.T, low - elsewhere,
        ])  # fmt: skip
