"""MIDI ports of the ALSA sequencer: listing, connecting, and a thread that blocks until something arrives.

Without the sequencer (no /dev/snd/seq) everything here is empty and the program runs on.
"""

from __future__ import annotations

import contextlib
import queue
import threading
import time
from collections import deque
from collections.abc import Callable
from pathlib import Path
from typing import Any

from puresignal.io.ports import ALSA, MidiPort, find

DEVICE = Path("/dev/snd/seq")


def open_client(name: str) -> Any:
    """A client of the sequencer, or None if there is no sequencer or no permission."""
    # The library prints to stderr if the device is missing, so that is checked first.
    if not DEVICE.exists():
        return None
    try:
        import alsa_midi

        return alsa_midi.SequencerClient(name)
    except Exception:
        return None


def listing() -> tuple[MidiPort, ...]:
    """All ports of the sequencer except its timer and our own; sources first."""
    client = open_client("Pure Signal ports")
    if client is None:
        return ()
    try:
        return tuple(port for port, _ in ports_of(client))
    finally:
        client.close()


def ports_of(client: Any) -> list[tuple[MidiPort, Any]]:
    """All ports visible to a client, each with its address for connecting."""
    found = []
    for gives in (True, False):
        for info in client.list_ports(input=gives or None, output=(not gives) or None, sort=False):
            if not info.client_name.startswith("Pure Signal"):
                found.append((MidiPort(f"{info.client_name}:{info.name}", gives, ALSA), info))
    return found


class AlsaClient:
    """The router's client of the sequencer.

    incoming  (seconds of the monotonic clock, input, message), filled by a thread
    """

    def __init__(self, client: Any, inputs: int, outputs: int, arrived: Callable[[], None]):
        """arrived: called in the reading thread after a message was added to `incoming`."""
        import alsa_midi

        self._midi = alsa_midi
        self._client = client
        self._arrived = arrived
        self.incoming: deque[tuple[float, int, bytes]] = deque()
        self._ins = [client.create_port(f"in {i + 1}", alsa_midi.WRITE_PORT) for i in range(inputs)]
        self._outs = [client.create_port(f"out {i + 1}", alsa_midi.READ_PORT) for i in range(outputs)]
        self._number = {port.port_id: i for i, port in enumerate(self._ins)}
        self._leaving: queue.SimpleQueue[tuple[int, bytes] | None] = queue.SimpleQueue()
        self._closed = False
        for work in (self._read, self._write):
            threading.Thread(target=work, daemon=True).start()

    def join(self, gives: bool, number: int, wanted: str) -> str | None:
        """Connect one of our inputs or outputs to a port: exactly that, else the first whose name contains it.

        Returns its name, or None if it is missing
        """
        there = ports_of(self._client)
        found = find(tuple(port for port, _ in there), wanted, gives)
        for port, info in there:
            if port.gives == gives and port.name == found:
                own = (self._ins if gives else self._outs)[number]
                with contextlib.suppress(Exception):
                    # An existing connection is fine.
                    own.connect_from(info) if gives else own.connect_to(info)
                return port.name
        return None

    def send(self, output: int, message: bytes) -> None:
        """Pass a message to the writing thread: a port callback must not wait for the kernel."""
        self._leaving.put((output, message))

    def close(self) -> None:
        self._closed = True
        self._leaving.put(None)
        with contextlib.suppress(Exception):
            self._client.close()

    def _read(self) -> None:
        while not self._closed:
            try:
                event = self._client.event_input(prefer_bytes=True)
            except Exception:
                if self._closed:
                    return
                time.sleep(0.05)
                continue
            data = getattr(event, "midi_bytes", None)
            number = self._number.get(getattr(event.dest, "port_id", -1)) if event is not None else None
            if data and number is not None:
                self.incoming.append((time.monotonic(), number, bytes(data)))
                self._arrived()

    def _write(self) -> None:
        while (item := self._leaving.get()) is not None:
            output, message = item
            with contextlib.suppress(Exception):
                self._client.event_output_direct(self._midi.MidiBytesEvent(message), port=self._outs[output])
                # The library puts into its buffer of 16 kB what it says it sends at once.
                self._client.drain_output()
