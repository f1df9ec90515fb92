"""Delay until held notes are released and ports reconnected, on a JACK server with 256 frames; ten times each."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.engine.conftest import Peer, Server, until

TIMES = 10


def started() -> subprocess.Popen:
    command = [sys.executable, "-m", "puresignal.cli", "route", "--in", "kit:out", "--out", "synth:in"]
    maps = ["--source-map", "practice-five", "--target-map", "boathouse-room"]
    return subprocess.Popen([*command, *maps], stderr=subprocess.DEVNULL)


def since(condition: Callable[[], object]) -> float:
    began = time.monotonic()
    until(condition, 20)
    return 1000 * (time.monotonic() - began)


def once(synth: Peer, rows: dict[str, list[float]]) -> None:
    """One round: a kit is unplugged, comes back, the router is killed, and ended."""
    kit = Peer("kit")
    process = started()
    until(lambda: kit.client.get_all_connections(kit.out) and synth.client.get_all_connections(synth.inp))
    time.sleep(0.1)

    def hold(player: Peer) -> int:
        before = len(synth.got)
        player.play(b"\x99\x3d\x5a")
        until(lambda: len(synth.got) > before)
        return len(synth.got)

    count = hold(kit)
    kit.close()
    rows["unplug to release"].append(since(lambda: len(synth.got) > count))
    kit = Peer("kit")
    rows["return to connection"].append(since(lambda: kit.client.get_all_connections(kit.out)))
    time.sleep(0.1)
    count = hold(kit)
    engine = subprocess.run(["pgrep", "-P", str(process.pid)], capture_output=True, text=True).stdout.split()[0]
    os.kill(int(engine), signal.SIGKILL)
    rows["kill -9 to release"].append(since(lambda: len(synth.got) > count))
    until(lambda: kit.client.get_all_connections(kit.out))
    time.sleep(0.1)
    count = hold(kit)
    process.terminate()
    rows["TERM to release"].append(since(lambda: len(synth.got) > count))
    process.wait(5)
    kit.close()


def main() -> None:
    os.environ["JACK_DEFAULT_SERVER"] = f"pure-signal-bench-{os.getpid()}"
    server = Server(os.environ["JACK_DEFAULT_SERVER"])
    server.start(256, sync=False)
    synth = Peer("synth")
    rows: dict[str, list[float]] = {"TERM to release": [], "unplug to release": [], "return to connection": [],
                                    "kill -9 to release": []}  # fmt: skip
    for _ in range(TIMES):
        once(synth, rows)
    for name, values in rows.items():
        print(f"{name}: median {np.median(values):.0f} ms, worst {max(values):.0f} ms")
    synth.close()
    server.stop()


if __name__ == "__main__":
    main()
