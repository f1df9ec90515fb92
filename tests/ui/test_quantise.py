"""Quantise in the window: switched on by a click, seen, mended by a key, undone; and nothing is applied twice."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import Qt

from puresignal.core.path.timing import BETWEEN
from puresignal.demo import demo_session


@pytest.fixture
def takes(demo_window, qtbot):
    demo_window.activateWindow()
    qtbot.waitUntil(lambda: demo_window.workbench.shown is not None)
    return demo_window.views["Takes"]


def switch_on(takes, qtbot):
    qtbot.mouseClick(takes.path.boxes["timing"].box, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: not takes.path.fits.isHidden(), timeout=8000)


def starts(takes):
    return takes._workbench.shown.outcome.output_notes.start.copy()


def test_a_click_quantises_and_undo_gives_back_what_was_played(takes, demo_window, qtbot):
    before = starts(takes)
    switch_on(takes, qtbot)
    after = starts(takes)
    timeline = demo_window.workbench.timeline
    sixteenths = timeline.seconds_to_beats(after) * 4
    # Flams, drags and rolls keep their own distances.
    assert np.mean(np.abs(sixteenths - np.round(sixteenths)) < 0.01) > 0.8
    assert np.mean(np.abs(after - before[: len(after)]) > 0.002) > 0.3
    assert "sixteenths" in takes.path.fits.text()
    # Its settings have the room to themselves.
    assert takes.path.controls["timing", "strength"].isVisible()
    assert not takes.path.controls["doubles", "ratio"].isVisible()
    demo_window.workbench.undo()
    assert np.array_equal(starts(takes), before)
    demo_window.workbench.redo()
    assert np.array_equal(starts(takes), after)


def test_strength_moved_by_a_key_pulls_less(takes, demo_window, qtbot):
    before = starts(takes)
    switch_on(takes, qtbot)
    full = starts(takes)
    slider = takes.path.controls["timing", "strength"].slider
    slider.setFocus()
    qtbot.keyClick(slider, Qt.Key.Key_Home)
    assert demo_window.workbench.session.path.timing.strength.value == 0.0
    assert np.array_equal(starts(takes), before)
    qtbot.keyClick(slider, Qt.Key.Key_End)
    assert np.array_equal(starts(takes), full)


def test_a_note_between_two_lines_is_found_by_a_key_and_sent_to_the_other(takes, demo_window, qtbot):
    takes.tools.hear.setChecked(False)
    switch_on(takes, qtbot)
    shown = demo_window.workbench.shown
    entries = shown.outcome.tally.entries
    between = entries.take(entries.reason == int(BETWEEN))
    assert len(between)
    for _ in range(60):
        qtbot.keyClick(takes.timeline, Qt.Key.Key_D)
        origin = int(takes.timeline.selected[0])
        if origin in between.origin:
            break
    row = int(np.flatnonzero(between.origin == origin)[0])
    assert takes.trace.buttons["other_line"].isVisible()
    assert "between two lines" in takes.trace.story.text()
    qtbot.keyClick(takes.timeline, Qt.Key.Key_J)
    notes = demo_window.workbench.shown.outcome.output_notes
    assert notes.start[notes.origin == origin][0] == pytest.approx(float(between.after[row]), abs=1e-4)
    demo_window.workbench.undo()
    notes = demo_window.workbench.shown.outcome.output_notes
    assert notes.start[notes.origin == origin][0] == pytest.approx(float(between.before[row]), abs=1e-4)


def test_the_lines_of_the_grid_are_drawn(takes, qtbot):
    plain = takes.timeline.viewport().grab().toImage()
    switch_on(takes, qtbot)
    qtbot.wait(50)
    assert takes.timeline.sheet.grid is not None
    assert len(takes.timeline.sheet.grid.lines) > 100
    assert takes.timeline.viewport().grab().toImage() != plain


def test_one_track_alone_is_quantised_where_it_is_set_for_it(takes, demo_window, qtbot):
    before = demo_window.workbench.shown.outcome.output_notes
    switch_on(takes, qtbot)
    slider = takes.path.controls["timing", "strength"].slider
    slider.setFocus()
    qtbot.keyClick(slider, Qt.Key.Key_Home)
    whom = takes.path.whom
    whom.setCurrentIndex(whom.findData("snare"))
    whom.activated.emit(whom.currentIndex())
    assert not takes.path.controls["timing", "grid"].isEnabled()
    qtbot.keyClick(slider, Qt.Key.Key_End)
    timing = demo_window.workbench.session.path.timing
    assert (timing.strength.value, timing.strength.tracks) == (0.0, (("snare", 1.0),))
    shown = demo_window.workbench.shown
    after, keys = shown.outcome.output_notes, [track.key for track in shown.outcome.tracks]
    was = dict(
        zip(zip(before.origin.tolist(), before.branch.tolist(), strict=True), before.start.tolist(), strict=True)
    )
    tracks = set()
    for origin, branch, start, track in zip(
        after.origin.tolist(), after.branch.tolist(), after.start.tolist(), after.track.tolist(), strict=True
    ):
        if abs(start - was[origin, branch]) > 1e-6:
            tracks.add(keys[track])
    assert tracks == {"snare"}
    whom.setCurrentIndex(0)
    whom.activated.emit(0)
    assert "1 track differs" in takes.path.controls["timing", "strength"]._name.text()


def test_the_groove_of_the_chosen_take_is_used_and_kept(takes, demo_window, qtbot):
    switch_on(takes, qtbot)
    row = takes.path.groove
    row.combo.setCurrentIndex(row.combo.findData("from take"))
    row.combo.activated.emit(row.combo.currentIndex())
    groove = demo_window.workbench.session.path.timing.groove
    assert len(groove.late) == 16
    row.keep_as("Ferry feel")
    from puresignal.io import groove_file

    assert [one.name for one in groove_file.kept()] == ["Ferry feel"]
    assert row.combo.currentText() == "Ferry feel"
    demo_window.workbench.undo()
    demo_window.workbench.undo()
    assert demo_window.workbench.session.path.timing.groove.late == ()


def test_keys_are_ranked_with_the_notes_that_they_would_move(takes, demo_window, qtbot):
    demo_window.workbench.show_session(*demo_session.trio())
    takes = demo_window.views["Takes"]
    qtbot.mouseClick(takes.path.boxes["key"].box, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: not takes.path.keys.isHidden(), timeout=8000)
    assert "moves" in takes.path.key_list.itemText(1)
    combo = takes.path.controls["key", "key"]
    combo.setCurrentIndex(combo.findData("C# major"))
    combo.activated.emit(combo.currentIndex())
    notes = demo_window.workbench.seen.outcome
    bass = notes.output_notes.take(notes.output_notes.articulation < 0)
    allowed = {(1 + step) % 12 for step in (0, 2, 4, 5, 7, 9, 11)}
    pitched = bass.note[bass.channel != 10]
    assert len(pitched)
    assert {int(n) % 12 for n in pitched} <= allowed
