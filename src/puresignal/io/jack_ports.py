"""MIDI ports of the JACK server: listing, clients and connections.

Without the JACK library or a server, errors say so and the program runs on.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from puresignal.io import jack_library
from puresignal.io.jack_library import (
    NoServerError,
    binding_of,
    check_library,
    is_pipewire,
    on_shutdown,
    open_client,
)
from puresignal.io.ports import JACK, PIPEWIRE, MidiPort, is_own

__all__ = ["NoServerError", "check_library", "is_pipewire", "on_shutdown", "open_client"]

CAN = jack_library.CAN

Incoming = list[tuple[int, int, bytes]]
"""Messages of a block: (offset, input, message)."""


def block(client: Any, inputs: list[Any], outputs: list[Any]) -> Callable[[int], tuple[int, Incoming]]:
    """The callback's calls to the server at the start of every block, as one function.

    The function takes the frames of the block, clears the outputs, and returns the frame at which the block begins, in
    the server's 32 bits, and the messages: (offset, input, message).

    At 64 frames it is called 750 times per second, each time with cold caches, so it makes as few steps as possible:
    the
    binding's own methods took three times as long.
    """
    calls = binding_of(client)._lib
    own, buffer, count = client._ptr, calls.jack_port_get_buffer, calls.jack_midi_get_event_count
    first, clear = calls.jack_last_frame_time, calls.jack_midi_clear_buffer
    takes = [(number, port, port._ptr) for number, port in enumerate(inputs) if port is not None]
    gives = [port._ptr for port in outputs]

    def begin(frames: int) -> tuple[int, Incoming]:
        found: Incoming = []
        for pointer in gives:
            clear(buffer(pointer, frames))
        for number, port, pointer in takes:
            if count(buffer(pointer, frames)):
                found += [(offset, number, bytes(data)) for offset, data in port.incoming_midi_events()]
        return first(own), found

    return begin


def transport_query(client: Any) -> Callable[[], tuple[int, int]]:
    """A function that gives the transport's state (0 stopped, 1 rolling, 3 starting) and its frame, within a block."""
    jack = binding_of(client)
    position = jack._ffi.new("jack_position_t*")
    ask, own = jack._lib.jack_transport_query, client._ptr

    def query() -> tuple[int, int]:
        state = ask(own, position)
        return int(state), int(position.frame)

    return query


def listing() -> tuple[MidiPort, ...]:
    """All MIDI ports of the server, sources first.

    Raises NoServerError if there is no server
    """
    client = open_client("Pure Signal ports")
    try:
        return ports_of(client)
    finally:
        client.close()


def ports_of(client: Any) -> tuple[MidiPort, ...]:
    """All MIDI ports visible to a client, except the program's own, also where a bridge shows them."""
    return tuple(port for port in all_ports_of(client) if not is_own(port.name))


def all_ports_of(client: Any) -> tuple[MidiPort, ...]:
    """All MIDI ports of the server, the program's own too; sources first."""
    system = PIPEWIRE if is_pipewire(client) else JACK
    gives = [p.name for p in client.get_ports(is_midi=True, is_output=True)]
    takes = [p.name for p in client.get_ports(is_midi=True, is_input=True)]
    return (*(MidiPort(name, True, system) for name in gives), *(MidiPort(name, False, system) for name in takes))


def wires(client: Any) -> frozenset[tuple[str, str]]:
    """Every MIDI connection of the server: (source port, destination port)."""
    found = set()
    for port in client.get_ports(is_midi=True, is_output=True):
        found |= {(port.name, taken.name) for taken in client.get_all_connections(port)}
    return frozenset(found)


def all_wires() -> frozenset[tuple[str, str]]:
    """The same, using a temporary client.

    Raises NoServerError if there is no server
    """
    client = open_client("Pure Signal ports")
    try:
        return wires(client)
    finally:
        client.close()


def cut(gives: str, takes: str) -> None:
    """Disconnect two ports, whoever connected them.

    Raises NoServerError if there is no server
    """
    client = open_client("Pure Signal ports")
    try:
        client.disconnect(gives, takes)
    except binding_of(client).JackError:
        # Already disconnected is fine.
        pass
    finally:
        client.close()
