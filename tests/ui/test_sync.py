"""Playing with another program: it starts, stops and moves the window's transport, and recording lines up with it."""

from __future__ import annotations

import threading
import time

import numpy as np
import pytest
from PySide6.QtCore import Qt

from puresignal.core.midi import messages
from puresignal.core.session import session as edits
from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.sync import CLOCK, Sync
from puresignal.io import ports

PERIOD = 60.0 / 110.0 / 24


class Master:
    """Sends a clock at 110 BPM into the window's router from a thread, as a device would, and plays along."""

    def __init__(self, live_session):
        self._live_session = live_session
        self.begin = 0.0
        self._told = threading.Event()
        self._thread = None

    def start(self, beats, hits=()):
        """hits: beats at which the pads are hit."""
        self.begin = time.monotonic() + 1.2
        rows = [(self.begin + n * PERIOD, ports.KEYBOARD, b"\xf8") for n in range(-40, round(beats * 24))]
        rows.append((self.begin - 0.008, ports.KEYBOARD, b"\xfa"))
        for at in (self.begin + beat * 24 * PERIOD for beat in hits):
            rows.append((at, ports.SCREEN_PADS, messages.note_on(10, 38, 90)))
            rows.append((at + 0.05, ports.SCREEN_PADS, messages.note_off(10, 38)))
        rows.append((self.begin + beats * 24 * PERIOD, ports.KEYBOARD, b"\xfc"))
        rows.sort()
        self._thread = threading.Thread(target=self._send, args=(rows,))
        self._thread.start()

    def _send(self, rows):
        for at, port, data in rows:
            time.sleep(max(0.0, at - time.monotonic()))
            # The exact moment goes with it, as a driver's time stamp would.
            self._live_session._router.play(port, data, at)

    def end(self):
        self._thread.join()


@pytest.fixture
def window(demo_window, monkeypatch, qtbot):
    """The demo session, which follows a clock from the keyboard's port."""
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    window = demo_window
    window.activateWindow()
    bench = window.services.workbench
    inputs = (LiveInput(ports.SCREEN_PADS, output=ports.SOUND, name="Pads"),)
    session = edits.with_inputs(edits.with_sync(bench.session, Sync(CLOCK, ports.KEYBOARD)), inputs)
    bench.do("sync", session)
    services = window.services
    qtbot.waitUntil(lambda: bool(services.live_session.state.get("inputs")), timeout=8000)
    yield window
    services.live_session.close()


def test_a_clock_starts_and_stops_the_window_and_its_tempo_is_shown(window, qtbot):
    services = window.services
    master = Master(services.live_session)
    master.start(4)
    qtbot.waitUntil(lambda: services.playback.playing, timeout=5000)
    qtbot.waitUntil(lambda: "110.0" in window.transport.sync.text(), timeout=3000)
    time.sleep(0.3)
    qtbot.wait(60)
    now = time.monotonic()
    beat = services.playback.beat_of(services.playback.heard_now())
    assert beat == pytest.approx((now - master.begin) / (24 * PERIOD), abs=0.12)
    qtbot.waitUntil(lambda: not services.playback.playing, timeout=5000)
    master.end()
    assert "110.0" in window.transport.sync.text()
    # The header shows the tempo that is followed, and leaves it alone.
    shown = window.header.time.tempo
    assert shown.text().startswith("110")
    assert shown.isReadOnly()
    before = services.workbench.session.timeline
    qtbot.keyClick(shown, Qt.Key.Key_Up)
    assert services.workbench.session.timeline == before
    services.workbench.do("own time", edits.with_sync(services.workbench.session, Sync()))
    qtbot.waitUntil(lambda: not shown.isReadOnly(), timeout=3000)
    assert not shown.text().startswith("110")


def test_recording_waits_for_start_and_stands_on_the_masters_beats(window, qtbot):
    services = window.services
    live, bench = services.live_session, services.workbench
    live.start()
    qtbot.waitUntil(lambda: live.listening and bool(live.state.get("inputs")), timeout=8000)
    before = len(bench.session.takes)
    qtbot.mouseClick(window.transport.record, Qt.MouseButton.LeftButton)
    assert window.display.words()[0] == "Waiting for Start"
    master = Master(live)
    master.start(10, hits=(4, 5, 6.5, 8))
    qtbot.waitUntil(lambda: services.capture.state == "recording", timeout=6000)
    qtbot.waitUntil(lambda: not services.capture.running, timeout=12_000)
    master.end()
    assert len(bench.session.takes) == before + 1
    ref = bench.session.takes[-1]
    take = bench.store[ref.material]
    on = (take.events.status & 0xF0 == 0x90) & (take.events.data2 > 0)
    beats = ref.beat + ref.grid.seconds_to_beats(take.events.arrived[on])
    assert beats == pytest.approx(np.array([4, 5, 6.5, 8]), abs=0.03)


def test_the_dialog_sets_it_and_undo_takes_it_back(window, qtbot):
    window.show_sync()
    dialog = window._sync
    dialog.follow.setFocus()
    qtbot.keyClick(dialog.follow, Qt.Key.Key_Home)
    dialog.follow.activated.emit(dialog.follow.currentIndex())
    bench = window.services.workbench
    assert bench.session.sync.follow == "own"
    assert not window.transport.sync.isVisible()
    bench.undo()
    assert bench.session.sync == Sync(CLOCK, ports.KEYBOARD)
    assert window.transport.sync.isVisible()
