"""Velocity: the notes of each drum and pitched track pass through its shape; those without one pass unchanged."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from puresignal.core.kit.articulations import drum_of
from puresignal.core.midi.events import Controls, Notes
from puresignal.core.path import live, settings_values
from puresignal.core.path.context import Context, among
from puresignal.core.path.live import LiveEvent, LiveStage
from puresignal.core.path.setting import Codec, Scope, setting
from puresignal.core.path.stage import Result
from puresignal.core.path.stage_description import Reason, Stage, Switch
from puresignal.core.path.tally import Action, NoteField, entries
from puresignal.core.path.velocity_curve import ALL, TRACK, Shape, table, through
from puresignal.translation import mark

TOO_SOFT = Reason(mark("too soft"), mark("Hits softer than their drum's threshold."))
SHAPED = Reason(mark("shaped"))


@dataclass(frozen=True)
class Velocity:
    """Shapes by key: an articulation (`snare.rim`), a drum (`snare`), a pitched track (`track:0/2`), or all ("*"); the
    most specific one applies.

    on     whether shapes apply
    """

    on: bool = setting(True, mark("shape velocities"))
    shapes: tuple[tuple[str, Shape], ...] = setting(
        (),
        mark('by articulation, drum, "track:" and its key, or "*" for all; the most specific applies, see below'),
        scope=Scope.SESSION | Scope.ARTICULATION,
        codec=Codec(settings_values.shapes, settings_values.shapes_json, settings_values.SHAPES_SCHEMA),
    )

    stage: ClassVar[Stage] = Stage("velocity", word=mark("velocity"), switch=Switch(), reasons=(TOO_SOFT, SHAPED))

    def shape_for(self, articulation: str) -> Shape:
        """The shape that applies to an articulation."""
        shapes = dict(self.shapes)
        for key in (articulation, drum_of(articulation), ALL):
            if key in shapes:
                return shapes[key]
        return Shape()

    def _tables(self, context: Context) -> tuple[np.ndarray, np.ndarray]:
        """(k, 128) tables: of each articulation, of all else, and of pitched tracks with shapes of their own; and
        (tracks + 1,) the row for notes of each track that are no drums of the kit; the last is for those on none."""
        own, every = dict(self.shapes), [self.shape_for(name) for name in context.vocabulary]
        every.append(own.get(ALL, Shape()))
        rows = np.full(len(context.tracks) + 1, len(every) - 1)
        for i, track in enumerate(context.tracks):
            if TRACK + track.key in own:
                rows[i] = len(every)
                every.append(own[TRACK + track.key])
        return np.stack([table(shape) for shape in every]), rows

    @property
    def _plain(self) -> bool:
        return not self.on or all(shape.plain for _, shape in self.shapes)

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        if self._plain or not len(notes):
            return Result(notes, controls)
        tables, rows = self._tables(context)
        which = np.where(notes.articulation >= 0, notes.articulation, rows[notes.track])
        shaped = through(tables, which, notes.velocity.astype(np.float64))
        soft = np.isnan(shaped) & ~among(notes.origin, context.kept_by_hand)
        after = np.where(np.isnan(shaped), 1.0, shaped).astype(np.float32)
        changed = (after != notes.velocity) & ~soft
        written = (
            entries(self.stage, Action.REMOVED, TOO_SOFT, notes.origin[soft]),
            entries(
                self.stage, Action.CHANGED, SHAPED, notes.origin[changed], field=NoteField.VELOCITY,
                branch=notes.branch[changed], before=notes.velocity[changed].astype(np.float64), after=after[changed],
            ),
        )  # fmt: skip
        return Result(notes.but(velocity=after).take(~soft), controls, written)

    def live(self, context: Context) -> LiveStage:
        return LiveStage() if self._plain else _LiveVelocity(*self._tables(context))


class _LiveVelocity(LiveStage):
    """State: removed notes that the player still holds."""

    def __init__(self, tables: np.ndarray, rows: np.ndarray):
        self._rows: list[int] = rows.tolist()
        self._table = [[float(np.float32(v)) for v in row] for row in tables.tolist()]
        self._exact = tables
        self._gone: set[tuple[int, int]] = set()

    def feed(self, event: LiveEvent) -> list[LiveEvent]:
        if event.kind == live.ON:
            which = event.articulation if event.articulation >= 0 else self._rows[event.track]
            velocity, before = event.velocity, event.velocity
            if velocity == int(velocity):
                velocity = self._table[which][int(velocity)]
            else:
                shaped = through(self._exact, np.array([which]), np.array([velocity]))
                velocity = float(np.float32(shaped[0]))
            if velocity != velocity:
                self._gone.add((event.origin, event.branch))
                self.account(
                    Velocity.stage, Action.REMOVED, TOO_SOFT, event.origin, NoteField.NONE, np.nan, np.nan, 1.0
                )
                return []
            if velocity != before:
                event.velocity = velocity
                self.account(
                    Velocity.stage, Action.CHANGED, SHAPED, event.origin, NoteField.VELOCITY, before, velocity, 1.0
                )
        elif event.kind == live.OFF and (event.origin, event.branch) in self._gone:
            self._gone.discard((event.origin, event.branch))
            return []
        return [event]

    def held(self) -> int:
        return len(self._gone)
