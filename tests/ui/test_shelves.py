"""What is kept by name, in one window: renamed, shared, taken in and deleted by real clicks; then the files."""

from __future__ import annotations

import json

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLineEdit

from puresignal.core.session import session as edits
from puresignal.core.timing.groove import Groove
from puresignal.io import groove_file, note_map_file, templates
from puresignal.io.shelves import SHELVES


@pytest.fixture
def kept(demo_window, tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    groove_file.keep(Groove("Ferry lilt", (0.0, 12.0), (1.0, 0.8)))
    groove_file.keep(Groove("Late quay", (0.0, 20.0), (1.0, 0.9)))
    templates.keep(demo_window.workbench.session, "Practice room")
    bench = demo_window.workbench
    path = bench.session.path.with_setting("timing", "groove", groove_file.kept()[0])
    bench.do("", edits.with_path(bench.session, path))
    demo_window.show_shelves()
    dialog = demo_window._shelves_dialog
    dialog.kinds.setCurrentRow(next(i for i, one in enumerate(SHELVES) if one.title == "Grooves"))
    return dialog


def names(dialog):
    return [dialog.table.topLevelItem(i).text(0) for i in range(dialog.table.topLevelItemCount())]


def select(dialog, name):
    dialog.table.clearSelection()
    dialog.table.topLevelItem(names(dialog).index(name)).setSelected(True)


def test_all_kinds_are_listed_with_what_this_session_uses(kept):
    assert [kept.kinds.item(i).text() for i in range(kept.kinds.count())] == [one.title for one in SHELVES]
    assert names(kept) == ["Ferry lilt", "Late quay"]
    assert [kept.table.topLevelItem(i).text(1) for i in range(2)] == ["in this session", ""]
    kept.search.setText("quay")
    assert names(kept) == ["Late quay"]
    kept.search.clear()
    kept.kinds.setCurrentRow(kept.kinds.count() - 1)
    assert names(kept) == ["Practice room"]
    kept.kinds.setCurrentRow(2)
    assert kept.said.text() == "Nothing of this kind is kept yet."


def test_a_name_is_typed_in_place_and_one_that_is_taken_is_refused(kept, qtbot):
    select(kept, "Late quay")
    qtbot.mouseClick(kept.buttons["rename"], Qt.MouseButton.LeftButton)
    editor = kept.table.findChild(QLineEdit)
    editor.clear()
    qtbot.keyClicks(editor, "Later quay")
    qtbot.keyClick(editor, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: names(kept) == ["Ferry lilt", "Later quay"], timeout=3000)
    qtbot.waitUntil(lambda: [one.name for one in groove_file.kept()] == ["Ferry lilt", "Later quay"], timeout=3000)
    assert groove_file.kept()[1].late == (0.0, 20.0)
    kept.table.topLevelItem(1).setText(0, "ferry LILT")
    qtbot.waitUntil(lambda: bool(kept.said.text()), timeout=3000)
    assert names(kept) == ["Ferry lilt", "Later quay"]
    assert "Another one has this name" in kept.said.text()
    # A template is a whole session, and is renamed as one.
    kept.kinds.setCurrentRow(kept.kinds.count() - 1)
    kept.table.topLevelItem(0).setText(0, "Loft")
    qtbot.waitUntil(lambda: list(templates.kept()) == ["Loft"], timeout=3000)


def test_things_are_shared_taken_in_beside_what_is_there_and_deleted(kept, tmp_path, qtbot):
    select(kept, "Ferry lilt")
    kept.export_to(tmp_path / "lilt.json")
    assert json.loads((tmp_path / "lilt.json").read_text())["name"] == "Ferry lilt"
    (tmp_path / "torn.json").write_text("{")
    kept.take_in([tmp_path / "lilt.json", tmp_path / "torn.json"])
    assert names(kept) == ["Ferry lilt", "Ferry lilt 2", "Late quay"]
    assert kept.item.name == "Ferry lilt 2"
    assert "torn.json" in kept.said.text()
    kept.delete()
    assert [one.name for one in groove_file.kept()] == ["Ferry lilt", "Late quay"]
    assert not kept.buttons["delete"].isEnabled()
    # A folder that is not writable is told, and nothing is lost.
    kept.kinds.setCurrentRow(0)
    note_map_file.keep(note_map_file.shipped("practice-five"))
    kept.show_shelf()
    select(kept, names(kept)[0])
    kept.export_to(tmp_path / "nowhere" / "a.json")
    assert kept.said.text()
    assert len(note_map_file.own()) == 1


def test_changes_since_saving_are_listed_and_follow(demo_window, tmp_path, qtbot):
    bench = demo_window.workbench
    bench.save_session(tmp_path / "a.puresignal")
    demo_window.show_changes()
    dialog = demo_window._changes

    def rows():
        return [dialog.steps.item(i).text() for i in range(dialog.steps.count())]

    assert rows() == []
    assert "Nothing has changed" in dialog.head.text()
    assert not dialog.save.isEnabled()
    bench.do("set key", edits.with_key(bench.session, "E minor"))
    bench.do("set key", edits.with_key(bench.session, "F minor"))
    bench.do("rename track", edits.with_title(bench.session, "kick", "Boom"))
    assert rows() == ["Rename track", "Set key, 2 times"]
    qtbot.mouseClick(dialog.save, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: not bench.unsaved, timeout=5000)
    dialog.show_changes()
    assert rows() == []
    bench.undo()
    assert rows() == ["taken back: Rename track"]
