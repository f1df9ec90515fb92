"""MIDI clock in and out and JACK's transport: the figures, on the numbers alone and on a server.

`sync.py [--minutes N]`: one minute of each on the server unless told otherwise.
"""

from __future__ import annotations

import argparse
import os
import sys
import time
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent))

from puresignal.core.timing.beat_table import BeatTable
from puresignal.core.timing.clock_follower import TICKS, ClockFollower
from puresignal.engine.shared_counters import SharedCounters
from puresignal.io import jack_ports
from tests.engine.conftest import Server, until
from tests.engine.test_outside_time import TICK, Other, Rig, rig_with
from tests.engine.test_player import beats

RATE = 48_000


def numbers() -> None:
    """Tempo after 4 and 16 beats and the next bar line, for jitter of several kinds."""
    for kind in ("uniform within 5 ms", "normal, sd 2 ms", "normal, sd 5 ms", "by blocks of 512 frames"):
        after4, after16, bars = [], [], []
        for seed in range(300):
            rng = np.random.default_rng(seed)
            follower, period, last = ClockFollower(), 60.0 / 120.0 / TICKS, 0.0
            follower.hear(0.99, b"\xfa")
            late = 0.5 * 512 / RATE if kind.startswith("by") else 0.0
            for number in range(40 * TICKS):
                meant = 1.0 + number * period
                if kind.startswith("uniform"):
                    at = meant + rng.uniform(-0.005, 0.005)
                elif kind.startswith("normal"):
                    at = meant + rng.normal(0, 0.002 if "2 ms" in kind else 0.005)
                else:
                    at = np.ceil((meant + seed * 1e-4) * RATE / 512) * 512 / RATE - seed * 1e-4
                last = max(at, last)
                follower.hear(last, TICK)
                if number == 4 * TICKS - 1:
                    after4.append(abs(follower.bpm / 120.0 - 1))
                if number >= 16 * TICKS - 1 and number % 96 == 95:
                    after16.append(abs(follower.bpm / 120.0 - 1))
                    bars.append(abs(follower.second_of((number + 1) / TICKS) - (1.0 + (number + 1) * period) - late))
        print(
            f"{kind}: tempo after 4 beats {np.percentile(after4, 99):.3%} (worst {max(after4):.3%}), after 16 "
            f"{np.percentile(after16, 99):.4%} (worst {max(after16):.4%}), "
            f"bar lines {1000 * np.percentile(bars, 99):.2f} ms "
            f"(worst {1000 * max(bars):.2f})"
        )


def clock_out(seconds: float) -> None:
    other, rig = Other(), rig_with((), ("other program:in",))
    rig.player.use(*beats(int(seconds * 2) + 40, 0.5))
    rig.player.time(BeatTable((0.0, 1.0), (0.0, 0.5)))
    rig.player.clock_to([0])
    rig.player.play(0.0, [])
    rig.look(seconds)
    rig.player.stop()
    told = other.end()
    rig.close()
    ticks = np.array([at for at, data in told["heard"] if bytes.fromhex(data) == TICK])
    off = ticks - ticks[0] - np.arange(len(ticks)) * 1000
    print(
        f"clock out: {len(ticks)} ticks, {np.mean(np.abs(off) <= 48):.3%} within 1 ms, furthest {abs(off).max()} frames"
    )


def clock_in(seconds: float) -> None:
    other = Other(bpm=132.0, jitter=0.005)
    rig = rig_with(("other program:clock",), ("other program:in",))
    rig.player.use(*beats(int(seconds * 3) + 40, 0.5))
    rig.player.time(BeatTable((0.0, 1.0), (0.0, 0.5)))
    rig.player.follow(0)
    time.sleep(0.5)
    other.say("go")
    rig.look(seconds)
    told = other.end()
    rig.close()
    ons = np.array([at for at, data in told["heard"] if bytes.fromhex(data)[0] & 0xF0 == 0x90]) - told["zero"]
    off = (ons - np.arange(len(ons)) * 60.0 / 132.0 * RATE) / RATE - 0.0025 - 256 / RATE
    print(
        f"clock in, 5 ms late at most: {len(ons)} beats, from the fourth on within {1000 * abs(off[4:]).max():.2f} ms, "
        f"sd {1000 * off[4:].std():.2f} ms; the first four within {1000 * abs(off[:4]).max():.2f} ms"
    )


def transport(times: int) -> None:
    rig = Rig(transport=True)
    until(lambda: (rig.router.read(0.05) or {}).get("server"), what="the router on JACK")
    other = jack_ports.open_client("another program")
    other.activate()
    rig.player.use(*beats(400, 0.25))
    rig.player.follow("jack")
    time.sleep(0.5)
    off: list[float] = []
    rng = np.random.default_rng(1)
    for _ in range(times):
        rig.look(0.1)
        rig.got.clear()
        other.transport_frame = int(rng.integers(0, 60 * RATE))
        time.sleep(0.1)
        other.transport_start()
        rig.look(0.9)
        if rng.random() < 0.3:
            # Moved while it rolls.
            rig.look(0.1)
            rig.got.clear()
            other.transport_frame = int(rng.integers(0, 60 * RATE))
            rig.look(0.9)
        _, position, frame, _ = SharedCounters(rig.router.transport_found).read()[:4]
        # Where it was moved while rolling, notes of the former place are still among the first.
        ons = np.rint(rig.ons() * RATE).astype(int) - (frame - position)
        late = (ons + 6000) % 12_000 - 6000
        off += np.abs(late[ons >= position - 1]).tolist()
        other.transport_stop()
        until(lambda: not rig.player.playing, what="the stop")
    rig.close()
    other.close()
    print(f"JACK transport: {times} starts, {len(off)} notes, {np.mean(np.array(off) <= 1):.3%} on their frame")


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--minutes", type=float, default=1.0)
    minutes = parser.parse_args().minutes
    numbers()
    name = f"pure-signal-bench-{os.getpid()}"
    os.environ["JACK_DEFAULT_SERVER"] = name
    server = Server(name)
    server.start()
    try:
        clock_out(60 * minutes)
        clock_in(60 * minutes)
        transport(round(30 * minutes))
    finally:
        server.stop()


if __name__ == "__main__":
    main()
