"""The interface of a stage: settings with a batch form and, if it is causal, a live form."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Protocol

from puresignal.core.midi.events import Controls, Notes
from puresignal.core.path.context import Context
from puresignal.core.path.live import LiveStage
from puresignal.core.path.stage_description import Stage
from puresignal.core.path.tally import Entries


@dataclass(frozen=True, eq=False)
class Result:
    """The result of a stage: notes and controls, and its decisions about them."""

    notes: Notes
    controls: Controls
    entries: tuple[Entries, ...] = ()


class PathStage(Protocol):
    """A frozen dataclass of settings in user units; each of its fields is made by `setting`."""

    stage: ClassVar[Stage]

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        """Process the whole take at once. Never changes its arguments."""
        ...

    def live(self, context: Context) -> LiveStage:
        """The same decisions, event by event."""
        ...
