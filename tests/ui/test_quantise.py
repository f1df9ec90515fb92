"""Quantise in the window: switched on by a click, seen, mended by a key, undone; and nothing is applied twice."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import Qt

from puresignal.core.path.timing import BETWEEN


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
    takes.hear.setChecked(False)
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
    assert takes.timeline._grid is not None
    assert len(takes.timeline._grid.lines) > 100
    assert takes.timeline.viewport().grab().toImage() != plain
