"""The router's delay on JACK against a direct wire in the same run, at 64 and 256 frames."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.engine.conftest import Peer, Server, until


def measure(period: int) -> None:
    name = f"pure-signal-bench-{os.getpid()}"
    os.environ["JACK_DEFAULT_SERVER"] = name
    server = Server(name)
    server.start(period)
    kit, wire, synth = Peer("kit"), Peer("wire"), Peer("synth")
    kit.client.connect("kit:out", "wire:in")
    command = [sys.executable, "-m", "puresignal.cli", "route", "--in", "kit:out", "--out", "synth:in"]
    maps = ["--source-map", "practice-five", "--target-map", "boathouse-room"]
    router = subprocess.Popen([*command, *maps], stderr=subprocess.DEVNULL)
    until(lambda: len(kit.client.get_all_connections(kit.out)) == 2)
    until(lambda: synth.client.get_all_connections(synth.inp))
    time.sleep(0.2)
    random = np.random.default_rng(1)
    seconds, rate = 20, 3000
    blocks = seconds * 48_000 // period
    each = max(1, round(rate * period / 48_000))
    for _ in range(blocks):
        offsets = np.sort(random.integers(0, period, each)).tolist()
        kit.todo.append(
            [(o, bytes([0xB9, 11, int(v)])) for o, v in zip(offsets, random.integers(0, 128, each), strict=True)]
        )
    until(lambda: not kit.todo, 3 * seconds)
    time.sleep(0.5)
    direct, routed = np.array([f for f, _ in wire.got]), np.array([f for f, _ in synth.got])
    same = [m for _, m in wire.got] == [m for _, m in synth.got]
    extra = routed - direct if len(direct) == len(routed) else np.array([np.nan])
    print(
        f"{period} frames: {len(direct)} events direct, {len(routed)} routed, order kept: {same}; added delay "
        f"median {np.median(extra):.0f} frames, 99 % {np.percentile(extra, 99):.0f}, worst {extra.max():.0f}",
        flush=True,
    )
    router.terminate()
    router.wait(5)
    for peer in (kit, wire, synth):
        peer.close()
    server.stop()


def main() -> None:
    for period in (64, 256):
        measure(period)


if __name__ == "__main__":
    main()
