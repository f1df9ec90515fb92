"""The client of the router process: starts it, configures it, reads its state, and restarts it if it dies."""

from __future__ import annotations

import contextlib
import json
import os
import select
import socket
import threading
import time
from pathlib import Path
from typing import Any

from puresignal.engine import kept_rings, pulse, ring, shared_counters, sounding_file
from puresignal.engine.helper_process import HelperProcess
from puresignal.engine.router_config import PANIC, RELEASE_PLAYED, TRANSPORT, UNPLUG, RouterConfig, to_bytes
from puresignal.io import ports

CRASHES_WITHIN = 10.0
"""Seconds within which several crashes make the next restart wait."""
SPARE_AFTER = 2.0
"""Seconds after which a second router is kept ready: one that serves for a moment needs none."""
CLOCK_OLD = 2.0
"""Seconds after which a clock that was published counts no more."""
END_WITHIN = 2.0
"""Seconds a router has to end by itself."""


def release_left() -> HelperProcess | None:
    """End what a killed program left sounding, in a process that ends by itself. None if there is nothing."""
    left = sounding_file.leftovers()
    return HelperProcess("puresignal.engine.release_left", tuple(map(str, left)), ()) if left else None


class RouterProcess:
    """A router process and the socket to it.

    The table of sounding notes is in a file that outlives the process: after a crash the next router ends what its
    predecessor left sounding, and if this process is killed too, the next one that starts a router does.
    """

    def __init__(
        self,
        setup: RouterConfig,
        journal: Path | None = None,
        after: threading.Thread | None = None,
        table: tuple[int, Path | None] | None = None,
    ):
        """journal: the folder in which everything that arrives is kept, None to keep nothing.

        after: what must end before any process starts, such as a predecessor that still has the ports
        table: one that a killed program left, to be ended; None for a new one
        """
        self.setup = setup
        self.after = after
        if journal is not None:
            kept_rings.rescue()
        self._rings = kept_rings.make(journal is not None)
        self.ring, self.sent = self._rings.arrived, ring.make()
        # Made before the router starts, so that they read everything from its first message on.
        self.arrived, self.left = ring.Reader(self.ring), ring.Reader(self.sent)
        # Input from the window, from the simulated devices, and from the ear: a feed has a single writer.
        self._feeds = [self._rings.own, ring.make(), ring.make()]
        self.knock = os.eventfd(0, os.EFD_NONBLOCK)
        # Messages from playback, and the router's clock that playback follows.
        self.playback, self.clock = ring.make(), shared_counters.make()
        self._published = shared_counters.SharedCounters(self.clock)
        # What the transport did: written by the player, kept by the recorder.
        self.moves = self._rings.moves
        self.moved = ring.Reader(self.moves)
        # Messages of MIDI clock, and what JACK's transport does and may do (engine/outside_time.py).
        self.sync, self.transport_found = ring.make(), shared_counters.make()
        self.transport_ready = shared_counters.make()
        self.pulse = pulse.make()
        self.pulses = pulse.PulseWatch(self.pulse)
        self._own = ring.Writer(self._feeds[0])
        self._devices: HelperProcess | None = None
        self._to_devices = -1
        self._device_commands: dict[str, dict[str, Any]] = {}
        self._spare: tuple[HelperProcess, socket.socket] | None = None
        self._since = time.monotonic()
        self.hung = 0
        self._journal = journal
        self._recorder: HelperProcess | None = None
        self._ended: list[HelperProcess] = []
        self._restart_at: float | None = None
        self._pipe = -1
        self.restarts = 0
        self._crashes: list[float] = []
        self._ending = False
        self._without_server = False
        self._releasing = release_left() if table is None else None
        self._memory, self._memory_path = sounding_file.make() if table is None else table
        self._buffer = b""
        self._start()
        self.watch_recorder()

    def watch_recorder(self) -> None:
        """Start the recorder, or restart it if it died: the ring holds what it missed."""
        if self._recorder is not None and self.pulses.hangs(pulse.RECORDER):
            self._recorder.kill()
        if self._journal is None or (self._recorder is not None and self._recorder.poll() is None):
            return
        self.pulses.started(pulse.RECORDER)
        if self._pipe >= 0:
            os.close(self._pipe)
        theirs, self._pipe = os.pipe()
        self._rings.name_journal(self._journal, self.setup.inputs)
        self._recorder = HelperProcess(
            "puresignal.engine.recorder",
            (str(self.ring), str(theirs), str(self.pulse), str(self.moves), str(self._journal), *self.setup.inputs),
            (self.ring, theirs, self.pulse, self.moves),
            to_close=(theirs,),
            after=self.after,
        )

    def _start(self) -> None:
        sounding_file.write_outputs(self._memory, self.setup.outputs)
        spare, self._spare = self._spare, None
        if spare is not None and spare[0].poll() is not None:
            spare[1].close()
            spare = None
        self.process, self._socket = spare or self._made()
        self.pulses.started(pulse.ROUTER)
        self._buffer, self._since = b"", time.monotonic()
        self._socket.sendall(to_bytes(self.setup))

    def _made(self) -> tuple[HelperProcess, socket.socket]:
        """A router process that waits for its configuration, and the socket to it."""
        ours, other = socket.socketpair()
        theirs = other.detach()
        given = (
            theirs, self._memory, self.ring, self.sent, self.knock, self.playback, self.clock, self.pulse, self.sync,
            self.transport_found, self.transport_ready, *self._feeds,
        )  # fmt: skip
        return HelperProcess(
            "puresignal.engine", tuple(map(str, given)), given, to_close=(theirs,), after=self.after
        ), ours

    def _watch_over(self) -> None:
        """End a router that hangs, as if it had died, and keep another one ready that takes half the time to start."""
        if self.pulses.hangs(pulse.ROUTER):
            self.hung += 1
            self.pulses.started(pulse.ROUTER)
            self.process.kill()
        if self._spare is None and time.monotonic() - self._since > SPARE_AFTER:
            self._spare = self._made()

    def change(self, setup: RouterConfig) -> None:
        """Use another configuration from the next block on."""
        renamed = setup.inputs != self.setup.inputs
        self.setup = setup
        if renamed and self._recorder is not None:
            # A journal file names its inputs, so other inputs start another file.
            self._let_go_of_recorder()
            self.watch_recorder()
        with contextlib.suppress(OSError):
            self._socket.sendall(to_bytes(setup))

    def _let_go_of_recorder(self) -> None:
        """Let the recorder write what it has and end by itself; nobody waits for it."""
        os.close(self._pipe)
        self._pipe = -1
        assert self._recorder is not None
        self._ended.append(self._recorder)
        self._recorder = None

    def panic(self) -> None:
        """End every note at the receivers, whoever started it."""
        with contextlib.suppress(OSError):
            self._socket.sendall(PANIC)

    def transport(self, what: str) -> None:
        """Ask JACK's transport to "start", to "stop", or to go to a frame: "locate 48000"."""
        with contextlib.suppress(OSError):
            self._socket.sendall(TRANSPORT + what.encode() + b"\n")

    def transport_state(self) -> tuple[int, int]:
        """JACK's transport as it was when it last changed: its state (engine/outside_time.py), and its frame."""
        state, position = shared_counters.SharedCounters(self.transport_found).read()[:2]
        return state, position

    def play(self, port: str, message: bytes, at: float | None = None) -> None:
        """Send a message from one of the window's own inputs (computer keyboard, pads) as if from a device.

        at  seconds of the monotonic clock, now by default
        """
        self._own.put(time.monotonic() if at is None else at, ports.FED.index(port), message)
        os.eventfd_write(self.knock, 1)

    @property
    def heard(self) -> int:
        """The feed that the ear writes."""
        return self._feeds[2]

    def devices(self, **command: Any) -> None:
        """Send a command to the simulated devices (see engine/device_process.py), starting them if needed."""
        if self._devices is None or self._devices.poll() is not None:
            self._start_devices()
        if "play" in command:
            self._device_commands[command["play"]] = command
        self._device_commands.pop(command.get("stop", ""), None)
        self._tell_devices(command)

    def _start_devices(self) -> None:
        if self._to_devices >= 0:
            os.close(self._to_devices)
        theirs, self._to_devices = os.pipe()
        given = (self._feeds[1], self.knock, self.pulse)
        self.pulses.started(pulse.DEVICES)
        self._devices = HelperProcess(
            "puresignal.engine.device_process", tuple(map(str, given)), given, stdin=theirs, after=self.after
        )

    def _tell_devices(self, command: dict[str, Any]) -> None:
        with contextlib.suppress(OSError):
            os.write(self._to_devices, json.dumps(command).encode() + b"\n")

    def watch_devices(self) -> None:
        """Start the simulated devices again if they died or hang: their notes end, and they play on from the start."""
        if self._devices is None:
            return
        if self.pulses.hangs(pulse.DEVICES):
            self._devices.kill()
        if self._devices.poll() is None:
            return
        for port in ports.SIMULATED_DEVICES:
            if port in self.setup.inputs:
                with contextlib.suppress(OSError):
                    self._socket.sendall(UNPLUG + b"%d\n" % self.setup.inputs.index(port))
        self._start_devices()
        for command in self._device_commands.values():
            self._tell_devices(command)

    def unplug_heard(self) -> None:
        """End the notes of an ear that died."""
        for port in ports.HEARD:
            if port in self.setup.inputs:
                with contextlib.suppress(OSError):
                    self._socket.sendall(UNPLUG + b"%d\n" % self.setup.inputs.index(port))

    def release_played(self) -> None:
        """End what playback started, since it died."""
        with contextlib.suppress(OSError):
            self._socket.sendall(RELEASE_PLAYED)

    def read(self, seconds: float) -> dict[str, Any] | None:
        """The router's next state report, or None if there is none in time. Restarts the router if it died.

        Never waits longer than `seconds`
        """
        end = time.monotonic() + seconds
        while True:
            self._watch_over()
            if self._restart_at is not None and not self._restarted(end):
                return None
            line, found, rest = self._buffer.partition(b"\n")
            if found:
                self._buffer = rest
                state: dict[str, Any] = json.loads(line)
                self._without_server = not state["server"]
                return state
            left = max(0.0, end - time.monotonic())
            ready, _, _ = select.select([self._socket], [], [], min(left, pulse.BEAT_EVERY))
            if not ready and left <= pulse.BEAT_EVERY:
                return None
            if not ready:
                continue
            try:
                more = self._socket.recv(65536)
            except OSError:
                more = b""
            if not more and self._ending:
                return None
            if not more:
                self._socket.close()
                # It ends by itself when the JACK server does; anything else is a crash.
                self.restarts += 0 if self._without_server else 1
                # If it dies at every start, restarting must not keep a core busy.
                now = time.monotonic()
                self._crashes = [at for at in self._crashes if now - at < CRASHES_WITHIN] + [now]
                self._restart_at = now + (0.0 if len(self._crashes) < 5 else 1.0)
                continue
            self._buffer += more

    def _restarted(self, end: float) -> bool:
        """Start the router again if its time has come, or comes before `end`. Returns whether it runs."""
        assert self._restart_at is not None
        wait = self._restart_at - time.monotonic()
        if wait > max(0.0, end - time.monotonic()):
            time.sleep(max(0.0, end - time.monotonic()))
            return False
        time.sleep(max(0.0, wait))
        # Its socket is closed, so it has ended or is about to; a hung one must not hold its name.
        if self.process.poll() is None:
            self.process.kill()
        self._ended.append(self.process)
        self._restart_at = None
        self._start()
        return True

    def now(self) -> float:
        """Seconds of the clock by which everything is timed that arrives and leaves.

        It is the server's, which drifts from the system's steady clock, and loses what a stalled server loses
        """
        steady = time.monotonic()
        frame, rate, nanoseconds = self._published.read()[:3]
        since = steady - nanoseconds / 1e9
        # One that was not published for long tells nothing: no router runs, or it has just been replaced.
        return frame / rate + since if rate and 0 <= since < CLOCK_OLD else steady

    def fileno(self) -> int:
        return self._socket.fileno()

    def hang_up(self) -> None:
        """Let the router release what sounds and end. Safe to call from a signal handler."""
        self._ending = True
        with contextlib.suppress(OSError):
            self._socket.shutdown(socket.SHUT_WR)

    def close(self) -> int:
        """Hang up and wait up to END_WITHIN; a process that hangs is killed. Returns the router's exit code."""
        if self._to_devices >= 0:
            os.close(self._to_devices)
        self.hang_up()
        deadline = time.monotonic() + END_WITHIN
        if self._spare is not None:
            # It has not been asked for anything, and ends when its socket does.
            self._spare[1].close()
        code = self.process.end_by(deadline)
        self._socket.close()
        if self._spare is not None:
            self._spare[0].end_by(deadline)
        sounding_file.close(self._memory, self._memory_path)
        if self._releasing is not None:
            self._releasing.poll()
        # The recorder is told last, when everything that leaves is in the ring.
        if self._recorder is not None:
            self._let_go_of_recorder()
        ended = [helper.end_by(deadline) for helper in self._ended]
        if self._devices is not None:
            self._devices.end_by(deadline)
        for one in (
            self.sent, self.playback, self.clock, self.pulse, self.sync, self.transport_found, self.transport_ready,
            *self._feeds[1:], self.knock,
        ):  # fmt: skip
            os.close(one)
        # A recorder that had to be killed has not written everything: the next start does.
        self._rings.close(all_written=not ended or ended[-1] >= 0)
        return code
