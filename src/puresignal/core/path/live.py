"""Events of the live path, and the interface of a live stage.

A live stage is look-up tables and a small bounded state. Every note-on that passes is followed by exactly
one end; a stage that removes a note also removes its end.
"""

from __future__ import annotations

from collections.abc import Callable

from puresignal.core.path.stage_description import Reason, Stage
from puresignal.core.path.tally import Action, NoteField

ON, OFF, CONTROL, LOUDER = range(4)


class LiveEvent:
    """One event. A stage may change it in place: it belongs to the path.

    kind      ON, OFF, CONTROL or LOUDER: a note that was sent at this same moment is this loud
    at        seconds
    note      note number, or the number of a control
    velocity  of a note-on, or the value of a control
    status    of a control: 0xA0 .. 0xE0
    origin    event number of the note-on; for a control its own
    branch    0, or the number of a further note of the same hit
    end_event event number that ended the note, -1 where the path made the end
    by        of an end: origin of the note-on of the same pad that caused it, else -1
    """

    __slots__ = (
        "articulation", "at", "branch", "by", "channel", "closedness", "end_event", "kind", "note", "origin", "port",
        "release", "status", "track", "velocity",
    )  # fmt: skip

    def __init__(self, kind: int, at: float, port: int, channel: int, note: int, velocity: float, origin: int) -> None:
        self.kind = kind
        self.at = at
        self.port = port
        self.channel = channel
        self.note = note
        self.velocity = velocity
        self.origin = origin
        self.release = 64
        self.articulation = -1
        self.closedness = float("nan")
        self.track = -1
        self.branch = 0
        self.end_event = -1
        self.status = 0
        self.by = -1

    def copy(self) -> LiveEvent:
        twin = LiveEvent(self.kind, self.at, self.port, self.channel, self.note, self.velocity, self.origin)
        for name in ("release", "articulation", "closedness", "track", "branch", "end_event", "status", "by"):
            setattr(twin, name, getattr(self, name))
        return twin


Account = Callable[[Stage, Action, Reason, int, NoteField, float, float, float], None]
"""Receives (stage, action, reason, origin, field, before, after, confidence) for each decision."""


def no_account(
    stage: Stage,
    action: Action,
    reason: Reason,
    origin: int,
    field: NoteField,
    before: float,
    after: float,
    confidence: float,
) -> None:
    """For runs without an account."""


class LiveStage:
    """Passes everything on; stages override what they do."""

    account: Account = staticmethod(no_account)

    def feed(self, event: LiveEvent) -> list[LiveEvent]:
        """The events sent because this event came. Times never decrease from call to call."""
        return [event]

    def advance(self, now: float) -> list[LiveEvent]:
        """The events sent because time has reached `now`."""
        return []

    def finish(self, end: float) -> list[LiveEvent]:
        """The events still to be sent when the take ends at `end`: held notes get their ends."""
        return []

    def held(self) -> int:
        """Size of the state, for the test that it stays bounded."""
        return 0
