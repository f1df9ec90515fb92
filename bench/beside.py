"""A window on 20 takes with 100,000 notes while a setting is dragged: how long it stands still, how late it shows.

The window's own turns are measured by a timer that wants to run each millisecond; each step of the drag is followed by
painting the sheet. Printed are the longest time in which the window did nothing else, and the time from a step to the
moment at which its result is on the sheet.
"""

from __future__ import annotations

import os
import statistics
import sys
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

os.environ["QT_QPA_PLATFORM"] = "offscreen"
os.environ.setdefault("JACK_DEFAULT_SERVER", "nobody-here")
sys.path.insert(0, str(Path(__file__).parent))

import numpy as np
from PySide6.QtCore import QPointF, Qt, QTimer
from PySide6.QtGui import QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication
from support.big_takes import kit_file

from puresignal.core.midi.standard_midi_file import to_take
from puresignal.core.path.cleaning_path import CleaningPath
from puresignal.core.path.scoped import Scoped
from puresignal.core.path.velocity_curve import Shape
from puresignal.core.session import session as edits
from puresignal.io import midi_reader, note_map_file
from puresignal.ui.shell import app as shell
from puresignal.ui.shell.main_window import MainWindow
from puresignal.ui.state.workbench import Workbench

TAKES, NOTES, STEPS = 20, 5_000, 25
EVERY_MS = 60


def big_window() -> MainWindow:
    """Twenty takes of a kit, all of them in."""
    bench = Workbench()
    source = note_map_file.shipped("practice-five")
    takes = []
    for number in range(TAKES):
        take = to_take(midi_reader.parse(kit_file(NOTES), "bench.mid"), f"t{number}", f"take {number + 1}")
        takes.append(take)
        bench.store.add(take)
    session = bench.session
    for take in takes:
        session = edits.with_take(session, replace(bench.ref_for(take, source), beat=0.0))
    window = MainWindow(bench)
    window.resize(1280, 800)
    bench.do("add", session)
    window.show_view("Takes")
    window.show()
    QTest.qWait(500)
    return window


class Pulse:
    """The times between turns of the event loop."""

    def __init__(self) -> None:
        self.gaps: list[float] = []
        self._last = 0.0
        self._timer = QTimer()
        self._timer.setInterval(1)
        self._timer.timeout.connect(self._beat)

    def __enter__(self) -> Pulse:
        self.gaps, self._last = [], time.perf_counter()
        self._timer.start()
        return self

    def _beat(self) -> None:
        now = time.perf_counter()
        self.gaps.append(now - self._last)
        self._last = now

    def __exit__(self, *_: object) -> None:
        self._timer.stop()


def drag(window: MainWindow, name: str, path_at: Callable[[CleaningPath, int], CleaningPath]) -> None:
    bench, shown, turns = window.workbench, [], []
    timeline = window.takes.timeline
    pulse = Pulse()
    with pulse:
        for step in range(STEPS):
            before, begun = bench.whole, time.perf_counter()
            bench.do(name, edits.with_path(bench.session, path_at(bench.session.path, step)), "drag")
            timeline.viewport().repaint()
            turns.append(time.perf_counter() - begun)
            while bench.whole is before and time.perf_counter() - begun < 5:
                QTest.qWait(1)
            timeline.viewport().repaint()
            shown.append(time.perf_counter() - begun)
            QTest.qWait(EVERY_MS)
    gaps = sorted(pulse.gaps, reverse=True)
    print(
        f"{name:28} own turn median {1000 * statistics.median(turns):5.0f} ms, worst {1000 * max(turns):4.0f}; "
        f"longest without answer {1000 * gaps[0]:4.0f}, 99 % {1000 * float(np.percentile(pulse.gaps, 99)):4.0f}; "
        f"on the sheet after {1000 * statistics.median(shown):4.0f}, worst {1000 * max(shown):4.0f}"
    )


def paint(window: MainWindow) -> None:
    """Painting the sheet at random places and zooms."""
    random, timeline = np.random.default_rng(1), window.takes.timeline
    length, times = window.workbench.whole.take.length, []
    for i in range(150):
        span = length if i == 0 else float(np.exp(random.uniform(np.log(1.0), np.log(length))))
        timeline.axis.scale = timeline.axis.width / span
        timeline.axis.begin = random.uniform(0, max(0.0, length - span))
        timeline.verticalScrollBar().setValue(int(random.uniform(0, timeline.verticalScrollBar().maximum() + 1)))
        begun = time.perf_counter()
        timeline.viewport().repaint()
        times.append(time.perf_counter() - begun)
    print(f"painting: median {1000 * statistics.median(times):.1f} ms, worst {1000 * max(times):.1f}")


def drag_note(window: MainWindow) -> None:
    """A note under the pointer follows it; then its result, and undo."""
    bench, timeline = window.workbench, window.takes.timeline
    port, left = timeline.viewport(), Qt.MouseButton.LeftButton
    timeline.show_all()
    timeline.verticalScrollBar().setValue(0)
    timeline.axis.scale = timeline.axis.width / 8.0
    port.repaint()
    _, row, top, tall = next(
        one
        for one in timeline.row_layout.rows()
        if len(one.row.clean_start) > 200 and 120 < one.top < port.height() - 120
    )
    i = len(row.clean_start) // 2
    timeline.axis.begin = float(row.clean_start[i]) - 2.0
    port.repaint()
    at = QPointF(timeline.axis.x_of(float(row.clean_start[i])) + 1, top + tall - 14)
    timeline.select(np.array([int(row.clean_origin[i])]))

    def mouse(kind: QMouseEvent.Type, where: QPointF, button: Qt.MouseButton) -> None:
        QApplication.sendEvent(port, QMouseEvent(kind, where, port.mapToGlobal(where), button, left,
                                                 Qt.KeyboardModifier.NoModifier))  # fmt: skip

    mouse(QMouseEvent.Type.MouseButtonPress, at, left)
    times = []
    for step in range(60):
        begun = time.perf_counter()
        mouse(QMouseEvent.Type.MouseMove, at + QPointF(2.0 * step, 0), Qt.MouseButton.NoButton)
        port.repaint()
        times.append(time.perf_counter() - begun)
    before, begun = bench.whole, time.perf_counter()
    mouse(QMouseEvent.Type.MouseButtonRelease, at + QPointF(120.0, 0), left)
    own = time.perf_counter() - begun
    while bench.whole is before and time.perf_counter() - begun < 5:
        QTest.qWait(1)
    result, begun = time.perf_counter() - begun, time.perf_counter()
    if bench.whole is before:
        print("a note dragged: nothing was under the pointer")
        return
    bench.undo()
    undone = time.perf_counter() - begun
    print(
        f"a note dragged: follows in {1000 * statistics.median(times):.1f} ms, worst {1000 * max(times):.1f}; "
        f"its result after {1000 * result:.0f} ms, the window's turn {1000 * own:.0f}; undo {1000 * undone:.0f}"
    )


def switch(window: MainWindow, on: bool) -> None:
    bench = window.workbench
    bench.do("quantise", edits.with_path(bench.session, bench.session.path.switched("timing", on)))
    QTest.qWait(2500)


def main() -> None:
    app = shell._application()
    window = big_window()
    assert app is not None
    paint(window)
    for how, threshold in (("in the window", 1 << 40), ("beside it", 20_000)):
        window.workbench.beside_from = threshold
        print(f"worked out {how}:")
        drag(window, "velocity", lambda path, i: replace(
            path, velocity=replace(path.velocity, shapes=(("*", Shape(scale=0.5 + 0.02 * i)),))))  # fmt: skip
        drag(window, "window of double triggers", lambda path, i: path.with_setting("doubles", "window_ms", 50.0 + i))
        switch(window, True)
        drag(window, "strength of quantise", lambda path, i: path.with_setting(
            "timing", "strength", Scoped(0.3 + 0.02 * i)))  # fmt: skip
        switch(window, False)
        for _ in range(2):
            drag_note(window)
            QTest.qWait(1500)
    window.close()


if __name__ == "__main__":
    main()
