"""Cost of thousands of steps of the history: memory, time of an edit and of undo, and of storing after an edit."""

from __future__ import annotations

import sys
import tempfile
import time
import tracemalloc
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent))

from support.big_takes import kit_file

from puresignal.core.midi.standard_midi_file import to_take
from puresignal.core.path.verdicts import Verdict
from puresignal.core.session import session as edits
from puresignal.core.session.history import History
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import IMPORTED, TakeRef
from puresignal.io import midi_reader, session_file
from puresignal.io.work_folder import WorkFolder

TAKES, EACH, STEPS = 20, 5_000, 5_000


def main() -> None:
    content = kit_file(EACH)
    takes = {f"t{i}": to_take(midi_reader.parse(content, "big"), f"t{i}", f"t{i}", content) for i in range(TAKES)}
    session = Session(name="Quarter Past Ferry")
    for ident in takes:
        session = edits.with_take(session, TakeRef(ident, ident, kind=IMPORTED))
        session = edits.with_verdicts(session, ident, np.arange(EACH, dtype=np.int64), Verdict(keep=True))
    tracemalloc.start()
    history, begun = History(session), time.perf_counter()
    for i in range(STEPS):
        ident = f"t{i % TAKES}"
        if i % 2:
            after = edits.with_verdict(history.now, ident, i, Verdict(keep=False))
        else:
            after = edits.with_placed(history.now, ident, beat=float(i))
        history = history.do("edit", after)
    seconds = time.perf_counter() - begun
    held = tracemalloc.get_traced_memory()[0] / 1e6
    tracemalloc.stop()
    print(f"{STEPS} steps over {TAKES * EACH} verdicts: {held:.1f} MB, {1e6 * seconds / STEPS:.0f} µs a step")
    begun = time.perf_counter()
    million = edits.with_verdicts(history.now, "t0", np.arange(1_000_000, dtype=np.int64), Verdict(keep=False))
    history = history.do("a million notes", million)
    print(f"an edit of a million notes: {1000 * (time.perf_counter() - begun):.1f} ms", end=", ")
    begun = time.perf_counter()
    history = history.undo()
    print(f"its undo {1000 * (time.perf_counter() - begun):.2f} ms")
    with tempfile.TemporaryDirectory() as folder:
        work = WorkFolder(Path(folder) / "work")
        work.store(session, takes, None, True)
        times = []
        for i in range(20):
            session = edits.with_verdict(session, "t3", i, Verdict(keep=False))
            begun = time.perf_counter()
            work.store(session, takes, None, True)
            times.append(time.perf_counter() - begun)
        work.let_go()
        path = Path(folder) / "evening.puresignal"
        session_file.write(path, session, takes)
        begun = time.perf_counter()
        session_file.read(path)
        opening = time.perf_counter() - begun
    print(f"storing after an edit: median {1000 * sorted(times)[10]:.0f} ms; opening: {opening:.2f} s")


if __name__ == "__main__":
    main()
