"""The Mapping view: mapping unmapped notes by drag, list and keyboard; saving and exporting maps; the hat."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt, QTimer
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QApplication, QFileDialog, QInputDialog

from puresignal.core.path.identify import UNMAPPED_NOTE
from puresignal.io import note_map_file
from puresignal.ui.mapping.flow_diagram import ARRIVING, LEAVING, MEANING


@pytest.fixture
def mapping(demo_window):
    demo_window.show_view("Mapping")
    return demo_window.mapping


def node(mapping, column, label):
    return next(n for n in mapping.ribbons.nodes if n.column == column and n.label == label)


def middle(n) -> QPoint:
    return n.box.center().toPoint()


def drag(qtbot, widget, begin: QPoint, end: QPoint):
    qtbot.mousePress(widget, Qt.MouseButton.LeftButton, pos=begin)
    for part in (0.3, 0.7, 1.0):
        at = QPointF(begin) + (QPointF(end) - QPointF(begin)) * part
        move = QMouseEvent(
            QEvent.Type.MouseMove, at, widget.mapToGlobal(at), Qt.MouseButton.NoButton, Qt.MouseButton.LeftButton,
            Qt.KeyboardModifier.NoModifier,
        )  # fmt: skip
        QApplication.sendEvent(widget, move)
    qtbot.mouseRelease(widget, Qt.MouseButton.LeftButton, pos=end)


def count_unmapped(window):
    return window.workbench.shown.outcome.tally.removed().get(UNMAPPED_NOTE, 0)


def test_unmapped_notes_stand_on_top_with_their_counts(mapping, demo_window):
    first = [n for n in mapping.ribbons.nodes if n.column == ARRIVING][:3]
    assert [n.unmapped for n in first] == [True] * 3
    assert sum(n.hits for n in first) == count_unmapped(demo_window)
    assert str(count_unmapped(demo_window)) in mapping.says.text()
    assert str(count_unmapped(demo_window)) in demo_window.header.buttons["Mapping"].text()


def test_an_unmapped_note_is_mapped_by_dragging_it(mapping, demo_window, qtbot):
    before = count_unmapped(demo_window)
    unmapped = node(mapping, ARRIVING, "note 63")
    drag(qtbot, mapping.ribbons, middle(unmapped), middle(node(mapping, MEANING, "snare, rim")))
    assert count_unmapped(demo_window) == before - unmapped.hits
    assert not node(mapping, ARRIVING, "note 63").unmapped
    assert "map note 63 to snare, rim" in demo_window.menus.undo.text()
    demo_window.workbench.undo()
    assert count_unmapped(demo_window) == before


def test_an_unmapped_note_is_mapped_by_keyboard_alone(mapping, demo_window, qtbot):
    before, unmapped = count_unmapped(demo_window), node(mapping, ARRIVING, "note 72")
    asked = []

    def choose() -> None:
        menu = QApplication.activePopupWidget()
        asked.append(menu)
        for action in (a for drum in menu.actions() if drum.menu() for a in drum.menu().actions()):
            if action.text() == "hi-hat, half open":
                action.trigger()
        menu.close()

    mapping.ribbons.setFocus()
    qtbot.keyClick(mapping.ribbons, Qt.Key.Key_Down)
    assert mapping.ribbons.selected == (ARRIVING, 0)
    while mapping.ribbons.node(*mapping.ribbons.selected).label != "note 72":
        qtbot.keyClick(mapping.ribbons, Qt.Key.Key_Down)
    QTimer.singleShot(200, choose)
    qtbot.keyClick(mapping.ribbons, Qt.Key.Key_Return)
    assert asked
    assert count_unmapped(demo_window) == before - unmapped.hits


def test_an_unmapped_note_is_mapped_from_the_list(mapping, demo_window, qtbot):
    before, unmapped = count_unmapped(demo_window), node(mapping, ARRIVING, "note 94")
    qtbot.mouseClick(mapping.ribbons, Qt.MouseButton.LeftButton, pos=middle(unmapped))
    index = mapping.means.findText("crash 2, edge")
    mapping.means.setCurrentIndex(index)
    mapping.means.activated.emit(index)
    assert count_unmapped(demo_window) == before - unmapped.hits


def test_delete_removes_a_note_from_its_map(mapping, demo_window, qtbot):
    before = count_unmapped(demo_window)
    kick = node(mapping, ARRIVING, "note 60")
    mapping.ribbons.select(kick.column, kick.place)
    qtbot.keyClick(mapping.ribbons, Qt.Key.Key_Delete)
    assert count_unmapped(demo_window) == before + kick.hits


def test_an_articulation_is_sent_elsewhere_and_to_several(mapping, demo_window, qtbot):
    snare = node(mapping, MEANING, "snare, head")
    mapping.ribbons.select(snare.column, snare.place)
    mapping.goals.selectAll()
    qtbot.keyClicks(mapping.goals, "26, 60")
    qtbot.keyClick(mapping.goals, Qt.Key.Key_Return)
    clean = demo_window.workbench.shown.outcome.output_notes
    assert np.count_nonzero(clean.note == 60) > 100
    assert len([b for b in mapping.ribbons.bands if b.left == 1 and b.hits == snare.hits]) >= 2
    drag(qtbot, mapping.ribbons, middle(node(mapping, MEANING, "kick")), middle(node(mapping, LEAVING, "note 60")))
    clean = demo_window.workbench.shown.outcome.output_notes
    kick = demo_window.workbench.shown.outcome.vocabulary.index("kick")
    assert set(clean.note[clean.articulation == kick].tolist()) == {60}


def test_a_wrong_number_is_reported_and_changes_nothing(mapping, demo_window, qtbot):
    before = demo_window.workbench.session
    snare = node(mapping, MEANING, "snare, head")
    mapping.ribbons.select(snare.column, snare.place)
    mapping.goals.selectAll()
    qtbot.keyClicks(mapping.goals, "200")
    qtbot.keyClick(mapping.goals, Qt.Key.Key_Return)
    assert demo_window.workbench.session is before
    assert "not a note number" in demo_window.notice.text


def test_a_substitute_is_marked(mapping, demo_window):
    index = demo_window.target.findText("Lantern pads")
    demo_window.target.setCurrentIndex(index)
    demo_window.target.activated.emit(index)
    pedal = node(mapping, MEANING, "hi-hat, foot close")
    assert pedal.detail == "as closed"
    band = next(b for b in mapping.ribbons.bands if b.left == 1 and b.stand_in)
    assert "nearest of the same drum" in mapping.ribbons._say(band)
    unmapped = [n for n in mapping.ribbons.nodes if n.column == MEANING and n.unmapped]
    assert {n.label for n in unmapped} >= {"tom 2, head", "crash 2, bow"}
    assert [n.place for n in unmapped] == list(range(len(unmapped)))


def test_a_ribbon_leads_to_its_hits_in_takes(mapping, demo_window, qtbot):
    band = next(b for b in mapping.ribbons.bands if b.left == 0 and b.hits == node(mapping, ARRIVING, "note 60").hits)
    at = band.path.pointAtPercent(0.2)
    inside = next(
        QPoint(round(at.x()), round(at.y()) + dy) for dy in range(-30, 30) if band.path.contains(at + QPoint(0, dy))
    )
    qtbot.mouseClick(mapping.ribbons, Qt.MouseButton.LeftButton, pos=inside)
    assert demo_window.stack.currentWidget() is demo_window.takes
    played = demo_window.workbench.shown.outcome.input_notes
    assert demo_window.takes.timeline.selected.tolist() == sorted(played.origin[played.note == 60].tolist())


def test_the_hats_travel_is_fitted_and_its_settings_undone(mapping, demo_window, qtbot):
    before = demo_window.workbench.session.take().source.hat
    qtbot.mouseClick(mapping.hat.fit, Qt.MouseButton.LeftButton)
    after = demo_window.workbench.session.take().source.hat
    events = demo_window.workbench.shown.take.events
    values = events.data2[(events.status == 0xB9) & (events.data1 == 4)]
    assert (after.open_at, after.closed_at) == (values.min(), values.max()) != (before.open_at, before.closed_at)
    mapping.hat.controller.setValue(11)
    assert demo_window.workbench.session.take().source.hat.controller == 11
    assert "did not move" in mapping.hat.says.text()
    demo_window.workbench.undo()
    demo_window.workbench.undo()
    assert demo_window.workbench.session.take().source.hat == before


def test_show_unplayed_lists_whole_maps(mapping, qtbot):
    few = len(mapping.ribbons.nodes)
    qtbot.mouseClick(mapping.whole, Qt.MouseButton.LeftButton, pos=QPoint(8, mapping.whole.height() // 2))
    assert len(mapping.ribbons.nodes) > few + 5


def test_a_map_saved_under_a_name_appears_in_the_lists(mapping, demo_window, window, monkeypatch):
    monkeypatch.setattr(QInputDialog, "getText", lambda *a, **k: ("Our cellar kit", True))
    demo_window.maps.menus["source"].actions()[0].trigger()
    assert demo_window.workbench.session.take().source.name == "Our cellar kit"
    assert [m.name for m in note_map_file.own()] == ["Our cellar kit"]
    window.target.show_map(window.target.now, anew=True)
    assert window.target.findText("Our cellar kit") >= 0


def test_a_map_is_written_to_a_file_and_read_again(mapping, demo_window, tmp_path, monkeypatch):
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "room"), ""))
    demo_window.maps.menus["target"].actions()[1].trigger()
    assert note_map_file.read(tmp_path / "room.json") == demo_window.workbench.session.target
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(tmp_path / "room.json"), ""))
    demo_window.maps.menus["source"].actions()[2].trigger()
    assert demo_window.workbench.session.take().source == demo_window.workbench.session.target


def test_a_changed_map_is_marked_as_changed(mapping, demo_window):
    index = demo_window.source.findText("Five-piece practice kit")
    demo_window.source.setCurrentIndex(index)
    demo_window.source.activated.emit(index)
    mapping._mean(0, None)
    assert demo_window.source.currentText() == "Five-piece practice kit (changed)"


def test_the_kit_is_found_from_what_was_played(mapping, demo_window):
    first, *others = mapping.guesses().actions()
    assert first.text() == "Five-piece practice kit: explains 578 of 578 hits"
    assert any(", not " in other.text() for other in others)
    first.trigger()
    assert count_unmapped(demo_window) == 0


@pytest.mark.parametrize("height", [600, 800])
def test_no_text_at_the_side_is_cut_whatever_the_windows_height(qtbot, demo_window, mapping, height):
    demo_window.resize(1280, height)
    qtbot.wait(50)
    for label in (mapping.heard, mapping.not_heard, mapping.about):
        assert label.height() >= label.heightForWidth(label.width())
    bar = mapping.side.verticalScrollBar()
    bar.setValue(bar.maximum())
    foot = mapping.hat.mapTo(mapping.side.viewport(), QPoint(0, mapping.hat.height()))
    assert foot.y() <= mapping.side.viewport().height() + 1
