"""Selecting and deciding notes in Takes, and changing the path's settings."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtWidgets import QApplication

from puresignal.core.path import note_selection
from puresignal.core.path.crosstalk import Crosstalk
from puresignal.core.path.doubles import DOUBLE, Doubles
from puresignal.core.path.identify import Identify
from puresignal.core.path.removal import BY_HAND
from puresignal.core.path.thin import Thin
from puresignal.ui.takes import row_painter
from puresignal.ui.takes.bar_ruler import MARKS
from puresignal.ui.takes.row_labels import GUTTER, NAMES
from tests.ui.test_mapping import drag


@pytest.fixture
def takes(demo_window):
    return demo_window.takes


def outcome(window):
    return window.workbench.shown.outcome


def box_of(takes, track, label):
    return next(b for t, r, b in takes.timeline.row_boxes() if (t, r) == (track, label))


def click_note(takes, qtbot, track, label, number, modifier=Qt.KeyboardModifier.NoModifier) -> int:
    row = next(r for g, r, _, _ in takes.timeline.row_layout.rows() if (g.title, r.label) == (track, label))
    at = QPoint(
        round(takes.timeline.axis.x_of(float(row.start[number]))), int(box_of(takes, track, label).center().y())
    )
    qtbot.mouseClick(takes.timeline.viewport(), Qt.MouseButton.LeftButton, modifier, at)
    return int(row.origin[number])


def test_a_click_selects_a_note_and_shows_its_trace(takes, demo_window, qtbot):
    origin = click_note(takes, qtbot, "Kick", "kick", 1)
    assert takes.timeline.selected.tolist() == [origin]
    story = takes.trace.story.text()
    assert takes.trace.title.text() == "kick"
    assert "in: note 60, channel 10" in story
    assert "note 60 → 5, mapped" in story
    assert "out: note 5," in story
    other = click_note(takes, qtbot, "Kick", "kick", 2, Qt.KeyboardModifier.ShiftModifier)
    assert takes.timeline.selected.tolist() == sorted([origin, other])
    assert takes.trace.title.text() == "2 notes"


def test_dragging_a_rectangle_selects_the_notes_in_it(takes, demo_window, qtbot):
    kick, hat = box_of(takes, "Kick", "kick"), box_of(takes, "Hi-hat", "closed")
    y = kick.top() + 2
    x = next(x for x in range(round(takes.timeline.axis.x_of(2.4)), 2000) if takes.timeline.note_at(QPointF(x, y)) < 0)
    drag(qtbot, takes.timeline.viewport(), QPoint(x, int(kick.top()) + 2), QPoint(x + 200, int(hat.bottom()) - 2))
    begin, end = takes.timeline.axis.second_at(x), takes.timeline.axis.second_at(x + 200)
    played = outcome(demo_window).input_notes
    rows = {r.label for g, r, t, h in takes.timeline.row_layout.rows() if kick.top() <= t <= hat.top()}
    assert {"kick", "head", "rim", "closed"} == rows
    inside = (played.start >= begin) & (played.start < end) & np.isin(played.note, (60, 61, 62, 71))
    assert takes.timeline.selected.tolist() == sorted(played.origin[inside].tolist())
    assert len(takes.timeline.selected) > 5


def test_clicking_a_name_selects_its_row_or_track(takes, demo_window, qtbot):
    view, box = takes.timeline.viewport(), box_of(takes, "Hi-hat", "closed")
    played = outcome(demo_window).input_notes
    qtbot.mouseClick(view, Qt.MouseButton.LeftButton, pos=QPoint(NAMES + 20, int(box.center().y())))
    assert len(takes.timeline.selected) == np.count_nonzero(played.note == 71)
    qtbot.mouseClick(view, Qt.MouseButton.LeftButton, pos=QPoint(20, int(box.center().y())))
    assert len(takes.timeline.selected) == np.count_nonzero(np.isin(played.note, (71, 73, 74, 75)))
    qtbot.keyClick(takes.timeline, Qt.Key.Key_Escape)
    assert len(takes.timeline.selected) == 0
    qtbot.keyClick(takes.timeline, Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
    assert len(takes.timeline.selected) == len(played)


def test_a_stages_count_selects_the_notes_it_touched(takes, demo_window, qtbot):
    qtbot.mouseClick(takes.path.boxes[Doubles.stage.key].figure, Qt.MouseButton.LeftButton)
    wanted = note_selection.removed(outcome(demo_window), DOUBLE)
    assert takes.timeline.selected.tolist() == sorted(wanted.tolist())
    assert takes.path.boxes[Doubles.stage.key].figure.text() == str(len(wanted))


def test_removed_notes_are_put_back_and_kept_ones_taken_out(takes, demo_window, qtbot):
    doubles = note_selection.removed(outcome(demo_window), DOUBLE)
    takes.timeline.select(doubles[:1])
    qtbot.mouseClick(takes.trace.buttons["keep"], Qt.MouseButton.LeftButton)
    assert doubles[0] in outcome(demo_window).output_notes.origin
    assert "your decision: keep" in takes.trace.story.text()
    assert "keep a note" in demo_window.menus.undo.text()
    kicks = outcome(demo_window).input_notes.origin[outcome(demo_window).input_notes.note == 60][:3]
    takes.timeline.select(kicks)
    qtbot.keyClick(takes.timeline, Qt.Key.Key_Delete)
    assert not np.isin(kicks, outcome(demo_window).output_notes.origin).any()
    assert outcome(demo_window).tally.removed()[BY_HAND] == 3
    qtbot.keyClick(takes.timeline, Qt.Key.Key_U)
    assert np.isin(kicks, outcome(demo_window).output_notes.origin).all()


def test_all_alike_are_decided_at_once(takes, demo_window, qtbot):
    doubles = note_selection.removed(outcome(demo_window), DOUBLE)
    alike = note_selection.alike(outcome(demo_window), int(doubles[0]))
    assert len(alike) > 1
    takes.timeline.select(doubles[:1])
    qtbot.mouseClick(takes.trace.buttons["keep_alike"], Qt.MouseButton.LeftButton)
    assert np.isin(alike, outcome(demo_window).output_notes.origin).all()


def test_doubtful_notes_are_decided_one_by_one_with_a_single_key(takes, demo_window, qtbot):
    takes.path.controls["doubles", "min_confidence"].moved.emit(1.0, "g")
    doubtful = note_selection.doubtful(outcome(demo_window)).tolist()
    assert len(doubtful) >= 2
    assert f"{len(doubtful)}" in demo_window.strip.figures[-1, -4].text()
    qtbot.keyClick(takes.timeline, Qt.Key.Key_D)
    assert takes.timeline.selected.tolist() == doubtful[:1]
    begin, end = takes.timeline.axis.seconds_in_view()
    played = outcome(demo_window).input_notes
    assert begin <= float(played.start[played.origin == doubtful[0]][0]) <= end
    qtbot.keyClick(takes.timeline, Qt.Key.Key_K)
    assert doubtful[0] in outcome(demo_window).output_notes.origin
    assert takes.timeline.selected.tolist() == doubtful[1:2]
    qtbot.keyClick(takes.timeline, Qt.Key.Key_X)
    assert doubtful[1] not in outcome(demo_window).output_notes.origin


def test_a_setting_moved_changes_the_picture_at_once_and_a_drag_is_one_step(takes, demo_window, qtbot):
    steps = len(demo_window.workbench.history.past)
    before = outcome(demo_window).tally.removed()[DOUBLE]
    struck_out = sum(int(row.gone.sum()) for row in takes.timeline.rows())
    slider = takes.path.controls["doubles", "ratio"].slider
    handle = round(slider.width() * slider.value() / slider.maximum())
    drag(qtbot, slider, QPoint(handle, slider.height() // 2), QPoint(4, slider.height() // 2))
    assert outcome(demo_window).tally.removed().get(DOUBLE, 0) < before
    assert sum(int(row.gone.sum()) for row in takes.timeline.rows()) < struck_out
    assert len(demo_window.workbench.history.past) == steps + 1
    demo_window.workbench.undo()
    assert outcome(demo_window).tally.removed()[DOUBLE] == before
    assert takes.path.controls["doubles", "ratio"].value() == pytest.approx(0.8)


def test_double_click_gives_a_setting_its_default_back(takes, demo_window, qtbot):
    takes.path.controls["doubles", "window_ms"].slider.setValue(5)
    assert demo_window.workbench.session.path.doubles.window_ms == 5
    qtbot.mouseDClick(takes.path.controls["doubles", "window_ms"].slider, Qt.MouseButton.LeftButton)
    assert demo_window.workbench.session.path.doubles.window_ms == 90


def test_stages_are_switched_off_and_what_was_played_is_back(takes, demo_window, qtbot):
    for stage in (Doubles.stage, Crosstalk.stage, Identify.stage):
        box = takes.path.boxes[stage.key].box
        qtbot.mouseClick(box, Qt.MouseButton.LeftButton, pos=QPoint(9, box.height() // 2))
    assert outcome(demo_window).tally.left == outcome(demo_window).tally.arrived


def test_all_rows_of_the_kit_on_request(takes, demo_window, qtbot):
    few = takes.timeline.row_boxes()
    qtbot.mouseClick(takes.tools.all_rows, Qt.MouseButton.LeftButton, pos=QPoint(9, takes.tools.all_rows.height() // 2))
    assert {("Tom 1", "rim"), ("Ride", "edge")} <= {(t, r) for t, r, _ in takes.timeline.row_boxes()}
    assert len(takes.timeline.row_boxes()) > len(few)


def test_a_time_range_is_selected_on_the_ruler_by_beats(takes, demo_window, qtbot):
    bar = takes.timeline.sheet.tempo.beats_to_seconds(np.array([8.0, 16.0]))
    x = [round(takes.timeline.axis.x_of(s)) + 3 for s in bar]
    drag(qtbot, takes.timeline.viewport(), QPoint(x[0], MARKS // 2), QPoint(x[1], MARKS // 2))
    assert takes.timeline.stretch == pytest.approx(tuple(bar))
    assert demo_window.outputs.what.currentData() == "stretch"
    clip = demo_window.outputs.clip()
    assert (clip.begin, clip.end) == pytest.approx(tuple(bar))
    qtbot.mouseClick(takes.timeline.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(GUTTER + 30, MARKS // 2))
    assert takes.timeline.stretch is None


def test_the_menu_offers_what_can_be_done(takes, demo_window, qtbot):
    assert not takes.menu().actions()[0].isEnabled()
    origin = click_note(takes, qtbot, "Kick", "kick", 0)
    takes.menu().actions()[1].trigger()
    assert origin not in outcome(demo_window).output_notes.origin


def test_the_side_folds_away(takes, qtbot):
    wide = takes.timeline.width()
    qtbot.mouseClick(takes.tools.side, Qt.MouseButton.LeftButton)
    QApplication.processEvents()
    assert not takes.side.isVisible()
    assert takes.timeline.width() > wide + 200


@pytest.mark.parametrize("show", [row_painter.PLAYED, row_painter.CLEAN, row_painter.BOTH])
def test_painting_thousands_of_chosen_notes_is_no_trouble(takes, demo_window, show):
    demo_window.inputs.drummer.bars.setValue(200)
    demo_window.inputs.drummer.play.click()
    takes.choose(show)
    takes.timeline.show_all()
    takes.timeline.select(outcome(demo_window).input_notes.origin)
    image = takes.timeline.grab().toImage()
    assert not image.isNull()


def test_the_summary_is_saved_as_a_page(takes, demo_window, tmp_path):
    demo_window.files.save_summary_to(tmp_path / "what.html")
    text = (tmp_path / "what.html").read_text("utf-8")
    assert f"{outcome(demo_window).tally.arrived} hits in" in text
    assert demo_window.workbench.shown.take.name in text
    demo_window.files.save_summary_to(tmp_path / "gone" / "what.html")
    assert "what.html" in demo_window.notice.text


def test_controllers_are_thinned_where_asked_and_undo_brings_them_back(takes, demo_window, qtbot):
    before = len(outcome(demo_window).controls)
    thin = takes.path.boxes[Thin.stage.key]
    qtbot.mouseClick(thin.box, Qt.MouseButton.LeftButton)
    takes.path.controls["thin", "every_ms"].moved.emit(50.0, "g")
    assert demo_window.workbench.session.path.thin.on
    assert len(outcome(demo_window).controls) <= before
    assert takes.path.controls["thin", "every_ms"].isVisible()
    demo_window.workbench.undo()
    demo_window.workbench.undo()
    assert not demo_window.workbench.session.path.thin.on
    assert len(outcome(demo_window).controls) == before


def test_a_learnt_kit_model_is_shown_before_it_is_used(takes, demo_window, qtbot):
    before = demo_window.workbench.session.path
    qtbot.mouseClick(takes.path.learn, Qt.MouseButton.LeftButton)
    assert demo_window.workbench.session.path == before
    qtbot.waitUntil(lambda: "looking 4 ms ahead" in demo_window.notice.text, timeout=5000)
    qtbot.mouseClick(demo_window.notice.act, Qt.MouseButton.LeftButton)
    assert demo_window.workbench.session.path.crosstalk.kit_model.alone
    assert demo_window.menus.undo.text() == "Undo: learn from a take"
    demo_window.workbench.undo()
    assert demo_window.workbench.session.path == before
