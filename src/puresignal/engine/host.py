"""Runs the router: on JACK if there is a server, else on a clock of its own; with ALSA and simulated ports.

One JACK client with inputs and outputs in one process callback, so that nothing is delayed: events leave in the
block in which they arrived, at their own frame. The main thread does everything that may block: connecting,
noticing ports that come and go, and the server's own going and coming.
"""

from __future__ import annotations

import contextlib
import gc
import json
import os
import select
import socket
import sys
import threading
import time
from collections import deque
from typing import Any

from puresignal.engine.player import CUT, FORGET, RELEASE
from puresignal.engine.ring import Reader, Writer, watch
from puresignal.engine.router import ECHO_QUIET, SILENCE, Router, Sounding
from puresignal.engine.router_config import PANIC, RouterConfig, from_bytes, lanes
from puresignal.engine.shared_counters import SharedCounters
from puresignal.io import alsa_ports, jack_ports, ports

LOOK_EVERY = 0.2
"""Seconds between checks of ports and server if nothing has triggered one sooner."""
SURE_EVERY = 1.0
"""The same on JACK, which notifies of changes."""
ASK_SERVER_EVERY = 1.0
"""Seconds between attempts to reach a missing JACK server."""
CLOCK_PER_SECOND = 40
"""How often per second the published clock is updated while nothing happens."""
CLOCK_RATE = 48_000
"""Frame rate without a server."""
SOUNDING = {ports.SOUND: "in", ports.FONT: "font"}
"""Names of the built-in sound's ports on JACK."""
TICK = 0.001
"""Seconds between checks for due messages without a server, while something sounds."""


class Host:
    """Runs until its socket is closed by the other side or it is told to end."""

    def __init__(
        self, control: socket.socket, sounding: Sounding, ring: Writer, sent: Writer,
        feeds: list[Reader], knock: int, playback: Reader, clock: SharedCounters,
    ):  # fmt: skip
        """ring: incoming messages; sent: outgoing messages; feeds: own inputs; knock: eventfd that feed writers
        signal."""
        self._control = control
        self._sounding = sounding
        self._ring = ring
        self._sent = sent
        self._feeds = feeds
        self._has_come = watch([playback, *feeds])
        self._knock = knock
        self._playback, self._clock = playback, clock
        self._coming: deque[tuple[int, int, bytes]] = deque()
        self._call = os.eventfd(0, os.EFD_NONBLOCK | os.EFD_CLOEXEC)
        self._setup: RouterConfig | None = None
        self._router: Router | None = None
        self._client: Any = None
        self._alsa: alsa_ports.AlsaClient | None = None
        self._inputs: list[Any] = []
        self._outputs: list[Any] = []
        self._fed: list[int] = []
        self._setup_outputs: tuple[str, ...] = ()
        self._joined: dict[tuple[str, int], str | None] = {}
        self._cut: dict[int, float] = {}
        self._gone = False
        self._server_gone = False
        self._ending = False
        self._released = threading.Event()
        self._frame, self._rate, self._clock_due = 0, CLOCK_RATE, 0
        self._last = -1
        self._at = 0.0
        self._asked = float("-inf")
        self._xruns = 0
        self._told: object = None

    # Callback

    def _process(self, frames: int) -> None:
        router, client = self._router, self._client
        if router is None or client is None:
            return
        first, incoming = self._begin_block(frames)
        # The server counts frames in 32 bits, about a day; here they continue.
        self._frame += (first - self._last) & 0xFFFFFFFF if self._last >= 0 else frames
        self._last = first
        if not incoming and router.is_asleep and self._is_still():
            return
        rate = self._rate
        self._within(rate, incoming)
        if len(incoming) > 1:
            incoming.sort(key=lambda item: item[0])
        leaving = router.release() if self._ending else router.cycle(self._frame, frames, incoming)
        if not self._ending:
            leaving = self._play(router, frames, leaving)
        self._clock.write(self._frame, rate, time.monotonic_ns(), frames)
        self._clock_due = self._frame + rate // CLOCK_PER_SECOND
        alsa = self._alsa
        for offset, output, message in leaving:
            with contextlib.suppress(Exception):
                self._outputs[output].write_midi_event(offset, message)
            if alsa is not None:
                alsa.send(output, message)
        # The output has been sent; now record the input.
        if incoming or leaving:
            self._keep(rate, incoming, leaving)
        if self._ending:
            self._released.set()

    def _is_still(self) -> bool:
        """Whether nothing is due in this block, so that idle blocks cost next to nothing."""
        if self._frame >= self._clock_due or self._ending or self._coming:
            return False
        if self._alsa is not None and self._alsa.incoming:
            return False
        return not self._has_come()

    def _play(
        self, router: Router, frames: int, leaving: list[tuple[int, int, bytes]], earliest: int = 0
    ) -> list[tuple[int, int, bytes]]:
        """Add the messages of playback for this block, each at its frame or at the earliest offset."""
        coming = self._coming
        for at, output, message in self._playback.read() if self._playback.ready else ():
            frame = int(at)
            if message in (FORGET, CUT):
                while coming and coming[-1][0] >= (frame if message == FORGET else -1):
                    coming.pop()
            if message != FORGET:
                coming.append((self._frame if message == CUT else frame, output, message))
        if not coming or coming[0][0] >= self._frame + frames:
            return leaving
        played = []
        while coming and coming[0][0] < self._frame + frames:
            frame, output, message = coming.popleft()
            offset = max(earliest, frame - self._frame)
            if message in (RELEASE, CUT):
                played += [(offset, o, m) for o, m in router.release_played()]
            elif output < len(self._setup_outputs):
                sent = router.play(output, message)
                if sent:
                    played.append((offset, output, sent))
        return sorted((*leaving, *played), key=lambda item: item[0])

    def _within(self, rate: int, incoming: list[tuple[int, int, bytes]]) -> None:
        """Add messages from the program's own inputs and from ALSA since the last block, at their own times.

        Their offset is negative if they arrived before this block.
        """
        now = -1.0
        alsa = self._alsa
        if alsa is not None and alsa.incoming:
            now = time.monotonic()
            while alsa.incoming:
                at, number, data = alsa.incoming.popleft()
                incoming.append((min(0, round((at - now) * rate)), number, data))
        for feed in self._feeds:
            if not feed.ready:
                continue
            records = feed.read()
            if records:
                feed.keep_place()
            for at, fed, data in records:
                now = now if now >= 0 else time.monotonic()
                number = self._fed[fed] if fed < len(self._fed) else -1
                if number >= 0:
                    offset = min(0, round((at - now) * rate))
                    # Two messages of one input keep their order even if the clock is read late.
                    if self._frame + offset < self._at * rate:
                        offset = min(0, int(self._at * rate) - self._frame + 1)
                    self._at = (self._frame + offset) / rate
                    incoming.append((offset, number, data))

    def _keep(self, rate: int, incoming: list[tuple[int, int, bytes]], leaving: list[tuple[int, int, bytes]]) -> None:
        put, frame = self._ring.put, self._frame
        for offset, number, data in incoming:
            put(round((frame + offset) * 50_000 / rate) / 50_000, number, data)
        put = self._sent.put
        for offset, output, data in leaving:
            put(round((frame + offset) * 50_000 / rate) / 50_000, output, data)

    # Main thread

    def run(self) -> None:
        """Run until the end. Nothing external makes it raise."""
        reader = threading.Thread(target=self._listen, daemon=True)
        reader.start()
        sys.setswitchinterval(0.0005)
        while not self._ending:
            if self._setup is not None:
                self._look()
            if self._client is None and self._router is not None:
                self._run_by_clock(LOOK_EVERY)
            else:
                # The server notifies when a port or connection changes; occasional checks make sure.
                select.select([self._call], [], [], SURE_EVERY if self._client is not None else LOOK_EVERY)
            with contextlib.suppress(BlockingIOError):
                os.eventfd_read(self._call)
        self._finish()

    def end(self) -> None:
        """End soon: sounding notes are released first."""
        self._ending = True
        self._wake()

    def _wake(self) -> None:
        os.eventfd_write(self._call, 1)

    def _run_by_clock(self, seconds: float) -> None:
        """Do the callback's work without a server, as soon as something arrives or is due."""
        router = self._router
        assert router is not None
        end = time.monotonic() + seconds
        while not self._ending:
            now = time.monotonic()
            wait = TICK if router.is_busy() or self._coming else end - now
            ready, _, _ = select.select([self._knock, self._call], [], [], max(0.0, min(wait, end - now)))
            if self._knock in ready:
                with contextlib.suppress(BlockingIOError):
                    os.eventfd_read(self._knock)
            frame = int(time.monotonic() * CLOCK_RATE)
            self._frame = frame
            incoming: list[tuple[int, int, bytes]] = []
            self._within(CLOCK_RATE, incoming)
            incoming.sort(key=lambda item: item[0])
            # The block is the time since the last one and lies in the past; everything due is sent now.
            leaving = self._play(router, 1, router.cycle(frame, 1, incoming), -CLOCK_RATE)
            self._clock.write(frame, CLOCK_RATE, time.monotonic_ns(), 1)
            if self._alsa is not None:
                for _, output, message in leaving:
                    self._alsa.send(output, message)
            self._keep(CLOCK_RATE, incoming, leaving)
            if self._call in ready or time.monotonic() >= end:
                break

    def _listen(self) -> None:
        """Read configurations from the socket; its closing means to end."""
        with contextlib.suppress(OSError), self._control.makefile("rb") as lines:
            for line in lines:
                if line == PANIC:
                    if self._router is not None:
                        self._router.panic()
                        self._wake()
                    continue
                setup = from_bytes(line)
                if self._router is not None and self._setup is not None and self._same_ports(setup):
                    self._router.use(lanes(setup))
                    self._setup = setup
                else:
                    self._setup = setup
                    self._gone = self._router is not None
                self._wake()
        self.end()

    def _same_ports(self, setup: RouterConfig) -> bool:
        now = self._setup
        return now is not None and (now.inputs, now.outputs, now.client) == (setup.inputs, setup.outputs, setup.client)

    def _look(self) -> None:
        if self._server_gone:
            # A client cannot be closed safely after its server died, so the process ends and is restarted.
            self._client, self._joined = None, {}
            self._tell()
            os._exit(0)
        if self._gone:
            self._close()
        if self._client is None and time.monotonic() - self._asked >= ASK_SERVER_EVERY:
            self._open()
        if self._router is None:
            self._start_clock()
        with contextlib.suppress(Exception):
            self._join()
        self._tell()

    def _open(self) -> None:
        setup = self._setup
        assert setup is not None
        self._asked = time.monotonic()
        try:
            client = jack_ports.open_client(setup.client)
        except jack_ports.NoServerError:
            return
        # All routers of a sitting use one clock, so that times continue across restarts.
        self._begin(client.samplerate)
        self._inputs = [
            None if ports.is_within(name) else client.midi_inports.register(f"in {i + 1}")
            for i, name in enumerate(setup.inputs)
        ]
        self._outputs = [client.midi_outports.register(f"out {i + 1}") for i in range(len(setup.outputs))]
        self._begin_block = jack_ports.block(client, self._inputs, self._outputs)
        client.set_process_callback(self._process)
        client.set_shutdown_callback(self._shut_down)
        client.set_xrun_callback(self._late)
        client.set_port_registration_callback(lambda *_: self._wake())
        client.set_port_connect_callback(lambda *_: self._wake())
        # Freeze what exists now; a garbage collection while playing would block the callback for tens of ms.
        gc.collect()
        gc.freeze()
        gc.disable()
        self._client, self._rate = client, client.samplerate
        client.activate()

    def _begin(self, rate: int) -> None:
        """Create a router for a frame rate, and the ALSA client beside it."""
        setup = self._setup
        assert setup is not None
        self._router = Router(rate, lanes(setup), self._sounding)
        if self._sounding[:] != SILENCE:
            self._router.receiver_is_new()
        self._last, self._gone, self._at, self._clock_due = -1, False, 0.0, 0
        self._frame = int(time.monotonic() * rate)
        self._setup_outputs = setup.outputs
        self._fed = [setup.inputs.index(name) if name in setup.inputs else -1 for name in ports.FED]
        foreign = not all(ports.is_within(name) for name in (*setup.inputs, *setup.outputs))
        client = alsa_ports.open_client(setup.client) if foreign and self._alsa is None else None
        if client is not None:
            knock = self._knock
            self._alsa = alsa_ports.AlsaClient(
                client, len(setup.inputs), len(setup.outputs), lambda: os.eventfd_write(knock, 1)
            )

    def _start_clock(self) -> None:
        setup = self._setup
        assert setup is not None
        self._inputs, self._outputs = [], []
        self._begin(CLOCK_RATE)

    def _late(self, _: float) -> None:
        self._xruns += 1
        self._wake()

    def _shut_down(self, *_: object) -> None:
        self._server_gone = True
        self._wake()

    def _close(self) -> None:
        client, self._client = self._client, None
        if client is not None:
            with contextlib.suppress(Exception):
                client.close()
        self._router = None
        self._joined, self._cut = {}, {}
        self._asked = float("-inf")
        if self._alsa is not None:
            self._alsa.close()
            self._alsa = None

    def _join(self) -> None:
        """Connect the wanted ports that are available; release the notes of an input that disappeared."""
        setup = self._setup
        assert setup is not None
        there = jack_ports.ports_of(self._client) if self._client is not None else ()
        for gives, wanted, own in ((True, setup.inputs, self._inputs), (False, setup.outputs, self._outputs)):
            side = "in" if gives else "out"
            for i, name in enumerate(wanted):
                if ports.is_within(name) and (name not in SOUNDING or self._client is None):
                    self._joined[side, i] = name
                    continue
                found = self._join_jack(there, gives, i, name, own[i]) if self._client is not None else None
                if found is None and self._alsa is not None and not ports.is_virtual(name):
                    found = self._alsa.join(gives, i, name)
                before = self._joined.get((side, i))
                if before is not None and found != before and gives and self._router is not None:
                    self._router.unplug(i)
                new = found is not None and found != before and not gives
                if new and self._router is not None and self._sounding[:] != SILENCE:
                    self._router.receiver_is_new()
                self._joined[side, i] = found

    def _join_jack(self, there: tuple[ports.MidiPort, ...], gives: bool, i: int, name: str, own: Any) -> str | None:
        """Connect one of our ports. Returns the port it is connected to, or None if that is missing."""
        linked = [c.name for c in self._client.get_all_connections(own)]
        if gives:
            self._cut_own(i, own, linked)
        if ports.is_virtual(name):
            return str(own.name)
        found = ports.find(there, name, gives)
        if name in SOUNDING:
            wanted = f"{ports.SOUND_CLIENT}:{SOUNDING[name]}"
            found = next((p.name for p in there if p.name == wanted and not p.gives), None)
        key = ("in" if gives else "out", i)
        before = self._joined.get(key)
        if before is not None and before in linked:
            return before
        if before is not None:
            # It disappeared and may be back already: for everything connected to it that is a new connection.
            self._joined[key] = None
            if gives and self._router is not None:
                self._router.unplug(i)
        if found is not None and found not in linked:
            self._client.connect(*((found, own) if gives else (own, found)))
        return found

    def _cut_own(self, i: int, own: Any, linked: list[str]) -> None:
        """Remove a connection from an own output straight into an own input, which would loop."""
        mine = f"{self._client.name}:"
        for name in linked:
            if name.startswith(mine):
                self._client.disconnect(name, own)
                self._cut[i] = time.monotonic()

    def _tell(self) -> None:
        """Report the state if it has changed."""
        setup, router, client = self._setup, self._router, self._client
        assert setup is not None
        now = time.monotonic()
        found = {**self._cut, **(dict(router.loops) if router is not None else {})}
        loops = [i for i, at in found.items() if now - at < ECHO_QUIET + SURE_EVERY]
        state = {
            "server": client is not None,
            "inputs": [self._joined.get(("in", i)) for i in range(len(setup.inputs))],
            "outputs": [self._joined.get(("out", i)) for i in range(len(setup.outputs))],
            "errors": router.errors if router is not None else 0,
            "loops": sorted(loops),
            "dropouts": self._xruns,
            "realtime": bool(client.realtime) if client is not None else None,
            "rate": client.samplerate if client is not None else 0,
            "block": client.blocksize if client is not None else 0,
        }
        if state != self._told:
            self._told = state
            with contextlib.suppress(OSError):
                self._control.sendall(json.dumps(state).encode() + b"\n")

    def _finish(self) -> None:
        if self._server_gone:
            return
        if self._client is not None:
            period = self._client.blocksize / self._client.samplerate
            self._released.wait(10 * period + 0.05)
            # The block with the last note-offs must be sent before the ports are closed.
            time.sleep(2 * period)
        elif self._router is not None:
            leaving = self._router.release()
            if self._alsa is not None:
                for _, output, message in leaving:
                    self._alsa.send(output, message)
                time.sleep(0.02)
            self._keep(CLOCK_RATE, [], leaving)
        self._close()
