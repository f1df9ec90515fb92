"""Notes that hang at a receiver after engine, command, both or the JACK server were killed, at 64, 256, 1024 frames.

`kills.py [--minutes N] [--fresh] [--each K]`: 5 minutes by default; what ran before is added up in build/bench. Half of
the kills come while a kit plays, half while a note is held; --each leaves out the kinds that have had so many. A note
hangs if it is not ended within 10 seconds after anything of ours, or the server, runs again.
"""

from __future__ import annotations

import argparse
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from contextlib import suppress
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from bench.support.tally import Tally
from tests.engine.conftest import Peer, Server, until

NOTES = (60, 61, 63, 71, 83, 85)
WHO, PERIODS = ("engine", "command", "both", "server"), (64, 256, 1024)


def sounding(messages: list[bytes]) -> set[bytes]:
    """Notes that were begun and not ended: channel and number."""
    left: set[bytes] = set()
    for data in messages:
        key = bytes((data[0] & 0x0F, data[1]))
        if data[0] & 0xF0 == 0x90 and data[2]:
            left.add(key)
        elif data[0] & 0xF0 == 0x80:
            left.discard(key)
    return left


def start() -> subprocess.Popen:
    command = [sys.executable, "-m", "puresignal.cli", "route", "--in", "kit:out", "--out", "synth:in"]
    maps = ["--source-map", "practice-five", "--target-map", "boathouse-room"]
    return subprocess.Popen([*command, *maps], stderr=subprocess.DEVNULL)


def engine_of(process: subprocess.Popen) -> int:
    command = ["pgrep", "-f", "-P", str(process.pid), "puresignal.engine "]
    found = until(lambda: subprocess.run(command, capture_output=True, text=True).stdout.split())
    return int(found[0])


class Rig:
    """A server, a kit and a receiver, and the command between them."""

    def __init__(self, period: int):
        self.server = Server(os.environ["JACK_DEFAULT_SERVER"])
        self.period = period
        self.process: subprocess.Popen | None = None
        self._up()

    def _up(self) -> None:
        self.server.start(self.period, sync=False)
        self.kit, self.synth = Peer("kit"), Peer("synth")

    def join(self) -> subprocess.Popen:
        if self.process is None or self.process.poll() is not None:
            self.process = start()
        kit, synth = self.kit, self.synth
        until(lambda: kit.client.get_all_connections(kit.out) and synth.client.get_all_connections(synth.inp), 15)
        # What was left sounding is ended first; those ends would also end a note that is struck now.
        came = -1
        while came != len(synth.got):
            came = len(synth.got)
            time.sleep(0.25)
        return self.process

    def round(self, who: str, playing: bool, draw: random.Random) -> bool | None:
        """Kill and look. Returns whether something hangs; None if nothing sounded when it was killed."""
        process = self.join()
        engine = engine_of(process)
        heard = [data for _, data in self.synth.got]
        held = draw.choice(NOTES)
        for _ in range(5):
            self.kit.play(bytes((0x99, held, 90)))
            with suppress(AssertionError):
                until(lambda: sounding([m for _, m in self.synth.got[len(heard) :]]), 1)
                break
        if playing:
            others = [note for note in NOTES if note != held]
            for note in [draw.choice(others) for _ in range(400)]:
                self.kit.todo.append([(0, bytes((0x99, note, 80))), (20, bytes((0x89, note, 0)))])
        time.sleep(draw.uniform(0.02, 0.3))
        if who in ("command", "both"):
            os.kill(process.pid, signal.SIGKILL)
        if who in ("engine", "both"):
            # It may have ended with the command.
            with suppress(ProcessLookupError):
                os.kill(engine, signal.SIGKILL)
        if who == "server":
            self.server.process.kill()
        self.kit.todo.clear()
        # What the receiver was sent up to now; one on a killed server never says more.
        told = self.synth.got
        time.sleep(0.05)
        nothing = not sounding([m for _, m in told])
        if who == "server":
            before = [m for _, m in told]
            self.server.process.wait()
            time.sleep(0.3)
            self._up()
            self.synth.got[:0] = [(0, m) for m in before]
        if process.poll() is not None or who in ("command", "both"):
            process.wait()
            self.process = start()
        with suppress(AssertionError):
            until(lambda: not sounding([m for _, m in self.synth.got]), 10)
        hangs = not nothing and bool(sounding([m for _, m in self.synth.got]))
        self.synth.got.clear()
        # What was released at once, before one could look, does not hang either.
        return None if nothing and who != "command" else hangs

    def close(self) -> None:
        if self.process is not None:
            self.process.terminate()
            self.process.wait()
        self.kit.close()
        self.synth.close()
        self.server.stop()


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--minutes", type=float, default=5.0)
    parser.add_argument("--fresh", action="store_true")
    parser.add_argument("--each", type=int, default=1_000_000)
    options = parser.parse_args()
    end = time.monotonic() + 60 * options.minutes
    tally, draw = Tally("kills", options.fresh), random.Random()
    with tempfile.TemporaryDirectory() as runtime:
        os.environ["XDG_RUNTIME_DIR"] = runtime
        os.environ["JACK_DEFAULT_SERVER"] = f"pure-signal-bench-{os.getpid()}"
        kinds = {(period, who, playing) for period in PERIODS for who in WHO for playing in (False, True)}
        while kinds and time.monotonic() < end:
            for period in PERIODS:
                if not any(kind[0] == period for kind in kinds):
                    continue
                rig = Rig(period)
                try:
                    for who in WHO:
                        for playing in (False, True):
                            name = f"{who}, {period} frames, {'playing' if playing else 'still'}"
                            if tally.counts.get(f"{name}: kills", 0) >= options.each:
                                kinds.discard((period, who, playing))
                                continue
                            hangs = rig.round(who, playing, draw)
                            tally.add(f"{name}: kills", hangs is not None)
                            tally.add(f"{name}: hanging", bool(hangs))
                            if hangs:
                                print(f"hangs: {name}", flush=True)
                finally:
                    rig.close()
                tally.store()
    tally.print()


if __name__ == "__main__":
    main()
