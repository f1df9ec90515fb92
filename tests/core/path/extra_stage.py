"""A stage in one file, as docs/architecture.md describes it, and a path with it in its list."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import ClassVar

from puresignal.core.midi.events import Controls, Notes
from puresignal.core.path.cleaning_path import CleaningPath
from puresignal.core.path.context import Context
from puresignal.core.path.live import LiveStage
from puresignal.core.path.scoped import Scoped
from puresignal.core.path.setting import Scope, setting
from puresignal.core.path.stage import Result
from puresignal.core.path.stage_description import Reason, Stage, Switch
from puresignal.core.path.tally import Action, entries
from puresignal.translation import mark

BRUSHED = Reason(mark("brushed"), mark("Hits that were only brushed."))


@dataclass(frozen=True)
class Brushed:
    """Removes hits that were only brushed."""

    on: bool = setting(True, "remove brushed hits")
    least: float = setting(9.0, "Hits softer than this are removed.", label="Least", high=60.0)
    how: str = setting("below", "which hits", label="How", choices=("below", "above"))
    by_input: Scoped = setting(Scoped(0.0), "added by input", high=20.0, scope=Scope.SESSION | Scope.INPUT)
    by_track: Scoped = setting(Scoped(0.0), "added by track", high=20.0, scope=Scope.SESSION | Scope.TRACK)
    by_way: Scoped = setting(Scoped(0.0), "added by articulation", high=127.0, scope=Scope.ARTICULATION)
    by_notes: Scoped = setting(Scoped(0.0), "added for chosen notes", high=127.0, scope=Scope.SESSION | Scope.NOTES)

    stage: ClassVar[Stage] = Stage(
        "brushed", word="brushes", title="Remove brushed hits", tip="Removes hits that were only brushed.",
        switch=Switch(), reasons=(BRUSHED,), causal=False,
    )  # fmt: skip

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        if not self.on:
            return Result(notes, controls)
        least = self.least + sum(
            one.for_notes(notes, context) for one in (self.by_input, self.by_track, self.by_way, self.by_notes)
        )
        soft = notes.velocity < least
        written = entries(self.stage, Action.REMOVED, BRUSHED, notes.origin[soft], branch=notes.branch[soft])
        return Result(notes.take(~soft), controls, (written,))

    def live(self, context: Context) -> LiveStage:
        raise AssertionError("a stage that is not causal never runs live")


@dataclass(frozen=True)
class LongerPath(CleaningPath):
    """The path with one more stage at its end."""

    brushed: Brushed = field(default_factory=Brushed)
