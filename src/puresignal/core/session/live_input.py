"""Live inputs: who plays where, what that means, and where it goes. Part of the session, so a device is remembered.

Two players never mix: each input listens to one port and channel, or to all, has a kit's
map and a destination of its own, and a capture makes a take for each that is armed.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

from puresignal.core.kit.note_map import NoteMap

ALL_CHANNELS = 0


@dataclass(frozen=True)
class LiveInput:
    """One player's input.

    port     name of the port that playing comes from, empty where none was chosen yet
    channel  1..16, or ALL_CHANNELS
    source   what the kit sends; None: nothing is known of it
    output   name of the port that clean MIDI goes to, None for nowhere
    armed    a capture takes it
    heard    what is played leaves at once; it is captured all the same when not
    """

    port: str = ""
    channel: int = ALL_CHANNELS
    source: NoteMap | None = None
    output: str | None = None
    armed: bool = True
    monitor: bool = True

    def listens_to(self, port: str, message: bytes) -> bool:
        """Whether a message of a port is this one's. System messages are everybody's on the port."""
        if self.port != port or not message:
            return False
        status = message[0]
        return self.channel == ALL_CHANNELS or status >= 0xF0 or (status & 0x0F) + 1 == self.channel


def ports_of(inputs: Iterable[LiveInput]) -> tuple[str, ...]:
    """The ports that are listened to, each once."""
    return tuple(dict.fromkeys(one.port for one in inputs if one.port))


def outputs_of(inputs: Iterable[LiveInput]) -> tuple[str, ...]:
    """The ports that are sent to, each once."""
    return tuple(dict.fromkeys(one.output for one in inputs if one.port and one.output))


def with_input(inputs: tuple[LiveInput, ...], number: int, **changed: object) -> tuple[LiveInput, ...]:
    """One input changed."""
    return tuple(replace(one, **changed) if i == number else one for i, one in enumerate(inputs))  # type: ignore[arg-type]
