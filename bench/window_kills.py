"""Kills -9 of the window at random moments of editing, first store, saving and recovering: what is lost, or deleted?

`window_kills.py [--minutes N] [--fresh]`: 3 minutes by default; what ran before is added up. Each window continues with
what the one before left. Everything done more than a second before the kill has to be there afterwards: in the unsaved
work that the program offers, or in the session that was saved. The windows are offscreen, forked from one process that
has loaded everything, so that a kill takes a second and not three.
"""

from __future__ import annotations

import argparse
import os
import random
import signal
import sys
import tempfile
import time
from pathlib import Path
from typing import NamedTuple

os.environ["QT_QPA_PLATFORM"] = "offscreen"
sys.path.insert(0, str(Path(__file__).parent.parent))

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication

from bench.support.tally import Tally
from puresignal.core.errors import PureSignalError
from puresignal.core.session import session as edits
from puresignal.io import note_map_file, session_file, work_folder, xdg_folders
from puresignal.sim import drum_module, drummer
from puresignal.ui.shell.main_window import MainWindow
from puresignal.ui.state.workbench import Workbench

KIT = note_map_file.shipped("practice-five")
SENT = drum_module.DrumModule(KIT, drum_module.Faults.usual(), 1).perform(drummer.improvise(4, 92, 1))
SAFE_AFTER = 1.0
"""Seconds after which nothing may be lost."""


class Done(NamedTuple):
    """The last action: number of the edit, number of takes."""

    edit: int
    takes: int

    def with_more(self, edit: int, takes: int) -> Done:
        return Done(max(self.edit, edit), max(self.takes, takes))


def number_of(name: str) -> int:
    return int(name.removeprefix("edit ")) if name.startswith("edit ") else 0


def window(told: int, saved: Path, draw: random.Random) -> None:
    """Edit, add takes and save until killed. told: where each thing done is noted, with its time."""
    app = QApplication([])
    bench = Workbench()
    made = MainWindow(bench)
    made.show()
    left = work_folder.leftovers()
    if left:
        made.files.recover(left[0])
    elif saved.exists():
        made.open_files([saved])

    def act() -> None:
        number = number_of(bench.session.name) + 1
        sort = draw.random()
        if sort < 0.1 and len(bench.takes()) < 12:
            bench.add_take(drum_module.to_take(SENT, bench.store.free_ident(), f"take {number}", 92, "kit"), KIT, "add")
        bench.do(f"edit {number}", edits.with_name(bench.session, f"edit {number}"))
        # As a player would, who looks at what was recovered before saving over something newer.
        if sort > 0.9 and number > number_of(session_file.read(saved).session.name if saved.exists() else ""):
            made.files.save_session_to(saved)
        os.write(told, f"{time.monotonic()} {number} {len(bench.takes())}\n".encode())
        QTimer.singleShot(draw.choice((1, 10, 40, 150, 250)), act)

    act()
    app.exec()


def found_after(saved: Path) -> tuple[Done, int]:
    """The newest of what is there, and the number of folders that cannot be recovered."""
    best, broken = Done(0, 0), 0
    for left in work_folder.leftovers():
        try:
            opened = work_folder.recover(left)
        except PureSignalError:
            broken += 1
            continue
        best = best.with_more(number_of(opened.session.name), len(opened.takes))
    if saved.exists():
        opened = session_file.read(saved)
        best = best.with_more(number_of(opened.session.name), len(opened.takes))
    return best, broken


def once(saved: Path, draw: random.Random, tally: Tally) -> None:
    """Start a window, kill it, and look at what is there."""
    before, _ = found_after(saved)
    ours, theirs = os.pipe()
    child = os.fork()
    if not child:
        os.close(ours)
        window(theirs, saved, random.Random(draw.randrange(1 << 30)))
        os._exit(0)
    os.close(theirs)
    # Some are killed while they start and recover.
    time.sleep(draw.choice((draw.uniform(0.0, 1.2), draw.uniform(0.8, 3.5))))
    os.kill(child, signal.SIGKILL)
    killed = time.monotonic()
    os.waitpid(child, 0)
    with os.fdopen(ours) as file:
        rows = [line.split() for line in file.read().splitlines()]
    rows = [row for row in rows if len(row) == 3]
    safe = [Done(int(n), int(takes)) for at, n, takes in rows if float(at) < killed - SAFE_AFTER]
    wanted = max([before, *safe])
    found, broken = found_after(saved)
    tally.add("kills")
    tally.add("kills before the first edit", not rows)
    tally.add("edits", len(rows))
    tally.add("LOST", found.edit < wanted.edit or found.takes < wanted.takes)
    tally.add("CANNOT BE RECOVERED", broken)
    aside = xdg_folders.state() / "aside"
    tally.most("set aside", len(list(aside.iterdir())) if aside.exists() else 0)
    if found.edit < wanted.edit or found.takes < wanted.takes:
        print(f"lost: wanted {wanted}, found {found}", flush=True)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--minutes", type=float, default=3.0)
    parser.add_argument("--fresh", action="store_true")
    options = parser.parse_args()
    end = time.monotonic() + 60 * options.minutes
    tally, draw = Tally("window_kills", options.fresh), random.Random()
    while time.monotonic() < end:
        with tempfile.TemporaryDirectory() as name:
            for variable in ("XDG_STATE_HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_CACHE_HOME"):
                os.environ[variable] = name
            for _ in range(25):
                if time.monotonic() < end:
                    once(Path(name) / "evening.puresignal", draw, tally)
        tally.store()
    tally.print()


if __name__ == "__main__":
    main()
