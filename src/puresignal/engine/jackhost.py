"""The router on JACK: one client, its inputs and outputs in one process callback, so that nothing is delayed.

Events leave in the block in which they came, at their own frame. The main thread
does all that may wait: connecting, noticing what comes and goes, the server's
own going and coming.
"""

from __future__ import annotations

import contextlib
import gc
import json
import os
import socket
import sys
import threading
import time
from collections.abc import MutableSequence
from typing import Any

from puresignal.engine.ring import Writer
from puresignal.engine.router import Router
from puresignal.engine.setup import PANIC, Setup, from_bytes, live_path
from puresignal.io import jackports

LOOK_EVERY = 0.2
"""Seconds between looks at ports and server, where nothing has called for one sooner."""


class JackHost:
    """Runs until its socket is closed by the other side or it is told to end."""

    def __init__(self, control: socket.socket, sounding: MutableSequence[int], ring: Writer):
        self._control = control
        self._sounding = sounding
        self._ring = ring
        self._setup: Setup | None = None
        self._router: Router | None = None
        self._client: Any = None
        self._inputs: list[Any] = []
        self._outputs: list[Any] = []
        self._joined: dict[tuple[str, int], str | None] = {}
        self._wake = threading.Event()
        self._gone = False
        self._server_gone = False
        self._ending = False
        self._released = threading.Event()
        self._frame = 0
        self._last = -1
        self._told: object = None

    # The callback

    def _process(self, frames: int) -> None:
        router, client = self._router, self._client
        if router is None or client is None:
            return
        first = client.last_frame_time
        # The server counts frames in 32 bits, which is a day; here they go on.
        self._frame += (first - self._last) & 0xFFFFFFFF if self._last >= 0 else frames
        self._last = first
        for port in self._outputs:
            port.clear_buffer()
        incoming = [
            (offset, number, bytes(data))
            for number, port in enumerate(self._inputs)
            for offset, data in port.incoming_midi_events()
        ]
        if len(self._inputs) > 1:
            incoming.sort(key=lambda item: item[0])
        if self._ending:
            leaving = router.release()
        else:
            leaving = router.cycle(self._frame, frames, incoming)
        for offset, message in leaving:
            for port in self._outputs:
                with contextlib.suppress(Exception):
                    port.write_midi_event(offset, message)
        # What leaves has left; keeping what came is next.
        rate, put = client.samplerate, self._ring.put
        for offset, number, data in incoming:
            put(round((self._frame + offset) * 50_000 / rate) / 50_000, number, data)
        if self._ending:
            self._released.set()

    # The main thread

    def run(self) -> None:
        """Until the end. Raises nothing that the outside could cause."""
        reader = threading.Thread(target=self._listen, daemon=True)
        reader.start()
        sys.setswitchinterval(0.0005)
        while not self._ending:
            if self._setup is not None:
                self._look()
            self._wake.wait(LOOK_EVERY)
            self._wake.clear()
        self._finish()

    def end(self) -> None:
        """Ends soon: what sounds is released first."""
        self._ending = True
        self._wake.set()

    def _listen(self) -> None:
        """Takes setups from the socket; its closing is the word to end."""
        with contextlib.suppress(OSError), self._control.makefile("rb") as lines:
            for line in lines:
                if line == PANIC:
                    if self._router is not None:
                        self._router.panic()
                    continue
                setup = from_bytes(line)
                if self._router is not None and self._setup is not None and self._same_ports(setup):
                    self._router.use(live_path(setup))
                    self._setup = setup
                else:
                    self._setup = setup
                    self._gone = self._client is not None
                self._wake.set()
        self.end()

    def _same_ports(self, setup: Setup) -> bool:
        now = self._setup
        return now is not None and (now.inputs, now.outputs, now.client) == (setup.inputs, setup.outputs, setup.client)

    def _look(self) -> None:
        if self._server_gone:
            # A client that outlived its server cannot be closed safely, so the process ends and is started anew.
            self._client, self._joined = None, {}
            self._tell()
            os._exit(0)
        if self._gone:
            self._close()
        if self._client is None:
            self._open()
        if self._client is not None:
            with contextlib.suppress(Exception):
                self._join()
        self._tell()

    def _open(self) -> None:
        setup = self._setup
        assert setup is not None
        try:
            client = jackports.open_client(setup.client)
        except jackports.NoServerError:
            return
        self._router = Router(client.samplerate, live_path(setup), self._sounding)
        self._inputs = [client.midi_inports.register(f"in {i + 1}") for i in range(len(setup.inputs))]
        self._outputs = [client.midi_outports.register(f"out {i + 1}") for i in range(len(setup.outputs))]
        self._last, self._gone = -1, False
        # Every router of a sitting counts on one clock, so that times go on where one before it stopped.
        self._frame = int(time.monotonic() * client.samplerate)
        client.set_process_callback(self._process)
        client.set_shutdown_callback(self._shut_down)
        client.set_port_registration_callback(lambda *_: self._wake.set())
        client.set_port_connect_callback(lambda *_: self._wake.set())
        # Whatever was made up to here stays; a collection while playing would hold the callback for tens of ms.
        gc.collect()
        gc.freeze()
        gc.disable()
        self._client = client
        client.activate()

    def _shut_down(self, *_: object) -> None:
        self._server_gone = True
        self._wake.set()

    def _close(self) -> None:
        client, self._client, self._router = self._client, None, None
        self._joined = {}
        if client is not None:
            with contextlib.suppress(Exception):
                client.close()

    def _join(self) -> None:
        """Connects what is wanted and there; notes of an input that went away are released."""
        setup = self._setup
        assert setup is not None
        ports = jackports.ports_of(self._client)
        for gives, wanted, own in ((True, setup.inputs, self._inputs), (False, setup.outputs, self._outputs)):
            for i, name in enumerate(wanted):
                key = ("in" if gives else "out", i)
                found = jackports.find(ports, name, gives)
                before = self._joined.get(key)
                linked = [c.name for c in self._client.get_all_connections(own[i])]
                if before is not None and before not in linked:
                    self._joined[key] = None
                    if gives and self._router is not None:
                        self._router.unplug(i)
                if found is not None and found not in linked and (before is None or before not in linked):
                    pair = (found, own[i]) if gives else (own[i], found)
                    self._client.connect(*pair)
                    linked.append(found)
                    if not gives and self._router is not None and any(self._sounding):
                        self._router.receiver_is_new()
                if found is not None and found in linked:
                    self._joined[key] = found

    def _tell(self) -> None:
        """Says what is joined, when that has changed."""
        setup = self._setup
        assert setup is not None
        state = {
            "server": self._client is not None,
            "inputs": [self._joined.get(("in", i)) for i in range(len(setup.inputs))],
            "outputs": [self._joined.get(("out", i)) for i in range(len(setup.outputs))],
            "errors": self._router.errors if self._router is not None else 0,
        }
        if state != self._told:
            self._told = state
            with contextlib.suppress(OSError):
                self._control.sendall(json.dumps(state).encode() + b"\n")

    def _finish(self) -> None:
        if self._client is not None and not self._server_gone:
            period = self._client.blocksize / self._client.samplerate
            self._released.wait(10 * period + 0.05)
            # The block that holds the last ends must have left before the ports go.
            time.sleep(2 * period)
        if not self._server_gone:
            self._close()
