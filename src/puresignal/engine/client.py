"""The router seen from outside: started, told what to do, listened to, and started again should it die."""

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
"""Seconds that a router has to end by itself."""


class RouterProcess:
    """A router's process and the socket to it.

    The table of sounding notes lies in memory that outlives the process: a new one
    after a crash ends what its predecessor left sounding.
    """

    def __init__(self, setup: RouterConfig, journal: Path | None = None):
        """journal: the folder in which everything that arrives is kept, None to keep nothing."""
        self.setup = setup
        self.ring, self.sent = ring.make(), ring.make()
        # What the window plays, and what the simulated devices play: a feed has one writer.
        self._feeds = [ring.make(), ring.make()]
        self.knock = os.eventfd(0, os.EFD_NONBLOCK)
        # What playback hands over, and the router's clock by which it does.
        self.playback, self.clock = ring.make(), shared_counters.make()
        self._own = ring.Writer(self._feeds[0])
        self._devices: subprocess.Popen[bytes] | None = None
        self._journal = journal
        self._recorder: subprocess.Popen[bytes] | None = None
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
        """Starts the recorder, and starts it again where it has died: the ring holds what it missed."""
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
            # A Ctrl+C in the terminal is ours to handle; the router ends when we let go of it.
            start_new_session=True,
        )
        theirs.close()
        self._buffer = b""
        self._socket.sendall(to_bytes(self.setup))

    def change(self, setup: RouterConfig) -> None:
        """Another setup from the next block on."""
        renamed = setup.inputs != self.setup.inputs
        self.setup = setup
        if renamed and self._recorder is not None:
            # A journal's file names its inputs, so other inputs begin another file.
            os.close(self._pipe)
            self._pipe = -1
            with contextlib.suppress(subprocess.TimeoutExpired):
                self._recorder.wait(END_WITHIN)
            self._recorder = None
            self.watch_recorder()
        with contextlib.suppress(OSError):
            self._socket.sendall(to_bytes(setup))

    def panic(self) -> None:
        """Ends every note at the receivers, whoever started it."""
        with contextlib.suppress(OSError):
            self._socket.sendall(PANIC)

    def play(self, port: str, message: bytes, at: float | None = None) -> None:
        """A message of one of the window's own inputs (the computer keyboard, the pads), as if a device had sent it.

        at  seconds of the monotonic clock, now by default
        """
        self._own.put(time.monotonic() if at is None else at, ports.FED.index(port), message)
        os.eventfd_write(self.knock, 1)

    def devices(self, **command: Any) -> None:
        """Tells the simulated devices what to do (engine/devices.py has the words), starting them if need be."""
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
        """The next thing the router says, None if it says nothing in time. Starts it again where it has died."""
        end = time.monotonic() + seconds
        while True:
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
                self.process.wait(END_WITHIN)
                # It ends by itself when the JACK server does; anything else is a crash.
                self.restarts += 0 if self._without_server else 1
                # Should it die at every start, it must not keep a core busy with that.
                time.sleep(0.05 if self.restarts < 5 else 1.0)
                self._start()
                continue
            self._buffer += more

    def fileno(self) -> int:
        return self._socket.fileno()

    def hang_up(self) -> None:
        """Lets the router release what sounds and end. Safe to call from a signal's handler."""
        self._ending = True
        with contextlib.suppress(OSError):
            self._socket.shutdown(socket.SHUT_WR)

    def close(self) -> int:
        """Hangs up and waits; the router's exit code."""
        if self._devices is not None:
            assert self._devices.stdin is not None
            with contextlib.suppress(OSError):
                self._devices.stdin.close()
            self._devices.wait(END_WITHIN)
        self.hang_up()
        try:
            code = self.process.wait(END_WITHIN)
        except subprocess.TimeoutExpired:
            self.process.kill()
            code = self.process.wait()
        self._socket.close()
        os.close(self._memory)
        if self._pipe >= 0:
            os.close(self._pipe)
        if self._recorder is not None:
            self._recorder.wait(END_WITHIN)
        for one in (self.ring, self.sent, self.playback, self.clock, *self._feeds, self.knock):
            os.close(one)
        return code
