"""Rendering from the real window: names before, progress, files afterwards; cancelled, nothing is left."""

from __future__ import annotations

import pytest
import soundfile
from PySide6.QtCore import Qt

from tests.ui.test_several_takes import trio  # noqa: F401 - fixture


@pytest.fixture
def dialog(trio, tmp_path, qtbot):  # noqa: F811
    trio.activateWindow()
    qtbot.waitUntil(trio.isActiveWindow, timeout=3000)
    qtbot.keyClick(trio, Qt.Key.Key_R, Qt.KeyboardModifier.ControlModifier)
    made = trio.view("Outputs")._render
    qtbot.waitUntil(made.isVisible, timeout=3000)
    made.folder.setText(str(tmp_path))
    return made


def choose(combo, value):
    combo.setCurrentIndex(combo.findData(value))
    combo.activated.emit(combo.currentIndex())


def listed(dialog):
    return [dialog.files.item(i).text() for i in range(dialog.files.count())]


def test_files_are_named_rendered_and_told(dialog, tmp_path, qtbot):
    choose(dialog.what, "tracks")
    choose(dialog.kind, "flac")
    dialog.only.click()
    dialog.first.setValue(2)
    dialog.last.setValue(3)
    dialog.pattern.setText("{number} {name}")
    names = listed(dialog)
    assert names[0] == "01 Kick.flac"
    assert any(name.endswith("Bass.flac") for name in names)
    qtbot.mouseClick(dialog.go, Qt.MouseButton.LeftButton)
    assert dialog.go.text() == "Cancel"
    qtbot.waitUntil(lambda: not dialog._renderer.busy, timeout=60_000)
    assert sorted(p.name for p in tmp_path.iterdir()) == sorted(names)
    info = soundfile.info(tmp_path / names[0])
    assert (info.samplerate, info.channels) == (48_000, 2)
    assert dialog.says.text() == f"{len(names)} files in {tmp_path}"
    assert "peak -" in listed(dialog)[0]
    # The same once more would write over them, which has to be said.
    qtbot.mouseClick(dialog.go, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "there already" in dialog.says.text(), timeout=30_000)


def test_cancel_leaves_nothing_half_written(dialog, tmp_path, qtbot):
    qtbot.mouseClick(dialog.go, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "Rendering" in dialog.says.text(), timeout=30_000)
    qtbot.mouseClick(dialog.go, Qt.MouseButton.LeftButton)
    assert not dialog._renderer.busy
    qtbot.waitUntil(lambda: list(tmp_path.iterdir()) == [], timeout=5000)
    assert "Cancelled" in dialog.says.text()


def test_what_cannot_be_written_is_said(dialog, tmp_path, qtbot):
    dialog.folder.setText(str(tmp_path / "not there"))
    qtbot.mouseClick(dialog.go, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "not there" in dialog.says.text(), timeout=30_000)
    choose(dialog.what, "sections")
    assert not dialog.go.isEnabled()
    assert "press S" in dialog.says.text()


def test_tracks_of_ports_are_rendered_by_what_comes_back_where_that_is_chosen(dialog, qtbot, monkeypatch):
    assert dialog.job().through == ""
    dialog._show_sources(("Quay rack", "system"))
    labels = [dialog.through.itemText(i) for i in range(dialog.through.count())]
    assert labels == ["the built-in sound", "what comes back from Quay rack", "what comes back from system"]
    choose(dialog.through, "Quay rack")
    assert dialog.job().through == "Quay rack"
    # A program that has gone stays chosen, and what is missing is said when it is rendered.
    dialog._show_sources(())
    assert dialog.job().through == "Quay rack"
