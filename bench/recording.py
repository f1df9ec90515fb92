"""Recorded against sent times over minutes of loop rounds, and the click's onsets, on a JACK server and on PipeWire.

`recording.py [--minutes N] [--system jack|pipewire]`: 10 minutes on each unless told otherwise. A player hears the
click of `pure-signal record --loop` and hits three quarters of a beat after each, to the frame. Blocks that the
machine took from the player are counted: hits that were due in one are late by its own doing.
"""

from __future__ import annotations

import argparse
import os
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent))

from puresignal.core.export.session_result import SessionResult
from puresignal.io import jack_library, session_file
from tests.engine.conftest import PipeWire, Server, until
from tests.engine.test_record_command import AFTER, BEAT, Ear, Hand

RATE = 48_000


def record(minutes: float, folder: Path, binding: object = None) -> None:
    hand = Hand("hand", binding)
    ear = Ear("ear", hand, binding)
    target = folder / "loop.puresignal"
    command = [
        sys.executable, "-m", "puresignal.cli", "record", "--in", "hand:out", "--out", str(target), "--tempo", "240",
        "--bars", "2", "--loop", "--count-in", "0", "--click", "ear:in", "--faults", "keep",
    ]  # fmt: skip
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    until(lambda: len(ear.clicks) > 2, 60, "the click")
    end = time.monotonic() + minutes * 60
    while time.monotonic() < end and process.poll() is None:
        time.sleep(0.2)
    process.send_signal(signal.SIGINT)
    process.wait(120)
    report(target, ear, hand)
    ear.close()
    hand.close()


def report(target: Path, ear: Ear, hand: Hand) -> None:
    frames = np.array([frame for frame, _ in ear.clicks])
    # By rounds of eight beats from the first click on.
    off = (frames - frames[0]) - np.arange(len(frames)) * BEAT
    print(f"click: {len(frames)} onsets, {np.mean(np.abs(off) <= 1):.4%} within a frame of their beat, "
          f"furthest {np.abs(off).max()} frames")  # fmt: skip
    opened = session_file.read(target)
    session, takes = opened.session, {take.ident: take for take in opened.takes}
    made = SessionResult().together(session, session.takes, takes)
    # As played: hits that lie over each other, as these do, leave as one.
    notes = made.outcome.input_notes
    beats = made.timeline.seconds_to_beats(notes.start - made.shift)
    away = np.abs(beats % 1 - AFTER / BEAT)
    away = np.minimum(away, 1 - away) * BEAT
    rounds = len(session.takes[0].passes)
    print(f"recorded: {len(beats)} hits in {rounds} rounds, {np.mean(away <= 1.5):.4%} within a frame of where "
          f"they were sent, furthest {away.max():.0f} frames; "
          f"the player was late {hand.late + ear.late} times")  # fmt: skip


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--minutes", type=float, default=10.0)
    parser.add_argument("--system", choices=("jack", "pipewire"), action="append")
    options = parser.parse_args()
    sys.setswitchinterval(0.0005)
    for system in options.system or ("jack", "pipewire"):
        print(f"-- {system}", flush=True)
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            os.environ["XDG_STATE_HOME"] = str(folder / "state")
            if system == "jack":
                server = Server(f"pure-signal-bench-{os.getpid()}")
                os.environ["JACK_DEFAULT_SERVER"] = server.name
                server.start()
                record(options.minutes, folder)
                server.stop()
                continue
            os.environ["JACK_DEFAULT_SERVER"] = "nobody-here"
            os.environ["XDG_RUNTIME_DIR"] = str(folder / "run")
            running = PipeWire(folder)
            os.environ["DBUS_SESSION_BUS_ADDRESS"] = running.environment["DBUS_SESSION_BUS_ADDRESS"]
            os.environ["PIPEWIRE_LATENCY"] = "256/48000"
            record(options.minutes, folder, jack_library.binding(jack_library.PIPEWIRE))
            running.stop()
    return 0


if __name__ == "__main__":
    sys.exit(main())
