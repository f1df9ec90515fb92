"""The router as one JACK client with inputs and outputs in one process callback.

Nothing is delayed: events leave in the block in which they arrived, at their own frame.
"""

from __future__ import annotations

import contextlib
import gc
import threading
import time
from collections.abc import Callable
from typing import Any

from puresignal.engine.frame_counter import FrameCounter
from puresignal.engine.message_flow import MessageFlow
from puresignal.engine.outside_time import ROLLING
from puresignal.engine.router import Router
from puresignal.engine.router_config import RouterConfig
from puresignal.engine.shared_counters import SharedCounters
from puresignal.io import jack_ports, ports, realtime

SOUNDING = {ports.SOUND: "in", ports.FONT: "font", ports.CLICK: "click"}
"""Names of the built-in sound's ports on JACK."""
SILENT_SECONDS = 8.0
"""Without a block for so long, the server is gone. A JACK server waits five seconds for a client that has died."""
ROUTE_SHARE = 0.18
"""Share of a block after which no further message is routed in it. Reading and writing come to about as much again, and
a callback should not take more than a third, so that a server whose clients all work at once is never late.
"""
ENDS_AFTER = (0.0, 0.008, 0.04, 0.12)
"""Seconds after which the last ends are sent, once more each time: a busy machine may lose blocks, also several."""
SHOWN_AFTER = 4
"""Blocks after which the server shows a new connection."""


class JackClient:
    """An active client, as io/port_systems.PortClient; the callback works from the moment it is made until `close`.

    cut          seconds of the steady clock at which a connection into itself was removed, by input
    can          abilities, see io/port_systems.py
    system       JACK or PIPEWIRE
    postponed    messages that there was no time for in their block, and that left at the head of the next
    server_gone  the server has said that it ends; the client can no longer be closed safely
    xruns        dropouts so far
    """

    can = jack_ports.CAN

    def __init__(self, client: Any, setup: RouterConfig, flow: MessageFlow, wake: Callable[[], None]):
        """client: inactive; wake: called from JACK's threads when something has changed."""
        self._client, self._flow, self._wake = client, flow, wake
        self.system = ports.PIPEWIRE if jack_ports.is_pipewire(client) else ports.JACK
        self.cut: dict[int, float] = {}
        self.server_gone, self.xruns = False, 0
        self.errors = self.postponed = 0
        self.last_error: Exception | None = None
        self._ending, self._released = False, threading.Event()
        self._running = threading.Event()
        self._ends_sent, self._ending_since = 0, 0.0
        self._ends = list[tuple[int, int, bytes]]()
        self._frames = 0
        self._query: Callable[[], tuple[int, int]] | None = None
        self._found: SharedCounters | None = None
        self._ready: SharedCounters | None = None
        self._moves, self._transport_state, self._transport_frame, self._transport_at = 0, -1, 0, 0
        self._left, self._left_length = list[tuple[int, int, bytes]](), 0
        self._realtime: bool | None = None
        self._counter = FrameCounter(flow.frame, flow.rate, time.monotonic())
        self._there: tuple[ports.MidiPort, ...] = ()
        self._connected_at: dict[tuple[bool, int], float] = {}
        self._inputs: list[Any] = [
            None if ports.is_within(name) else client.midi_inports.register(f"in {i + 1}")
            for i, name in enumerate(setup.inputs)
        ]
        self._outputs = [client.midi_outports.register(f"out {i + 1}") for i in range(len(setup.outputs))]
        self._begin_block = jack_ports.block(client, self._inputs, self._outputs)
        client.set_process_callback(self._process)
        self._kept = jack_ports.on_shutdown(client, self._shut_down)
        client.set_xrun_callback(self._dropped_out)
        client.set_port_registration_callback(lambda *_: wake())
        client.set_port_connect_callback(lambda *_: wake())

    def follow_transport(self, found: SharedCounters, ready: SharedCounters) -> None:
        """Tell what the transport does, and let it begin when the player is ready. To be called before `activate`.

        found, ready  see outside_time.TransportDrive
        """
        self._query = jack_ports.transport_query(self._client)
        self._found, self._ready = found, ready
        self._moves = found.read()[3]
        self._client.set_sync_callback(self._may_roll)

    def _may_roll(self, _: int, __: Any) -> bool:
        """Whether the transport may begin with the next block."""
        assert self._ready is not None
        change, begins = self._ready.read()[:2]
        # It is asked before the block is routed, whose frame is that of the last one and its length.
        return bool(change == self._moves and self._flow.frame + 2 * self._frames >= begins)

    def _look_at_transport(self, frame: int) -> None:
        """Publish where the transport is, if it did something else than go on."""
        assert self._query is not None
        assert self._found is not None
        state, position = self._query()
        due = self._transport_frame + (frame - self._transport_at if self._transport_state == ROLLING else 0)
        if state != self._transport_state or position != due:
            self._moves += 1
            self._transport_state, self._transport_frame, self._transport_at = state, position, frame
            self._found.write(state, position, frame, self._moves)

    def command_transport(self, what: str) -> None:
        """Start or stop the transport, or move it: "start", "stop", "locate 48000"."""
        word, _, frame = what.partition(" ")
        if word == "start":
            self._client.transport_start()
        elif word == "stop":
            self._client.transport_stop()
        elif word == "locate" and frame.isdecimal():
            self._client.transport_frame = min(int(frame), 0xFFFFFFFF)

    def activate(self) -> None:
        """Let the callback run."""
        # Freeze what exists now; a garbage collection while playing would block the callback for tens of ms.
        gc.collect()
        gc.freeze()
        gc.disable()
        self._client.activate()

    def has_run(self, seconds: float) -> bool:
        """Wait up to so many seconds for the first block. Returns whether there was one."""
        return self._running.wait(seconds)

    def count_at(self, rate: int) -> None:
        """Count frames anew, at another rate."""
        now = time.monotonic()
        self._counter = FrameCounter(int(now * rate), rate, now)

    def state(self) -> dict[str, Any]:
        """Real-time priority or not, the frame rate, and the block size in frames."""
        client = self._client
        return {
            "system": self.system, "realtime": self._realtime, "rate": client.samplerate,
            "block": self._frames or client.blocksize,
        }  # fmt: skip

    def look(self) -> None:
        """Learn which MIDI ports there are now."""
        self._there = jack_ports.all_ports_of(self._client)

    def release(self) -> None:
        """End all sounding notes in the next block, and route nothing after it."""
        self._ending = True

    def is_dead(self) -> bool:
        """Whether the server is gone: it said so, or has not called for a long time (PipeWire's says nothing)."""
        return self.server_gone or time.monotonic() - self._counter.ran > SILENT_SECONDS

    def drain(self) -> None:
        """Wait until the last note-offs have been sent."""
        period = self._client.blocksize / self._client.samplerate
        self._released.wait(ENDS_AFTER[-1] + 10 * period + 0.1)
        # The block with the last note-offs must be sent before the ports are closed.
        time.sleep(2 * period)

    def close(self) -> None:
        """Leave the server."""
        with contextlib.suppress(Exception):
            self._client.close()

    def _process(self, frames: int) -> None:
        if frames != self._frames:
            self._realtime = realtime.has_it()
            # PipeWire changes it while running, and its library tells the old number for long.
            self._frames = frames
            self._running.set()
            self._wake()
        # JACK never calls a callback again that has raised: an error may cost a block, not the connection.
        try:
            self._route_block(frames)
        except Exception as error:
            self.errors += 1
            if self.last_error is None:
                self.last_error = error
            self._wake()
            if self._ending:
                self._released.set()

    def _route_block(self, frames: int) -> None:
        begun = time.perf_counter()
        flow = self._flow
        router = flow.router
        if router is None:
            return
        first, incoming = self._begin_block(frames)
        flow.frame = self._counter.advance(first, frames, time.monotonic())
        if self._query is not None:
            self._look_at_transport(flow.frame)
        ending = self._ending
        if not incoming and not ending and not self._left and router.is_asleep and flow.is_still():
            return
        flow.collect(incoming)
        if self._left:
            # What there was no time for in the block before comes first, at the time at which it came.
            incoming[:0] = [(offset - self._left_length, port, message) for offset, port, message in self._left]
        if len(incoming) > 1:
            incoming.sort(key=lambda item: item[0])
        if ending:
            leaving = self._last_ends(router)
        else:
            until = begun + ROUTE_SHARE * frames / flow.rate
            leaving = flow.play(frames, router.cycle(flow.frame, frames, incoming, until))
        self._left, self._left_length = ([], 0) if ending else (router.left, frames)
        if self._left:
            self.postponed += len(self._left)
            incoming = incoming[: len(incoming) - len(self._left)]
        flow.publish(frames)
        if leaving:
            self._write(leaving)
        flow.send_to_alsa(leaving)
        # The output has been sent; now record the input.
        if incoming or leaving:
            flow.keep(incoming, leaving)

    def _write(self, leaving: list[tuple[int, int, bytes]]) -> None:
        outputs = self._outputs
        for offset, output, message in leaving:
            try:
                outputs[output].write_midi_event(offset, message)
            except Exception:
                # A full buffer takes no more of this block; those of the other outputs do.
                self.errors += 1

    def _last_ends(self, router: Router) -> list[tuple[int, int, bytes]]:
        """The ends of everything, several times."""
        now = time.monotonic()
        if not self._ends_sent:
            self._ends, self._ending_since = router.release(), now
            lately = router.ended_lately(busy=self.xruns > 0)
            self._ends += [end for end in lately if end not in self._ends]
        if not self._ends or self._ends_sent == len(ENDS_AFTER):
            self._released.set()
            return []
        if now - self._ending_since < ENDS_AFTER[self._ends_sent]:
            return []
        self._ends_sent += 1
        return self._ends

    def _dropped_out(self, _: float) -> None:
        self.xruns += 1
        self._wake()

    def _shut_down(self) -> None:
        self.server_gone = True
        self._wake()

    def join(self, gives: bool, number: int, wanted: str, before: str | None, lost: Callable[[], None]) -> str | None:
        """Connect one of our ports to the wanted one.

        before  the port it was connected to
        lost    called if that has disappeared
        Returns the port it is connected to, or None if that is missing
        """
        there, own = self._there, (self._inputs if gives else self._outputs)[number]
        linked = [c.name for c in self._client.get_all_connections(own)]
        if gives:
            self._cut_own(number, own, linked)
        if ports.is_virtual(wanted):
            return str(own.name)
        found = ports.find(there, wanted, gives)
        if wanted in SOUNDING:
            found = ports.newest_sound(there, SOUNDING[wanted])
        here = before is not None and any(port.name == before and port.gives == gives for port in there)
        if before is not None and (before in linked or (here and self._is_settling(gives, number))):
            return before
        if before is not None:
            # It disappeared and may be back already: for everything connected to it that is a new connection.
            lost()
        if found is not None and found not in linked:
            self._client.connect(*((found, own) if gives else (own, found)))
            self._connected_at[gives, number] = time.monotonic()
        return found

    def _is_settling(self, gives: bool, i: int) -> bool:
        """Whether a port was connected so recently that the server may not show it yet: it does from a later block."""
        period = self._client.blocksize / self._client.samplerate
        since: float = time.monotonic() - self._connected_at.get((gives, i), float("-inf"))
        return since < float(SHOWN_AFTER * period + 0.05)

    def receivers(self, output: int) -> frozenset[str]:
        """The ports connected to one of our outputs."""
        return frozenset(port.name for port in self._client.get_all_connections(self._outputs[output]))

    def name_of(self, gives: bool, number: int) -> str:
        """The full name of one of our ports."""
        return str((self._inputs if gives else self._outputs)[number].name)

    def _cut_own(self, i: int, own: Any, linked: list[str]) -> None:
        """Remove a connection from an own output straight into an own input, which would loop."""
        mine = f"{self._client.name}:"
        for name in linked:
            # A bridge shows our ports on ALSA under its own name.
            if name.startswith(mine) or (ports.is_own(name) and not name.startswith("Pure Signal")):
                self._client.disconnect(name, own)
                self.cut[i] = time.monotonic()
