"""MIDI ports of the JACK server: which there are, and how a name finds one.

Without the JACK library or a server everything here says so and the program goes on.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from puresignal.core.errors import PureSignalError


class NoServerError(PureSignalError):
    """There is no JACK server to talk to, or no JACK library."""


@dataclass(frozen=True)
class MidiPort:
    """A MIDI port as others see it. gives: MIDI comes out of it; else MIDI goes into it."""

    name: str
    gives: bool


def library() -> Any:
    """The JACK binding.

    Raises NoServerError when the JACK library is not installed
    """
    try:
        import jack
    except OSError as error:
        raise NoServerError(
            "The JACK library is not installed",
            "libjack.so.0",
            "Install it with: sudo apt-get install libjack-jackd2-0",
        ) from error
    jack.set_error_function(lambda _: None)
    jack.set_info_function(lambda _: None)
    return jack


def open_client(name: str) -> Any:
    """A client of the server that JACK_DEFAULT_SERVER names, or the default one.

    Raises NoServerError when there is none
    """
    jack = library()
    try:
        return jack.Client(name, no_start_server=True)
    except jack.JackOpenError as error:
        raise NoServerError("There is no JACK server", "JACK", "Start it, then try again.") from error


def listing() -> tuple[MidiPort, ...]:
    """All MIDI ports of the server, those that give first.

    Raises NoServerError when there is no server
    """
    client = open_client("Pure Signal ports")
    try:
        return ports_of(client)
    finally:
        client.close()


def ports_of(client: Any) -> tuple[MidiPort, ...]:
    """All MIDI ports that a client sees but its own."""
    own = f"{client.name}:"
    gives = [p.name for p in client.get_ports(is_midi=True, is_output=True)]
    takes = [p.name for p in client.get_ports(is_midi=True, is_input=True)]
    found = [MidiPort(name, True) for name in gives] + [MidiPort(name, False) for name in takes]
    return tuple(port for port in found if not port.name.startswith(own))


def find(ports: tuple[MidiPort, ...], wanted: str, gives: bool) -> str | None:
    """The port of exactly this name, else the first that contains it, else None. Never one of Pure Signal's own."""
    names = [p.name for p in ports if p.gives == gives and not p.name.startswith("Pure Signal")]
    if wanted in names:
        return wanted
    return next((name for name in names if wanted.casefold() in name.casefold()), None)
