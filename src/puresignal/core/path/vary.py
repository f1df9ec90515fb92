"""Vary: velocities moved by chance, the only stage that draws them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from puresignal.core.midi.events import Controls, Notes
from puresignal.core.path import live
from puresignal.core.path.context import Context
from puresignal.core.path.live import LiveEvent, LiveStage
from puresignal.core.path.scoped import Scoped
from puresignal.core.path.setting import Scope, setting
from puresignal.core.path.stage import Result
from puresignal.core.path.stage_description import Reason, Stage, Switch
from puresignal.core.path.tally import Action, NoteField, entries
from puresignal.core.path.velocity_curve import LEAST, MOST, draw
from puresignal.translation import mark

VARIED = Reason(mark("varied"), mark("Notes whose velocity was moved by chance."))
FRESH, FIXED = mark("fresh each round"), mark("the same each round")
_FOR = Scope.SESSION | Scope.TRACK | Scope.ARTICULATION | Scope.NOTES


@dataclass(frozen=True)
class Vary:
    """Moves velocities by chance. A note's draw hangs on when and what it is, so that it is the same live."""

    on: bool = setting(False, mark("vary velocities by chance"), later=True)
    amount: Scoped = setting(
        Scoped(0.0), mark("Largest random change of a velocity; the same for a note every time."),
        label=mark("Amount"), high=64.0, scope=_FOR, later=True,
    )  # fmt: skip
    bias: Scoped = setting(
        Scoped(0.0), mark("-1: only softer, 0: both ways, 1: only harder."), label=mark("Bias"), low=-1.0, step=0.1,
        scope=_FOR, later=True,
    )  # fmt: skip
    rounds: str = setting(
        FRESH, mark("Whether each round of a section or a loop draws anew."), label=mark("Draw"),
        choices=(FRESH, FIXED), later=True,
    )  # fmt: skip
    seed: int = setting(
        1,
        mark("Seed; the same numbers give the same velocities."),
        label=mark("Seed"),
        high=2**31,
        reach=100.0,
        later=True,
    )
    round: int = setting(0, mark("round; another one draws anew"), high=2**31, later=True)

    stage: ClassVar[Stage] = Stage(
        "vary", word=mark("vary"), title=mark("Vary velocities"),
        tip=mark("Moves velocities by chance, so that what is even sounds less mechanical."), switch=Switch(),
        reasons=(VARIED,),
    )  # fmt: skip

    @property
    def plain(self) -> bool:
        """Whether nothing is varied."""
        return not self.on or (self.amount.plain and not self.amount.value)

    @property
    def drawn_round(self) -> int:
        return 0 if self.rounds == FIXED else self.round

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        if self.plain or not len(notes):
            return Result(notes, controls)
        keys = context.draw_keys(notes.start, notes.channel, notes.note, notes.origin)
        drawn = draw(self.seed, keys, self.drawn_round)
        amount = self.amount.for_notes(notes, context)
        after = varied(notes.velocity.astype(np.float64), amount, self.bias.for_notes(notes, context), drawn)
        after = after.astype(np.float32)
        changed = after != notes.velocity
        written = entries(
            self.stage, Action.CHANGED, VARIED, notes.origin[changed], field=NoteField.VELOCITY,
            branch=notes.branch[changed], before=notes.velocity[changed].astype(np.float64), after=after[changed],
        )  # fmt: skip
        return Result(notes.but(velocity=after), controls, (written,))

    def live(self, context: Context) -> LiveStage:
        return LiveStage() if self.plain else _LiveVary(self, context)


def varied(velocity: np.ndarray, amount: np.ndarray, bias: np.ndarray, drawn: np.ndarray) -> np.ndarray:
    """Velocities with their random changes: up to `amount` either way, around a centre of -1..1."""
    moved = velocity + amount * (drawn + bias) / (1 + np.abs(bias))
    return np.asarray(np.where(amount > 0, np.clip(moved, LEAST, MOST), velocity))


class _LiveVary(LiveStage):
    """State: none but the amounts looked up so far."""

    def __init__(self, settings: Vary, context: Context):
        self._settings, self._context = settings, context
        self._known: dict[tuple[int, int, int], tuple[float, float]] = {}

    def feed(self, event: LiveEvent) -> list[LiveEvent]:
        if event.kind != live.ON:
            return [event]
        settings, context = self._settings, self._context
        whose = event.port, event.track, event.articulation
        if whose not in self._known:
            self._known[whose] = settings.amount.for_pad(*whose, context), settings.bias.for_pad(*whose, context)
        amount, bias = self._known[whose]
        if not amount:
            return [event]
        key = context.draw_keys(
            np.array([event.at]), np.array([event.channel]), np.array([event.note]), np.array([event.origin])
        )
        drawn = draw(settings.seed, key, settings.drawn_round)
        before = event.velocity
        after = varied(np.array([before]), np.array([amount]), np.array([bias]), drawn)
        event.velocity = float(np.float32(after[0]))
        if event.velocity != before:
            self.account(
                Vary.stage, Action.CHANGED, VARIED, event.origin, NoteField.VELOCITY, before, event.velocity, 1.0
            )
        return [event]
