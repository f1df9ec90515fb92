"""The client of the router process: starts it, configures it, reads its state, and restarts it if it dies."""

from __future__ import annotations

import contextlib
import json
import os
import select
import socket
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

from puresignal.engine import ring, shared_counters
from puresignal.engine.router import SOUNDING_SIZE
from puresignal.engine.router_config import PANIC, RouterConfig, to_bytes
from puresignal.io import ports

END_WITHIN = 2.0
"""Seconds a router has to end by itself."""


def end_by(process: subprocess.Popen[bytes], deadline: float) -> int:
    """Wait for a process that was told to end, and kill it at the deadline (monotonic). Returns its exit code."""
    try:
        return process.wait(max(0.05, deadline - time.monotonic()))
    except subprocess.TimeoutExpired:
        process.kill()
        return process.wait()


class RouterProcess:
    """A router process and the socket to it.

    The table of sounding notes is in shared memory that outlives the process: after a crash the next router ends
    what its predecessor left sounding.
    """

    def __init__(self, setup: RouterConfig, journal: Path | None = None):
        """journal: the folder in which everything that arrives is kept, None to keep nothing."""
        self.setup = setup
        self.ring, self.sent = ring.make(), ring.make()
        # Made before the router starts, so that they read everything from its first message on.
        self.arrived, self.left = ring.Reader(self.ring), ring.Reader(self.sent)
        # Input from the window, and input from the simulated devices: a feed has a single writer.
        self._feeds = [ring.make(), ring.make()]
        self.knock = os.eventfd(0, os.EFD_NONBLOCK)
        # Messages from playback, and the router's clock that playback follows.
        self.playback, self.clock = ring.make(), shared_counters.make()
        self._own = ring.Writer(self._feeds[0])
        self._devices: subprocess.Popen[bytes] | None = None
        self._journal = journal
        self._recorder: subprocess.Popen[bytes] | None = None
        self._ended_recorders: list[subprocess.Popen[bytes]] = []
        self._restart_at: float | None = None
        self._pipe = -1
        self.restarts = 0
        self._ending = False
        self._without_server = False
        self._memory = os.memfd_create("pure-signal sounding")
        os.ftruncate(self._memory, SOUNDING_SIZE)
        self._buffer = b""
        self._start()
        self.watch_recorder()

    def watch_recorder(self) -> None:
        """Start the recorder, or restart it if it died: the ring holds what it missed."""
        if self._journal is None or (self._recorder is not None and self._recorder.poll() is None):
            return
        if self._pipe >= 0:
            os.close(self._pipe)
        theirs, self._pipe = os.pipe()
        self._recorder = subprocess.Popen(
            [sys.executable, "-m", "puresignal.engine.recorder", str(self.ring), str(theirs), str(self._journal),
             *self.setup.inputs],
            pass_fds=(self.ring, theirs), start_new_session=True,
        )  # fmt: skip
        os.close(theirs)

    def _start(self) -> None:
        self._socket, theirs = socket.socketpair()
        given = (
            theirs.fileno(), self._memory, self.ring, self.sent, self.knock, self.playback, self.clock, *self._feeds,
        )  # fmt: skip
        self.process = subprocess.Popen(
            [sys.executable, "-m", "puresignal.engine", *map(str, given)],
            pass_fds=given,
            # Ctrl+C in the terminal is handled here; the router ends when the socket closes.
            start_new_session=True,
        )
        theirs.close()
        self._buffer = b""
        self._socket.sendall(to_bytes(self.setup))

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
        self._ended_recorders.append(self._recorder)
        self._recorder = None

    def panic(self) -> None:
        """End every note at the receivers, whoever started it."""
        with contextlib.suppress(OSError):
            self._socket.sendall(PANIC)

    def play(self, port: str, message: bytes, at: float | None = None) -> None:
        """Send a message from one of the window's own inputs (computer keyboard, pads) as if from a device.

        at  seconds of the monotonic clock, now by default
        """
        self._own.put(time.monotonic() if at is None else at, ports.FED.index(port), message)
        os.eventfd_write(self.knock, 1)

    def devices(self, **command: Any) -> None:
        """Send a command to the simulated devices (see engine/device_process.py), starting them if needed."""
        if self._devices is None or self._devices.poll() is not None:
            given = (self._feeds[1], self.knock)
            self._devices = subprocess.Popen(
                [sys.executable, "-m", "puresignal.engine.device_process", *map(str, given)],
                stdin=subprocess.PIPE, pass_fds=given, start_new_session=True,
            )  # fmt: skip
        assert self._devices.stdin is not None
        with contextlib.suppress(OSError):
            self._devices.stdin.write(json.dumps(command).encode() + b"\n")
            self._devices.stdin.flush()

    def read(self, seconds: float) -> dict[str, Any] | None:
        """The router's next state report, or None if there is none in time. Restarts the router if it died.

        Never waits longer than `seconds`
        """
        end = time.monotonic() + seconds
        while True:
            if self._restart_at is not None and not self._restarted(end):
                return None
            line, found, rest = self._buffer.partition(b"\n")
            if found:
                self._buffer = rest
                state: dict[str, Any] = json.loads(line)
                self._without_server = not state["server"]
                return state
            ready, _, _ = select.select([self._socket], [], [], max(0.0, end - time.monotonic()))
            if not ready:
                return None
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
                self._restart_at = time.monotonic() + (0.05 if self.restarts < 5 else 1.0)
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
        self._restart_at = None
        self._start()
        return True

    def fileno(self) -> int:
        return self._socket.fileno()

    def hang_up(self) -> None:
        """Let the router release what sounds and end. Safe to call from a signal handler."""
        self._ending = True
        with contextlib.suppress(OSError):
            self._socket.shutdown(socket.SHUT_WR)

    def close(self) -> int:
        """Hang up and wait up to END_WITHIN; a process that hangs is killed. Returns the router's exit code."""
        if self._devices is not None:
            assert self._devices.stdin is not None
            with contextlib.suppress(OSError):
                self._devices.stdin.close()
        self.hang_up()
        deadline = time.monotonic() + END_WITHIN
        code = end_by(self.process, deadline)
        self._socket.close()
        os.close(self._memory)
        # The recorder is told last, when everything that leaves is in the ring.
        if self._recorder is not None:
            self._let_go_of_recorder()
        for helper in (*self._ended_recorders, *([self._devices] if self._devices is not None else [])):
            end_by(helper, deadline)
        for one in (self.ring, self.sent, self.playback, self.clock, *self._feeds, self.knock):
            os.close(one)
        return code
