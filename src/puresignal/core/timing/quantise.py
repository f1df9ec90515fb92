"""Where quantise pulls notes to: the line of each, how sure that is, and the line that it could belong to as well."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.timing.grid_evidence import Explained, explain, lines_near
from puresignal.core.timing.grids import EVEN, Grid, Swing, nearest
from puresignal.core.timing.meant_together import Together
from puresignal.core.timing.session_time import Timeline

NARROWEST = 0.06
"""Share of a grid's step around its middle in which notes stand between two lines, however tight the playing."""
GRACE_SURELY = 0.045
"""Seconds before its stroke within which a soft one is surely a grace note, whatever lines there are."""
ALMOST = 0.7
SURE = 0.88
"""A note whose line is less sure stands between two lines."""


@dataclass(frozen=True, eq=False)
class Pulled:
    """Where notes belong.

    line   (n,) beats from bar 1 of each note's line; for one that keeps its distance, where it comes to stand
    other  (n,) beats of the other line that it could belong to, NaN where there is none
    sure   (n,) 0..1 how likely the first is the right one
    grids  what the bars are divided into, where they were weighed; None for a given grid
    """

    line: np.ndarray
    other: np.ndarray
    sure: np.ndarray
    grids: Explained | None

    def swung(self, swing: Swing, bars: Bars) -> Pulled:
        """The same lines in another swing than was found."""

        def bend(beats: np.ndarray) -> np.ndarray:
            begin = bars.begin[bars.bar(beats)]
            into = beats - begin
            if self.grids is not None:
                for found in (self.grids.swing_8, self.grids.swing_16):
                    is_swung = self.grids.feel == found.value
                    into = found.straighten(into) if is_swung else into
            return np.asarray(begin + swing.swing(into))

        other = np.where(np.isnan(self.other), np.nan, bend(np.nan_to_num(self.other)))
        return Pulled(bend(self.line), other, self.sure, self.grids)


@dataclass(frozen=True, eq=False)
class Bars:
    """The bars that beats are in, and a count in which every bar begins with a whole number.

    Within it beats can be told from bar lines also where bars are not whole quarter notes long.
    """

    begin: np.ndarray
    whole: np.ndarray

    @staticmethod
    def of(timeline: Timeline, beats: np.ndarray) -> Bars:
        """The bars around (n,) beats from bar 1."""
        low = min(float(beats.min(initial=0.0)), 0.0) - 8.0
        high = max(float(beats.max(initial=0.0)), 0.0) + 16.0
        first = timeline.beats_to_bar(low)[0]
        last = timeline.beats_to_bar(high)[0] + 1
        begin = timeline.bars_to_beats(np.arange(first, last + 1))
        whole = np.concatenate([[0], np.cumsum(np.ceil(np.diff(begin) - 1e-9))])
        return Bars(begin, whole)

    def bar(self, beats: np.ndarray) -> np.ndarray:
        """(n,) which of them each beat is in."""
        return np.asarray(np.clip(np.searchsorted(self.begin, beats + 1e-9, "right") - 1, 0, len(self.begin) - 2))

    def count(self, beats: np.ndarray) -> np.ndarray:
        """Beats from bar 1 in the count."""
        bar = self.bar(beats)
        return np.asarray(self.whole[bar] + beats - self.begin[bar])

    def uncount(self, count: np.ndarray) -> np.ndarray:
        """The inverse; what lies behind the end of a bar is the next bar line."""
        bar = np.clip(np.searchsorted(self.whole, count + 1e-9, "right") - 1, 0, len(self.whole) - 2)
        return np.asarray(np.minimum(self.begin[bar] + count - self.whole[bar], self.begin[bar + 1]))


def pull(
    beats: np.ndarray, timeline: Timeline, key: np.ndarray, meant: Together, grid: Grid | None, swing: Swing = EVEN
) -> Pulled:
    """Where notes belong.

    beats  (n,) quarter notes from bar 1, rising
    key    (n,) number of the way a drum is hit, or of the note
    meant  what is meant together
    grid   None: each bar's by what explains it best
    """
    n = len(beats)
    if not n:
        return Pulled(np.zeros(0), np.zeros(0), np.zeros(0), None)
    groups, group = np.unique(meant.group, return_inverse=True)
    leads = ~meant.grace
    size = np.bincount(group[leads], minlength=len(groups))
    middle = np.bincount(group[leads], weights=beats[leads], minlength=len(groups)) / np.maximum(1, size)
    first = np.full(len(groups), n)
    np.minimum.at(first, group[leads], np.flatnonzero(leads))
    order = np.argsort(middle, kind="stable")
    middle_rising = middle[order]
    bars = Bars.of(timeline, middle_rising)
    long = timeline.beats_to_seconds(middle_rising + 0.5) - timeline.beats_to_seconds(middle_rising - 0.5)
    count = bars.count(middle_rising)
    bar = bars.bar(middle_rising)
    if grid is None:
        found: Explained | None = explain(count, long)
        assert found is not None
        line, other, sure = bars.uncount(found.line), bars.uncount(found.other), found.sure
    else:
        found = None
        into = middle_rising - bars.begin[bar]
        line = bars.begin[bar] + nearest(into, grid, swing)
        # A bar line is a line of every grid.
        last = bars.begin[bar + 1]
        line = np.where((line > last) | (np.abs(last - middle_rising) < np.abs(line - middle_rising)), last, line)
        other, sure = _second(middle_rising, line, long, grid)
    back = np.empty(len(order), np.int64)
    back[order] = np.arange(len(order))
    line, other, sure = line[back], other[back], sure[back]
    at, beside, how = line[group], other[group], sure[group]
    at, beside, how = _one_a_line(beats, key, leads, at, beside, how)
    # Grace notes and rolls keep their distance to what they go with.
    grace, lead = meant.grace, meant.lead
    if found is not None:
        grace = grace & ~_on_lines(beats, at[lead], lead, bars, found)
        own = meant.grace & ~grace
        at[own], how[own] = bars.uncount(_line_of(bars.count(beats[own]), found)), ALMOST
        beside[own] = at[lead[own]]
    at = np.where(grace, at[lead] + beats - beats[lead], at)
    return Pulled(at, np.where(grace | (how >= 1.0), np.nan, beside), np.where(grace, 1.0, how), found)


def _second(beats: np.ndarray, line: np.ndarray, long: np.ndarray, grid: Grid) -> tuple[np.ndarray, np.ndarray]:
    """The line on the other side of each note, and how sure the nearer one is, by how far notes are from theirs."""
    off = beats - line
    other = line + np.where(off >= 0, 1.0, -1.0) * grid.step
    jitter = 1.48 * float(np.median(np.abs(off * long)))
    # In the middle between two lines either is as likely; how soon that changes depends on how loosely it is played.
    width = np.maximum(NARROWEST, 0.25 * jitter / (grid.step * long))
    return other, 1.0 / (1.0 + np.exp(-(0.5 - np.abs(off) / grid.step) / width))


def _line_of(count: np.ndarray, found: Explained) -> np.ndarray:
    """(n,) the nearest line of what the beat is divided into. count: beats in the bars' count."""
    beat = np.floor(count + 1e-9)
    place = np.clip(np.searchsorted(found.beat, beat), 0, len(found.beat) - 1)
    return np.asarray(
        beat + lines_near(count - beat, found.subdivision[place], found.swing_8.part, found.swing_16.part)
    )


def _on_lines(beats: np.ndarray, led: np.ndarray, lead: np.ndarray, bars: Bars, found: Explained) -> np.ndarray:
    """(n,) whether what looks like a grace note is a soft stroke on a line of its own: near to one, and not so near
    to the stroke that it comes before. led: line of that stroke
    """
    count = bars.count(beats)
    line = bars.uncount(_line_of(count, found))
    long = found.seconds_a_beat
    off = np.abs(beats - line) * long - found.lean
    apart = (beats[lead] - beats) * long > GRACE_SURELY
    return np.asarray(apart & (np.abs(off) < 1.2 * found.jitter) & (line < led - 1e-6))


def _one_a_line(
    beats: np.ndarray, key: np.ndarray, leads: np.ndarray, at: np.ndarray, other: np.ndarray, sure: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Lines on which no drum is struck twice, and strokes that do not overtake each other.

    Of two strokes that belong to one line the nearer has it; the other goes to its second line if that is free and on
    its side, else it stays where it was played, and the line that both belong to is its other one
    """
    at, other, sure = at.copy(), other.copy(), sure.copy()
    rows = np.flatnonzero(leads)
    rows = rows[np.lexsort((beats[rows], key[rows]))]
    for before, after in zip(rows[:-1].tolist(), rows[1:].tolist(), strict=True):
        if key[before] != key[after] or at[after] > at[before] + 1e-9:
            continue
        # The one that is farther from the line moves on.
        farther = after if abs(beats[after] - at[after]) >= abs(beats[before] - at[before]) else before
        shared = at[farther]
        if farther == after:
            free = np.isfinite(other[after]) and other[after] > at[before] + 1e-9
            at[after] = other[after] if free else max(beats[after], at[before])
        else:
            free = np.isfinite(other[before]) and other[before] < at[after] - 1e-9
            at[before] = other[before] if free else min(beats[before], at[after])
        other[farther], sure[farther] = shared, min(sure[farther], 0.5)
    return at, other, sure
