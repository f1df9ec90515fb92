"""The session's time: beats from bar 1, a tempo that steps or glides, and meters by bars.

Seconds come from it here alone. A beat is a quarter note; beat 0 is bar 1, and what sounds before it has negative
beats, at the first tempo.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from puresignal.core.midi.tempo_map import DEFAULT_PPQ, Meter, Tempo, TempoMap

SLOWEST, FASTEST = 5.0, 1000.0
"""Quarter notes per minute that a session can have; what is written to files holds both."""
GLIDE_WITHIN, ROUND_WITHIN = 0.0002, 0.0002
"""Seconds by which a file may differ because a glide is written as steps, and because tempos are whole microseconds:
together with the rounding of single steps, every note stays within 0.5 ms.
"""
CORRECTED_EVERY = 64
"""Quarter notes after which a rounded tempo is corrected, once it is off by ROUND_WITHIN."""


@dataclass(frozen=True)
class TempoPoint:
    """From `beat` on, `bpm` quarter notes per minute; with `glides`, evenly by beats to the next point's."""

    beat: float
    bpm: float
    glides: bool = False


@dataclass(frozen=True)
class MeterPoint:
    """From bar `bar` on, bars have `numerator` beats of a `denominator`-th note."""

    bar: int
    numerator: int
    denominator: int

    @property
    def beats(self) -> float:
        """Quarter notes in a bar."""
        return 4 * self.numerator / self.denominator


@dataclass(frozen=True)
class Timeline:
    """Tempo and meter of a session, or of a take on its own.

    tempos  by rising beat; before the first, its tempo; none means 120
    meters  by rising bar; before the first, 4/4
    start   the second at which bar 1 begins: 0 for a session; a take may begin with a pick-up, or late
    """

    tempos: tuple[TempoPoint, ...] = (TempoPoint(0.0, 120.0),)
    meters: tuple[MeterPoint, ...] = ()
    start: float = 0.0

    @staticmethod
    def steady(bpm: float, meter: tuple[int, int] = (4, 4)) -> Timeline:
        """One tempo and one meter."""
        return Timeline((TempoPoint(0.0, bpm),), (MeterPoint(1, *meter),))

    # Seconds and beats

    @cached_property
    def _segments(self) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """For each stretch: its first beat, its second, its tempo there, and the change of tempo per beat."""
        points: list[TempoPoint] = []
        for point in sorted(self.tempos or (TempoPoint(0.0, 120.0),), key=lambda p: p.beat):
            if points and point.beat <= points[-1].beat:
                points[-1] = point
            else:
                points.append(point)
        beats = np.array([p.beat for p in points])
        bpm = np.array([p.bpm for p in points])
        slope = np.zeros(len(points))
        for i, point in enumerate(points[:-1]):
            if point.glides:
                slope[i] = (bpm[i + 1] - bpm[i]) / (beats[i + 1] - beats[i])
        lengths = _seconds(np.diff(beats), bpm[:-1], slope[:-1])
        seconds = np.concatenate([[0.0], np.cumsum(lengths)])
        # Beat 0 is the second at which bar 1 begins.
        i = int(np.clip(np.searchsorted(beats, 0.0, "right") - 1, 0, None))
        zero = seconds[i] + float(_seconds(np.array([-beats[i]]), bpm[i : i + 1], _before(slope, i, beats, 0.0))[0])
        return beats, seconds - zero + self.start, bpm, slope

    def beats_to_seconds(self, beats: np.ndarray) -> np.ndarray:
        """Convert (n,) beats to (n,) float64 seconds from bar 1."""
        starts, seconds, bpm, slope = self._segments
        beats = np.asarray(beats, np.float64)
        i = np.clip(np.searchsorted(starts, beats, "right") - 1, 0, None)
        # Before the first point its tempo holds.
        result: np.ndarray = seconds[i] + _seconds(
            beats - starts[i], bpm[i], np.where(beats < starts[0], 0.0, slope[i])
        )
        return result

    def seconds_to_beats(self, seconds: np.ndarray) -> np.ndarray:
        """Convert (n,) seconds from bar 1 to (n,) float64 beats."""
        starts, at, bpm, slope = self._segments
        seconds = np.asarray(seconds, np.float64)
        i = np.clip(np.searchsorted(at, seconds, "right") - 1, 0, None)
        result: np.ndarray = starts[i] + _beats(seconds - at[i], bpm[i], np.where(seconds < at[0], 0.0, slope[i]))
        return result

    def bpm_at(self, beat: float) -> float:
        """Tempo at a beat, in quarter notes per minute."""
        starts, _, bpm, slope = self._segments
        i = int(np.clip(np.searchsorted(starts, beat, "right") - 1, 0, None))
        return float(bpm[i] + (slope[i] * (beat - starts[i]) if beat >= starts[0] else 0.0))

    # Bars

    @cached_property
    def _bars(self) -> tuple[np.ndarray, np.ndarray, tuple[MeterPoint, ...]]:
        """For each meter: its first bar, its first beat, and itself."""
        meters: list[MeterPoint] = [MeterPoint(1, 4, 4)]
        for meter in sorted(self.meters, key=lambda m: m.bar):
            if meter.bar <= meters[-1].bar:
                meters[-1] = MeterPoint(meters[-1].bar, meter.numerator, meter.denominator)
            else:
                meters.append(meter)
        beats = [0.0]
        for before, after in itertools.pairwise(meters):
            beats.append(beats[-1] + (after.bar - before.bar) * before.beats)
        return np.array([m.bar for m in meters]), np.array(beats), tuple(meters)

    def bar_to_beats(self, bar: float) -> float:
        """The beat at which a bar (from 1; before it 0, -1, ...) begins; a fraction lies within the bar."""
        bars, beats, meters = self._bars
        i = int(np.clip(np.searchsorted(bars, bar, "right") - 1, 0, None))
        return float(beats[i] + (bar - bars[i]) * meters[i].beats)

    def bars_to_beats(self, bars: np.ndarray) -> np.ndarray:
        """(n,) beats at which bars begin."""
        firsts, beats, meters = self._bars
        i = np.clip(np.searchsorted(firsts, bars, "right") - 1, 0, None)
        return np.asarray(beats[i] + (bars - firsts[i]) * np.array([meter.beats for meter in meters])[i], np.float64)

    def beats_to_bar(self, beat: float) -> tuple[int, float]:
        """The bar in which a beat lies (from 1), and the quarter notes into it."""
        bars, beats, meters = self._bars
        i = int(np.clip(np.searchsorted(beats, beat, "right") - 1, 0, None))
        # A position a hair before a bar is at that bar.
        into = beat - beats[i] + 1e-9
        whole = int(np.floor(into / meters[i].beats))
        return int(bars[i]) + whole, max(0.0, beat - beats[i] - whole * meters[i].beats)

    def meter_at(self, bar: int) -> MeterPoint:
        """The meter in force in a bar."""
        bars, _, meters = self._bars
        return meters[int(np.clip(np.searchsorted(bars, bar, "right") - 1, 0, None))]

    # Files

    def to_tempo_map(self, ppq: int = DEFAULT_PPQ, bars_before: int = 0) -> TempoMap:
        """As a MIDI file states it: glides become steps that keep every note within 0.5 ms.

        bars_before  whole bars by which the file starts earlier than bar 1, for what sounds before it
        """
        starts, _, bpm, slope = self._segments
        first = self.meter_at(1)
        shift = bars_before * first.beats
        edges = [-shift]
        ends = [*starts[1:].tolist(), float(starts[-1]) + 1]
        for i, (start, end) in enumerate(zip(starts.tolist(), ends, strict=True)):
            if start > edges[-1]:
                edges.append(start)
            if slope[i]:
                edges += _steps(start, end, float(bpm[i]), float(slope[i]))
            elif abs(60e6 / bpm[i] - round(60e6 / bpm[i])) * (end - edges[-1]) > 1e6 * ROUND_WITHIN:
                edges += np.arange(edges[-1] + CORRECTED_EVERY, end, CORRECTED_EVERY).tolist()
        # A change between two ticks is spread over the tick between them, so that notes, which are on ticks, are right.
        places = np.round((np.array(edges) + shift) * ppq, 6)
        ticks = np.unique(np.concatenate([np.floor(places), np.ceil(places)]).astype(np.int64))
        true = self.beats_to_seconds(ticks / ppq - shift)
        tempos: list[Tempo] = []
        written = float(true[0])
        for i, tick in enumerate(ticks[:-1].tolist()):
            quarters = (int(ticks[i + 1]) - tick) / ppq
            before = tempos[-1].us_per_quarter if tempos else 0
            # What was rounded away is made good here; as long as it is little, the tempo stays the same.
            us = max(1, round(1e6 * (float(true[i + 1]) - written) / quarters))
            if abs(before - us) <= 1 and abs(written + before * quarters / 1e6 - float(true[i + 1])) < ROUND_WITHIN:
                us = before
            written += us * quarters / 1e6
            if us != before:
                tempos.append(Tempo(tick, us))
        last = Tempo(int(ticks[-1]), round(60e6 / self.bpm_at(ticks[-1] / ppq - shift)))
        if not tempos or tempos[-1].us_per_quarter != last.us_per_quarter:
            tempos.append(last)
        _, beats, meters = self._bars
        rows = tuple(
            Meter(0 if i == 0 else round((beat + shift) * ppq), meter.numerator, meter.denominator)
            for i, (beat, meter) in enumerate(zip(beats.tolist(), meters, strict=True))
        )
        return TempoMap(ppq, tuple(tempos), rows)

    @staticmethod
    def from_tempo_map(tempo: TempoMap) -> Timeline:
        """The timeline of a file. A meter that changes within a bar begins with the next bar, as bars are numbered."""
        points = tuple(TempoPoint(t.tick / tempo.ppq, t.bpm) for t in tempo.tempos)
        if not points or points[0].beat > 0:
            points = (TempoPoint(0.0, 120.0), *points)
        meters = tuple(MeterPoint(bar, meter.numerator, meter.denominator) for _, bar, meter in tempo.bars)
        return Timeline(points, meters)


def _before(slope: np.ndarray, i: int, beats: np.ndarray, beat: float) -> np.ndarray:
    return np.array([0.0 if beat < beats[0] else slope[i]])


def _seconds(beats: np.ndarray, bpm: np.ndarray, slope: np.ndarray) -> np.ndarray:
    """Seconds that beats last from a point on: the integral of 60 / bpm, with bpm linear in beats."""
    glides = slope != 0
    safe = np.where(glides, slope, 1.0)
    return np.where(glides, 60.0 / safe * np.log1p(np.where(glides, safe * beats / bpm, 0.0)), 60.0 * beats / bpm)


def _beats(seconds: np.ndarray, bpm: np.ndarray, slope: np.ndarray) -> np.ndarray:
    """The inverse of _seconds."""
    glides = slope != 0
    safe = np.where(glides, slope, 1.0)
    return np.where(glides, bpm / safe * np.expm1(np.where(glides, safe * seconds / 60.0, 0.0)), bpm * seconds / 60.0)


def _steps(start: float, end: float, bpm: float, slope: float) -> list[float]:
    """Beats at which the steps of a glide end.

    A step of h beats whose ends are right is wrong within by at most 60 |slope| h² / (8 bpm²) seconds.
    """
    edges, at = [], start
    while at < end:
        slower = min(bpm + slope * (at - start), bpm + slope * (min(end, at + 1) - start))
        at += max(1e-3, float(np.sqrt(8 * GLIDE_WITHIN * slower**2 / (60 * abs(slope)))))
        edges.append(min(at, end))
    return edges
