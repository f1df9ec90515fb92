"""The built-in sound as a program of its own: `python -m puresignal.engine.sound SENT`, the ring of what leaves.

On JACK it is a client that the router's output is wired to, and sounds in the same cycle; elsewhere
it takes what leaves from the ring and plays it through PortAudio. Without either it is silent, and
says so. Told by lines of JSON what to do: {"map": note map, "output": its number among the router's,
"kit": name, "drums": {name: {level, place, tune, damping}}, "level": 0..1, "muted": [names],
"device": name or null, "block": frames}; says a line of JSON how things stand.
"""

from __future__ import annotations

import contextlib
import gc
import json
import os
import select
import signal
import sys
import threading
import time
from typing import Any

import numpy as np

from puresignal.core import notemap
from puresignal.core.notemap import NoteMap
from puresignal.core.sound import drums
from puresignal.core.sound.mixer import Bank, Mixer
from puresignal.engine.ring import Reader
from puresignal.io import audioports, jackports, ports

LOOK_EVERY = 0.5
TELL_EVERY = 1.0
RATE = 48_000


class Sound:
    """The sound, wherever it comes out."""

    def __init__(self, sent: Reader):
        self._sent = sent
        self.rate = RATE
        self._map: NoteMap | None = None
        self._output = -1
        self._kit, self._drums = drums.KITS[0], {}
        self._device: str | None = None
        self._block = 256
        self.mixer = Mixer(Bank(RATE))
        self._wanted = threading.Event()
        self._client: Any = None
        self._ports: list[Any] = []
        self._stream: Any = None
        self._why = ""
        self._system = ""
        self._underruns = 0
        self._busy = self._worst = 0.0
        self._blocks = 0
        self._server_gone = False
        self.ended = False

    # Settings

    def obey(self, command: dict[str, Any]) -> None:
        """One line's worth of settings."""
        if "map" in command:
            self._map = notemap.from_json(command["map"], "map") if command["map"] else None
        if "output" in command:
            self._output = command["output"]
        if "kit" in command:
            self._kit = next((kit for kit in drums.KITS if kit.name == command["kit"]), drums.KITS[0])
        if "drums" in command:
            self._drums = {name: drums.Drum(**values) for name, values in command["drums"].items()}
        if "level" in command:
            self.mixer.level = float(command["level"])
        if "muted" in command:
            self.mixer.mute(command["muted"])
        if {"device", "block"} & set(command):
            self._device, self._block = command.get("device", self._device), command.get("block", self._block)
            self._close_stream()
        if {"map", "kit", "drums"} & set(command):
            self._prepare()

    def _prepare(self) -> None:
        """A bank by the settings; the strokes that are already there are taken over, and the rest computed."""
        before = self.mixer._bank
        bank = Bank(self.rate, self._kit, self._drums)
        bank.take_over(before)
        names = [pad.articulation for pad in self._map.pads] if self._map is not None else []
        missing = list(dict.fromkeys(names))
        if before.layers and (self._client is not None or self._stream is not None):
            # While it sounds, drum by drum and with rests, so that the callback is never kept waiting.
            for name in missing:
                bank.prepare([name])
                time.sleep(0.005)
        else:
            bank.prepare(missing)
        self.mixer.use(bank, self._map)

    # Where it comes out

    def look(self) -> None:
        """Takes up a server or a device that has come, lets go of one that went."""
        if self._server_gone:
            # A client that outlived its server cannot be closed safely; whoever started us starts us again.
            os._exit(0)
        if self._client is not None:
            self._join()
            return
        try:
            client = jackports.open_client(ports.SOUND_CLIENT)
        except jackports.NoServerError:
            if self._stream is None or not self._stream.active:
                self._open_stream()
            return
        self._close_stream()
        self._open_jack(client)

    def _open_jack(self, client: Any) -> None:
        self._at_rate(client.samplerate)
        incoming = client.midi_inports.register("in")
        outs = [client.outports.register(name) for name in ("left", "right")]
        self._ports = outs

        def process(frames: int) -> None:
            began = time.perf_counter()
            block = self.mixer.render(frames, [(o, bytes(d)) for o, d in incoming.incoming_midi_events()])
            for port, channel in zip(outs, block, strict=True):
                port.get_array()[:] = channel
            self._measure(time.perf_counter() - began, frames)

        def late(_: float) -> None:
            self._underruns += 1

        def gone(*_: object) -> None:
            self._server_gone = True
            self._wanted.set()

        client.set_process_callback(process)
        client.set_xrun_callback(late)
        client.set_shutdown_callback(gone)
        gc.collect()
        gc.freeze()
        gc.disable()
        self._client, self._system, self._why = client, "JACK", ""
        client.activate()
        self._join()

    def _join(self) -> None:
        """To the first two playback ports of the hardware, where there are any and we are wired to none."""
        with contextlib.suppress(Exception):
            if any(self._client.get_all_connections(port) for port in self._ports):
                return
            found = self._client.get_ports(is_audio=True, is_input=True, is_physical=True)
            for port, goal in zip(self._ports, found, strict=False):
                self._client.connect(port, goal)

    def _open_stream(self) -> None:
        self._close_stream()
        try:
            self._stream = audioports.open_output(self._device, RATE, self._block, self._fill)
            self._at_rate(int(self._stream.samplerate))
            self._system, self._why = "device", ""
            self._stream.start()
        except audioports.NoSoundError as error:
            self._system, self._why = "", str(error)
            self._drain()

    def _close_stream(self) -> None:
        stream, self._stream = self._stream, None
        if stream is not None:
            with contextlib.suppress(Exception):
                stream.close()

    def _drain(self) -> None:
        self._sent.read()

    def _fill(self, out: np.ndarray, frames: int, late: bool) -> None:
        """The device's callback: what left since the last block, each message where it fell."""
        began = time.perf_counter()
        now = time.monotonic()
        messages = []
        for at, output, data in self._sent.read():
            if output == self._output:
                messages.append((min(frames - 1, max(0, frames - round((now - at) * self.rate))), data))
        out[:] = self.mixer.render(frames, sorted(messages, key=lambda m: m[0])).T
        self._underruns += late
        self._measure(time.perf_counter() - began, frames)

    def _at_rate(self, rate: int) -> None:
        if rate != self.rate:
            self.rate = rate
            level = self.mixer.level
            self.mixer = Mixer(Bank(rate))
            self.mixer.level = level
            self._prepare()

    def _measure(self, seconds: float, frames: int) -> None:
        share = seconds * self.rate / frames
        self._busy += share
        self._worst = max(self._worst, share)
        self._blocks += 1

    def state(self) -> dict[str, Any]:
        """How things stand: where it comes out, the delay, underruns, load (part of the time there is), voices."""
        block, delay = 0, 0.0
        if self._client is not None:
            block = self._client.blocksize
            delay = block / self.rate
            with contextlib.suppress(Exception):
                delay += max(port.get_latency_range("playback")[1] for port in self._ports) / self.rate
        elif self._stream is not None:
            block, delay = self._block, float(self._stream.latency)
        load, worst = self._busy / max(1, self._blocks), self._worst
        self._busy = self._worst = 0.0
        self._blocks = 0
        return {
            "system": self._system, "why": self._why, "rate": self.rate, "block": block, "delay": delay,
            "underruns": self._underruns, "load": load, "worst": worst, "voices": self.mixer.sounding(),
            "ready": len(self.mixer._bank.layers),
        }  # fmt: skip

    def close(self) -> None:
        self._close_stream()
        if self._client is not None and not self._server_gone:
            with contextlib.suppress(Exception):
                self._client.close()


def main() -> int:
    for one in (signal.SIGINT, signal.SIGHUP):
        signal.signal(one, signal.SIG_IGN)
    sys.setswitchinterval(0.0005)
    sound = Sound(Reader(int(sys.argv[1])))
    rest, looked, told = b"", float("-inf"), float("-inf")
    while True:
        ready, _, _ = select.select([0], [], [], 0.1)
        if ready:
            more = os.read(0, 1 << 16)
            if not more:
                sound.close()
                return 0
            *lines, rest = (rest + more).split(b"\n")
            for line in lines:
                sound.obey(json.loads(line))
        now = time.monotonic()
        if now - looked >= LOOK_EVERY:
            looked = now
            sound.look()
        if now - told >= TELL_EVERY:
            told = now
            try:
                os.write(1, json.dumps(sound.state()).encode() + b"\n")
            except OSError:
                sound.close()
                return 0


if __name__ == "__main__":
    sys.exit(main())
