"""Tempo, meter and key in the header and on the ruler: typed, wheeled, tapped and pressed, and the bytes of it."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import QApplication

from puresignal.core.session.take_ref import TakeRef
from puresignal.core.timing.session_time import MeterPoint
from puresignal.io import midi_reader


@pytest.fixture
def clock(monkeypatch):
    """The clock of the button that is tapped."""
    now = [100.0]
    monkeypatch.setattr("puresignal.ui.shell.time_controls.time.monotonic", lambda: now[0])
    return now


def opened(window, kit_file):
    window.open_files([kit_file])
    return window.workbench


def file_of(bench):
    return midi_reader.parse(bench.midi_bytes(), "out.mid")


def notes_in_beats(song):
    found = []
    for track in song.tracks:
        on = (track.messages.status & 0xF0 == 0x90) & (track.messages.data2 > 0)
        found += (track.messages.tick[on] / song.tempo.ppq).tolist()
    return sorted(round(beat, 3) for beat in found)


def wheel(widget, steps, modifiers=Qt.KeyboardModifier.NoModifier):
    at = QPointF(widget.rect().center())
    event = QWheelEvent(
        at, widget.mapToGlobal(at), QPoint(), QPoint(0, 120 * steps), Qt.MouseButton.NoButton, modifiers,
        Qt.ScrollPhase.NoScrollPhase, False,
    )  # fmt: skip
    QApplication.sendEvent(widget, event)


def test_a_typed_tempo_is_the_session_s_and_a_file_s_notes_keep_their_beats(window, qtbot, kit_file):
    bench, box = opened(window, kit_file), window.header.time.tempo
    before = notes_in_beats(file_of(bench))
    box.setFocus()
    box.selectAll()
    qtbot.keyClicks(box, "132.5")
    qtbot.keyClick(box, Qt.Key.Key_Return)
    assert bench.session.timeline.tempos[0].bpm == 132.5
    song = file_of(bench)
    assert song.tempo.bpm_at(0.0) == pytest.approx(132.5, abs=0.001)
    assert notes_in_beats(song) == before
    assert bench.history.undo_name == "set tempo"
    bench.undo()
    assert file_of(bench).tempo.bpm_at(0.0) == pytest.approx(104, abs=0.1)


def test_what_was_recorded_without_a_click_keeps_its_seconds(window, qtbot):
    qtbot.mouseClick(window.rail.play, Qt.MouseButton.LeftButton)
    bench = window.workbench
    window.services.take_actions.follow(False)
    before = bench.whole.outcome.output_notes.start.copy()
    window.header.time.tempo.setValue(60.0)
    assert bench.whole.outcome.output_notes.start.tolist() == pytest.approx(before.tolist(), abs=21e-6)
    assert "follows the clock" in window.rail.cards[0].accessibleName()


def test_letters_are_no_tempo_and_a_wheel_nudges_in_one_step(window, qtbot, kit_file):
    bench, box = opened(window, kit_file), window.header.time.tempo
    steps, bpm = len(bench.history.past), box.value()
    box.setFocus()
    box.selectAll()
    qtbot.keyClicks(box, "fast")
    qtbot.keyClick(box, Qt.Key.Key_Return)
    assert box.value() == bpm
    assert len(bench.history.past) == steps
    wheel(box, 1)
    wheel(box, 2)
    wheel(box, -1, Qt.KeyboardModifier.ShiftModifier)
    assert bench.timeline.tempos[0].bpm == pytest.approx(bpm + 2.9, abs=0.011)
    assert len(bench.history.past) == steps + 1


def test_a_tapped_tempo_survives_a_missed_tap_and_one_tap_says_what_to_do(window, qtbot, kit_file, clock):
    bench, tap = opened(window, kit_file), window.header.time.tap
    for beat in (0, 1, 2, 4, 5, 6, 7):
        clock[0] = 100 + beat * 60 / 98
        qtbot.mouseClick(tap, Qt.MouseButton.LeftButton)
    assert bench.timeline.tempos[0].bpm == pytest.approx(98, abs=0.2)
    assert bench.history.undo_name == "set tempo"
    steps = len(bench.history.past)
    clock[0] = 200.0
    qtbot.mouseClick(tap, Qt.MouseButton.LeftButton)
    window.header.time._forget_taps()
    assert "three times" in window.notice.text
    assert len(bench.history.past) == steps


def test_a_meter_is_typed_and_what_is_none_says_so(window, qtbot, kit_file):
    bench, meter = opened(window, kit_file), window.header.time.meter
    line = meter.lineEdit()
    line.setFocus()
    line.selectAll()
    qtbot.keyClicks(line, "7/8")
    qtbot.keyClick(line, Qt.Key.Key_Return)
    assert bench.session.timeline.meter_at(1) == MeterPoint(1, 7, 8)
    assert [(m.numerator, m.denominator) for m in file_of(bench).tempo.meters] == [(7, 8)]
    steps = len(bench.history.past)
    line.selectAll()
    qtbot.keyClicks(line, "7/9")
    qtbot.keyClick(line, Qt.Key.Key_Return)
    assert "7/9 is no meter" in window.notice.text
    assert meter.currentText() == "7/8"
    assert len(bench.history.past) == steps


def test_the_key_is_in_the_file(window, kit_file):
    bench, key = opened(window, kit_file), window.header.time.key
    key.setCurrentIndex(key.findData("D minor"))
    key.activated.emit(key.currentIndex())
    metas = [meta for track in file_of(bench).tracks for meta in track.metas if meta.kind == 0x59]
    assert [meta.data for meta in metas] == [b"\xff\x01"]


def test_changes_along_the_bars_are_made_and_taken_away_on_the_ruler(window, qtbot, kit_file):
    bench = opened(window, kit_file)
    window.show_view("Takes")
    timeline, menus = window.takes.timeline, window.takes.time
    second = bench.heard.several.second_of(8.0)
    labels = [action.text() for action in menus.ruler_menu(second).actions()]
    assert labels[0] == "Tempo change at bar 3, beat 1…"
    menus.set_tempo(8.0, 90.0)
    menus.set_meter(5, "3/4")
    assert [mark.text for mark in timeline.strip.marks] == ["4/4", "104", "90", "3/4"]
    song = file_of(bench)
    assert [round(t.bpm) for t in song.tempo.tempos] == [104, 90]
    assert song.tempo.tempos[1].tick == 8 * song.tempo.ppq
    # The mark in the picture is the one that a click finds.
    boxes = timeline.strip.boxes(*timeline.axis.place)
    box, mark = next((box, mark) for box, mark in boxes if mark.text == "90")
    pressed = []
    timeline.mark_pressed.disconnect()
    timeline.mark_pressed.connect(lambda found, at: pressed.append(found))
    qtbot.mouseClick(timeline.viewport(), Qt.MouseButton.LeftButton, pos=box.center().toPoint())
    assert pressed == [mark]
    actions = {action.text(): action for action in menus.mark_menu(mark).actions()}
    actions["Remove this tempo change"].trigger()
    assert [mark.text for mark in timeline.strip.marks] == ["4/4", "104", "3/4"]
    menus.set_meter(5, "three")
    assert "three is no meter" in window.notice.text


def test_a_glide_is_one_click_and_keeps_every_note_within_half_a_millisecond(window, kit_file):
    bench = opened(window, kit_file)
    window.show_view("Takes")
    menus = window.takes.time
    menus.set_tempo(8.0, 60.0)
    first = window.takes.timeline.strip.marks[1]
    glide = next(a for a in menus.mark_menu(first).actions() if a.text().startswith("Glide"))
    glide.trigger()
    assert bench.session.timeline.tempos[0].glides
    song, wanted = file_of(bench), bench.session.timeline
    for beat in (1.0, 3.5, 7.75, 12.0):
        written = song.tempo.ticks_to_seconds([beat * song.tempo.ppq])[0]
        assert written == pytest.approx(wanted.beats_to_seconds([beat])[0], abs=0.0005)


def test_a_take_ref_alone_does_not_decide_the_tempo(window):
    assert not TakeRef("a", "a").has_grid
    assert window.workbench.timeline.tempos[0].bpm == 120.0
