"""Delay of the router on PipeWire beside a direct connection, at blocks of 64, 256 and 1024 frames.

1,000 events a second for `--minutes` at each (10 by default); player and receiver are processes of their own.
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent))

from puresignal.io import jack_library
from tests.engine.conftest import PipeWire, until

RATE = 1000
CONTROLLERS = 80
"""So many controllers by 128 values tell which message it is; each comes again after 10 seconds. Controller 88 belongs
to the note after it and is none of them."""


def client(name: str):
    return jack_library.binding(jack_library.PIPEWIRE).Client(name, no_start_server=True)


def player(seconds: float) -> None:
    me = client("kit")
    out = me.midi_outports.register("out")
    goes, left, random = [False], [round(seconds * RATE)], np.random.default_rng(1)
    offsets = random.random((4096, 64))
    block = [0]

    @me.set_process_callback
    def process(frames: int) -> None:
        out.clear_buffer()
        if not goes[0] or left[0] <= 0:
            return
        block[0] += 1
        # So many whole events since the start as the time asks for.
        count = block[0] * frames * RATE // 48_000 - (block[0] - 1) * frames * RATE // 48_000
        for offset in sorted((offsets[block[0] % 4096, :count] * frames).astype(int).tolist()):
            number = left[0] % (CONTROLLERS * 128)
            out.write_midi_event(offset, bytes((0xB0, number // 128, number % 128)))
            left[0] -= 1

    with me:
        print("ready", flush=True)
        sys.stdin.readline()
        goes[0] = True
        until(lambda: left[0] <= 0, 2 * seconds + 60)
        time.sleep(1)
        print("done", flush=True)
        sys.stdin.readline()


def receiver() -> None:
    """Compares what comes directly with what comes past the router."""
    me = client("synth")
    direct, routed = me.midi_inports.register("direct"), me.midi_inports.register("in")
    got, late, following = ([], []), [0], [-1]

    @me.set_process_callback
    def process(frames: int) -> None:
        first = me.last_frame_time
        late[0] += following[0] not in (-1, first)
        following[0] = first + frames
        for port, rows in ((direct, got[0]), (routed, got[1])):
            for offset, data in port.incoming_midi_events():
                message = bytes(data)
                rows.append((first + offset, message[1] * 128 + message[2]))

    with me:
        print("ready", flush=True)
        sys.stdin.readline()
        print(compared(*(np.array(rows).reshape(-1, 2) for rows in got)), f"blocks missed {late[0]}", flush=True)
        sys.stdin.readline()


def numbered(numbers: np.ndarray) -> np.ndarray:
    """(n,) which message since the beginning each is, from numbers that fall and come round again."""
    steps = -np.diff(numbers, prepend=numbers[:1])
    size = CONTROLLERS * 128
    # One that came too late steps back by a little.
    return np.cumsum((steps + size // 2) % size - size // 2)


def compared(direct: np.ndarray, routed: np.ndarray) -> str:
    """What came on each way, and how much later what came on both was past the router. Rows: frame, number."""
    if not len(direct) or not len(routed):
        return "nothing came,"
    a, b = numbered(direct[:, 1]), numbered(routed[:, 1])
    b += int(direct[0, 1] - routed[0, 1])
    both, i, j = np.intersect1d(a, b, return_indices=True)
    later = routed[j, 0] - direct[i, 0]
    return (
        f"direct {len(np.unique(a))}, twice {len(a) - len(np.unique(a))}; past the router {len(np.unique(b))}, twice "
        f"{len(b) - len(np.unique(b))}, order kept {bool((np.diff(b) >= 0).all())}; on both ways {len(both)}, frames "
        f"added: median {np.median(later):.0f}, 99 % {np.percentile(later, 99):.0f}, none to {np.mean(later == 0):.4%},"
    )


def measure(frames: int, seconds: float) -> None:
    with tempfile.TemporaryDirectory() as folder:
        os.environ.update(
            JACK_DEFAULT_SERVER="nobody-here", XDG_RUNTIME_DIR=f"{folder}/run", PIPEWIRE_LATENCY=f"{frames}/48000"
        )
        running = PipeWire(Path(folder))
        running.set(**{"clock_force-quantum": frames})

        def start(*more: str) -> subprocess.Popen:
            command = [sys.executable, __file__, *more]
            child = subprocess.Popen(
                command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, env=running.environment | os.environ
            )
            assert child.stdout.readline() == "ready\n"
            return child

        def say(child: subprocess.Popen) -> str:
            child.stdin.write("go\n")
            child.stdin.flush()
            return child.stdout.readline().strip()

        kit, synth = start("--as", "kit", "--seconds", str(seconds)), start("--as", "synth")
        route = ["-m", "puresignal.cli", "route", "--in", "kit:out", "--out", "synth:in", "--unmapped", "keep"]
        router = subprocess.Popen([sys.executable, *route], stderr=subprocess.DEVNULL)
        time.sleep(4)
        wire = client("wire")
        wire.connect("kit:out", "synth:direct")
        time.sleep(1)
        say(kit)
        print(f"{frames} frames, {seconds:.0f} s: {say(synth)}", flush=True)
        for one in (kit, synth, router):
            one.terminate()
            one.wait()
        running.stop()
        # Its server is gone, so this client is forgotten: the library does not survive that it is closed.
        wire._ptr = jack_library.binding(jack_library.PIPEWIRE)._ffi.NULL


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--as", dest="role")
    parser.add_argument("--seconds", type=float)
    parser.add_argument("--minutes", type=float, default=10)
    parser.add_argument("--frames", type=int)
    options = parser.parse_args()
    if options.role == "kit":
        player(options.seconds)
    elif options.role == "synth":
        receiver()
    elif options.frames:
        measure(options.frames, options.seconds or 60 * options.minutes)
    else:
        for frames in (64, 256, 1024):
            # A process for each: a PipeWire that has ended leaves its clients' library in no good state.
            command = [sys.executable, __file__, "--frames", str(frames), "--minutes", str(options.minutes)]
            subprocess.run(command, check=False)
    return 0


if __name__ == "__main__":
    # The clients of a PipeWire that has ended are never closed.
    code = main()
    sys.stdout.flush()
    os._exit(code)
