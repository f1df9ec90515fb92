"""Beats of a take in the window: found, mended by a dragged line, by keys and by tapping along, and used."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt

from puresignal.io import midi_reader
from puresignal.ui.shell.main_window import MainWindow
from puresignal.ui.state.workbench import Workbench
from puresignal.ui.takes.bar_ruler import HANDLES, RULER
from tests.core.timing.test_beat_finder import file_of, hits_of


@pytest.fixture
def free(qtbot, tmp_path):
    """The window on a groove of four that was played at 97, without a click; and its beats in seconds."""
    hits, beats = hits_of(97, 12, 0.008, lead=0.8)
    path = tmp_path / "free.mid"
    path.write_bytes(file_of(hits))
    window = MainWindow(Workbench(), "Takes")
    qtbot.addWidget(window)
    window.resize(1280, 800)
    window.show()
    qtbot.waitExposed(window)
    window.workbench.open_midi(path)
    return window, beats


def find(window, qtbot):
    qtbot.mouseClick(window.takes.tools.beats, Qt.MouseButton.LeftButton)
    qtbot.mouseClick(window.takes.beat_bar.search, Qt.MouseButton.LeftButton)
    window.services.background.wait(20)
    return window.takes.timeline.beats.lines


def onset_seconds(bench):
    song = midi_reader.parse(bench.midi_bytes(), "out.mid")
    return np.sort(np.concatenate([
        song.tempo.ticks_to_seconds(rows.tick[(rows.status & 0xF0 == 0x90) & (rows.data2 > 0)])
        for rows in (track.messages for track in song.tracks)
    ]))  # fmt: skip


def at_line(window, which):
    timeline = window.takes.timeline
    x = round(timeline.axis.x_of(float(timeline.beats.lines.seconds[which])))
    return QPoint(x, (HANDLES + RULER) // 2)


def test_beats_are_found_and_used_as_the_tempo_and_no_onset_moves(free, qtbot):
    window, beats = free
    before = onset_seconds(window.workbench)
    lines = find(window, qtbot)
    bars = lines.seconds[lines.down]
    assert np.abs(beats[::4][:, None] - bars[None, :]).min(axis=1).max() < 0.07
    assert float(window.takes.beat_bar.said.text().split()[0]) == pytest.approx(97, abs=0.5)
    assert onset_seconds(window.workbench) == pytest.approx(before, abs=0.002)
    qtbot.mouseClick(window.takes.beat_bar.keep, Qt.MouseButton.LeftButton)
    after = onset_seconds(window.workbench)
    assert np.diff(after) == pytest.approx(np.diff(before), abs=0.002)
    assert window.workbench.timeline.bpm_at(8.0) == pytest.approx(97, abs=4)
    window.workbench.undo()
    window.workbench.undo()
    assert window.workbench.session.take().grid is None


@pytest.mark.parametrize(("hits", "said"), [("groove", "sure"), ("even", "doubtful: check the bar lines")])
def test_how_sure_the_beats_are_is_said(free, qtbot, tmp_path, hits, said):
    """A groove of kick and snare tells its bars; one even row of equal strokes tells none."""
    window, _ = free
    if hits == "even":
        path = tmp_path / "even.mid"
        path.write_bytes(file_of([(0.5 + 0.4 * i, 42, 80) for i in range(60)]))
        window.workbench.open_midi(path)
    find(window, qtbot)
    assert window.takes.beat_bar.said.text().split(", ")[2].split(" · ")[0] == said


def test_straightened_the_beats_are_steady(free, qtbot):
    window, _ = free
    find(window, qtbot)
    window.takes.beat_bar.bpm.setValue(100)
    qtbot.mouseClick(window.takes.beat_bar.straighten, Qt.MouseButton.LeftButton)
    beats = window.workbench.timeline.seconds_to_beats(onset_seconds(window.workbench))
    off = np.abs(2 * beats - np.rint(2 * beats)) / 2
    assert np.median(off) < 0.03
    assert window.workbench.timeline.bpm_at(0.0) == 100


def test_a_dragged_line_stays_where_it_is_put_and_is_one_step(free, qtbot):
    window, _ = free
    lines = find(window, qtbot)
    view = window.takes.timeline.viewport()
    begin = at_line(window, 6)
    steps = len(window.workbench.history.past)
    qtbot.mousePress(view, Qt.MouseButton.LeftButton, pos=begin)
    for by in (3, 6, 9):
        qtbot.mouseMove(view, begin + QPoint(by, 0))
    qtbot.mouseRelease(view, Qt.MouseButton.LeftButton, pos=begin + QPoint(9, 0))
    now = window.takes.timeline.beats.lines
    wanted = window.takes.timeline.axis.second_at(begin.x() + 9)
    assert now.seconds[6] == pytest.approx(wanted, abs=0.02)
    assert now.seconds[:4] == pytest.approx(lines.seconds[:4], abs=1e-4)
    assert len(window.workbench.history.past) == steps + 1


def test_keys_halve_double_and_move_the_bar_lines(free, qtbot):
    window, _ = free
    lines = find(window, qtbot)
    timeline = window.takes.timeline
    qtbot.keyClick(timeline, Qt.Key.Key_Period)
    moved = timeline.beats.lines
    assert np.flatnonzero(moved.down)[0] == (np.flatnonzero(lines.down)[0] + 1) % 4
    qtbot.keyClick(timeline, Qt.Key.Key_Comma)
    assert timeline.beats.lines.down.tolist() == lines.down.tolist()
    qtbot.keyClick(timeline, Qt.Key.Key_BracketLeft)
    assert abs(len(timeline.beats.lines.seconds) * 2 - len(lines.seconds)) <= 2
    qtbot.keyClick(timeline, Qt.Key.Key_BracketRight)
    assert abs(len(timeline.beats.lines.seconds) - len(lines.seconds)) <= 2


def test_tapping_along_sets_the_beats(free, qtbot, monkeypatch):
    window, beats = free
    takes = window.takes
    qtbot.mouseClick(takes.tools.beats, Qt.MouseButton.LeftButton)
    window.services.background.wait(20)
    playback = window.services.playback
    at = iter((beats[4:14:2] + 0.02).tolist())
    monkeypatch.setattr(playback, "playing", True)
    monkeypatch.setattr(playback, "heard_now", lambda: next(at))
    takes.timeline.setFocus()
    for _ in range(5):
        qtbot.keyClick(takes.timeline, Qt.Key.Key_T)
    monkeypatch.setattr(playback, "playing", False)
    # Every second beat was tapped: half the speed, on what was played.
    lines = takes.timeline.beats.lines
    assert np.median(np.diff(lines.seconds)) == pytest.approx(2 * 60 / 97, rel=0.05)
    assert np.abs(beats[4:40:2][:, None] - lines.seconds[None, :]).min(axis=1).max() < 0.06


def test_one_note_says_what_to_do(window, qtbot, tmp_path):
    path = tmp_path / "one.mid"
    path.write_bytes(file_of([(0.5, 36, 100)]))
    window.workbench.open_midi(path)
    window.show_view("Takes")
    window.takes.show_beats(True)
    window.services.background.wait(20)
    assert "tap along" in window.notice.text


def test_the_lines_are_in_the_picture_and_no_longer_when_closed(free, qtbot):
    window, _ = free
    find(window, qtbot)
    view = window.takes.timeline.viewport()
    point = at_line(window, int(np.flatnonzero(window.takes.timeline.beats.lines.down)[1]))
    with_lines = view.grab().toImage().pixelColor(point)
    qtbot.mouseClick(window.takes.beat_bar.close_button, Qt.MouseButton.LeftButton)
    assert not window.takes.beat_bar.isVisible()
    assert view.grab().toImage().pixelColor(point) != with_lines
