"""How soon playing goes on: after a server's death and return, across other drivers, after a process hung.

`comebacks.py [--only daemon|drivers|stops...] [--times N]`: all three, 20 times by default.

daemon   PipeWire is killed and started again; then come 60 hits, 50 a second
drivers  PipeWire's driver changes ten times: captured times beside the frames at which the kit played
stops    the router of a window is killed, or stopped, while a note is held on JACK
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
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent))

from puresignal.core.midi import messages
from puresignal.engine import client
from puresignal.engine.ring import Reader
from puresignal.engine.router_config import RouterConfig
from puresignal.io import jack_library
from tests.engine.conftest import Peer, PipeWire, Server
from tests.engine.test_hung_processes import Window, held
from tests.engine.test_pipewire import Stage
from tests.engine.test_port_contract import KIT, MAPPED_OFF, OFF, ROOM, answered, wait_for

WHAT = ("daemon", "drivers", "stops")
RATE, BLOCK, HITS, APART = 48_000, 256, 60, 0.02


def arrive(one: Stage, count: int) -> int:
    """How many hits of so many arrive."""
    one.synth.got.clear()
    for number in range(count):
        one.kit.play(bytes((0x99, 0x3D, 1 + number)))
        time.sleep(APART / 2)
        one.kit.play(OFF)
        time.sleep(APART / 2)
    time.sleep(0.5)
    return len({data[2] for _, data in one.synth.got if messages.is_note_on(data)})


def daemon(running: PipeWire) -> str:
    one = Stage(BLOCK)
    running.kill()
    # A client of a daemon that died is not closed: it is forgotten, as the library does not survive it.
    for peer in one.peers:
        peer.forget()
    one.peers.clear()
    wait_for(one.router, [False], [False])
    running.start()
    back = time.monotonic()
    one.kit, one.synth = one.peer("kit"), one.peer("synth")
    one.state = wait_for(one.router, [True], [True])
    way = time.monotonic() - back
    answered(one.kit, one.synth)
    first = time.monotonic() - back - 0.2
    late = one.kit.late, one.synth.late, one.now()["dropouts"]
    came = arrive(one, HITS)
    late = [b - a for a, b in zip(late, (one.kit.late, one.synth.late, one.now()["dropouts"]), strict=True)]
    return f"connected after {way:.2f} s, first hit {first:.2f} s, of {HITS} hits {came}; late blocks {sum(late)}"


def drivers(_: PipeWire) -> str:
    one = Stage(BLOCK)
    reader, chance, binding = Reader(one.router.ring), random.Random(1), jack_library.binding(jack_library.PIPEWIRE)
    within, steps, before = [], [], None

    def stretch() -> None:
        nonlocal before
        time.sleep(0.5)
        reader.read()
        one.kit.sent.clear()
        one.kit.sent_at.clear()
        offset = {1 + number: chance.randrange(BLOCK) for number in range(HITS)}
        for number, frames in offset.items():
            one.kit.play(bytes((0x99, 0x3D, number)), offset=frames)
            time.sleep(APART)
        time.sleep(0.1)
        sent = {data[2]: (frame, at) for (frame, data), at in zip(one.kit.sent, one.kit.sent_at, strict=True)}
        came = {record.data[2]: record.at for record in reader.read() if messages.is_note_on(record.data)}
        both = sorted(set(sent) & set(came))
        away = np.array([came[n] * RATE - sent[n][0] for n in both])
        within.extend(np.abs(away - np.median(away)).tolist())
        # The kit notes the moment in its callback, some way into a block: the median of many is steady.
        now = float(np.median([came[n] - sent[n][1] - offset[n] / RATE for n in both]))
        if before is not None:
            steps.append(abs(now - before))
        before = now

    stretch()
    for number in range(5):
        player = binding.Client("player", no_start_server=True)
        out = player.outports.register("out")
        player.set_process_callback(lambda _: None)
        with player:
            sink = ("Room left", "Room right")[number % 2]
            player.connect(out, next(p for p in player.get_ports(is_audio=True, is_input=True) if sink in p.name))
            stretch()
        player.close()
        stretch()
    found, period = np.array(within), 1000 * BLOCK / RATE
    return (
        f"between changes within a frame {np.mean(found <= 1.01):.2%} of {len(found)}, furthest {found.max():.0f} "
        f"frames; across {len(steps)} changes at most {1000 * max(steps):.2f} ms (a period is {period:.2f})"
    )


def stops(times: int) -> None:
    client.SPARE_AFTER = 0.1
    os.environ["JACK_DEFAULT_SERVER"] = name = f"comebacks-{os.getpid()}"
    server = Server(name)
    server.start(sync=False)
    for how in (signal.SIGKILL, signal.SIGSTOP):
        took = []
        for _ in range(times):
            kit, synth = Peer("kit"), Peer("synth")
            window = Window(RouterConfig(("kit:out",), ("synth:in",), KIT, ROOM))
            wait_for(window.router, [True], [True])
            answered(kit, synth)
            window.look(6, lambda w=window: w.router._spare is not None, "the router that stands by")
            window.look(0.6 + random.random() * 0.025)
            synth.got.clear()
            held(kit, synth)
            begun = synth.client.frame_time
            os.kill(window.router.process.pid, how)
            ends: list[int] = []

            def ended(got=synth.got, ends=ends) -> bool:
                ends[:] = [frame for frame, data in got if data[:2] == MAPPED_OFF[:2]]
                return bool(ends)

            window.look(5, ended, "the end")
            took.append((ends[0] - begun) / RATE)
            window.close()
            kit.close()
            synth.close()
        found = np.array(took)
        print(
            f"{how.name}: a note hangs for {np.median(found):.3f} s at the median, at most {found.max():.3f} s, of "
            f"{len(found)} {np.sum(found <= 0.25)} within 0.25 s",
            flush=True,
        )
    server.stop()


def on_pipewire(what: str) -> None:
    with tempfile.TemporaryDirectory() as folder:
        os.environ.update(JACK_DEFAULT_SERVER="nobody-here", XDG_RUNTIME_DIR=f"{folder}/run")
        running = PipeWire(Path(folder))
        print({"daemon": daemon, "drivers": drivers}[what](running), flush=True)
        running.stop()
        # The clients of a PipeWire that has ended are never closed.
        sys.stdout.flush()
        os._exit(0)


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--only", nargs="+", choices=WHAT, default=WHAT)
    parser.add_argument("--times", type=int, default=20)
    parser.add_argument("--once", action="store_true", help="in this process")
    options = parser.parse_args()
    for what in options.only:
        if what == "stops":
            stops(options.times)
        elif options.once:
            on_pipewire(what)
        else:
            for _ in range(options.times):
                # A process for each: a PipeWire that has ended leaves its clients' library in no good state.
                done = subprocess.run(
                    [sys.executable, __file__, "--only", what, "--once"], capture_output=True, text=True
                )
                print(f"{what}: {done.stdout.strip() or done.stderr.strip()[-300:]}", flush=True)
    return 0


if __name__ == "__main__":
    sys.exit(main())
