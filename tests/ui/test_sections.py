"""Sections in the real window: made of selected bars, turned and dragged on their brackets, heard in order, written."""

from __future__ import annotations

import mido
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import QApplication

from puresignal import cli
from puresignal.core.touch.computer_keyboard import own_map
from puresignal.io import midi_reader, ports, session_file
from tests.ui.test_several_takes import trio  # noqa: F401 - fixture


def select_bars(window, first, after):
    timeline, playback = window.workbench.timeline, window.playback
    playback.set_span(tuple(playback.second_of(timeline.bar_to_beats(bar)) for bar in (first, after)))


@pytest.fixture
def song(trio, qtbot):  # noqa: F811
    """The demo with a verse of bars 3 and 4 and a chorus of bars 5 to 8."""
    for first, after, name in ((3, 5, "Verse"), (5, 9, "Chorus")):
        select_bars(trio, first, after)
        trio.services.sections.make()
        trio.services.sections.rename(name)
    row = trio.takes.timeline.sections
    qtbot.waitUntil(lambda: row.isVisible() and len(row.brackets) == 2, timeout=3000)
    return trio


def sections(window):
    return [(s.name, s.bar, s.bars, s.hidden, s.repeats) for s in window.workbench.session.sections]


def wheel(row, at, turns):
    for _ in range(abs(turns)):
        event = QWheelEvent(
            QPointF(at), QPointF(row.mapToGlobal(at)), QPoint(), QPoint(0, 120 if turns > 0 else -120),
            Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False,
        )  # fmt: skip
        QApplication.sendEvent(row, event)


def hits(data):
    """Number of drum hits of a file, and its bars."""
    song = midi_reader.parse(data, "a.mid")
    on = [(m.status == 0x99) & (m.data2 > 0) for m in (track.messages for track in song.tracks)]
    return sum(int(one.sum()) for one in on)


def test_the_key_makes_one_of_the_selected_bars(trio, qtbot):  # noqa: F811
    select_bars(trio, 3, 5)
    trio.takes.timeline.setFocus()
    qtbot.keyClick(trio.takes.timeline, Qt.Key.Key_S)
    qtbot.waitUntil(lambda: sections(trio) == [("A", 3, 2, 0, 1)], timeout=3000)
    assert trio.takes.timeline.sections.isVisible()
    assert trio.menus.undo.text() == "Undo: make section"


def test_the_wheel_repeats_and_undo_takes_one_gesture_back(song, qtbot):
    row = song.takes.timeline.sections
    before = hits(song.workbench.midi_bytes())
    at = row.box(row.brackets[0]).center().toPoint()
    bare = row.grab().toImage()
    wheel(row, at, 2)
    assert sections(song)[0] == ("Verse", 3, 2, 0, 3)
    assert hits(song.workbench.midi_bytes()) > before
    assert row.grab().toImage() != bare
    song.workbench.undo()
    assert sections(song)[0] == ("Verse", 3, 2, 0, 1)
    assert hits(song.workbench.midi_bytes()) == before


def test_a_dragged_end_hides_bars_and_brings_them_back(song, qtbot):
    row = song.takes.timeline.sections
    before = song.workbench.midi_bytes()
    box = row.box(row.brackets[1])
    song.takes.timeline.show_all()
    box = row.box(row.brackets[1])
    middle = round(box.left() + box.width() / 2)
    qtbot.mousePress(row, Qt.MouseButton.LeftButton, pos=QPoint(round(box.right()) - 1, 10))
    qtbot.mouseMove(row, QPoint(middle, 10))
    qtbot.mouseRelease(row, Qt.MouseButton.LeftButton, pos=QPoint(middle, 10))
    assert sections(song)[1] == ("Chorus", 5, 2, 2, 1)
    assert hits(song.workbench.midi_bytes()) < hits(before)
    assert "2 bars hidden" in row.words(row.brackets[1])
    qtbot.keyClick(row, Qt.Key.Key_Plus)
    qtbot.keyClick(row, Qt.Key.Key_Plus)
    assert sections(song)[1] == ("Chorus", 5, 4, 0, 1)
    assert song.workbench.midi_bytes() == before


def test_in_order_is_seen_heard_and_what_the_file_and_the_command_have(song, qtbot, tmp_path, monkeypatch):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    actions, bench = song.services.sections, song.workbench
    assert actions.set_order("chorus*2, VERSE")
    assert not actions.set_order("bridge")
    assert "no section called" in song.notice.text
    written = bench.midi_bytes()
    qtbot.mouseClick(song.takes.in_order, Qt.MouseButton.LeftButton)
    assert bench.session.display.in_order
    names = [one.name for one in song.takes.timeline.sections.brackets]
    assert names == ["Chorus", "Chorus", "Verse"]
    notes = bench.heard.outcome.output_notes
    assert bench.heard.outcome.tally.balances()
    assert hits(written) == int((notes.channel == 10).sum())
    # Ten bars of four at the session's 92.
    assert bench.heard.take.length == pytest.approx(10 * 4 * 60 / 92, abs=0.01)
    path = tmp_path / "song.puresignal"
    song.files.save_session_to(path)
    assert cli.main(["export", str(path), "--out", str(tmp_path / "a.mid")]) == 0
    assert (tmp_path / "a.mid").read_bytes() == written
    # What is recorded stands on the bars as they are.
    song.live_session.listen_to(ports.SCREEN_PADS, own_map())
    song.services.capture.begin()
    assert not bench.session.display.in_order
    song.services.capture.end()
    song.live_session.close()


def test_a_section_plays_alone_round_and_round(song):
    song.services.sections.play_alone("s2")
    begin, end = song.playback.span
    assert song.playback.looping
    assert song.playback.beat_of(begin) == pytest.approx(16.0)
    assert song.playback.beat_of(end) == pytest.approx(32.0)
    song.playback.stop()


def test_one_over_another_says_so_and_makes_nothing(song, qtbot):
    select_bars(song, 4, 6)
    song.services.sections.make()
    assert len(song.workbench.session.sections) == 2
    assert "Bar 4 is in “Verse” already" in song.notice.text


def test_the_menu_duplicates_writes_out_and_removes(song, qtbot):
    row = song.takes.timeline.sections

    def act(text, number=0):
        next(a for a in row.menu(row.brackets[number]).actions() if a.text() == text).trigger()

    song.services.sections.set_repeats(2, "s1")
    folded = hits(song.workbench.midi_bytes())
    act("Write out repeats")
    assert [one[0] for one in sections(song)] == ["Verse", "Verse 2", "Chorus"]
    assert hits(song.workbench.midi_bytes()) == folded
    act("Remove the bracket", 1)
    act("Duplicate", 1)
    assert [one[0] for one in sections(song)] == ["Verse", "Chorus", "Chorus 2"]
    assert sections(song)[2][1:3] == (11, 4)
    song.workbench.undo()
    song.workbench.undo()
    song.workbench.undo()
    assert hits(song.workbench.midi_bytes()) == folded


def test_each_section_is_saved_as_a_file_as_the_command_would(song, tmp_path, monkeypatch):
    bench, outputs = song.workbench, song.outputs
    outputs.running.click()
    outputs.zero_ends.click()
    assert (bench.session.delivery.running, bench.session.delivery.zero_ends) == (True, True)
    folder = tmp_path / "parts"
    folder.mkdir()
    song.files.save_sections_to(folder)
    names = sorted(path.name for path in folder.iterdir())
    assert names == [f"{bench.session.name} Chorus.mid", f"{bench.session.name} Verse.mid"]
    song.files.save_session_to(tmp_path / "song.puresignal")
    assert session_file.read(tmp_path / "song.puresignal").session.delivery == bench.session.delivery
    out = tmp_path / "command"
    assert cli.main(["export", str(tmp_path / "song.puresignal"), "--out", str(out), "--per-section"]) == 0
    by_command = sorted(out.iterdir())
    for path, other in zip(sorted(folder.iterdir()), by_command, strict=True):
        assert path.read_bytes() == other.read_bytes()
        made = mido.MidiFile(path)
        assert not any(m.type == "note_off" for track in made.tracks for m in track)
    song.files.save_sections_to(folder)
    assert "exists already" in song.notice.text
