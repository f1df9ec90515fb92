"""A window at full rate on a 100,000-note take, with an analysis in its process; started by bench/route.py.

Says "ready" when it is busy, and how often it painted when its input closes.
"""

from __future__ import annotations

import sys
import threading
import time
from pathlib import Path

import numpy as np
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication

sys.path.insert(0, str(Path(__file__).parent.parent))
from support.big_window import big_window


def main() -> None:
    app = QApplication([])
    window = big_window()
    window.resize(1280, 800)
    window.show_view("Takes")
    window.show()
    timeline = window.takes.timeline
    length = window.workbench.shown.take.length
    painted = [0]
    ended = threading.Event()

    def paint() -> None:
        timeline.axis.begin = (painted[0] * 0.37) % (length - 10)
        timeline.axis.scale = timeline.axis.width / 10
        timeline.viewport().repaint()
        painted[0] += 1
        if ended.is_set():
            app.quit()

    def analyse() -> None:
        random = np.random.default_rng(1)
        while not ended.is_set():
            np.fft.rfft(random.normal(size=(64, 8192))).sum()

    def wait() -> None:
        sys.stdin.read()
        ended.set()

    for work in (wait,) if "--no-analysis" in sys.argv else (analyse, wait):
        threading.Thread(target=work, daemon=True).start()
    timer = QTimer()
    timer.timeout.connect(paint)
    timer.start(0)
    print("ready", flush=True)
    began = time.monotonic()
    app.exec()
    print(f"{painted[0] / (time.monotonic() - began):.0f} paintings a second", flush=True)


if __name__ == "__main__":
    main()
