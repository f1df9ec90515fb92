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
"""Messages that are accepted from a port: all, notes and their pressure only, or everything else."""


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
    ident    its own key in the session, "in1", "in2" and so on
    name     what the player calls it; empty: its port's name
    more     further (port, channel) pairs that it listens to: a kit on two devices is one input
    own      whether its drums have tracks of their own, apart from those of other inputs
    """

    port: str = ""
    channel: int = ALL_CHANNELS
    source: NoteMap | None = None
    output: str | None = None
    armed: bool = True
    monitor: bool = True
    takes: str = ALL
    ident: str = ""
    name: str = ""
    more: tuple[tuple[str, int], ...] = ()
    own: bool = False

    @property
    def listens(self) -> tuple[tuple[str, int], ...]:
        """(port, channel) of everything that it listens to."""
        return tuple(pair for pair in ((self.port, self.channel), *self.more) if pair[0])

    @property
    def title(self) -> str:
        """Its name, or its port's."""
        return self.name or self.port

    @property
    def tracks(self) -> str:
        """The beginning of the keys of its drums' tracks."""
        return f"{self.ident}:" if self.own else ""

    def port_number(self, port: str) -> int:
        """Which of its ports this is, by its place in `listens`."""
        return next((i for i, (name, _) in enumerate(self.listens) if name == port), 0)

    def listens_to(self, port: str, message: bytes) -> bool:
        """Whether this input listens to a message of a port. System messages reach every input on the port."""
        if not message:
            return False
        status = message[0]
        if not messages.is_taken(status, self.takes):
            return False
        return any(
            name == port
            and (channel == ALL_CHANNELS or status >= messages.SYSTEM or messages.channel_of(status) == channel)
            for name, channel in self.listens
        )


def with_idents(inputs: tuple[LiveInput, ...]) -> tuple[LiveInput, ...]:
    """The inputs, each with an ident of its own."""
    used = {one.ident for one in inputs if one.ident}
    if len(used) == len(inputs):
        return inputs
    found: list[LiveInput] = []
    for one in inputs:
        if not one.ident or any(one.ident == other.ident for other in found):
            number = next(n for n in range(1, len(used) + 2) if f"in{n}" not in used)
            one = replace(one, ident=f"in{number}")
            used.add(one.ident)
        found.append(one)
    return tuple(found)


def ports_of(inputs: Iterable[LiveInput]) -> tuple[str, ...]:
    """The ports that the inputs listen to, each once."""
    return tuple(dict.fromkeys(port for one in inputs for port, _ in one.listens))


def outputs_of(inputs: Iterable[LiveInput]) -> tuple[str, ...]:
    """The ports that the inputs send to, each once."""
    return tuple(dict.fromkeys(one.output for one in inputs if one.port and one.output))


def with_input(inputs: tuple[LiveInput, ...], number: int, **changed: object) -> tuple[LiveInput, ...]:
    """The inputs with one of them changed."""
    return tuple(replace(one, **changed) if i == number else one for i, one in enumerate(inputs))  # type: ignore[arg-type]
