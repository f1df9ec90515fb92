"""Runs the router: on JACK if there is a server, else on a clock of its own; with ALSA and simulated ports.

This is the main thread, which does everything that may block: reading configurations, connecting ports, noticing
those that come and go, and the server's own going and coming. Messages are handled in message_flow.py.
"""

from __future__ import annotations

import contextlib
import json
import mmap
import os
import select
import socket
import sys
import threading
import time
import traceback
from typing import Any

from puresignal.engine import clock, sounding_file
from puresignal.engine.jack_client import SOUNDING, JackClient
from puresignal.engine.message_flow import MessageFlow
from puresignal.engine.router import ECHO_QUIET, Router
from puresignal.engine.router_config import PANIC, RELEASE_PLAYED, TRANSPORT, UNPLUG, RouterConfig, from_bytes, lanes
from puresignal.engine.shared_counters import SharedCounters
from puresignal.engine.sounding_notes import SOUNDING_SIZE
from puresignal.io import alsa_ports, jack_ports, ports, realtime
from puresignal.io.port_systems import PortClient

LOOK_EVERY = 0.2
"""Seconds between checks of ports and server if nothing has triggered one sooner."""
SURE_EVERY = 1.0
"""The same on JACK, which notifies of changes."""
ASK_SERVER_EVERY = 1.0
"""Seconds between attempts to reach a missing JACK server."""
FIRST_ANSWER = 2.0
"""Seconds that the first answer of a server is waited for."""
FIRST_BLOCK = 0.5
"""Seconds that the first block of PipeWire is waited for."""


class Host:
    """Runs until its socket is closed by the other side or it is told to end."""

    def __init__(
        self, control: socket.socket, table: int, flow: MessageFlow, knock: int,
        transport: tuple[SharedCounters, SharedCounters],
    ):  # fmt: skip
        """control: configurations come, states go.

        table: file of sounding notes (see sounding_file.py); knock: eventfd that writers of own inputs signal
        transport: where JACK's transport is told, and where it is said from when on it may begin (outside_time.py)
        """
        self._transport = transport
        self._control, self._flow, self._knock = control, flow, knock
        self._table_file, self._table = table, mmap.mmap(table, SOUNDING_SIZE)
        self._call = os.eventfd(0, os.EFD_NONBLOCK | os.EFD_CLOEXEC)
        self._setup: RouterConfig | None = None
        self._jack: JackClient | None = None
        self._joined: dict[tuple[str, int], str | None] = {}
        self._links: dict[int, frozenset[str]] = {}
        self._through: dict[tuple[str, int], PortClient] = {}
        self._gone = False
        self._ending = False
        self._xruns = 0
        self._asked = float("-inf")
        self._seeker: threading.Thread | None = None
        self._found: Any = None
        self._realtime: bool | None = None
        self._told: object = None

    def run(self) -> None:
        """Run until the end. Nothing external makes it raise."""
        reader = threading.Thread(target=self._listen, daemon=True)
        reader.start()
        sys.setswitchinterval(0.0005)
        while not self._ending:
            if self._setup is not None:
                self._look()
            if self._jack is None and self._flow.router is not None:
                clock.run(self._flow, self._knock, self._call, LOOK_EVERY, lambda: self._ending)
            else:
                # The server notifies when a port or connection changes; occasional checks make sure.
                select.select([self._call], [], [], SURE_EVERY if self._jack is not None else LOOK_EVERY)
            with contextlib.suppress(BlockingIOError):
                os.eventfd_read(self._call)
        self._finish()

    def end(self) -> None:
        """End soon: sounding notes are released first."""
        self._ending = True
        if self._jack is not None:
            self._jack.release()
        self._wake()

    def _wake(self) -> None:
        os.eventfd_write(self._call, 1)

    def _listen(self) -> None:
        """Read configurations from the socket; its closing means to end."""
        with contextlib.suppress(OSError), self._control.makefile("rb") as lines:
            for line in lines:
                router = self._flow.router
                if line == PANIC:
                    if router is not None:
                        router.panic()
                        self._wake()
                    continue
                if line == RELEASE_PLAYED:
                    self._flow.release_played = True
                    self._wake()
                    continue
                if line.startswith(UNPLUG):
                    if router is not None:
                        router.unplug(int(line.removeprefix(UNPLUG)))
                        self._wake()
                    continue
                if line.startswith(TRANSPORT):
                    if self._jack is not None:
                        self._jack.command_transport(line.removeprefix(TRANSPORT).decode().strip())
                    continue
                setup = from_bytes(line)
                if router is not None and self._setup is not None and self._same_ports(setup):
                    router.use(lanes(setup))
                    self._setup = setup
                else:
                    self._setup = setup
                    self._gone = router is not None
                self._wake()
        self.end()

    def _same_ports(self, setup: RouterConfig) -> bool:
        now = self._setup
        return now is not None and (
            (now.inputs, now.outputs, now.client, now.transport)
            == (setup.inputs, setup.outputs, setup.client, setup.transport)
            and (now.block == setup.block or self._jack is None or self._jack.system != ports.PIPEWIRE)
        )

    def _look(self) -> None:
        changed = self._jack is not None and self._jack.state()["rate"] != self._flow.rate
        if changed:
            # Everything that counts in frames is made anew, by a successor.
            self._release()
        if self._jack is not None and (changed or self._jack.is_dead()):
            # A client cannot be closed safely after its server died, so the process ends and is restarted.
            self._jack, self._joined = None, {}
            self._tell()
            os._exit(0)
        if self._gone:
            assert self._setup is not None
            self._release()
            self._close()
            sounding_file.write_outputs(self._table_file, self._setup.outputs)
        if self._jack is None:
            self._open()
        if self._flow.router is None:
            self._begin(clock.CLOCK_RATE)
        try:
            self._join()
        except Exception:
            # Ports come and go while they are listed; the next look finds what has stayed.
            if self._flow.router is not None:
                self._flow.router.errors += 1
        self._tell()
        self._report_error()

    def _report_error(self) -> None:
        """Print an error of the callback, which must not do so itself; whoever started us logs it."""
        jack = self._jack
        if jack is not None and jack.last_error is not None:
            error, jack.last_error = jack.last_error, None
            traceback.print_exception(error)

    def _open(self) -> None:
        """Become a client of the server, once it is found."""
        client, self._found = self._found, None
        if client is None:
            self._seek()
            return
        self._begin(client.samplerate)
        assert self._setup is not None
        self._jack = JackClient(client, self._setup, self._flow, self._wake)
        if self._setup.transport:
            self._jack.follow_transport(*self._transport)
        if self._flow.alsa is not None:
            self._flow.alsa.run_threads()
            realtime.give_back()
        self._jack.activate()
        if self._jack.system == ports.PIPEWIRE and self._jack.has_run(FIRST_BLOCK):
            # Its library tells the usual rate until the first block; nothing is connected yet, so nothing is lost.
            rate = self._jack.state()["rate"]
            if rate != self._flow.rate:
                # The count comes first: a block in between must not put the old frame into the new router.
                self._jack.count_at(rate)
                self._begin(rate)
        if self._ending:
            self._jack.release()

    def _seek(self) -> None:
        """Look for a server in a thread: asking one that is missing takes longer than a block."""
        if (self._seeker is not None and self._seeker.is_alive()) or time.monotonic() - self._asked < ASK_SERVER_EVERY:
            return
        first = self._asked == float("-inf")
        self._asked = time.monotonic()
        assert self._setup is not None
        self._seeker = threading.Thread(
            target=self._ask_server, args=(self._setup.client, self._setup.block), daemon=True
        )
        self._seeker.start()
        if first:
            # A server that is there answers at once, and nothing can be routed before.
            self._seeker.join(FIRST_ANSWER)
            if self._found is not None:
                self._open()

    def _ask_server(self, name: str, block: int) -> None:
        with contextlib.suppress(jack_ports.NoServerError):
            self._found = jack_ports.open_client(name, block)
            self._wake()

    def _begin(self, rate: int) -> None:
        """Create a router for a frame rate, and the ALSA client beside it."""
        setup, flow = self._setup, self._flow
        assert setup is not None
        router = Router(rate, lanes(setup), self._table)
        for output in range(len(setup.outputs)):
            router.sounding.disconnected(output)
        self._gone = False
        flow.start(router, rate, setup)
        foreign = not all(ports.is_within(name) for name in (*setup.inputs, *setup.outputs))
        client = alsa_ports.open_client(setup.client) if foreign and flow.alsa is None else None
        if client is not None:
            flow.alsa = alsa_ports.AlsaClient(client, len(setup.inputs), len(setup.outputs), self._wake)
            # Without a server this thread routes; a server's thread has it from there.
            self._realtime = realtime.ask().by != ""

    def _close(self) -> None:
        jack, self._jack = self._jack, None
        if jack is not None:
            jack.close()
            self._xruns += jack.xruns
        found, self._found = self._found, None
        if found is not None:
            found.close()
        flow = self._flow
        flow.router = None
        self._joined, self._links, self._through = {}, {}, {}
        self._asked = float("-inf")
        if flow.alsa is not None:
            flow.alsa.close()
            flow.alsa = None

    def _join(self) -> None:
        """Connect the wanted ports that are available; release the notes of an input that disappeared."""
        setup, flow, jack = self._setup, self._flow, self._jack
        assert setup is not None
        clients: list[PortClient] = [one for one in (jack, flow.alsa) if one is not None]
        for client in clients:
            client.look()
        for gives, wanted in ((True, setup.inputs), (False, setup.outputs)):
            for i, name in enumerate(wanted):
                if ports.is_within(name) and (name not in SOUNDING or jack is None):
                    found: str | None = name
                elif ports.is_virtual(name):
                    self._follow_links(clients, gives, i)
                    continue
                else:
                    found = self._join_one(clients, gives, i, name)
                side = "in" if gives else "out"
                before, self._joined[side, i] = self._joined.get((side, i)), found
                if found != before and flow.router is not None:
                    self._follow_port(flow.router, gives, i, before, found)

    @staticmethod
    def _follow_port(router: Router, gives: bool, i: int, before: str | None, found: str | None) -> None:
        """A port was connected or has disappeared."""
        if gives and before is not None:
            router.unplug(i)
        elif not gives and found is not None:
            router.connected(i)
        elif not gives:
            router.sounding.disconnected(i)

    def _follow_links(self, clients: list[PortClient], gives: bool, i: int) -> None:
        """Follow who is connected to a port that others connect to."""
        self._joined["in" if gives else "out", i] = next((one.name_of(gives, i) for one in clients), None)
        router = self._flow.router
        if gives:
            for one in clients:
                # It removes a connection into itself.
                one.join(gives, i, ports.VIRTUAL_IN, None, lambda: None)
            return
        before, now = self._links.get(i, frozenset()), frozenset().union(*(one.receivers(i) for one in clients))
        self._links[i] = now
        if router is None:
            return
        if now - before:
            router.connected(i)
        elif not now:
            router.sounding.disconnected(i)

    def _join_one(self, clients: list[PortClient], gives: bool, i: int, name: str) -> str | None:
        """Connect a port through the first client that has it."""
        key = ("in" if gives else "out", i)

        def lost() -> None:
            self._joined[key] = None
            router = self._flow.router
            if router is not None:
                self._follow_port(router, gives, i, name, None)

        for client in clients:
            before = self._joined.get(key)
            found = client.join(gives, i, name, before if self._through.get(key) is client else None, lost)
            if found is not None:
                self._through[key] = client
                return found
        self._through.pop(key, None)
        return None

    def _tell(self) -> None:
        """Report the state if it has changed."""
        setup, router, jack = self._setup, self._flow.router, self._jack
        assert setup is not None
        now = time.monotonic()
        alsa = self._flow.alsa
        found = {
            **(jack.cut if jack is not None else {}),
            **(alsa.cut if alsa is not None else {}),
            **(dict(router.loops) if router is not None else {}),
        }
        loops = [i for i, at in found.items() if now - at < ECHO_QUIET + SURE_EVERY]
        state = {
            "server": jack is not None,
            "inputs": [self._joined.get(("in", i)) for i in range(len(setup.inputs))],
            "outputs": [self._joined.get(("out", i)) for i in range(len(setup.outputs))],
            "exact": all(ports.EXACT_FRAMES in one.can for one in self._through.values()) and jack is not None,
            "errors": (router.errors if router is not None else 0) + (jack.errors if jack is not None else 0),
            "loops": sorted(loops),
            "postponed": jack.postponed if jack is not None else 0,
            "lost": alsa.lost if alsa is not None else 0,
            "dropouts": self._xruns + (jack.xruns if jack is not None else 0),
            **(jack.state() if jack is not None else {"system": "", "realtime": self._realtime, "rate": 0, "block": 0}),
        }
        if state != self._told:
            self._told = state
            with contextlib.suppress(OSError):
                self._control.sendall(json.dumps(state).encode() + b"\n")

    def _finish(self) -> None:
        if self._seeker is not None:
            # The library does not survive that Python ends within it.
            self._seeker.join(FIRST_ANSWER)
        if self._jack is None or not self._jack.is_dead():
            self._release()
            self._close()

    def _release(self) -> None:
        """End what sounds, and wait until the ends have been sent."""
        flow = self._flow
        if self._jack is not None:
            self._jack.release()
            self._jack.drain()
        elif flow.router is not None:
            # What the window's own pads sent until it was killed may not have been fetched yet.
            clock.step(flow)
            leaving = flow.router.release()
            flow.send_to_alsa(leaving)
            if flow.alsa is not None:
                time.sleep(0.02)
            flow.keep([], leaving)
        if flow.router is not None:
            flow.router.sounding.settle()
