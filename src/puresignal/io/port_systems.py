"""The port systems of the machine behind one interface: JACK (or PipeWire), and the ALSA sequencer.

A system that is not there lists nothing and has no connections. What a system cannot do, it says in `CAN`, so that no
caller needs to know which one it deals with.
"""

from __future__ import annotations

from typing import Any, Protocol, cast

from puresignal.io import alsa_ports, jack_ports
from puresignal.io.jack_library import NoServerError
from puresignal.io.ports import MidiPort, merged


class PortSystem(Protocol):
    """The interface of a port system outside the router. Modules satisfy it too."""

    CAN: frozenset[str]
    """Abilities, of ports.EXACT_FRAMES and ports.ANNOUNCES."""

    def listing(self) -> tuple[MidiPort, ...]:
        """All MIDI ports except our own, sources first. Raises NoServerError, which says what to do, if it is not
        there.
        """

    def all_wires(self) -> frozenset[tuple[str, str]]:
        """Every connection between MIDI ports: (source, destination), ours included. Raises NoServerError."""

    def cut(self, gives: str, takes: str) -> None:
        """Disconnect two ports, whoever connected them; nothing if they are not. Raises NoServerError."""


class PortClient(Protocol):
    """The interface of the router's client of a port system.

    can  abilities, as in PortSystem
    cut  seconds of the steady clock at which a connection of ours into itself was removed, by input
    """

    can: frozenset[str]
    cut: dict[int, float]

    def look(self) -> None:
        """Learn which ports there are now; called before `join`."""

    def join(self, gives: bool, number: int, wanted: str, before: str | None, lost: Any) -> str | None:
        """Connect one of our inputs (gives) or outputs to a port: exactly that, else the first whose name contains it.

        before  the port that it was connected to
        lost    called without arguments if that has disappeared, even if it is back
        Returns the port that it is connected to, None if that is missing
        """

    def name_of(self, gives: bool, number: int) -> str:
        """The full name of one of our ports."""

    def receivers(self, output: int) -> frozenset[str]:
        """The ports connected to one of our outputs."""


SYSTEMS = (cast("PortSystem", jack_ports), cast("PortSystem", alsa_ports))
"""The one that can do more comes first."""


def listing() -> tuple[tuple[MidiPort, ...], str]:
    """All MIDI ports except our own, each device once, and why there are none from JACK (empty if there are)."""
    found: tuple[MidiPort, ...] = ()
    why = ""
    for system in SYSTEMS:
        try:
            found = merged(found, system.listing())
        except NoServerError as error:
            why = why or str(error)
    return found, why


def wires() -> frozenset[tuple[str, str]]:
    """Every connection between MIDI ports, of every system."""
    found: frozenset[tuple[str, str]] = frozenset()
    for system in SYSTEMS:
        try:
            found |= system.all_wires()
        except NoServerError:
            continue
    return found


def cut(gives: str, takes: str) -> None:
    """Disconnect two ports.

    Raises NoServerError if the system that has them is gone
    """
    for system in SYSTEMS:
        try:
            there = (gives, takes) in system.all_wires()
        except NoServerError:
            continue
        if there:
            system.cut(gives, takes)
