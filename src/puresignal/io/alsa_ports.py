"""MIDI ports of the ALSA sequencer: listing, connecting, reading with the kernel's times, writing.

Without the sequencer (no /dev/snd/seq) everything here is empty and the program runs on.
"""

from __future__ import annotations

import contextlib
import queue
import select
import threading
import time
from collections import deque
from collections.abc import Callable
from pathlib import Path
from typing import Any

from puresignal.io.alsa_messages import AlsaMessages, Announced, Received
from puresignal.io.ports import ALSA, ANNOUNCES, MidiPort, find, is_own, is_virtual

DEVICE = Path("/dev/snd/seq")
CAN = frozenset({ANNOUNCES})
"""Messages leave at once, without frames."""
POOL = 2000
"""Events that the kernel keeps for us in each direction, its largest number: a burst may come faster than we read."""
LIST_EVERY = 5.0
"""Seconds after which the ports are listed again, even though nothing was announced."""
CLOCK_AGAIN = 10.0
"""Seconds over which the kernel's clock is compared with ours."""
OTHER_BRIDGES = ("PipeWire-",)
"""Clients of port systems that show the sequencer's ports themselves."""


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


def all_wires() -> frozenset[tuple[str, str]]:
    """Every connection between MIDI ports of the sequencer: (source, destination)."""
    client = open_client("Pure Signal ports")
    if client is None:
        return frozenset()
    try:
        return frozenset(_wires(client))
    finally:
        client.close()


def cut(gives: str, takes: str) -> None:
    """Disconnect two ports, whoever connected them; nothing if they are not connected."""
    client = open_client("Pure Signal ports")
    if client is None:
        return
    try:
        addresses = _wires(client).get((gives, takes))
        if addresses is not None:
            client.unsubscribe_port(*addresses)
    finally:
        client.close()


def _wires(client: Any) -> dict[tuple[str, str], tuple[Any, Any]]:
    """Connections by the names of their ports: (address of the source, of the destination)."""
    import alsa_midi

    takes = {(i.client_id, i.port_id): f"{i.client_name}:{i.name}" for i in client.list_ports(output=True)}
    found = {}
    for info in client.list_ports(input=True, sort=False):
        for one in client.list_port_subscribers(info, alsa_midi.SubscriptionQueryType.READ):
            name = takes.get((one.addr.client_id, one.addr.port_id))
            if name is not None:
                found[f"{info.client_name}:{info.name}", name] = (info, one.addr)
    return found


def ports_of(client: Any) -> list[tuple[MidiPort, Any]]:
    """All ports visible to a client, except our own and those of bridges, each with its address for connecting."""
    found = []
    for gives in (True, False):
        for info in client.list_ports(input=gives or None, output=(not gives) or None, sort=False):
            if not is_own(info.client_name) and not info.client_name.startswith(OTHER_BRIDGES):
                found.append((MidiPort(f"{info.client_name}:{info.name}", gives, ALSA), info))
    return found


class KernelClock:
    """Turns the times of a sequencer queue into seconds of the monotonic clock.

    The smallest difference seen is the best one: whatever is larger was read late.
    """

    def __init__(self) -> None:
        self._offset, self._next = float("inf"), float("inf")
        self._since = float("-inf")

    def to_monotonic(self, kernel: float, now: float) -> float:
        """When an event came. kernel: its time in the queue; now: when it was read. Both in seconds."""
        difference = now - kernel
        if now - self._since > CLOCK_AGAIN:
            # The clocks may drift apart, so an old difference counts for a while only.
            self._offset, self._next, self._since = min(self._next, difference), difference, now
        self._offset, self._next = min(self._offset, difference), min(self._next, difference)
        return kernel + self._offset


class AlsaClient:
    """The router's client of the sequencer.

    incoming  (seconds of the monotonic clock, input, message), filled by `read`
    changed   ports have come or gone since the last `join`
    can, cut  see io/port_systems.PortClient
    lost      times that messages came faster than they could be read, or could not be sent
    """

    can = CAN

    def __init__(
        self, client: Any, inputs: int, outputs: int, ports_changed: Callable[[], None],
        messages: AlsaMessages | None = None,
    ):  # fmt: skip
        """ports_changed: called in the reading thread, once there is one, after ports have come or gone."""
        import alsa_midi

        self._midi = alsa_midi
        self._client = client
        self._messages = AlsaMessages(client) if messages is None else messages
        self._ports_changed = ports_changed
        self.incoming: deque[tuple[float, int, bytes]] = deque()
        self.changed, self.lost = True, 0
        self.cut: dict[int, float] = {}
        self._clock = KernelClock()
        self._queue = self._start_queue()
        stamps = {} if self._queue is None else {
            "timestamping": True, "timestamp_real": True, "timestamp_queue": self._queue,
        }  # fmt: skip
        self._ins = [client.create_port(f"in {i + 1}", alsa_midi.WRITE_PORT, **stamps) for i in range(inputs)]
        self._outs = [client.create_port(f"out {i + 1}", alsa_midi.READ_PORT) for i in range(outputs)]
        self._number = {port.port_id: i for i, port in enumerate(self._ins)}
        self._there: list[tuple[MidiPort, Any]] = []
        self._listed_at = float("-inf")
        self._joined: dict[tuple[bool, int], Any] = {}
        self._leaving: queue.SimpleQueue[tuple[int, bytes] | None] = queue.SimpleQueue()
        self._writing = threading.Lock()
        self._threads: list[threading.Thread] = []
        self._closed = False
        with contextlib.suppress(Exception):
            client.set_client_pool_input(POOL)
            client.set_client_pool_output(POOL)
        with contextlib.suppress(Exception):
            hidden = alsa_midi.PortCaps.WRITE | alsa_midi.PortCaps.NO_EXPORT
            self._announced = client.create_port("watch", hidden, alsa_midi.PortType.APPLICATION)
            self._announced.connect_from(alsa_midi.SYSTEM_ANNOUNCE)

    def _start_queue(self) -> Any:
        """A running queue, whose time the kernel stamps on what arrives; None if there is none left."""
        try:
            made = self._client.create_queue("Pure Signal")
            made.start()
            self._client.drain_output()
            return made
        except Exception:
            return None

    def fileno(self) -> int:
        """The file to wait on until `read` has something."""
        # The library has no public name for it.
        return int(self._client._fd)

    def look(self) -> None:
        """List the ports again if any came or went, or nothing was announced for long."""
        now = time.monotonic()
        if self.changed or now - self._listed_at > LIST_EVERY:
            self.changed, self._listed_at = False, now
            self._there = ports_of(self._client)

    def join(self, gives: bool, number: int, wanted: str, before: str | None, lost: Callable[[], None]) -> str | None:
        """Connect one of our inputs or outputs to a port: exactly that, else the first whose name contains it.

        lost  called if the connection was lost since
        Returns its name, None if it is missing
        """
        own = (self._ins if gives else self._outs)[number]
        if gives:
            self._cut_own(number, own)
        found = None if is_virtual(wanted) else find(tuple(port for port, _ in self._there), wanted, gives)
        info = next((info for port, info in self._there if port.gives == gives and port.name == found), None)
        joined = self._joined.get((gives, number))
        if info is None:
            self._joined.pop((gives, number), None)
            return None
        address = (info.client_id, info.port_id)
        if joined != address:
            if before is not None:
                # It disappeared and is back: for everything connected to it that is a new connection.
                lost()
            with contextlib.suppress(Exception):
                # An existing connection is fine.
                own.connect_from(info) if gives else own.connect_to(info)
            self._joined[gives, number] = address
        return found

    def name_of(self, gives: bool, number: int) -> str:
        """The full name of one of our ports."""
        return f"Pure Signal:{'in' if gives else 'out'} {number + 1}"

    def receivers(self, output: int) -> frozenset[str]:
        """The ports connected to one of our outputs."""
        names = {(info.client_id, info.port_id): port.name for port, info in self._there if not port.gives}
        return frozenset(
            names.get((one.addr.client_id, one.addr.port_id), "")
            for one in self._client.list_port_subscribers(self._outs[output], self._midi.SubscriptionQueryType.READ)
        )

    def _cut_own(self, number: int, own: Any) -> None:
        """Remove a connection from an own output straight into an own input, which would loop."""
        with contextlib.suppress(Exception):
            for one in self._client.list_port_subscribers(own, self._midi.SubscriptionQueryType.WRITE):
                if one.addr.client_id == own.client_id:
                    own.disconnect_from(one.addr)
                    self.cut[number] = time.monotonic()

    def read(self) -> None:
        """Add everything that has arrived to `incoming`; never waits."""
        if self._closed:
            return
        found: list[Received | Announced] = []
        try:
            self._messages.receive(found)
        except Exception:
            # The kernel kept more than it could, and says so once.
            self.lost += 0 if self._closed else 1
        now = time.monotonic()
        for one in found:
            if isinstance(one, Announced):
                # What else its client announces comes with it. A device that is back has an address as before.
                self._joined = {key: address for key, address in self._joined.items() if address != one.address}
                self.changed = True
                continue
            number = self._number.get(one.port)
            if number is not None:
                at = now if self._queue is None else self._clock.to_monotonic(one.stamp, now)
                self.incoming.append((at, number, one.data))

    def run_threads(self) -> None:
        """Read and write in threads from now on: a port callback must not wait for the kernel."""
        if not self._threads:
            self._threads = [threading.Thread(target=work, daemon=True) for work in (self._keep_reading, self._write)]
            for thread in self._threads:
                thread.start()

    def send(self, output: int, message: bytes) -> None:
        """Send a message: through the writing thread if there is one, else at once."""
        if self._threads:
            self._leaving.put((output, message))
        else:
            self._send(output, message)

    def close(self) -> None:
        self._closed = True
        self._leaving.put(None)
        for thread in self._threads:
            thread.join(1.0)
        with contextlib.suppress(Exception):
            self._client.close()

    def _keep_reading(self) -> None:
        waiting = select.poll()
        waiting.register(self.fileno(), select.POLLIN)
        while not self._closed:
            if waiting.poll(200):
                before, self.changed = self.changed, False
                self.read()
                if self.changed:
                    self._ports_changed()
                self.changed |= before

    def _write(self) -> None:
        while (item := self._leaving.get()) is not None:
            self._send(*item)

    def _send(self, output: int, message: bytes) -> None:
        try:
            with self._writing:
                self._messages.send(self._outs[output], message)
        except Exception:
            self.lost += 1
