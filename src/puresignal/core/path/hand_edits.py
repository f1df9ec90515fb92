"""Edits by hand, the last thing that happens to a take's notes before the receiver's map.

Without settings: what was edited belongs to the take (note_edits.py), and is laid over whatever the stages before made.
An edit whose note is not there any more does nothing, and is listed.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from puresignal.core.midi.events import NO_EVENT, Controls, Notes
from puresignal.core.midi.messages import BEND, CONTROL, PRESSURE, PROGRAM
from puresignal.core.midi.tempo_map import on_arrival_grid
from puresignal.core.path.context import Context
from puresignal.core.path.live import LiveStage
from puresignal.core.path.note_edits import NO_EDITS, ControlStroke, NoteEdits
from puresignal.core.path.stage import Result
from puresignal.core.path.stage_description import Reason, Stage
from puresignal.core.path.tally import Action, Entries, NoteField, entries
from puresignal.core.timing.session_time import Timeline
from puresignal.translation import mark

EDITED = Reason(mark("by hand"), mark("Notes that were edited by hand."))
SHORTEST = 0.001


@dataclass(frozen=True)
class HandEdits:
    """The place of the edits in the path; `of` gives the stage with a take's."""

    stage: ClassVar[Stage] = Stage(
        "edits", word=mark("edits"), title=mark("Edits by hand"), tip=mark("What was moved or changed by hand."),
        reasons=(EDITED,), causal=False, on_timeline=True,
    )  # fmt: skip

    @staticmethod
    def of(edits: NoteEdits) -> TakesEdits:
        """The stage for a take."""
        return TakesEdits(edits)

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        return Result(notes, controls)

    def live(self, context: Context) -> LiveStage:
        return LiveStage()


@dataclass(frozen=True)
class TakesEdits:
    """The edits of one take."""

    edits: NoteEdits = NO_EDITS

    stage: ClassVar[Stage] = HandEdits.stage

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        if self.edits.strokes:
            controls = with_strokes(controls, notes, self.edits.strokes, context)
        edited, how = self.edits.of(notes.origin)
        if not edited.any():
            return Result(notes, controls)
        timeline = context.timeline or Timeline()
        rows = np.flatnonzero(edited)
        before = notes.take(rows)
        start = timeline.beats_to_seconds(timeline.seconds_to_beats(before.start) + how["beats"]) + how["seconds"]
        start = on_arrival_grid(np.maximum(start, np.minimum(before.start, 0.0)))
        end = _ends(before, start, how, timeline)
        velocity = np.clip(np.rint(before.velocity * how["factor"] + how["louder"]), 1, 127)
        velocity = np.where((how["factor"] == 1.0) & (how["louder"] == 0.0), before.velocity, velocity)
        note = np.clip(before.note.astype(np.int64) + how["up"], 0, 127)
        articulation, track = _elsewhere(before, how, context)
        written = _written(self.stage, before, start, end, velocity, note, articulation)
        columns = {}
        for name, values in (
            ("start", start), ("end", end), ("velocity", velocity), ("note", note), ("articulation", articulation),
            ("track", track),
            ("end_event", np.where(end != before.end, NO_EVENT, before.end_event)),
        ):  # fmt: skip
            whole = getattr(notes, name).copy()
            whole[rows] = values
            columns[name] = whole
        made = notes.but(**columns)
        order = np.lexsort((made.seq, made.start))
        return Result(made.take(order), controls, written)

    def orphans(self, notes: Notes) -> np.ndarray:
        """Origins of edits whose note is not among those that come here."""
        return np.setdiff1d(self.edits.origins, notes.origin)

    def live(self, context: Context) -> LiveStage:
        return LiveStage()


def _ends(before: Notes, start: np.ndarray, how: dict[str, np.ndarray], timeline: Timeline) -> np.ndarray:
    """Ends that go along with their starts, longer or shorter where that was edited."""
    end = before.end + (start - before.start)
    plain = (how["stretch"] == 1.0) & (how["longer"] == 0.0)
    if not plain.all():
        begin = timeline.seconds_to_beats(start)
        long = timeline.seconds_to_beats(np.nan_to_num(end)) - begin
        long = np.maximum(long * how["stretch"] + how["longer"], 0.0)
        made = np.maximum(timeline.beats_to_seconds(begin + long), start + SHORTEST)
        end = np.where(plain, end, made)
    return np.asarray(np.where(np.isnan(before.end) & plain, np.nan, on_arrival_grid(np.nan_to_num(end))))


def _elsewhere(before: Notes, how: dict[str, np.ndarray], context: Context) -> tuple[np.ndarray, np.ndarray]:
    """Articulations and tracks, where they are others now."""
    articulation, track = before.articulation.copy(), before.track.copy()
    keys = {one.key: i for i, one in enumerate(context.tracks)}
    for name in {str(one) for one in how["articulation"].tolist()} - {""}:
        code = context.code.get(name)
        if code is not None:
            mine = how["articulation"] == name
            articulation[mine] = code
            track[mine] = context.track_of_articulation[code]
    for key in {str(one) for one in how["track"].tolist()} - {""}:
        if key in keys:
            track[how["track"] == key] = keys[key]
    return articulation, track


def _written(
    stage: Stage, before: Notes, start: np.ndarray, end: np.ndarray, velocity: np.ndarray, note: np.ndarray,
    articulation: np.ndarray,
) -> tuple[Entries, ...]:  # fmt: skip
    own_end = before.end + (start - before.start)
    longer = np.abs(np.nan_to_num(end - own_end)) > 1e-4
    found = []
    for which, field, was, now in (
        (start != before.start, NoteField.START, before.start, start),
        (longer, NoteField.END, before.end, end),
        (velocity != before.velocity, NoteField.VELOCITY, before.velocity, velocity),
        (note != before.note, NoteField.NOTE, before.note, note),
        (articulation != before.articulation, NoteField.ARTICULATION, before.articulation, articulation),
    ):
        found.append(
            entries(
                stage, Action.CHANGED, EDITED, before.origin[which], field=field, branch=before.branch[which],
                before=was[which].astype(float), after=now[which].astype(float),
            )
        )  # fmt: skip
    return tuple(found)


STEP_SECONDS = 0.005
"""Shortest time between two messages of a drawn line: finer is not heard, and fills the wire."""


def with_strokes(
    controls: Controls, notes: Notes, strokes: tuple[ControlStroke, ...], context: Context
) -> Controls:  # fmt: skip
    """Controls with drawn lines in place of what was sent there."""
    index = {track.key: i for i, track in enumerate(context.tracks)}
    for stroke in strokes:
        track = index.get(stroke.track)
        if track is None:
            continue
        mine = (controls.track == track) & (controls.kind == stroke.kind)
        if stroke.kind == CONTROL:
            mine &= controls.number == stroke.number
        gone = mine & (controls.at >= stroke.begin - 1e-9) & (controls.at <= stroke.end + 1e-9)
        at, value = _steps(stroke)
        own = controls.track == track
        channel, port = 1, 0
        if own.any():
            channel, port = int(controls.channel[own][0]), int(controls.port[own][0])
        elif (notes.track == track).any():
            first = int(np.flatnonzero(notes.track == track)[0])
            channel, port = int(notes.channel[first]), int(notes.port[first])
        number, second = _bytes(stroke, value)
        count = len(at)
        added = Controls(
            at, np.full(count, port), np.full(count, channel), np.full(count, stroke.kind), number, second,
            np.full(count, track), np.full(count, NO_EVENT), np.full(count, -1),
        )  # fmt: skip
        joined = Controls.join([controls.take(~gone), added])
        controls = joined.take(np.argsort(joined.at, kind="stable"))
    return controls


def _steps(stroke: ControlStroke) -> tuple[np.ndarray, np.ndarray]:
    """Seconds and whole values at which a line changes."""
    if not stroke.points:
        return np.zeros(0), np.zeros(0, np.int64)
    x, y = (np.array(column) for column in zip(*stroke.points, strict=True))
    low, high = (-8192, 8191) if stroke.kind == BEND else (0, 127)
    at = np.unique(np.concatenate([np.arange(x[0], x[-1], STEP_SECONDS), x]))
    value = np.clip(np.rint(np.interp(at, x, y)), low, high).astype(np.int64)
    changes = np.concatenate([[True], value[1:] != value[:-1]])
    return on_arrival_grid(at[changes]), value[changes]


def _bytes(stroke: ControlStroke, value: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The two data bytes of each message."""
    if stroke.kind == BEND:
        whole = value + 8192
        return whole & 0x7F, whole >> 7
    if stroke.kind in (PRESSURE, PROGRAM):
        return value, np.zeros(len(value), np.int64)
    return np.full(len(value), stroke.number), value
