"""The preferences in one window, by real clicks; then the file. And the note on closing."""

from __future__ import annotations

import pytest
from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QApplication, QMessageBox

from puresignal.io import preferences
from puresignal.io.preferences import Preferences, SoundOut
from puresignal.ui.widgets import theme


def choose(combo, value):
    combo.setCurrentIndex(combo.findData(value))
    combo.activated.emit(combo.currentIndex())


@pytest.fixture
def dialog(window, qtbot):
    qtbot.keyClick(window, Qt.Key.Key_Comma, Qt.KeyboardModifier.ControlModifier)
    window.show_preferences()
    yield window._preferences_dialog
    window.choose_theme("light")


def test_what_is_chosen_holds_at_once_and_is_kept(dialog, window, qtbot):
    choose(dialog.theme, "dim")
    assert theme.current() is theme.DIM
    choose(dialog.rate, 96_000)
    choose(dialog.block, 128)
    assert dialog.delay.text() == "1.3 ms"
    assert window.live_session.sound_out == SoundOut("", 96_000, 128)
    qtbot.mouseClick(dialog.learn, Qt.MouseButton.LeftButton, pos=dialog.learn.rect().center())
    dialog.learn.setChecked(True)
    dialog.tells.click()
    kept = preferences.read()
    assert (kept.theme, kept.sound, kept.tells_kept) == ("dim", SoundOut("", 96_000, 128), False)
    # Shown again, it shows what is kept; the usual ones come back with one button.
    dialog.close()
    window.show_preferences()
    assert dialog.theme.currentData() == "dim"
    dialog._reset()
    assert preferences.read().sound == Preferences().sound
    assert preferences.read().tells_kept
    assert theme.current() is not theme.DIM or preferences.read().theme == "system"


def test_it_leads_to_shortcuts_and_recording(dialog, window):
    dialog.pages.setCurrentIndex(0)
    dialog.keys_requested.emit()
    dialog.recording_requested.emit()
    titles = {one.windowTitle() for one in QApplication.topLevelWidgets() if one.isVisible()}
    assert {"Preferences", "Shortcuts"} <= titles


@pytest.mark.parametrize("again", [False, True])
def test_closing_says_that_unsaved_work_is_kept_until_it_is_told_not_to(demo_window, monkeypatch, again):
    seen = []

    def answer():
        box = QApplication.activeModalWidget()
        assert isinstance(box, QMessageBox)
        seen.append(box.text())
        box.checkBox().setChecked(again)
        next(one for one in box.buttons() if one.text() == "Close").click()

    files = demo_window.files
    files.tell_kept()
    assert seen == []
    bench = demo_window.workbench
    bench.saved = bench.session
    files.tell_kept()
    demo_window.takes.path.boxes["doubles"].box.click()
    assert bench.unsaved
    QTimer.singleShot(50, answer)
    files.tell_kept()
    assert len(seen) == 1
    assert "Quarter Past Ferry" in seen[0]
    assert preferences.read().tells_kept is not again
    if again:
        files.tell_kept()
        assert len(seen) == 1
