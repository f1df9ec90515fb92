"""Velocity: each drum's hits pass through its shape and are varied; hits without a shape pass unchanged."""

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
from puresignal.core.path.velocity_curve import ALL, Shape, draw, table, through, vary
from puresignal.translation import mark

TOO_SOFT = Reason(mark("too soft"), mark("Hits softer than their drum's threshold."))
SHAPED = Reason(mark("shaped"))
VARIED = Reason(mark("varied"))


@dataclass(frozen=True)
class Velocity:
    """Shapes by key: an articulation (`snare.rim`), a drum (`snare`), or all ("*"); the most specific one applies.

    on     whether shapes apply
    fine   whether velocities have more than 127 steps, by the prefix of controller 88
    seed   of the variation
    round  another round draws anew; the same round always draws the same
    """

    on: bool = setting(True, mark("shape velocities"))
    fine: bool = setting(
        False,
        mark("send velocities in more than 127 steps, as a controller 88 before the note; it is always read"),
    )
    shapes: tuple[tuple[str, Shape], ...] = setting(
        (),
        mark('by articulation, drum or "*" for all; the most specific applies, see below'),
        scope=Scope.SESSION | Scope.ARTICULATION,
        codec=Codec(settings_values.shapes, settings_values.shapes_json, settings_values.SHAPES_SCHEMA),
    )
    seed: int = setting(1, mark("seed of the random variation; the same numbers give the same velocities"), high=2**31)
    round: int = setting(0, mark("round of the random variation; another one draws anew"), high=2**31)

    stage: ClassVar[Stage] = Stage(
        "velocity", word=mark("velocity"), switch=Switch(), reasons=(TOO_SOFT, SHAPED, VARIED)
    )

    def shape_for(self, articulation: str) -> Shape:
        """The shape that applies to an articulation."""
        shapes = dict(self.shapes)
        for key in (articulation, drum_of(articulation), ALL):
            if key in shapes:
                return shapes[key]
        return Shape()

    def _tables(self, context: Context) -> _Tables:
        shapes = [self.shape_for(name) for name in context.vocabulary]
        # Notes that are not drums of the kit follow the shape for all.
        shapes.append(dict(self.shapes).get(ALL, Shape()))
        return _Tables(
            np.stack([table(shape) for shape in shapes]),
            np.array([shape.randomness for shape in shapes]),
            np.array([shape.bias for shape in shapes]),
        )

    @property
    def _plain(self) -> bool:
        return not self.on or all(shape.plain for _, shape in self.shapes)

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        if self._plain or not len(notes):
            return Result(self._rounded(notes), controls)
        tables = self._tables(context)
        which = np.where(notes.articulation >= 0, notes.articulation, len(tables.table) - 1)
        before = notes.velocity.astype(np.float64)
        shaped = through(tables.table, which, before)
        soft = np.isnan(shaped) & ~among(notes.origin, context.kept_by_hand)
        shaped = np.where(np.isnan(shaped), 1.0, shaped)
        amount = tables.randomness[which]
        keys = context.draw_keys(notes.start, notes.channel, notes.note, notes.origin)
        drawn = draw(self.seed, keys, self.round)
        after = vary(shaped, amount, tables.centre[which], drawn).astype(np.float32)
        changed = (after != notes.velocity) & ~soft
        written = (
            entries(self.stage, Action.REMOVED, TOO_SOFT, notes.origin[soft]),
            entries(
                self.stage, Action.CHANGED, np.where(amount[changed] > 0, VARIED, SHAPED),
                notes.origin[changed], field=NoteField.VELOCITY, branch=notes.branch[changed],
                before=before[changed], after=after[changed],
            ),
        )  # fmt: skip
        return Result(self._rounded(notes.but(velocity=after).take(~soft)), controls, written)

    def _rounded(self, notes: Notes) -> Notes:
        """Round to whole velocities unless fine ones are wanted."""
        whole = np.rint(notes.velocity)
        if self.fine or np.array_equal(whole, notes.velocity):
            return notes
        return notes.but(velocity=np.clip(whole, 1, 127))

    def live(self, context: Context) -> LiveStage:
        if self._plain:
            return LiveStage() if self.fine else _LiveRound()
        return _LiveVelocity(self, context)


@dataclass(frozen=True, eq=False)
class _Tables:
    """By articulation, and last for notes without one: (n, 128) table, and variation."""

    table: np.ndarray
    randomness: np.ndarray
    centre: np.ndarray


class _LiveRound(LiveStage):
    """Rounds to whole velocities."""

    def feed(self, event: LiveEvent) -> list[LiveEvent]:
        if event.kind == live.ON:
            event.velocity = _whole(event.velocity)
        return [event]


def _whole(velocity: float) -> float:
    return velocity if velocity == int(velocity) else float(max(1, min(127, round(velocity))))


class _LiveVelocity(LiveStage):
    """State: removed notes that the player still holds."""

    def __init__(self, settings: Velocity, context: Context):
        tables = settings._tables(context)
        self._table = [[float(np.float32(v)) for v in row] for row in tables.table.tolist()]
        self._exact = tables
        self._seed, self._round, self._fine = settings.seed, settings.round, settings.fine
        self._gone: set[tuple[int, int]] = set()
        self._context = context

    def feed(self, event: LiveEvent) -> list[LiveEvent]:
        if event.kind == live.ON:
            which = event.articulation if event.articulation >= 0 else len(self._table) - 1
            velocity, before = event.velocity, event.velocity
            exact = self._exact
            if velocity == int(velocity) and not exact.randomness[which]:
                velocity = self._table[which][int(velocity)]
            else:
                one = np.array([which])
                shaped = through(exact.table, one, np.array([velocity]))
                key = self._context.draw_keys(
                    np.array([event.at]), np.array([event.channel]), np.array([event.note]), np.array([event.origin])
                )
                drawn = draw(self._seed, key, self._round)
                velocity = float(np.float32(vary(shaped, exact.randomness[one], exact.centre[one], drawn)[0]))
            if velocity != velocity:
                self._gone.add((event.origin, event.branch))
                self.account(
                    Velocity.stage, Action.REMOVED, TOO_SOFT, event.origin, NoteField.NONE, np.nan, np.nan, 1.0
                )
                return []
            if velocity != before:
                event.velocity = velocity
                self.account(
                    Velocity.stage,
                    Action.CHANGED,
                    SHAPED,
                    event.origin,
                    NoteField.VELOCITY,
                    before,
                    velocity,
                    1.0,
                )
            if not self._fine:
                event.velocity = _whole(event.velocity)
        elif event.kind == live.OFF and (event.origin, event.branch) in self._gone:
            self._gone.discard((event.origin, event.branch))
            return []
        return [event]

    def held(self) -> int:
        return len(self._gone)
