"""Probability: notes that sound in some rounds and not in others, drawn anew for each round and the same every time."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from puresignal.core.midi.events import Controls, Notes
from puresignal.core.path.context import Context, among
from puresignal.core.path.live import LiveStage
from puresignal.core.path.scoped import Scoped
from puresignal.core.path.setting import Scope, setting
from puresignal.core.path.stage import Result
from puresignal.core.path.stage_description import Reason, Stage, Switch
from puresignal.core.path.tally import Action, entries
from puresignal.core.path.velocity_curve import draw
from puresignal.translation import mark

NOT_DRAWN = Reason(mark("by chance"), mark("Notes left out by their probability in this round."))


@dataclass(frozen=True)
class Probability:
    """Leaves notes out by chance."""

    on: bool = setting(False, mark("leave notes out by chance"))
    chance: Scoped = setting(
        Scoped(1.0), mark("How likely notes sound, each for itself."), label=mark("Probability"), unit="%", high=1.0,
        step=0.01, scope=Scope.SESSION | Scope.TRACK | Scope.ARTICULATION | Scope.NOTES,
    )  # fmt: skip
    seed: int = setting(1, mark("seed; the same number leaves out the same notes"), label=mark("Seed"), high=2**31,
                        reach=100.0)  # fmt: skip
    round: int = setting(0, mark("round; another one draws anew"), high=2**31)

    stage: ClassVar[Stage] = Stage(
        "probability", word=mark("probability"), title=mark("Probability"),
        tip=mark("Leaves notes out by chance, other ones in each round of a section and of what is written."),
        switch=Switch(), reasons=(NOT_DRAWN,), causal=False, on_timeline=True,
    )  # fmt: skip

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        if not self.on or not len(notes):
            return Result(notes, controls)
        chance = self.chance.for_notes(notes, context)
        drawn = (draw(self.seed + 7, notes.origin, self.round) + 1.0) / 2.0
        gone = (drawn >= chance) & ~among(notes.origin, context.kept_by_hand)
        written = entries(self.stage, Action.REMOVED, NOT_DRAWN, notes.origin[gone], branch=notes.branch[gone])
        return Result(notes.take(~gone), controls, (written,))

    def live(self, context: Context) -> LiveStage:
        return LiveStage()
