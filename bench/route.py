"""Delay of the router on JACK compared with a direct connection: 64 and 256 frames, alone and beside a busy window.

3,000 events a second for a minute, then bursts of 32 in one block, a hundred times; and what an idle router takes.
`--seconds N` shortens the minute.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.engine.conftest import Peer, Server, until


def measure(period: int, seconds: int, busy: bool) -> None:
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
    time.sleep(0.5)
    engines = children(router.pid)
    if not busy:
        began, used = time.monotonic(), sum(map(cpu_seconds, engines))
        time.sleep(5)
        idle = (sum(map(cpu_seconds, engines)) - used) / (time.monotonic() - began)
        print(f"{period} frames: idle, the router takes {100 * idle:.1f} % of a core", flush=True)
    window = None
    if busy:
        environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen", "XDG_STATE_HOME": tempfile.mkdtemp()}
        program = Path(__file__).parent / "support" / "busy_window.py"
        window = subprocess.Popen(
            [sys.executable, str(program)], stdin=subprocess.PIPE, stdout=subprocess.PIPE,
            text=True, env=environment,
        )  # fmt: skip
        assert window.stdout is not None
        assert window.stdout.readline().strip() == "ready"
    random = np.random.default_rng(1)
    each = max(1, round(3000 * period / 48_000))
    for _ in range(seconds * 48_000 // period):
        offsets = np.sort(random.integers(0, period, each)).tolist()
        kit.todo.append(
            [(o, bytes([0xB9, 11, int(v)])) for o, v in zip(offsets, random.integers(0, 128, each), strict=True)]
        )
    for i in range(100):
        kit.todo.append([(int(o), bytes([0xB9, 11, i])) for o in np.sort(random.integers(0, period, 32))])
        kit.todo += [[]] * 3
    until(lambda: not kit.todo, 4 * seconds + 60)
    time.sleep(0.5)
    direct, routed = np.array([f for f, _ in wire.got]), np.array([f for f, _ in synth.got])
    same = [m for _, m in wire.got] == [m for _, m in synth.got]
    extra = routed - direct if len(direct) == len(routed) else np.array([np.nan])
    beside = ", beside a busy window" if busy else ""
    print(
        f"{period} frames{beside}: {len(direct)} events direct, {len(routed)} routed, "
        f"order kept: {same}; added delay median {np.median(extra):.0f} frames, 99 % {np.percentile(extra, 99):.0f}, "
        f"worst {extra.max():.0f}",
        flush=True,
    )
    if window is not None:
        print(f"  the window meanwhile: {window.communicate()[0].strip()}", flush=True)
    router.terminate()
    router.wait(5)
    for peer in (kit, wire, synth):
        peer.close()
    server.stop()


def children(pid: int) -> list[int]:
    done = subprocess.run(["pgrep", "-P", str(pid)], capture_output=True, text=True, check=False)
    return [int(p) for p in done.stdout.split()]


def cpu_seconds(pid: int) -> float:
    fields = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def main() -> None:
    seconds = int(sys.argv[sys.argv.index("--seconds") + 1]) if "--seconds" in sys.argv else 60
    for busy in (False, True):
        for period in (64, 256):
            measure(period, seconds, busy)


if __name__ == "__main__":
    main()
