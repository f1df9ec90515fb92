"""A focused control gets its own keys; a shortcut of one letter works only where no control wants it."""

from __future__ import annotations

import contextlib

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QAbstractButton, QApplication, QComboBox, QTableView

from puresignal.core.touch import computer_keyboard
from puresignal.io import preferences
from puresignal.ui.shell.help_dialogs import ShortcutsDialog
from puresignal.ui.shell.main_window import MainWindow
from puresignal.ui.state.workbench import Workbench
from tests.ui.test_accessible import controls

VIEWS = ["Inputs", "Mapping", "Velocity", "Takes", "Outputs"]


@pytest.fixture
def ready(demo_window, qtbot, monkeypatch):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    demo_window.activateWindow()
    qtbot.waitUntil(demo_window.isActiveWindow)
    yield demo_window
    demo_window.live_session.close()


@pytest.mark.parametrize("view", VIEWS)
@pytest.mark.parametrize("key", [Qt.Key.Key_Space, Qt.Key.Key_Return])
def test_every_button_and_box_is_pressed_by_key_and_nothing_plays(ready, qtbot, view, key):
    ready.show_view(view)
    buttons = [w for w in controls(ready) if isinstance(w, QAbstractButton) and w.isEnabled()]
    buttons = [w for w in buttons if not (hasattr(w, "menu") and w.menu())]
    assert len(buttons) > 10
    for button in buttons:
        pressed = []
        # What it does is tested elsewhere; here only that it is done.
        with contextlib.suppress(RuntimeError, SystemError):
            button.clicked.disconnect()
        button.clicked.connect(lambda *_: pressed.append(True))  # noqa: B023
        button.setFocus(Qt.FocusReason.TabFocusReason)
        if QApplication.focusWidget() is not button:
            continue
        before = button.isChecked()
        qtbot.keyClick(button, key)
        assert pressed == [True], f"{button.objectName()} {button.text()}"
        if button.isCheckable() and button.group() is None:
            assert button.isChecked() != before
    assert not ready.playback.playing


def test_space_plays_where_no_control_wants_it_and_letters_go_to_lists(ready, qtbot):
    ready.show_view("Takes")
    looping = ready.playback.looping
    ready.takes.timeline.setFocus()
    qtbot.keyClick(ready.takes.timeline, Qt.Key.Key_L)
    assert ready.playback.looping != looping
    combo = ready.source
    combo.setFocus()
    qtbot.keyClick(combo, Qt.Key.Key_L)
    assert ready.playback.looping != looping
    assert combo.currentText().startswith("L")
    version = ready.playback.version
    qtbot.keyClick(combo, Qt.Key.Key_H)
    assert ready.playback.version == version
    button = ready.takes.tools.doubtful
    button.setFocus()
    qtbot.keyClick(button, Qt.Key.Key_H)
    assert ready.playback.version != version, "a button wants no letters"


def test_rows_are_pressed_by_key(ready, qtbot):
    ready.show_view("Mapping")
    ready.mapping.as_table.click()
    table = ready.mapping.table
    table.setFocus()
    table.selectRow(1)
    row = table.arrivals.row(1)
    qtbot.keyClick(table, Qt.Key.Key_Return)
    assert ready.stack.currentWidget() is ready.takes
    assert len(ready.takes.timeline.selected) == row.count
    ready.show_view("Outputs")
    tracks = ready.outputs.table
    tracks.setFocus()
    tracks.selectRow(0)
    key = ready.outputs.chosen_keys()[0]
    qtbot.keyClick(tracks, Qt.Key.Key_Space)
    assert not ready.workbench.session.delivery.track(key).out
    qtbot.keyClick(tracks, Qt.Key.Key_S)
    assert ready.workbench.session.delivery.track(key).solo
    assert not ready.playback.playing


def test_painted_controls_get_their_keys(ready, qtbot):
    ready.show_view("Mapping")
    ready.mapping.ribbons.setFocus()
    ready.mapping.ribbons.select(1, 0)
    take = ready.workbench.session.current
    qtbot.keyClick(ready.mapping.ribbons, Qt.Key.Key_T)
    assert ready.stack.currentWidget() is ready.takes
    assert ready.workbench.session.current == take
    ready.show_view("Velocity")
    plot = ready.velocity.plots["snare"]
    plot.setFocus()
    qtbot.keyClick(plot, Qt.Key.Key_Space)
    assert ready.velocity.key == "snare"
    ready.show_view("Outputs")
    ready.outputs.handle.setFocus()
    qtbot.keyClick(ready.outputs.handle, Qt.Key.Key_Return)
    assert "Copied" in ready.notice.text
    assert not ready.playback.playing


def test_while_the_keyboard_plays_a_letter_that_plays_nothing_does_nothing(ready, qtbot):
    ready.switch_keys(True)
    keyboard = ready.services.keyboard.keyboard
    letters = dict(zip(computer_keyboard.UPPER, "QWERTYUIOP", strict=False))
    letters |= dict(zip(computer_keyboard.HOME, "ASDFGHJKL", strict=False))
    for code in letters:
        keyboard = computer_keyboard.with_drum(keyboard, code, None)
    ready.services.keyboard.set_keyboard(keyboard)
    ready.show_view("Takes")
    before = (ready.playback.version, ready.playback.looping, ready.workbench.history)
    for letter in letters.values():
        qtbot.keyClick(ready.takes.timeline, getattr(Qt.Key, f"Key_{letter}"))
    assert (ready.playback.version, ready.playback.looping, ready.workbench.history) == before
    ready.switch_keys(False)
    qtbot.keyClick(ready.takes.timeline, Qt.Key.Key_L)
    assert ready.playback.looping != before[1]


def test_shortcuts_are_searched_changed_and_remembered(ready, qtbot):
    dialog = ShortcutsDialog(ready.shortcuts, ready)
    qtbot.addWidget(dialog)
    dialog.show()
    qtbot.keyClicks(dialog.search, "loop")
    shown = [row for row in range(dialog.table.rowCount()) if not dialog.table.isRowHidden(row)]
    assert [dialog.table.item(row, 2).text() for row in shown] == ["Loop"]
    dialog.table.selectRow(shown[0])
    qtbot.keyClick(dialog.keys, Qt.Key.Key_J, Qt.KeyboardModifier.ControlModifier)
    dialog.keys.editingFinished.emit()
    assert dialog.table.item(shown[0], 1).text() == "Ctrl+J"
    ready.activateWindow()
    ready.takes.timeline.setFocus()
    looping = ready.playback.looping
    qtbot.keyClick(ready.takes.timeline, Qt.Key.Key_J, Qt.KeyboardModifier.ControlModifier)
    assert ready.playback.looping != looping
    dialog.search.clear()
    row = next(r for r in range(dialog.table.rowCount()) if dialog.table.item(r, 2).text() == "Undo")
    dialog.table.selectRow(row)
    dialog._give("Ctrl+J")
    assert "Loop had these keys" in dialog.says.text()
    assert dict(preferences.read().shortcuts) == {"Loop": "", "Undo": "Ctrl+J"}
    again = MainWindow(Workbench())
    qtbot.addWidget(again)
    assert again.menus.undo.shortcut().toString() == "Ctrl+J"
    dialog.all_usual.click()
    assert preferences.read().shortcuts == ()
    assert ready.menus.undo.shortcut().toString() == "Ctrl+Z"


def test_edit_is_the_second_menu_and_about_says_version_and_licence(ready, qtbot):
    assert [action.text() for action in ready.menuBar().actions()][:2] == ["&File", "&Edit"]
    ready.show_about()
    assert "0.1.0" in ready._about.text.text()
    assert "GPL-3.0-or-later" in ready._about.text.text()


def test_tables_and_lists_are_reached(ready):
    ready.show_view("Mapping")
    ready.mapping.as_table.click()
    assert any(isinstance(w, QTableView) for w in controls(ready))
    assert any(isinstance(w, QComboBox) for w in controls(ready))
