"""Live inputs: the port, kit and destination of each player. Part of the session, so devices are remembered.

Players never mix: each input listens to one port and channel (or to all channels) and has a source map and a
destination of its own. A recording makes one take for each armed input.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi import messages

ALL_CHANNELS = 0
ALL, NOTES, CONTROL = "all", "notes", "control"
"""What is taken from a port: everything, notes and their pressure alone, or everything else alone."""


@dataclass(frozen=True)
class LiveInput:
    """One player's input.

    port     name of the port it listens to, empty if none was chosen yet
    channel  1..16, or ALL_CHANNELS
    source   note map of the kit, or None if unknown
    output   name of the port that clean MIDI is sent to, or None
    armed    a recording takes it
    monitor  playing is sent on at once; it is recorded either way
    takes    ALL, NOTES or CONTROL
    """

    port: str = ""
    channel: int = ALL_CHANNELS
    source: NoteMap | None = None
    output: str | None = None
    armed: bool = True
    monitor: bool = True
    takes: str = ALL

    def listens_to(self, port: str, message: bytes) -> bool:
        """Whether this input listens to a message of a port. System messages reach every input on the port."""
        if self.port != port or not message:
            return False
        status = message[0]
        if not messages.is_taken(status, self.takes):
            return False
        return self.channel == ALL_CHANNELS or status >= messages.SYSTEM or messages.channel_of(status) == self.channel


def ports_of(inputs: Iterable[LiveInput]) -> tuple[str, ...]:
    """The ports that the inputs listen to, each once."""
    return tuple(dict.fromkeys(one.port for one in inputs if one.port))


def outputs_of(inputs: Iterable[LiveInput]) -> tuple[str, ...]:
    """The ports that the inputs send to, each once."""
    return tuple(dict.fromkeys(one.output for one in inputs if one.port and one.output))


def with_input(inputs: tuple[LiveInput, ...], number: int, **changed: object) -> tuple[LiveInput, ...]:
    """The inputs with one of them changed."""
    return tuple(replace(one, **changed) if i == number else one for i, one in enumerate(inputs))  # type: ignore[arg-type]
