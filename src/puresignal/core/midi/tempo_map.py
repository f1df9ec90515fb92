"""Ticks, beats, seconds and bars, over any number of tempo and meter changes.

A beat here is a quarter note. Positions are kept as whole ticks and microseconds, as a MIDI file states
them, so conversions are exact both ways.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

RESOLUTION = 20e-6
"""Resolution of arrival times in seconds: finer than a sample, exact in a saved session."""

DEFAULT_PPQ = 960
DEFAULT_US_PER_QUARTER = 500_000


def on_arrival_grid(seconds: np.ndarray) -> np.ndarray:
    """Times rounded to multiples of 20 µs.

    seconds  (n,) seconds
    Returns  (n,) float64 seconds; order is kept, equal inputs give equal outputs
    """
    # Dividing by the whole number of steps per second gives the float nearest to the decimal value;
    # multiplying by 20e-6 does not: 3 * 20e-6 != 6e-05.
    steps: np.ndarray = np.rint(np.asarray(seconds, np.float64) * 50_000.0) / 50_000.0
    return steps


@dataclass(frozen=True)
class Tempo:
    """A tempo change: from `tick` on, a quarter note lasts `us_per_quarter` microseconds."""

    tick: int
    us_per_quarter: int

    @property
    def bpm(self) -> float:
        return 60e6 / self.us_per_quarter


@dataclass(frozen=True)
class Meter:
    """A meter change: from `tick` on, bars have `numerator` beats of a `denominator`-th note.

    clicks    MIDI clocks (24 to the quarter note) between clicks of a metronome
    quarters  32nd notes that the file counts as a quarter note, nearly always 8
    """

    tick: int
    numerator: int
    denominator: int
    clicks: int = 24
    quarters: int = 8


@dataclass(frozen=True)
class TempoMap:
    """Tempo and meter over time.

    ppq     ticks a quarter note, 1 or more
    tempos  by rising tick; before the first, 120 BPM
    meters  by rising tick; before the first, 4/4
    """

    ppq: int = DEFAULT_PPQ
    tempos: tuple[Tempo, ...] = ()
    meters: tuple[Meter, ...] = ()

    @staticmethod
    def steady(bpm: float, meter: tuple[int, int] = (4, 4), ppq: int = DEFAULT_PPQ) -> TempoMap:
        """A map with one tempo (quarter notes per minute) and one meter."""
        return TempoMap(ppq, (Tempo(0, round(60e6 / bpm)),), (Meter(0, *meter),))

    @cached_property
    def _segments(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        tempos = [Tempo(0, DEFAULT_US_PER_QUARTER)]
        for tempo in sorted(self.tempos, key=lambda t: t.tick):
            if tempo.tick <= tempos[-1].tick:
                tempos[-1] = Tempo(tempos[-1].tick, tempo.us_per_quarter)
            elif tempo.us_per_quarter != tempos[-1].us_per_quarter:
                tempos.append(tempo)
        ticks = np.array([t.tick for t in tempos], np.int64)
        us = np.array([t.us_per_quarter for t in tempos], np.int64)
        # Exact up to here as whole numbers: microseconds times ppq at each change are summed without rounding.
        micros = np.concatenate([[0], np.cumsum(np.diff(ticks) * us[:-1])])
        return ticks, us, micros.astype(np.float64) / (self.ppq * 1e6)

    @cached_property
    def bars(self) -> tuple[tuple[int, int, Meter], ...]:
        """The start of each meter: (tick, number of the bar that starts there, meter).

        A meter change inside a bar ends that bar early, as sequencers read it.
        """
        meters = [Meter(0, 4, 4)]
        for meter in sorted(self.meters, key=lambda m: m.tick):
            if meter.tick <= meters[-1].tick:
                meters[-1] = replace(meter, tick=meters[-1].tick)
            else:
                meters.append(meter)
        rows, bar = [], 1
        for i, meter in enumerate(meters):
            if i:
                length = meter.tick - meters[i - 1].tick
                bar += -(-length // self.bar_ticks(meters[i - 1]))
            rows.append((meter.tick, bar, meter))
        return tuple(rows)

    def bar_ticks(self, meter: Meter) -> int:
        return max(1, 4 * self.ppq * meter.numerator // meter.denominator)

    def beat_ticks(self, meter: Meter) -> int:
        return max(1, 4 * self.ppq // meter.denominator)

    def ticks_to_seconds(self, ticks: np.ndarray) -> np.ndarray:
        """Convert (n,) ticks, whole or fractional, to (n,) float64 seconds."""
        at, us, seconds = self._segments
        ticks = np.asarray(ticks)
        i = np.clip(np.searchsorted(at, ticks, side="right") - 1, 0, None)
        result: np.ndarray = seconds[i] + (ticks - at[i]) * us[i] / (self.ppq * 1e6)
        return result

    def seconds_to_ticks_exact(self, seconds: np.ndarray) -> np.ndarray:
        """Convert (n,) seconds to (n,) float64 ticks, not rounded."""
        at, us, starts = self._segments
        seconds = np.asarray(seconds, np.float64)
        i = np.clip(np.searchsorted(starts, seconds, side="right") - 1, 0, None)
        result: np.ndarray = at[i] + (seconds - starts[i]) * (self.ppq * 1e6) / us[i]
        return result

    def seconds_to_ticks(self, seconds: np.ndarray) -> np.ndarray:
        """Convert (n,) seconds to the nearest (n,) int64 ticks."""
        return np.asarray(np.rint(self.seconds_to_ticks_exact(seconds)), np.int64)

    def ticks_to_beats(self, ticks: np.ndarray) -> np.ndarray:
        """Convert (n,) ticks to (n,) float64 quarter notes."""
        result: np.ndarray = np.asarray(ticks, np.float64) / self.ppq
        return result

    def beats_to_ticks(self, beats: np.ndarray) -> np.ndarray:
        """Convert (n,) quarter notes to the nearest (n,) int64 ticks."""
        return np.rint(np.asarray(beats, np.float64) * self.ppq).astype(np.int64)

    def seconds_to_beats(self, seconds: np.ndarray) -> np.ndarray:
        """Convert (n,) seconds to (n,) float64 quarter notes."""
        return np.asarray(self.seconds_to_ticks_exact(seconds) / self.ppq)

    def beats_to_seconds(self, beats: np.ndarray) -> np.ndarray:
        """Convert (n,) quarter notes to (n,) float64 seconds."""
        return self.ticks_to_seconds(np.asarray(beats, np.float64) * self.ppq)

    def bpm_at(self, second: float) -> float:
        """Tempo at a moment, in quarter notes per minute."""
        _, us, starts = self._segments
        return float(60e6 / us[max(0, int(np.searchsorted(starts, second, side="right")) - 1)])

    def meter_at(self, tick: float) -> Meter:
        """The meter in force at a tick."""
        return self._bar_row(tick)[2]

    def _bar_row(self, tick: float) -> tuple[int, int, Meter]:
        row = self.bars[0]
        for candidate in self.bars:
            if candidate[0] > tick:
                break
            row = candidate
        return row

    def position(self, second: float) -> tuple[int, int, int]:
        """Bar, beat in the bar (both from 1) and ticks into the beat, at a moment in seconds."""
        # A position a hair before a beat reads as that beat.
        tick = int(self.seconds_to_ticks(np.array([second]))[0])
        start, bar, meter = self._bar_row(tick)
        into, beat = tick - start, self.beat_ticks(meter)
        in_bar = into % self.bar_ticks(meter)
        return bar + into // self.bar_ticks(meter), 1 + in_bar // beat, in_bar % beat

    def bar_start(self, bar: int) -> int:
        """Tick at which bar `bar` (from 1) starts."""
        row = self.bars[0]
        for candidate in self.bars:
            if candidate[1] > bar:
                break
            row = candidate
        return row[0] + (bar - row[1]) * self.bar_ticks(row[2])

    def bar_lines(self, start: float, end: float, every: int = 1) -> np.ndarray:
        """(n,) seconds of the bar lines between two moments; with `every`, of each `every`-th bar from bar 1."""
        first, last = self.seconds_to_ticks_exact(np.array([max(0.0, start), max(0.0, end)]))
        lines = []
        for i, (begin, bar, meter) in enumerate(self.bars):
            stop = self.bars[i + 1][0] if i + 1 < len(self.bars) else np.inf
            low, high = max(begin, first), min(stop, last + 1)
            if low < high:
                length = self.bar_ticks(meter)
                numbers = np.arange(bar + (low - begin) // length, bar + (high - begin) // length + 1)
                numbers = numbers[(numbers - 1) % every == 0]
                ticks = begin + (numbers - bar) * length
                lines.append(ticks[(ticks >= low) & (ticks < high)])
        return self.ticks_to_seconds(np.concatenate(lines)) if lines else np.zeros(0)

    def grid(self, start: float, end: float, parts: int = 1) -> tuple[np.ndarray, np.ndarray]:
        """Grid lines between two moments.

        start, end  seconds
        parts       lines per beat of the meter, 1 or more
        Returns     (n,) float64 seconds, and (n,) int8 rank: 2 a bar, 1 a beat, 0 a subdivision
        """
        first, last = self.seconds_to_ticks_exact(np.array([max(0.0, start), max(0.0, end)]))
        lines, ranks = [], []
        rows = self.bars
        for i, (begin, _, meter) in enumerate(rows):
            stop = rows[i + 1][0] if i + 1 < len(rows) else np.inf
            low, high = max(begin, first), min(stop, last + 1)
            if low >= high:
                continue
            beat = self.beat_ticks(meter)
            bar = self.bar_ticks(meter)
            bars = np.arange((low - begin) // bar, (high - begin) // bar + 1)
            in_bar = np.arange(-(-bar * parts // beat)) * (beat / parts)
            rank = np.where(np.arange(len(in_bar)) % parts == 0, 1, 0)
            rank[0] = 2
            ticks = (begin + bars[:, None] * bar + in_bar[None, :]).ravel()
            keep = (ticks >= low) & (ticks < high)
            lines.append(ticks[keep])
            ranks.append(np.tile(rank, len(bars))[keep])
        if not lines:
            return np.zeros(0), np.zeros(0, np.int8)
        return self.ticks_to_seconds(np.concatenate(lines)), np.concatenate(ranks).astype(np.int8)
