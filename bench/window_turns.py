"""The longest turn of the window's event loop on a take of 10,000 notes: settings dragged, things clicked.

A turn is what keeps the window from answering: from an event until everything that it set off is done and painted.
"""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Callable
from pathlib import Path

os.environ["QT_QPA_PLATFORM"] = "offscreen"

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

sys.path.insert(0, str(Path(__file__).parent))

from support.big_takes import kit_file

from puresignal.core.midi.standard_midi_file import to_take
from puresignal.io import midi_reader, note_map_file
from puresignal.ui.shell.main_window import MainWindow
from puresignal.ui.state.workbench import Workbench
from puresignal.ui.widgets import theme

NOTES = 10_000


class Turns:
    """Does things, each followed by all that it sets off, and keeps how long each took."""

    def __init__(self, app: QApplication):
        self._app = app
        self.worst: dict[str, list[float]] = {}

    def of(self, name: str, act: Callable[[], object]) -> None:
        began = time.perf_counter()
        act()
        self._app.processEvents()
        self.worst.setdefault(name, []).append(1000 * (time.perf_counter() - began))

    def tell(self) -> None:
        for name, times in self.worst.items():
            print(f"{name:<40} median {np.median(times):6.1f} ms, worst {max(times):6.1f} ms of {len(times)}")
        print(f"{'all':<40} worst {max(max(times) for times in self.worst.values()):.1f} ms")


def main() -> None:
    app = QApplication([])
    theme.load_fonts()
    theme.apply(app, theme.LIGHT)
    bench = Workbench()
    window = MainWindow(bench, "Takes")
    window.resize(1280, 800)
    window.show()
    take = to_take(midi_reader.parse(kit_file(NOTES), "bench.mid"), "t", "bench")
    bench.add_take(take, note_map_file.shipped("practice-five"), "open")
    window.make_views_when_idle()
    # The window is up for some seconds before anybody clicks.
    end = time.monotonic() + 4
    while time.monotonic() < end:
        app.processEvents()
        time.sleep(0.005)
    turns = Turns(app)
    for name in (*window.view_names, *window.view_names):
        turns.of("view shown", lambda n=name: QTest.mouseClick(window.header.buttons[n], Qt.MouseButton.LeftButton))
    window.show_view("Takes")
    app.processEvents()
    for (stage, setting), control in window.takes.path.controls.items():
        slider = control.slider
        for step in range(8):
            value = (slider.value() + 1 + step * max(1, slider.maximum() // 20)) % (slider.maximum() + 1)
            turns.of(f"dragged in Takes: {stage}.{setting}", lambda s=slider, v=value: s.setValue(v))
    for key, box in window.takes.path.boxes.items():
        if box.box is not None:
            turns.of(f"stage switched: {key}", box.box.click)
            turns.of(f"stage switched: {key}", box.box.click)
    view = window.takes.timeline.viewport()
    random = np.random.default_rng(1)
    for _ in range(20):
        at = QPoint(int(random.integers(230, view.width() - 10)), int(random.integers(40, view.height() - 60)))
        turns.of("click in the timeline", lambda p=at: QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=p))
    for figure in list(window.strip.figures.values()):
        turns.of("figure of the tally", figure.click)
    for key in ("undo", "redo") * 4:
        turns.of("undo and redo", getattr(bench, key))
    window.show_view("Velocity")
    for name, knob in window.velocity.knobs.items():
        for step in range(4):
            slider = knob.slider
            value = (slider.value() + 3 + 7 * step) % (slider.maximum() + 1)
            turns.of(f"dragged in Velocity: {name}", lambda s=slider, v=value: s.setValue(v))
    window.show_view("Outputs")
    for row in range(window.outputs.model.rowCount()):
        turns.of("track selected", lambda r=row: window.outputs.table.selectRow(r))
        turns.of("track muted", lambda: QTest.keyClick(window.outputs.table, Qt.Key.Key_M))
    window.show_view("Mapping")
    for node in window.mapping.ribbons.nodes[:12]:
        at = node.box.center().toPoint()
        turns.of("name clicked in Mapping", lambda p=at: QTest.mouseClick(
            window.mapping.ribbons, Qt.MouseButton.LeftButton, pos=p))  # fmt: skip
    turns.tell()
    window.close()


if __name__ == "__main__":
    main()
