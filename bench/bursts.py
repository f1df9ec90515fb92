"""Bursts of 32 hits in one block of 64 frames, on a JACK server that waits for nobody, past the router.

The player and the receiver are processes of their own, so that they are late for nothing. Beside it a pass-through of
20 lines, and what a callback of Python costs by itself. `--bursts N`, 25 by default (800 hits); `--frames N`.
"""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

import jack

from tests.engine.conftest import until

EACH = 32
PAUSE = 40
"""Blocks between two bursts."""


def player(bursts: int) -> None:
    """Plays on "go", and prints the frames at which each message left."""
    client = jack.Client("kit", no_start_server=True, use_exact_name=True)
    out = client.midi_outports.register("out")
    sent, block, goes = [], [0], [False]
    rows = [[bytes((0x99, 61, 1 + i % 127)) if k % 2 == 0 else b"\x89\x3d\x00" for k in range(EACH)] for i in range(16)]

    @client.set_process_callback
    def process(frames: int) -> None:
        out.clear_buffer()
        if not goes[0] or len(sent) >= bursts * EACH:
            return
        block[0] += 1
        if block[0] % PAUSE == 0:
            first = client.last_frame_time
            for k, message in enumerate(rows[(block[0] // PAUSE) % len(rows)]):
                offset = k * frames // EACH
                out.write_midi_event(offset, message)
                sent.append(first + offset)

    with client:
        print("ready", flush=True)
        sys.stdin.readline()
        goes[0] = True
        until(lambda: len(sent) >= bursts * EACH, 60)
        time.sleep(0.3)
        print(json.dumps(sent), flush=True)
        sys.stdin.readline()


def receiver() -> None:
    """Prints the frames at which messages came, on a line of input."""
    client = jack.Client("synth", no_start_server=True, use_exact_name=True)
    inp = client.midi_inports.register("in")
    got, late = [], [0]

    @client.set_process_callback
    def process(_: int) -> None:
        first = client.last_frame_time
        got.extend(first + offset for offset, _ in inp.incoming_midi_events())

    @client.set_xrun_callback
    def dropped_out(_: float) -> None:
        late[0] += 1

    with client:
        print("ready", flush=True)
        sys.stdin.readline()
        print(json.dumps([got, late[0]]), flush=True)
        sys.stdin.readline()


def plain() -> None:
    client = jack.Client("plain", no_start_server=True, use_exact_name=True)
    inp, out = client.midi_inports.register("in"), client.midi_outports.register("out")

    @client.set_process_callback
    def process(_: int) -> None:
        out.clear_buffer()
        for offset, data in inp.incoming_midi_events():
            out.write_midi_event(offset, data)

    with client:
        client.connect("kit:out", inp)
        client.connect(out, "synth:in")
        print("ready", flush=True)
        sys.stdin.readline()


def idle(server: str) -> None:
    """Time taken by a Python callback that does nothing, and by a compiled one."""
    environment = {**os.environ, "JACK_DEFAULT_SERVER": server}
    code = (
        "import jack, time, resource\nc = jack.Client('empty', no_start_server=True)\n"
        "c.set_process_callback(lambda frames: None)\nc.activate()\ntime.sleep(0.5)\n"
        "a, at = time.process_time(), time.monotonic()\ntime.sleep(5)\n"
        "print(f'{100 * (time.process_time() - a) / (time.monotonic() - at):.1f}')\n"
    )
    python = subprocess.run([sys.executable, "-c", code], env=environment, capture_output=True, text=True).stdout
    # libc's function of one number stands for compiled work that does nothing.
    compiled = code.replace(
        "c.set_process_callback(lambda frames: None)",
        "f = jack._ffi.dlopen(None)\nimport cffi\nx = cffi.FFI()\nx.cdef('int abs(int);')\nl = x.dlopen(None)\n"
        "p = jack._ffi.cast('JackProcessCallback', int(x.cast('intptr_t', x.addressof(l, 'abs'))))\n"
        "jack._lib.jack_set_process_callback(c._ptr, p, jack._ffi.NULL)",
    )
    machine = subprocess.run([sys.executable, "-c", compiled], env=environment, capture_output=True, text=True)
    print(
        f"a callback that does nothing: in Python {python.strip()} % of a core, "
        f"compiled {machine.stdout.strip() or machine.stderr[-200:]} %",
        flush=True,
    )


def run(mode: str, bursts: int, frames: int) -> None:
    server = f"pure-signal-bench-{os.getpid()}"
    os.environ["JACK_DEFAULT_SERVER"] = server
    command = ["jackd", "-n", server, "-R", "-d", "dummy", "-r", "48000", "-p", str(frames)]
    jackd = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    time.sleep(1.5)
    if mode == "idle":
        idle(server)
        jackd.terminate()
        jackd.wait()
        return

    def start(*more: str) -> subprocess.Popen:
        child = subprocess.Popen(
            [sys.executable, __file__, *more], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )
        assert child.stdout.readline() == "ready\n"
        return child

    def say(child: subprocess.Popen) -> str:
        child.stdin.write("go\n")
        child.stdin.flush()
        return child.stdout.readline()

    kit, synth = start("--as", "kit", "--bursts", str(bursts)), start("--as", "synth")
    if mode == "plain":
        between = start("--as", "plain")
    else:
        maps = ["--source-map", "practice-five", "--target-map", "boathouse-room", "--faults", "keep"]
        route = ["-m", "puresignal.cli", "route", "--in", "kit:out", "--out", "synth:in", *maps]
        between = subprocess.Popen([sys.executable, *route], stderr=subprocess.DEVNULL)
        time.sleep(3)
    time.sleep(1)
    sent = json.loads(say(kit))
    got, late = json.loads(say(synth))
    late_by = sorted(b - a for a, b in zip(sent, got, strict=False)) if len(got) == len(sent) else []
    print(
        f"{mode}, {frames} frames: sent {len(sent)}, arrived {len(got)}, dropouts {late}"
        + (f", frames later: median {late_by[len(late_by) // 2]}, worst {late_by[-1]}" if late_by else ""),
        flush=True,
    )
    for one in (kit, synth, between, jackd):
        one.kill()
        one.wait()


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--as", dest="role")
    parser.add_argument("--bursts", type=int, default=25)
    parser.add_argument("--frames", type=int, default=64)
    options = parser.parse_args()
    if options.role == "kit":
        player(options.bursts)
    elif options.role == "synth":
        receiver()
    elif options.role == "plain":
        plain()
    else:
        for mode in ("idle", "plain", "route", "plain", "route"):
            run(mode, options.bursts, options.frames)
    return 0


if __name__ == "__main__":
    sys.exit(main())
