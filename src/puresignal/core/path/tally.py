"""The tally: what every stage did to every note, and the sums, which always balance.

Stages write entries while they decide; nothing is worked out afterwards as a difference.
Out = in - removed + added.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum
from functools import cached_property
from typing import Any, ClassVar, NamedTuple

import numpy as np

from puresignal.core.midi.columns import Columns
from puresignal.core.path.removal import INHERITED_END
from puresignal.core.path.stage_description import Reason, Stage


class Action(IntEnum):
    """Effect of a stage on a note. A note without an entry passed unchanged."""

    KEPT = 0
    REMOVED = 1
    ADDED = 2
    CHANGED = 3


class NoteField(IntEnum):
    """The property of a note that was changed."""

    NONE = 0
    NOTE = 1
    CHANNEL = 2
    END = 3
    ARTICULATION = 4
    VELOCITY = 5
    START = 6


@dataclass(frozen=True, eq=False)
class Entries(Columns):
    """One decision per row.

    stage, reason  numbers of `Stage` and `Reason`; action, field: as the enums above number them
    origin, branch                the note it concerns
    before, after                 values of the changed property; NaN for none
    confidence                    0..1, confidence of the stage
    """

    stage: np.ndarray
    action: np.ndarray
    reason: np.ndarray
    field: np.ndarray
    origin: np.ndarray
    branch: np.ndarray
    before: np.ndarray
    after: np.ndarray
    confidence: np.ndarray

    DTYPES: ClassVar[dict[str, Any]] = {
        "stage": "i1", "action": "i1", "reason": "i1", "field": "i1", "origin": "i8", "branch": "i2",
        "before": "f8", "after": "f8", "confidence": "f4",
    }  # fmt: skip


NO_ENTRIES = Entries.empty()
"""The entries of a stage that decided nothing, which is the usual case."""


def entries(
    stage: Stage,
    action: Action,
    reason: Reason | np.ndarray,
    origin: np.ndarray,
    *,
    field: NoteField = NoteField.NONE,
    branch: np.ndarray | int = 0,
    before: np.ndarray | float = np.nan,
    after: np.ndarray | float = np.nan,
    confidence: np.ndarray | float = 1.0,
) -> Entries:
    """Rows for many notes with the same decision; single values are repeated for all of them."""
    n = len(origin)
    if not n:
        return NO_ENTRIES

    def full(value: Any) -> np.ndarray:
        return value if isinstance(value, np.ndarray) else np.full(n, value)

    return Entries(
        full(int(stage)), full(int(action)), full(reason), full(int(field)), origin,
        full(branch), full(before), full(after), full(confidence),
    )  # fmt: skip


class TraceStep(NamedTuple):
    """One thing that happened to one note, for the window to word."""

    stage: Stage
    action: Action
    reason: Reason
    field: NoteField
    branch: int
    before: float
    after: float
    confidence: float


@dataclass(frozen=True, eq=False)
class Tally:
    """The complete account of a take.

    arrived   input notes
    left      output notes
    entries   every decision, in the order of the path
    strays    note-offs that ended nothing
    """

    arrived: int
    left: int
    entries: Entries
    strays: int = 0

    def removed(self) -> dict[Reason, int]:
        """Number of removed notes by reason."""
        return self._count(Action.REMOVED)

    def added(self) -> dict[Reason, int]:
        """Number of added notes by reason."""
        return self._count(Action.ADDED)

    def changed(self) -> dict[Reason, int]:
        """Number of changes to notes by reason."""
        return self._count(Action.CHANGED)

    def balances(self) -> bool:
        """Out = in - removed + added."""
        return self.left == self.arrived - sum(self.removed().values()) + sum(self.added().values())

    def touched(self, stage: Stage) -> int:
        """Number of notes that a stage itself did something to."""
        return len(self.touched_origins(stage))

    def touched_origins(self, stage: Stage) -> np.ndarray:
        """Origins of the notes that a stage did something to, each once, sorted.

        A hit that only inherits the end of a removed one is not counted: that belongs to the removal.
        """
        e = self.entries
        return _each_once(e.origin[(e.stage == stage) & (e.action != Action.KEPT) & (e.reason != INHERITED_END)])

    def origins(self, action: Action, reason: Reason | None = None) -> np.ndarray:
        """Origins of the notes that something happened to, each once, sorted."""
        e = self.entries
        rows = e.action == action
        if reason is not None:
            rows = rows & (e.reason == reason)
        return _each_once(e.origin[rows])

    def trace(self, origin: int) -> list[TraceStep]:
        """The effects on one note, stage by stage."""
        e = self.entries
        return [
            TraceStep(
                Stage.of(int(e.stage[i])), Action(int(e.action[i])), Reason.of(int(e.reason[i])),
                NoteField(int(e.field[i])), int(e.branch[i]), float(e.before[i]), float(e.after[i]),
                float(e.confidence[i]),
            )
            for i in np.flatnonzero(e.origin == origin)
        ]  # fmt: skip

    def _count(self, action: Action) -> dict[Reason, int]:
        return dict(self._counts[action])

    @cached_property
    def _counts(self) -> dict[Action, dict[Reason, int]]:
        """For each action the reasons in the order in which the stages wrote them, which is the order of the path."""
        e, counted = self.entries, {}
        for action in Action:
            found = e.reason[e.action == action]
            counts = np.bincount(found, minlength=Reason.count())
            first = {i: int(np.argmax(found == i)) for i in np.flatnonzero(counts).tolist()}
            reasons = sorted(first, key=first.__getitem__)
            counted[action] = {Reason.of(i): int(counts[i]) for i in reasons}
        return counted


def _each_once(origins: np.ndarray) -> np.ndarray:
    """Origins without repeats, sorted; for many, a table is faster than sorting."""
    if not len(origins):
        return np.zeros(0, np.int64)
    table = np.zeros(int(origins.max()) + 1, bool)
    table[origins] = True
    return np.flatnonzero(table)
