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

from puresignal.engine.message_flow import MessageFlow
from puresignal.engine.router_config import RouterConfig
from puresignal.io import jack_ports, ports

SOUNDING = {ports.SOUND: "in", ports.FONT: "font"}
"""Names of the built-in sound's ports on JACK."""


class JackClient:
    """An active client; the callback works from the moment it is made until `close`.

    cut          seconds of the steady clock at which a connection into itself was removed, by input
    server_gone  the server has ended; the client can no longer be closed safely
    xruns        dropouts so far
    """

    def __init__(self, client: Any, setup: RouterConfig, flow: MessageFlow, wake: Callable[[], None]):
        """client: inactive; wake: called from JACK's threads when something has changed."""
        self._client, self._flow, self._wake = client, flow, wake
        self.cut: dict[int, float] = {}
        self.server_gone, self.xruns = False, 0
        self.errors = 0
        self.last_error: Exception | None = None
        self._ending, self._released = False, threading.Event()
        self._last = -1
        self._inputs: list[Any] = [
            None if ports.is_within(name) else client.midi_inports.register(f"in {i + 1}")
            for i, name in enumerate(setup.inputs)
        ]
        self._outputs = [client.midi_outports.register(f"out {i + 1}") for i in range(len(setup.outputs))]
        self._begin_block = jack_ports.block(client, self._inputs, self._outputs)
        client.set_process_callback(self._process)
        client.set_shutdown_callback(self._shut_down)
        client.set_xrun_callback(self._late)
        client.set_port_registration_callback(lambda *_: wake())
        client.set_port_connect_callback(lambda *_: wake())

    def activate(self) -> None:
        """Let the callback run."""
        # Freeze what exists now; a garbage collection while playing would block the callback for tens of ms.
        gc.collect()
        gc.freeze()
        gc.disable()
        self._client.activate()

    def state(self) -> dict[str, Any]:
        """Whether it runs with real-time priority, the frame rate, and the block size in frames."""
        client = self._client
        return {"realtime": bool(client.realtime), "rate": client.samplerate, "block": client.blocksize}

    def midi_ports(self) -> tuple[ports.MidiPort, ...]:
        """The MIDI ports on the server."""
        return jack_ports.ports_of(self._client)

    def release(self) -> None:
        """End all sounding notes in the next block, and route nothing after it."""
        self._ending = True

    def drain(self) -> None:
        """Wait until the last note-offs have been sent."""
        period = self._client.blocksize / self._client.samplerate
        self._released.wait(10 * period + 0.05)
        # The block with the last note-offs must be sent before the ports are closed.
        time.sleep(2 * period)

    def close(self) -> None:
        """Leave the server."""
        with contextlib.suppress(Exception):
            self._client.close()

    def _process(self, frames: int) -> None:
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
        flow = self._flow
        router = flow.router
        if router is None:
            return
        first, incoming = self._begin_block(frames)
        # The server counts frames in 32 bits, about a day; here they continue.
        flow.frame += (first - self._last) & 0xFFFFFFFF if self._last >= 0 else frames
        self._last = first
        ending = self._ending
        if not incoming and not ending and router.is_asleep and flow.is_still():
            return
        flow.collect(incoming)
        if len(incoming) > 1:
            incoming.sort(key=lambda item: item[0])
        leaving = router.release() if ending else flow.play(frames, router.cycle(flow.frame, frames, incoming))
        flow.publish(frames)
        for offset, output, message in leaving:
            with contextlib.suppress(Exception):
                self._outputs[output].write_midi_event(offset, message)
        flow.send_to_alsa(leaving)
        # The output has been sent; now record the input.
        if incoming or leaving:
            flow.keep(incoming, leaving)
        if ending:
            self._released.set()

    def _late(self, _: float) -> None:
        self.xruns += 1
        self._wake()

    def _shut_down(self, *_: object) -> None:
        self.server_gone = True
        self._wake()

    def join(
        self, there: tuple[ports.MidiPort, ...], gives: bool, i: int, name: str, before: str | None,
        lost: Callable[[], None],
    ) -> str | None:  # fmt: skip
        """Connect one of our ports to the wanted one.

        before  the port it was connected to
        lost    called if that has disappeared
        Returns the port it is connected to, or None if that is missing
        """
        own = (self._inputs if gives else self._outputs)[i]
        linked = [c.name for c in self._client.get_all_connections(own)]
        if gives:
            self._cut_own(i, own, linked)
        if ports.is_virtual(name):
            return str(own.name)
        found = ports.find(there, name, gives)
        if name in SOUNDING:
            wanted = f"{ports.SOUND_CLIENT}:{SOUNDING[name]}"
            found = next((p.name for p in there if p.name == wanted and not p.gives), None)
        if before is not None and before in linked:
            return before
        if before is not None:
            # It disappeared and may be back already: for everything connected to it that is a new connection.
            lost()
        if found is not None and found not in linked:
            self._client.connect(*((found, own) if gives else (own, found)))
        return found

    def _cut_own(self, i: int, own: Any, linked: list[str]) -> None:
        """Remove a connection from an own output straight into an own input, which would loop."""
        mine = f"{self._client.name}:"
        for name in linked:
            if name.startswith(mine):
                self._client.disconnect(name, own)
                self.cut[i] = time.monotonic()
