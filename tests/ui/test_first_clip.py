"""From a kit that is plugged in to a clip dragged out: every action a real click, key or drag, and counted."""

from __future__ import annotations

import time

import mido
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication

from puresignal.ui.outputs import clip_export
from puresignal.ui.state import capture
from tests.engine.conftest import peers, prompt, server  # noqa: F401 - fixtures
from tests.ui.test_live import play

MOST_ACTIONS = 12


class Hands:
    """Does what a person does, and counts it."""

    def __init__(self, window, qtbot):
        self.window, self.qtbot = window, qtbot
        self.done: list[str] = []

    def click(self, widget, what):
        self.qtbot.waitUntil(lambda: widget.isVisible() and widget.isEnabled(), timeout=8000)
        inside = widget.rect().center()
        found = self.window.childAt(widget.mapTo(self.window, inside))
        assert found is widget or widget.isAncestorOf(found), f"{what} is out of sight"
        self.qtbot.mouseClick(widget, Qt.MouseButton.LeftButton, pos=inside)
        self.done.append(what)

    def choose(self, combo, text, what):
        """Opening a list is one click, its line another."""
        self.click(combo, f"{what}: list")
        view = combo.view()
        self.qtbot.waitUntil(view.isVisible, timeout=3000)
        row = next(i for i in range(combo.count()) if text in combo.itemText(i))
        view.scrollTo(combo.model().index(row, 0))
        rect = view.visualRect(combo.model().index(row, 0))
        # The list takes a click only a moment after it has opened.
        self.qtbot.wait(QApplication.doubleClickInterval() + 50)
        self.qtbot.mouseMove(view.viewport(), rect.center())
        self.qtbot.mouseClick(view.viewport(), Qt.MouseButton.LeftButton, pos=rect.center())
        self.qtbot.waitUntil(lambda: text in combo.currentText(), timeout=3000)
        self.done.append(f"{what}: {text}")

    def key(self, key, modifier=Qt.KeyboardModifier.NoModifier, what=""):
        self.qtbot.keyClick(self.window, key, modifier)
        self.done.append(what)

    def drag(self, widget, what):
        """Far enough for it to be a drag."""
        middle = widget.rect().center()
        self.qtbot.mousePress(widget, Qt.MouseButton.LeftButton, pos=middle)
        for way in (4, 12):
            self.qtbot.mouseMove(widget, middle + QPoint(way, 0))
        self.qtbot.mouseRelease(widget, Qt.MouseButton.LeftButton, pos=middle + QPoint(12, 0))
        self.done.append(what)


def test_from_plugging_in_to_a_dragged_clip_takes_twelve_actions_at_most(window, peers, qtbot, monkeypatch):  # noqa: F811
    kit = peers("practice kit")
    began = time.monotonic()
    hands = Hands(window, qtbot)
    window.activateWindow()
    # What is dragged is a file; where it is dropped is another program's.
    dragged = []
    monkeypatch.setattr(clip_export.ClipHandle, "drag", lambda _, path: dragged.append(path))
    window.show_view("Inputs")
    panel = window.inputs.live
    qtbot.waitUntil(lambda: panel.source_port.findData("practice kit:out") >= 0, timeout=8000)
    hands.choose(panel.source_port, "practice kit", "kit")
    if not panel.listen.isChecked():
        hands.click(panel.listen, "listen")
    qtbot.waitUntil(lambda: panel.says.text() == "Listening", timeout=8000)
    hands.key(Qt.Key.Key_R, what="record")
    qtbot.waitUntil(lambda: window.services.capture.state == capture.RECORDING, timeout=15_000)
    for note in (36, 38, 36, 38, 36):
        play(kit, qtbot, note, 90)
        qtbot.wait(120)
    hands.key(Qt.Key.Key_R, what="stop")
    qtbot.waitUntil(lambda: len(window.workbench.session.takes) == 1, timeout=8000)
    hands.key(Qt.Key.Key_5, Qt.KeyboardModifier.ControlModifier, what="outputs")
    handle = window.outputs.handle
    qtbot.waitUntil(lambda: handle.isVisible() and handle.isEnabled(), timeout=3000)
    hands.drag(handle, "drag")
    took = time.monotonic() - began
    assert len(dragged) == 1
    notes = [m.note for m in mido.MidiFile(dragged[0]) if m.type == "note_on" and m.velocity]
    assert notes == [36, 38, 36, 38, 36]
    assert len(hands.done) <= MOST_ACTIONS, hands.done
    print(f"{len(hands.done)} actions in {took:.1f} s: {', '.join(hands.done)}")
    assert took < 60
    window.live_session.stop()
