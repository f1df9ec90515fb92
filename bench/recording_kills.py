"""Kills -9 at random moments of recording a loop: what is lost of it, and are its passes whole?

`recording_kills.py [--minutes N] [--fresh]`: 3 minutes by default; what ran before is added up. Half of the kills end
every process at once, half only the one that records. What was played more than 50 ms before must be in the takes that
are rebuilt from the journal, in order, each hit in the round in which it was played; the session with them must open.
"""

from __future__ import annotations

import argparse
import contextlib
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent))

from bench.support.tally import Tally
from puresignal.core.midi import messages
from puresignal.core.session import recorded
from puresignal.core.session import session as edits
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import TakeRef
from puresignal.engine import kept_rings
from puresignal.io import journal, killed_recording, recorded_takes, session_file

VICTIM = Path(__file__).parent / "support" / "recording_victim.py"
SAFE_AFTER = 0.05
ENDED_WITHIN = 10.0
WHO = ("all", "recording alone")


def processes(folder: Path) -> list[int]:
    """All that runs with its state in a folder: each helper is in a session of its own."""
    found, mark = [], b"XDG_STATE_HOME=" + bytes(folder) + b"\0"
    for one in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError):
            if mark in (one / "environ").read_bytes():
                found.append(int(one.name))
    return found


def kill(seed: int, who: str, folder: Path) -> tuple[str, int, int]:
    """One kill: (what is wrong or empty, hits, passes)."""
    chance = random.Random(seed)
    where = {**os.environ, "XDG_STATE_HOME": str(folder), "JACK_DEFAULT_SERVER": "nobody-here"}
    memory = Path(tempfile.mkdtemp(dir="/dev/shm"))
    os.environ["XDG_RUNTIME_DIR"] = where["XDG_RUNTIME_DIR"] = str(memory)
    process = subprocess.Popen(
        [sys.executable, str(VICTIM), str(seed)], env=where, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
        text=True, start_new_session=True,
    )  # fmt: skip
    assert process.stdout is not None
    first = process.stdout.readline()
    time.sleep(chance.uniform(0.2, 3.0))
    others = processes(folder) if who == "all" else []
    killed_at = time.monotonic()
    process.kill()
    for one in others:
        with contextlib.suppress(ProcessLookupError):
            os.kill(one, signal.SIGKILL)
    rest = process.stdout.read()
    process.wait()
    # Killed alone, the others end by themselves, after they have written what they still had.
    until = time.monotonic() + ENDED_WITHIN
    while processes(folder) and time.monotonic() < until:
        time.sleep(0.02)
    # As the next start does.
    kept_rings.rescue()
    shutil.rmtree(memory, ignore_errors=True)
    played = [line.split() for line in (first + rest).split("\n") if line.count(" ") == 1]
    safe = sum(float(at) < killed_at - SAFE_AFTER for at, _ in played)
    return check(folder, safe, len(played))


def check(folder: Path, safe: int, played: int) -> tuple[str, int, int]:
    killed = killed_recording.find(folder / "pure-signal" / "journal", folder)
    if killed is None:
        # The transport had not begun to run: what was hit is on the sitting strip.
        return ("" if on_strip(folder) >= safe else "hits lost before the transport ran"), played, 0
    made = killed.takes(killed.inputs, ["take1"], 1)
    if not made:
        return ("" if safe == 0 else "no take"), played, 0
    events = made[0].take.events
    on = (events.status & 0xF0 == 0x90) & (events.data2 > 0)
    numbers = (events.data2[on].astype(int) - 1) * 128 + events.data1[on]
    if numbers.tolist() != list(range(len(numbers))):
        missing = sorted(set(range(len(numbers))) - set(numbers.tolist()))
        strip = f"on the strip {on_strip(folder)}"
        return f"hits are missing or out of order: {len(numbers)}, without {missing}, {strip}", played, 0
    if len(numbers) < safe:
        return f"{safe - len(numbers)} hits lost", played, 0
    wrong = rounds_wrong(killed, made[0], events.arrived[on])
    session = edits.with_take(
        Session(), TakeRef("take1", "Recorded", beat=made[0].beat, grid=made[0].grid, passes=made[0].passes)
    )
    path = folder / "a.puresignal"
    session_file.write(path, session, {"take1": made[0].take})
    opened = session_file.read(path)
    if opened.problems or len(opened.session.takes[0].passes) != len(made[0].passes):
        return "the session does not open as it was", played, 0
    return wrong, played, len(made[0].passes)


def on_strip(folder: Path) -> int:
    """Note-ons in the journal."""
    found = journal.sittings(folder / "pure-signal" / "journal")
    return sum(messages.is_note_on(data) for one in found for _, _, data in one.rows)


def rounds_wrong(killed: killed_recording.Killed, made: recorded_takes.Recorded, at: np.ndarray) -> str:
    """Whether each hit is in the pass of the round in which it was played."""
    rounds = [move.at for move in killed.moves if move.kind in (recorded.PLAY, recorded.ROUND)]
    begin = made.take.begun or 0.0
    if len(rounds) < 2:
        return ""
    # A hair before a round counts to it; those within a frame of that edge are not judged.
    edges = np.array(rounds[1:]) - min(recorded.AHEAD_SECONDS, 0.2 * recorded.AHEAD_BEATS)
    which = np.searchsorted(edges, at + begin, "right")
    clear = np.abs(at[:, None] + begin - edges[None, :]).min(axis=1) > 1e-3
    firsts = {round(one.begin, 6) for one in made.passes}
    got = np.searchsorted(sorted(firsts), at + 1e-9, "right") - 1
    used = np.unique(which[clear])
    same = [len(set(got[clear & (which == one)].tolist())) == 1 for one in used.tolist()]
    return "" if all(same) else "a hit is in another round's pass"


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--minutes", type=float, default=3.0)
    parser.add_argument("--fresh", action="store_true")
    options = parser.parse_args()
    tally = Tally("recording_kills", options.fresh)
    end = time.monotonic() + options.minutes * 60
    base = Path(tempfile.mkdtemp())
    number = 0
    while time.monotonic() < end:
        who = WHO[number % 2]
        number += 1
        folder = base / str(number)
        folder.mkdir()
        wrong, hits, passes = kill(random.SystemRandom().randrange(1 << 30), who, folder)
        tally.add(f"kills of {who}")
        tally.add("hits", hits)
        tally.add("passes", passes)
        if wrong:
            tally.add(f"wrong: {wrong.split(':')[0]}")
            print(f"{who}: {wrong} ({hits} hits)", flush=True)
        tally.store()
        shutil.rmtree(folder, ignore_errors=True)
    tally.print()
    return 0


if __name__ == "__main__":
    sys.exit(main())
