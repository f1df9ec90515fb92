"""The picture of quantise: the lines of each bar, how well each grid fits, and notes between two lines."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.path.context import Context
from puresignal.core.path.timing import AUTO, BETWEEN, Timing
from puresignal.core.timing import grids
from puresignal.core.timing.grid_evidence import SUBDIVISIONS, SWUNG_8, SWUNG_16, Explained, lines_of
from puresignal.core.timing.quantise import Bars
from puresignal.core.timing.session_time import Timeline

LEAST_SHARE = 0.02
MOST_BEATS = 40_000
"""Beats of which lines are drawn; nobody looks at more at once."""


@dataclass(frozen=True, eq=False)
class GridPicture:
    """Times are seconds of the file.

    lines    (k,) of the lines that notes are pulled to, rising
    ranking  (name of a grid, share of the strokes that it explains), best first
    swing    where the second of a pair is in the playing, 0.5 where it is not swung
    between  origins of the notes that stand between two lines, rising; and (n, 2) their two lines
    """

    lines: np.ndarray
    ranking: tuple[tuple[str, float], ...]
    swing: float
    between: tuple[np.ndarray, np.ndarray]


NOTHING = GridPicture(np.zeros(0), (), 0.5, (np.zeros(0, np.int64), np.zeros((0, 2))))


def grid_picture(outcome: Outcome, timing: Timing, timeline: Timeline, shift: float) -> GridPicture:
    """The picture of a result. shift: seconds of the file before bar 1."""
    notes = outcome.input_notes
    notes = notes.take(np.isin(notes.origin, outcome.output_notes.origin))
    if not len(notes):
        return NOTHING
    notes = notes.but(start=notes.start - shift, end=notes.end - shift)
    notes = notes.take(np.argsort(notes.start, kind="stable"))
    found = (
        replace(timing, grid=AUTO, swing=0.5).pulled(notes, _Named(timeline=timeline, names=outcome.vocabulary)).grids
    )
    bars = Bars.of(timeline, timeline.seconds_to_beats(notes.start))
    if timing.grid != AUTO:
        swing = grids.Swing(timing.swing, int(timing.swung.removeprefix("1/")))
        parts = [
            begin + grids.lines_between(0.0, end - begin, grids.grid_of(timing.grid), swing)
            for begin, end in zip(bars.begin[:-1].tolist(), bars.begin[1:].tolist(), strict=True)
        ]
        beats = np.concatenate(parts) if parts else np.zeros(0)
    else:
        beats = np.zeros(0) if found is None else bars.uncount(_found_lines(found))
    lines = timeline.beats_to_seconds(np.unique(beats)) + shift
    return GridPicture(lines, _ranking(found), _swing(found), _between(outcome))


@dataclass(frozen=True, eq=False)
class _Named(Context):
    """The articulations of a result, for a stage that asks for nothing else."""

    names: tuple[str, ...] = ()

    @cached_property
    def vocabulary(self) -> tuple[str, ...]:
        return self.names


def _found_lines(found: Explained) -> np.ndarray:
    """Lines of all beats that were weighed, in the count of the bars."""
    parts = [
        beat + lines_of(int(subdivision), found.swing_8.part, found.swing_16.part)
        for beat, subdivision in zip(found.beat[:MOST_BEATS].tolist(), found.subdivision.tolist(), strict=False)
    ]
    return np.concatenate(parts) if parts else np.zeros(0)


def _ranking(found: Explained | None) -> tuple[tuple[str, float], ...]:
    if found is None:
        return ()
    rows = [(name, float(share)) for name, share in zip(SUBDIVISIONS, found.share.tolist(), strict=True)]
    return tuple(sorted((row for row in rows if row[1] >= LEAST_SHARE), key=lambda row: -row[1]))


def _swing(found: Explained | None) -> float:
    if found is None or not found.feel:
        return 0.5
    share = found.share[SWUNG_8 if found.feel == 8 else SWUNG_16]
    return (found.swing_8 if found.feel == 8 else found.swing_16).part if share > LEAST_SHARE else 0.5


def _between(outcome: Outcome) -> tuple[np.ndarray, np.ndarray]:
    entries = outcome.tally.entries
    rows = entries.take(entries.reason == int(BETWEEN))
    order = np.argsort(rows.origin, kind="stable")
    return rows.origin[order], np.column_stack([rows.before[order], rows.after[order]])
