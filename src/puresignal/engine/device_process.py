"""The process of the simulated devices, which feed the router.

`python -m puresignal.engine.device_process FEED KNOCK PULSE`, numbers of open files. Commands are lines of JSON:
{"play": port, "kit": map, "bpm": n, "faults": {...}, "seed": n, "at": second of the clock at which it begins, now
without}, {"stop": port}, {"hit": port, "kit": map, "articulation": name, "velocity": n}.
"""

from __future__ import annotations

import json
import os
import select
import signal
import sys
import time
from typing import Any

from puresignal.core.kit import note_map
from puresignal.engine.pulse import BEAT_EVERY, DEVICES, Pulse
from puresignal.engine.ring import Writer
from puresignal.io import ports
from puresignal.sim import devices
from puresignal.sim.drum_module import Faults


class DevicePlayer:
    """All simulated devices, on one clock."""

    def __init__(self, feed: Writer, knock: int):
        self._feed, self._knock = feed, knock
        self._playing: dict[str, list[devices.Playing]] = {}
        # What takes the place of what a port plays, from its own beginning on.
        self._following: dict[str, devices.Playing] = {}

    def obey(self, command: dict[str, Any], now: float) -> None:
        """Execute one command."""
        if "stop" in command:
            self.stop(command["stop"], now)
            return
        port = command.get("play") or command["hit"]
        kit = note_map.from_json(command["kit"], "kit") if command.get("kit") else None
        if "hit" in command:
            assert kit is not None
            stream = iter(devices.hit(kit, command["articulation"], command["velocity"]))
            self._playing.setdefault(port, []).append(devices.Playing(stream, now - 0.02))
            return
        begins = float(command.get("at", now + 0.05))
        if begins <= now + 0.05 or port not in self._playing:
            self.stop(port, now)
        bpm, seed = float(command.get("bpm", 92)), int(command.get("seed", 1))
        if port == ports.KEYBOARD:
            stream = devices.keyboard(bpm, seed)
        elif port == ports.PAD_BOX:
            assert kit is not None
            stream = devices.pads(kit, bpm, seed)
        else:
            assert kit is not None
            stream = devices.grooves(kit, Faults(**command.get("faults", {})), bpm, seed)
        made = devices.Playing(stream, begins)
        if port in self._playing:
            # It joins in with the bar, and plays on as it did until then.
            self._following[port] = made
        else:
            self._playing[port] = [made]

    def stop(self, port: str, now: float) -> None:
        """Stop a port and end its sounding notes."""
        self._following.pop(port, None)
        for playing in self._playing.pop(port, ()):
            for message in playing.ends():
                self._put(now, port, message)

    def stop_all(self, now: float) -> None:
        for port in list(self._playing):
            self.stop(port, now)

    def send_due(self, now: float) -> None:
        """Send everything that is due."""
        for port, made in list(self._following.items()):
            if now >= made.since:
                self.stop(port, made.since)
                self._playing[port] = [made]
        for port, streams in self._playing.items():
            for at, message in sorted(item for one in streams for item in one.due(now)):
                self._put(at, port, message)

    def _put(self, at: float, port: str, message: bytes) -> None:
        self._feed.put(at, ports.FED.index(port), message)
        os.eventfd_write(self._knock, 1)

    def next_at(self) -> float | None:
        """The time of the next message, or None; finished streams are dropped."""
        self._playing = {
            port: left for port, all_ in self._playing.items() if (left := [p for p in all_ if p.next_at() is not None])
        }
        every = [p.next_at() or 0.0 for streams in self._playing.values() for p in streams]
        return min([*every, *(made.since for made in self._following.values())], default=None)


def main() -> int:
    feed, knock, pulse_memory = map(int, sys.argv[1:])
    for one in (signal.SIGINT, signal.SIGHUP):
        signal.signal(one, signal.SIG_IGN)
    playing, pulse = DevicePlayer(Writer(feed), knock), Pulse(pulse_memory, DEVICES)
    rest = b""
    while True:
        at = playing.next_at()
        wait = BEAT_EVERY if at is None else min(BEAT_EVERY, max(0.0, at - time.monotonic()))
        pulse.beat()
        ready, _, _ = select.select([0], [], [], wait)
        if ready:
            more = os.read(0, 65536)
            if not more:
                playing.stop_all(time.monotonic())
                return 0
            *lines, rest = (rest + more).split(b"\n")
            for line in lines:
                playing.obey(json.loads(line), time.monotonic())
        playing.send_due(time.monotonic())


if __name__ == "__main__":
    sys.exit(main())
