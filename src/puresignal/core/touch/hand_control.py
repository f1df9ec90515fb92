"""Pads, keys, controllers and foot switches that control the program while both hands are busy."""

from __future__ import annotations

from dataclasses import dataclass

from puresignal.core.midi import messages

BOUNCE = 0.25
"""Seconds within which a switch that bounces, or a pad that rings, is one press."""
PRESSED = 64
"""Value of a controller from which it is pressed."""
NOTE, CONTROL, PROGRAM = "note", "control", "program"
RECORD, STOP, UNDO_PASS, AGAIN, PLAY = "record", "stop", "undo pass", "again", "play"  # not shown
ACTIONS = (RECORD, STOP, UNDO_PASS, AGAIN, PLAY)


@dataclass(frozen=True)
class Trigger:
    """A pad, controller or program that is hit.

    port     its name; a device that is plugged into another socket is found by it
    kind     NOTE, CONTROL or PROGRAM
    channel  1..16
    number   of the note, controller or program
    """

    port: str
    kind: str
    channel: int
    number: int

    def is_it(self, port: str, data: bytes) -> bool:
        """Whether a message comes from it, pressed or let go."""
        return trigger_of(port, data, released=True) == self


def trigger_of(port: str, data: bytes, released: bool = False) -> Trigger | None:
    """A message as a trigger; None for what cannot be one. released: also where it is let go."""
    if len(data) < 2:
        return None
    kind, channel = data[0] & 0xF0, (data[0] & 0x0F) + 1
    value = data[2] if len(data) > 2 else 0
    if messages.is_note_on(data) or (released and kind in (messages.NOTE_ON, messages.NOTE_OFF)):
        return Trigger(port, NOTE, channel, data[1])
    if kind == messages.CONTROL and (released or value >= PRESSED):
        return Trigger(port, CONTROL, channel, data[1])
    if kind == messages.PROGRAM:
        return Trigger(port, PROGRAM, channel, data[1])
    return None


class Presses:
    """Tells presses from bounces, rings and held controllers."""

    def __init__(self) -> None:
        self._last: dict[Trigger, float] = {}
        self._held: set[Trigger] = set()

    def pressed(self, at: float, port: str, data: bytes) -> Trigger | None:
        """The trigger that a message presses, if it does. at: seconds."""
        one = trigger_of(port, data)
        if one is None:
            let_go = trigger_of(port, data, released=True)
            if let_go is not None:
                self._held.discard(let_go)
            return None
        held = one.kind == CONTROL and one in self._held
        bounces = at - self._last.get(one, float("-inf")) < BOUNCE
        self._last[one] = at
        if one.kind == CONTROL:
            self._held.add(one)
        return None if held or bounces else one
