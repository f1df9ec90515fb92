"""A real JACK server on the dummy driver, with a player and a receiver that know exact frames."""

from __future__ import annotations

import gc
import importlib
import os
import shutil
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest


def until(condition: Callable[[], object], seconds: float = 10.0, what: str = "it") -> object:
    """Wait for a condition, polling often, since some tests measure the time."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        found = condition()
        if found:
            return found
        time.sleep(0.005)
    raise AssertionError(f"{what} did not come about in {seconds} s")


class FairClock:
    """The monotonic clock without stalls of the machine, so that limits apply to the program alone.

    A thread that asks to be woken every 2 ms tells how much later it was.
    """

    def __init__(self) -> None:
        self._stood, self._ended = 0.0, threading.Event()
        self._thread = threading.Thread(target=self._watch, daemon=True)
        self._thread.start()

    def _watch(self) -> None:
        then = time.monotonic()
        while not self._ended.wait(0.002):
            now = time.monotonic()
            # A millisecond or two of that is how any machine wakes its threads.
            self._stood += max(0.0, now - then - 0.005)
            then = now

    def now(self) -> float:
        return time.monotonic() - self._stood

    def end(self) -> None:
        self._ended.set()
        self._thread.join()


@pytest.fixture
def clock() -> Iterator[FairClock]:
    fair = FairClock()
    yield fair
    fair.end()


class Server:
    """A JACK server that can be stopped and started again under the same name."""

    def __init__(self, name: str):
        self.name = name
        self.process: subprocess.Popen | None = None
        self._starts = 0

    def start(self, period: int = 256, sync: bool = True, rate: int = 48_000) -> None:
        """sync: a late client delays the block instead of losing it, so that a busy test machine loses nothing."""
        import jack

        mode = ["-S"] if sync else []
        self._starts += 1
        command = ["jackd", "-n", self.name, "-r", *mode, "-d", "dummy", "-r", str(rate), "-p", str(period)]
        self.process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)

        def answers() -> bool:
            try:
                jack.Client("probe", no_start_server=True, servername=self.name).close()
            except jack.JackOpenError:
                return False
            return True

        until(answers, what="the JACK server")

    def is_as_new(self) -> bool:
        """Whether the next test finds it as if it had just started: no client has stayed, and nothing runs."""
        import jack

        if self._starts != 1 or self.process is None or self.process.poll() is not None:
            return False
        try:
            with jack.Client("probe", no_start_server=True, servername=self.name) as probe:
                still = probe.transport_state == jack.STOPPED and probe.transport_frame == 0
                return still and all(port.name.startswith("system:") for port in probe.get_ports())
        except jack.JackError:
            return False

    def stop(self) -> None:
        if self.process is not None:
            self.process.terminate()
            try:
                # One that waits for a client which has just gone does not end at all.
                self.process.wait(1)
            except subprocess.TimeoutExpired:
                self.process.kill()
                self.process.wait()


KEPT: dict[bool, Server] = {}
"""Servers that tests left as they found them, by whether they wait for late clients. Starting one takes a second."""


@pytest.fixture
def server(monkeypatch: pytest.MonkeyPatch, prompt: None, request: pytest.FixtureRequest) -> Iterator[Server]:
    """A running server. Tests that kill a client ask for one that does not wait for it with `waits_for_none`."""
    if shutil.which("jackd") is None:
        if os.environ.get("CI"):
            pytest.fail("jackd is missing; ./run test installs it")
        pytest.skip("needs jackd, which ./run test installs where it may")
    sync = request.node.get_closest_marker("waits_for_none") is None
    name = f"pure-signal-test-{os.getpid()}-{sync:d}"
    monkeypatch.setenv("JACK_DEFAULT_SERVER", name)
    from puresignal.io import jack_ports

    jack_ports.check_library()
    running = KEPT.pop(sync, None)
    if running is None:
        running = Server(name)
        running.start(sync=sync)
    yield running
    if running.is_as_new():
        KEPT[sync] = running
    else:
        running.stop()


def stop_kept_servers() -> None:
    while KEPT:
        KEPT.popitem()[1].stop()


class PipeWire:
    """A PipeWire of the test's own, without hardware, whose daemon can be killed and started again."""

    CONFIGURATION = """context.objects = [
 { factory = adapter args = { factory.name = support.null-audio-sink node.name = room-left
   node.description = "Room left" media.class = Audio/Sink audio.position = [ FL FR ] priority.session = 500 } }
 { factory = adapter args = { factory.name = support.null-audio-sink node.name = room-right
   node.description = "Room right" media.class = Audio/Sink audio.position = [ FL FR ] priority.session = 1000 } }
]
"""

    def __init__(self, folder: Path):
        self.folder = folder
        self.environment = {
            **os.environ, "XDG_RUNTIME_DIR": str(folder / "run"), "HOME": str(folder),
            "XDG_CONFIG_HOME": str(folder / "config"), "PIPEWIRE_DEBUG": "0",
        }  # fmt: skip
        places = folder / "config" / "pipewire" / "pipewire.conf.d"
        places.mkdir(parents=True)
        (places / "10-sinks.conf").write_text(self.CONFIGURATION)
        (folder / "run").mkdir(mode=0o700)
        self.daemon: subprocess.Popen | None = None
        bus = subprocess.run(
            ["dbus-daemon", "--session", "--fork", "--print-address=1", "--print-pid=1"],
            stdout=subprocess.PIPE, text=True, check=True, env=self.environment,
        ).stdout.split()  # fmt: skip
        self.environment["DBUS_SESSION_BUS_ADDRESS"], self._bus = bus[0], int(bus[1])
        self.start()
        self.manager = self._run("wireplumber")

    def _run(self, *command: str) -> subprocess.Popen:
        return subprocess.Popen(command, env=self.environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)

    def start(self) -> None:
        from puresignal.io import jack_library

        self.daemon = self._run("pipewire")
        until(jack_library.pipewire_runs, what="PipeWire")

    def kill(self) -> None:
        assert self.daemon is not None
        self.daemon.kill()
        self.daemon.wait()

    def set(self, **settings: object) -> None:
        """Change settings of the graph, such as clock_force_quantum=64."""
        for name, value in settings.items():
            command = ["pw-metadata", "-n", "settings", "0", name.replace("_", "."), str(value)]
            subprocess.run(command, env=self.environment, check=True, stdout=subprocess.DEVNULL)

    def stop(self) -> None:
        for one in (self.manager, self.daemon):
            if one is not None:
                one.kill()
                one.wait()
        os.kill(self._bus, signal.SIGTERM)


@pytest.fixture
def prompt() -> Iterator[None]:
    """No garbage collection, and quick changes of threads: peers live in this process, and a block waits for nobody."""
    gc.collect()
    gc.freeze()
    gc.disable()
    before = sys.getswitchinterval()
    sys.setswitchinterval(0.0005)
    yield
    sys.setswitchinterval(before)
    gc.enable()
    gc.unfreeze()


@pytest.fixture
def pipewire(monkeypatch: pytest.MonkeyPatch, tmp_path: Path, prompt: None) -> Iterator[PipeWire]:
    """A running PipeWire, and no JACK server."""
    missing = [name for name in ("pipewire", "wireplumber", "dbus-daemon", "pw-metadata") if shutil.which(name) is None]
    if missing:
        if os.environ.get("CI"):
            pytest.fail(f"{', '.join(missing)} missing; ./run test installs it")
        pytest.skip("needs PipeWire, which ./run test installs where it may")
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path / "run"))
    running = PipeWire(tmp_path)
    monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", running.environment["DBUS_SESSION_BUS_ADDRESS"])
    yield running
    running.stop()


class Peer:
    """A client with a MIDI output and a MIDI input. Frames count from its first block."""

    def __init__(self, name: str, binding: Any = None):
        """binding: of the JACK library, the system's by default."""
        self._binding = binding or importlib.import_module("jack")
        self.client = self._open(name)
        self.out = self.client.midi_outports.register("out")
        self.inp = self.client.midi_inports.register("in")
        self.todo: list[list[tuple[int, bytes]]] = []
        self.sent: list[tuple[int, bytes]] = []
        self.sent_at: list[float] = []
        self.got: list[tuple[int, bytes]] = []
        self.late, self._next = 0, -1
        self.closed = False
        self.client.set_process_callback(self._process)
        self.client.set_shutdown_callback(self._shut_down)
        self.client.set_xrun_callback(self._was_late)
        self.client.activate()

    def _open(self, name: str) -> Any:
        """A client; a server that has just started on a busy machine may refuse the first ones."""
        jack = self._binding
        for attempt in range(20):
            try:
                return jack.Client(name, no_start_server=True, use_exact_name=True)
            except jack.JackOpenError:
                if attempt == 19:
                    raise
                time.sleep(0.25)
        raise AssertionError

    def _process(self, frames: int) -> None:
        self.out.clear_buffer()
        if self.closed:
            return
        now = self.client.last_frame_time
        # A block that this client was too late for is one that it never heard.
        self.late += self._next not in (-1, now)
        self._next = now + frames
        self.got.extend((now + offset, bytes(data)) for offset, data in self.inp.incoming_midi_events())
        if self.todo:
            for offset, message in self.todo.pop(0):
                self.out.write_midi_event(offset, message)
                self.sent.append((now + offset, message))
                self.sent_at.append(time.monotonic())

    def play(self, *messages: bytes, offset: int = 0) -> None:
        """Messages in one block, at one offset."""
        self.todo.append([(offset, message) for message in messages])

    def _was_late(self, _: float) -> None:
        self.late += 1

    def _shut_down(self, *_: object) -> None:
        self.forget()

    def forget(self) -> None:
        """Leave the client alone: the library crashes on one that is closed after its server."""
        self.closed = True
        self.client._ptr = self._binding._ffi.NULL

    def close(self) -> None:
        if not self.closed:
            self.closed = True
            # The library cancels a callback's thread that is late to end; were it in Python then, all of it would hang.
            time.sleep(0.02)
            self.client.deactivate()
            self.client.close()


@pytest.fixture
def peers(server: Server) -> Iterator[Callable[[str], Peer]]:
    made: list[Peer] = []

    def make(name: str) -> Peer:
        made.append(Peer(name))
        return made[-1]

    yield make
    for peer in made:
        peer.close()


@pytest.fixture
def route() -> Iterator[Callable[..., subprocess.Popen]]:
    """Start `pure-signal route`; end whatever still runs after the test."""
    running: list[subprocess.Popen] = []

    def start(source: str, target: str, *more: str) -> subprocess.Popen:
        command = [sys.executable, "-m", "puresignal.cli", "route", "--in", source, "--out", target]
        maps = ["--source-map", "practice-five", "--target-map", "boathouse-room"]
        running.append(subprocess.Popen([*command, *maps, *more], stderr=subprocess.DEVNULL))
        return running[-1]

    yield start
    for process in running:
        process.kill()
        process.wait(10)
