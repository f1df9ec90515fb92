"""Notes edited by pointer and keys in the real window; then the session and the bytes."""

from __future__ import annotations

import io

import mido
import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtTest import QTest

from puresignal.core.session import session as edits
from puresignal.core.session.take_ref import DRAWN
from puresignal.core.session.track_settings import TrackSettings

CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


@pytest.fixture
def takes(demo_window, qtbot):
    demo_window.activateWindow()
    qtbot.waitUntil(lambda: demo_window.workbench.shown is not None)
    view = demo_window.views["Takes"]
    view.timeline.setFocus()
    return view


def notes_of(takes):
    return takes._workbench.seen.outcome.output_notes


def a_note(takes, label="kick", number=3):
    """A clean note in view: its origin, and where it is in the viewport."""
    timeline = takes.timeline
    for group, row, top, height in timeline._rows():
        if row.label == label or group.title.lower() == label:
            begin, end = timeline.seconds_in_view()
            seen = np.flatnonzero((row.clean_start > begin + 0.5) & (row.clean_start < end - 1))
            i = int(seen[number])
            at = QPoint(round(timeline.x_of(float(row.clean_start[i]))), round(top + height - 14))
            return int(row.clean_origin[i]), at, row
    raise AssertionError(label)


def drag(takes, at, by, modifier=Qt.KeyboardModifier.NoModifier):
    port = takes.timeline.viewport()
    QTest.mousePress(port, Qt.MouseButton.LeftButton, modifier, at)
    for part in (0.3, 0.7, 1.0):
        QTest.mouseMove(port, at + QPoint(round(by.x() * part), round(by.y() * part)))
        where = at + QPoint(round(by.x() * part), round(by.y() * part))
        event = QMouseEvent(
            QMouseEvent.Type.MouseMove, where, port.mapToGlobal(where), Qt.MouseButton.NoButton,
            Qt.MouseButton.LeftButton, modifier,
        )  # fmt: skip
        takes.timeline.mouseMoveEvent(event)
    QTest.mouseRelease(port, Qt.MouseButton.LeftButton, modifier, at + by)


def start_beat(takes, origin):
    notes, several = notes_of(takes), takes._workbench.seen.several
    return several.beat_of(float(notes.start[notes.origin == origin][0]))


def test_a_note_dragged_sideways_lands_on_the_line_and_undo_brings_it_back(takes, demo_window, qtbot):
    origin, at, _ = a_note(takes)
    before = start_beat(takes, origin)
    beat = takes.timeline._scale * 60 / 92
    drag(takes, at, QPoint(round(0.52 * beat), 0))
    after = start_beat(takes, origin)
    assert after == pytest.approx(round((before + 0.52) * 4) / 4, abs=0.01)
    assert len(takes._workbench.session.take().edits) == 1
    demo_window.workbench.undo()
    assert start_beat(takes, origin) == pytest.approx(before, abs=1e-6)


def test_a_hit_dragged_to_another_row_becomes_that_drum_in_the_file(takes, demo_window, qtbot):
    origin, at, row = a_note(takes)
    target = next(box for group, label, box in takes.timeline.row_boxes() if label == "rim")
    drag(takes, at, QPoint(0, round(target.center().y()) - at.y()))
    shown = takes._workbench.seen
    notes = notes_of(takes)
    mine = notes.origin == origin
    assert shown.outcome.vocabulary[int(notes.articulation[mine][0])] == "snare.rim"
    rim = next(r for r in takes.timeline.rows() if r.articulation == "snare.rim")
    assert origin in rim.clean_origin
    file = mido.MidiFile(file=io.BytesIO(demo_window.workbench.midi_bytes()))
    counts = [
        sum(m.type == "note_on" and m.velocity > 0 for m in track) for track in file.tracks if track.name == "Kick"
    ]
    assert counts == [len(row.clean_origin) - 1]


def test_keys_nudge_transpose_shape_and_take_back(takes, qtbot):
    origin, _, _ = a_note(takes)
    takes.timeline.select(np.array([origin]))
    before = start_beat(takes, origin)
    velocity = float(notes_of(takes).velocity[notes_of(takes).origin == origin][0])
    qtbot.keyClick(takes.timeline, Qt.Key.Key_Right, CTRL)
    assert start_beat(takes, origin) == pytest.approx(before + 0.25, abs=1e-3)
    qtbot.keyClick(takes.timeline, Qt.Key.Key_Left, CTRL | SHIFT)
    assert start_beat(takes, origin) == pytest.approx(before + 0.25 - 0.001 * 92 / 60, abs=1e-3)
    qtbot.keyClick(takes.timeline, Qt.Key.Key_Down, SHIFT)
    notes = notes_of(takes)
    assert notes.velocity[notes.origin == origin][0] == max(1, velocity - 4)
    assert "by hand" in takes.trace.story.text()
    qtbot.keyClick(takes.timeline, Qt.Key.Key_Z, SHIFT)
    assert start_beat(takes, origin) == pytest.approx(before, abs=1e-6)
    assert len(takes._workbench.session.take().edits) == 0


def test_a_double_click_draws_and_delete_erases_what_was_drawn(takes, demo_window, qtbot):
    timeline, bench = takes.timeline, demo_window.workbench
    _, _, row = a_note(takes)
    before = len(row.clean_origin)
    box = next(box for group, label, box in timeline.row_boxes() if label == "kick")
    gap = float(row.clean_start[3] + row.clean_start[4]) / 2
    at = QPoint(round(timeline.x_of(gap)), round(box.center().y()))
    QTest.mouseDClick(timeline.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at)
    drawn = [one for one in bench.session.takes if one.kind == DRAWN]
    assert len(drawn) == 1
    assert len(drawn[0].drawn) == 1
    kick = next(r for r in timeline.rows() if r.articulation == "kick")
    assert len(kick.clean_origin) == before + 1
    assert drawn[0].drawn[0].beat * 4 == pytest.approx(round(drawn[0].drawn[0].beat * 4), abs=0.02)
    new = next(int(o) for o in kick.clean_origin if takes._shown.whose(np.array([o])).keys() == {drawn[0].ident})
    timeline.select(np.array([new]))
    qtbot.keyClick(timeline, Qt.Key.Key_Delete)
    assert len(bench.session.take(drawn[0].ident).drawn) == 0
    bench.undo()
    assert len(bench.session.take(drawn[0].ident).drawn) == 1


def test_copies_are_pasted_at_the_position_and_behind(takes, demo_window, qtbot):
    bench = demo_window.workbench
    origins = np.array([a_note(takes, number=n)[0] for n in (0, 1, 2)])
    takes.timeline.select(origins)
    count = len(notes_of(takes))
    qtbot.keyClick(takes.timeline, Qt.Key.Key_C, CTRL)
    demo_window.playback.go(demo_window.playback.second_of(120.0))
    qtbot.keyClick(takes.timeline, Qt.Key.Key_V, CTRL)
    assert len(notes_of(takes)) == count + 3
    drawn = next(one for one in bench.session.takes if one.kind == DRAWN)
    assert min(one.beat for one in drawn.drawn) == pytest.approx(120.0, abs=0.01)
    takes.timeline.select(origins)
    qtbot.keyClick(takes.timeline, Qt.Key.Key_D, CTRL)
    assert len(notes_of(takes)) == count + 6
    bench.undo()
    bench.undo()
    assert len(notes_of(takes)) == count


def test_a_locked_track_stays_as_it_is_and_the_player_is_told(takes, demo_window, qtbot):
    bench = demo_window.workbench
    bench.do("lock", edits.with_tracks(bench.session, [TrackSettings("kick", locked=True)]))
    origin, _, _ = a_note(takes)
    before = start_beat(takes, origin)
    told = []
    bench.message_shown.connect(lambda text, _: told.append(text))
    takes.timeline.select(np.array([origin]))
    qtbot.keyClick(takes.timeline, Qt.Key.Key_Right, CTRL)
    assert start_beat(takes, origin) == before
    assert any("locked" in text for text in told)
