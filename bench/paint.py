"""Painting Takes with 100,000 notes: random zoom and scroll, uncached, at 1x and 2x; and changing a setting."""

from __future__ import annotations

import os
import sys
import time

os.environ["QT_QPA_PLATFORM"] = "offscreen"

import numpy as np
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QApplication
from support.big_window import big_window

from puresignal.core.session import session as edits
from puresignal.demo import demo_session as demo
from puresignal.ui.shell.main_window import MainWindow
from puresignal.ui.state.workbench import Workbench
from puresignal.ui.takes import row_painter
from puresignal.ui.widgets import theme


def painting(app: QApplication, window: MainWindow, ratio: float) -> None:
    random = np.random.default_rng(1)
    timeline = window.takes.timeline
    length = window.workbench.shown.take.length
    view = timeline.viewport()
    image = QImage(view.size() * ratio, QImage.Format.Format_RGB32)
    image.setDevicePixelRatio(ratio)
    times, most = [], 0
    for i in range(200):
        span = length if i == 0 else float(np.exp(random.uniform(np.log(1.0), np.log(length))))
        timeline.axis.scale = timeline.axis.width / span
        timeline.axis.begin = random.uniform(0, max(0.0, length - span))
        timeline.verticalScrollBar().setValue(int(random.uniform(0, timeline.verticalScrollBar().maximum() + 1)))
        timeline.row_layout.show = (row_painter.BOTH, row_painter.CLEAN, row_painter.PLAYED)[i % 3]
        begin, end = timeline.axis.seconds_in_view()
        inside = sum(int(np.diff(np.searchsorted(row.start, (begin, end)))[0]) for row in timeline.rows())
        most = max(most, inside)
        began = time.perf_counter()
        view.render(image)
        times.append(1000 * (time.perf_counter() - began))
    print(
        f"painting at {ratio:g}x, {view.width()}x{view.height()}, up to {most} notes in view: "
        f"median {np.median(times):.1f} ms, 99 % {np.percentile(times, 99):.1f}, worst {max(times):.1f}"
    )


def setting(app: QApplication, window: MainWindow, name: str) -> None:
    bench = window.workbench
    times = []
    for i in range(30):
        path = bench.session.path
        ratio = 0.4 + 0.01 * (i % 30)
        edit = edits.with_path(bench.session, type(path)(doubles=type(path.doubles)(True, 35.0, ratio)))
        began = time.perf_counter()
        bench.do("bench", edit, "drag")
        window.takes.timeline.viewport().repaint()
        app.processEvents()
        times.append(1000 * (time.perf_counter() - began))
    print(f"a setting moved on {name}: median {np.median(times[1:]):.1f} ms, worst {max(times[1:]):.1f}")


def main() -> None:
    app = QApplication(sys.argv[:1])
    theme.load_fonts()
    theme.apply(app, theme.LIGHT)
    window = big_window()
    window.resize(1280, 800)
    window.show_view("Takes")
    window.show()
    app.processEvents()
    for ratio in (1.0, 2.0):
        painting(app, window, ratio)
    window.resize(2200, 1300)
    app.processEvents()
    painting(app, window, 2.0)
    window.resize(1280, 800)
    setting(app, window, "100,000 notes")
    small = MainWindow(Workbench())
    small.workbench.show_session(*demo.build())
    small.show_view("Takes")
    small.show()
    app.processEvents()
    setting(app, small, "the demo take")


if __name__ == "__main__":
    main()
