"""Whole folders from the real window: looked at first, then cleaned with a page of all."""

from __future__ import annotations

import shutil
from pathlib import Path

import mido
import pytest
from PySide6.QtCore import Qt

from tests.ui.test_several_takes import trio  # noqa: F401 - fixture

GOLDEN = Path(__file__).parents[1] / "golden"


@pytest.fixture
def folder(tmp_path):
    made = tmp_path / "evenings"
    (made / "late").mkdir(parents=True)
    shutil.copy(GOLDEN / "version1" / "second-evening.mid", made / "second.mid")
    shutil.copy(GOLDEN / "version2" / "third-evening.mid", made / "late" / "third.mid")
    (made / "torn.mid").write_bytes(b"MThd\0\0")
    return made


@pytest.fixture
def dialog(trio, qtbot):  # noqa: F811
    trio.activateWindow()
    qtbot.waitUntil(trio.isActiveWindow, timeout=3000)
    keys = Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier
    qtbot.keyClick(trio, Qt.Key.Key_B, keys)
    made = trio._batch
    qtbot.waitUntil(made.isVisible, timeout=3000)
    return made


def row(dialog, name):
    for i in range(dialog.table.rowCount()):
        if dialog.table.item(i, 0).text() == name:
            return [dialog.table.item(i, column).text() for column in range(dialog.table.columnCount())]
    raise AssertionError(name)


def notes(path):
    return sum(m.type == "note_on" and m.velocity > 0 for track in mido.MidiFile(path).tracks for m in track)


def test_a_folder_is_looked_at_and_then_cleaned(dialog, folder, tmp_path, qtbot):
    assert not dialog.go.isEnabled()
    dialog.use([folder])
    qtbot.waitUntil(lambda: "found" in dialog.says.text(), timeout=30_000)
    assert dialog.table.rowCount() == 3
    assert not Path(dialog.out.text()).exists()
    seen = row(dialog, "second.mid")
    assert seen[1] == "General MIDI percussion"
    assert int(seen[2]) == notes(folder / "second.mid") == int(seen[3]) + int(seen[4])
    assert "1 file cannot be read" in dialog.says.text()
    assert row(dialog, "torn.mid")[5]
    qtbot.mouseClick(dialog.go, Qt.MouseButton.LeftButton)
    assert dialog.go.text() == "Cancel"
    qtbot.waitUntil(lambda: "cleaned into" in dialog.says.text(), timeout=30_000)
    out = tmp_path / "evenings, clean"
    assert sorted(str(p.relative_to(out)) for p in out.rglob("*.*")) == ["late/third.mid", "second.mid", "summary.html"]
    assert notes(out / "second.mid") == int(seen[3])
    assert row(dialog, "second.mid")[2:5] == seen[2:5]
    assert "second" in (out / "summary.html").read_text()
    assert dialog.summary.isEnabled()
    # The same once more would write over them, which has to be said.
    qtbot.mouseClick(dialog.go, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "exists already" in dialog.says.text(), timeout=30_000)
    dialog.force.click()
    qtbot.mouseClick(dialog.go, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "cleaned into" in dialog.says.text(), timeout=30_000)


def test_a_folder_without_midi_files_and_one_that_is_gone(dialog, tmp_path, qtbot):
    (tmp_path / "empty").mkdir()
    dialog.use([tmp_path / "empty"])
    qtbot.waitUntil(lambda: "no MIDI file" in dialog.says.text(), timeout=30_000)
    assert not dialog.go.isEnabled()
    dialog.folder.clear()
    qtbot.keyClicks(dialog.folder, str(tmp_path / "gone"))
    qtbot.waitUntil(lambda: "gone" in dialog.says.text() or dialog.table.rowCount() == 1, timeout=30_000)
    assert not dialog.go.isEnabled()


def test_cancel_keeps_whole_files_and_leaves_nothing_half_written(dialog, folder, qtbot):
    for i in range(200):
        shutil.copy(folder / "second.mid", folder / f"copy {i:03}.mid")
    dialog.use([folder])
    qtbot.waitUntil(lambda: "found" in dialog.says.text(), timeout=60_000)
    qtbot.mouseClick(dialog.go, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: dialog.table.rowCount() > 3, timeout=30_000)
    qtbot.mouseClick(dialog.go, Qt.MouseButton.LeftButton)
    assert dialog.says.text().startswith("Cancelled.")
    out = Path(dialog.out.text())
    qtbot.wait(1500)
    made = [path for path in out.rglob("*") if path.is_file()]
    assert 3 < len(made) < 200
    assert all(path.suffix == ".mid" and notes(path) for path in made)
