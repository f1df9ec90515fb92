"""The touch surface: from a finger's event in the window to the router's ring, with everything that hangs on a touch.

    ./run bench touch

Ten fingers, 200 events a second, on the real window, measured from the moment at which the window is handed the event.
The events are those of Qt's test device: what a touch screen's driver adds, and how long an event waits while the
window is busy with something else, is not measured. A note leaves one block later.
"""

from __future__ import annotations

import os
import statistics
import time

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from puresignal.core.touch.surface import WAYS
from puresignal.io import ports
from puresignal.ui.inputs.found_ports import add_input
from puresignal.ui.shell.demo_window import demo_window

SECONDS, FINGERS, A_SECOND = 12.0, 10, 200


def main() -> None:
    app = QApplication.instance() or QApplication([])
    window = demo_window()
    window.tells_kept = window.asks_before_closing = False
    window.resize(1280, 800)
    window.show()
    live, touch = window.services.live_session, window.services.touch
    add_input(window.services, ports.TOUCH)
    end = time.monotonic() + 20
    while not live.state.get("inputs") and time.monotonic() < end:
        app.processEvents()
    device = QTest.createTouchDevice()
    sheet = window.view("Inputs").touch.sheet
    play, began, delays = live.play, [0.0], []

    def noted(port: str, message: bytes, at: float | None = None) -> None:
        play(port, message, at)
        delays.append(1000 * (time.perf_counter() - began[0]))

    live.play = noted  # type: ignore[method-assign]
    for way in WAYS:
        touch.set(way=way, rows=4, columns=8, slide="stay")
        app.processEvents()
        places = [sheet.box(cell).center().toPoint() for cell in touch.player.cells[:FINGERS]]
        delays.clear()
        due = time.perf_counter()
        while len(delays) < SECONDS * A_SECOND / len(WAYS):
            for down in (True, False):
                for finger, place in enumerate(places):
                    due += 1 / A_SECOND
                    while time.perf_counter() < due:
                        app.processEvents()
                        time.sleep(0.0003)
                    began[0] = time.perf_counter()
                    sequence = QTest.touchEvent(sheet, device, False)
                    (sequence.press if down else sequence.release)(finger, place, sheet)
                    for other in range(len(places)):
                        if (other < finger) == down and other != finger:
                            sequence.stationary(other)
                    sequence.commit(False)
        ordered = sorted(delays)
        print(
            f"{way:8} {len(ordered):5} messages: median {statistics.median(ordered):.2f} ms,"
            f" 99 % {ordered[int(0.99 * (len(ordered) - 1))]:.2f} ms, worst {ordered[-1]:.2f} ms"
        )
    live.close()
    window.close()


if __name__ == "__main__":
    main()
