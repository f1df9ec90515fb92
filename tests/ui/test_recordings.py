"""Recordings in the window: dropped, heard, settled, saved; and what goes wrong."""

from __future__ import annotations

import io
import os
import re
import time
from pathlib import Path

import mido
import numpy as np
import pytest
import soundfile
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QApplication, QFileDialog, QPushButton

from puresignal.core.errors import FileAccessError
from puresignal.core.hearing.sound_outline import STEP
from puresignal.core.path.heard import UNSURE
from puresignal.core.path.tally import Action
from puresignal.core.path.verdicts import Verdict
from puresignal.core.session import session as edits
from puresignal.io import session_file
from puresignal.ui.shell import file_actions
from puresignal.ui.takes.row_labels import GUTTER

RATE = 44_100
LINE = [(0.2, 0.5, 57), (0.8, 0.5, 60), (1.4, 0.6, 64), (2.2, 0.5, 62), (2.9, 0.7, 57)]


def melody_file(folder, name="ferry-tune.wav"):
    """A plain tone for each note, with overtones and soft edges."""
    sound = np.zeros(int(4.2 * RATE))
    for start, long, note in LINE:
        t = np.arange(int(long * RATE)) / RATE
        f = 440 * 2 ** ((note - 69) / 12)
        tone = sum(np.sin(2 * np.pi * f * k * t) / k**1.4 for k in range(1, 8))
        edge = np.minimum(1, np.minimum(t / 0.015, (long - t) / 0.06))
        sound[int(start * RATE) : int(start * RATE) + len(t)] += 0.2 * tone * edge
    path = folder / name
    soundfile.write(path, sound + 1e-4 * np.random.default_rng(0).standard_normal(len(sound)), RATE)
    return path


@pytest.fixture
def heard(window, tmp_path, qtbot):
    """A window in which a melody was opened and heard, by its buttons."""
    window.activateWindow()
    path = melody_file(tmp_path)
    window.files.open_files([path])
    assert "plays along" in window.notice.text
    menu = window.files.kinds_menu(path, window)
    menu.actions()[0].trigger()
    session = window.workbench
    qtbot.waitUntil(lambda: any(one.heard for one in session.session.takes), timeout=60_000)
    return window


def test_the_notes_of_a_recording_become_a_take_and_a_file(heard):
    bench = heard.workbench
    ref = bench.session.take()
    assert ref.heard.kind == "melody"
    file = mido.MidiFile(file=io.BytesIO(bench.midi_bytes()))
    now, found = 0.0, []
    for message in file:
        now += message.time
        if message.type == "note_on" and message.velocity:
            found.append((now, message.note))
    assert [note for _, note in found] == [note for _, _, note in LINE]
    assert [at for at, _ in found] == pytest.approx([start for start, _, _ in LINE], abs=0.06)
    opened = session_file.parse(session_file.to_bytes(bench.session, dict(bench.store.by_ident)), "s")
    again = next(one for one in opened.session.takes if one.heard is not None)
    assert again.heard.origin.tolist() == ref.heard.origin.tolist()
    assert again.heard.confidence.tolist() == ref.heard.confidence.tolist()


def test_a_moved_setting_leaves_out_what_was_unsure_at_once_and_a_key_puts_it_back(heard, qtbot):
    bench, takes = heard.workbench, heard.view("Takes")
    heard.show_view("Takes")
    sure = bench.session.take().heard.confidence
    slider = takes.path.controls["heard", "least"]
    assert takes.path.boxes["heard"].isVisible()
    slider.moved.emit(float(np.sort(sure)[1]) + 0.001, "one")
    outcome = bench.seen.outcome
    gone = outcome.tally.origins(Action.REMOVED, UNSURE)
    assert len(gone) == 2
    takes.timeline.select(gone[:1])
    takes.timeline.setFocus()
    qtbot.keyClick(takes.timeline, Qt.Key.Key_K)
    assert len(bench.seen.outcome.tally.origins(Action.REMOVED, UNSURE)) == 1
    bench.undo()
    bench.undo()
    assert len(bench.seen.outcome.output_notes) == len(LINE)


def test_it_can_be_cancelled_and_bad_files_say_what_is_wrong(window, tmp_path, qtbot):
    window.activateWindow()
    path = melody_file(tmp_path)
    window.files.hear(path, "melody")
    assert window.services.listener.busy
    window.services.listener.cancel()
    assert not window.services.listener.busy
    assert all(one.heard is None for one in window.workbench.session.takes)
    told = []
    window.services.listener.told.connect(lambda text, problem: told.append((text, problem)))
    broken = tmp_path / "broken.wav"
    broken.write_bytes(b"RIFF0000WAVE nothing")
    window.files.hear(broken, "drums")
    qtbot.waitUntil(lambda: bool(told), timeout=30_000)
    assert told[0][1]
    assert "broken.wav" in told[0][0]
    silence = tmp_path / "silence.wav"
    soundfile.write(silence, np.zeros(RATE), RATE)
    told.clear()
    window.files.hear(silence, "melody")
    qtbot.waitUntil(lambda: bool(told), timeout=30_000)
    assert "silent" in told[0][0]


def test_the_recording_is_seen_below_the_sheet(heard, qtbot):
    heard.show_view("Takes")
    heard.resize(1280, 800)
    takes = heard.view("Takes")
    strip = takes.sound
    assert strip.isVisible()
    outline = heard.workbench.session.take().heard.outline
    assert outline.length == pytest.approx(4.2, abs=0.03)
    at = [int((start + long / 2) / STEP) for start, long, _ in LINE]
    assert outline.note()[at] == pytest.approx([note for _, _, note in LINE], abs=0.3)
    assert np.isnan(outline.note()[int(2.05 / STEP)])
    takes.timeline.show_all()
    picture = strip.grab().toImage()

    def dark(second, rows):
        x = round(takes.timeline.axis.x_of(second) * picture.devicePixelRatio())
        return sum(picture.pixelColor(x, y).lightness() < 150 for y in rows)

    level, pitch = range(58), range(60, strip.height())
    assert dark(0.45, level) > 20
    assert dark(2.05, level) <= 4
    assert dark(0.45, pitch) >= 1
    assert dark(2.05, pitch) == 0
    takes.tools.below["sound"].trigger()
    assert not strip.isVisible()


def test_a_single_period_is_drawn_from_the_file(heard):
    heard.show_view("Takes")
    takes = heard.view("Takes")
    for _ in range(14):
        takes.timeline.zoom(1.5)
    begin, end = takes.timeline.axis.second_at(GUTTER), takes.timeline.axis.second_at(takes.sound.width())
    samples, first, step = takes.sound._window.read(heard.workbench.session.take().heard.path, begin, end)
    assert step == pytest.approx(1 / RATE)
    assert first <= max(0.0, begin) + step
    assert len(samples) == pytest.approx((end - begin) * RATE, abs=4)


def test_a_session_has_its_recordings_in_it(heard, tmp_path):
    file, path = tmp_path / "evening.puresignal", tmp_path / "ferry-tune.wav"
    before = path.read_bytes()
    heard.files.save_session_to(file)
    path.unlink()
    heard.files.new_session()
    heard.files.open_files([file])
    ref = next(one for one in heard.workbench.session.takes if one.kind == "sound")
    assert ref.sound.path != str(path)
    assert Path(ref.sound.path).read_bytes() == before
    assert next(one for one in heard.workbench.session.takes if one.heard).heard.path == ref.sound.path
    # Where the file is gone for good, the session says so when it is saved.
    os.unlink(ref.sound.path)
    heard.files.save_session_to(tmp_path / "later.puresignal")
    assert "ferry-tune.wav is not in the session" in heard.notice.text


def test_much_sound_is_saved_beside_the_window_and_closing_waits_for_it(heard, tmp_path, monkeypatch, qtbot):
    monkeypatch.setattr(file_actions, "AT_ONCE_BYTES", 0)
    write = session_file.write

    def slowly(path, session, takes):
        time.sleep(0.4)
        return write(path, session, takes)

    monkeypatch.setattr(session_file, "write", slowly)
    file, bench = tmp_path / "evening.puresignal", heard.workbench
    heard.files.save_session_to(file)
    assert heard.files.is_saving
    assert heard.notice.text.startswith("Saving ")
    heard.files.save_session_to(file)
    assert heard.notice.text == "It is being saved already."
    # What is changed meanwhile is not in the file, and not taken for saved.
    bench.do("rename", edits.with_name(bench.session, "Later"))
    qtbot.waitUntil(lambda: not heard.files.is_saving, timeout=10_000)
    assert heard.notice.text == f"Saved: {file}"
    assert bench.file == file
    assert bench.unsaved
    assert session_file.read(file).session.name == "evening"
    heard.files.save_session_to(file)
    heard.files.finish_saving()
    assert session_file.read(file).session.name == "Later"
    assert not bench.unsaved


def test_a_save_beside_the_window_that_fails_says_so_and_another_place_works(heard, tmp_path, monkeypatch, qtbot):
    monkeypatch.setattr(file_actions, "AT_ONCE_BYTES", 0)
    monkeypatch.setattr(session_file, "write", _full)
    heard.files.save_session_to(tmp_path / "full.puresignal")
    qtbot.waitUntil(lambda: not heard.files.is_saving, timeout=10_000)
    assert "The disk is full" in heard.notice.text
    assert heard.workbench.file is None
    monkeypatch.undo()
    heard.files.save_session_to(tmp_path / "elsewhere.puresignal")
    assert heard.workbench.file == tmp_path / "elsewhere.puresignal"


def _full(path, session, takes):
    raise FileAccessError("The disk is full", str(path), "Make room.")


def test_several_recordings_stand_side_by_side(heard, tmp_path):
    heard.files.open_files([melody_file(tmp_path, "answer.wav")])
    sounds = [one for one in heard.workbench.session.takes if one.kind == "sound"]
    assert [one.name for one in sounds] == ["ferry-tune.wav", "answer.wav"]
    along = heard.services.live_session._along()
    assert [one["path"].rpartition("/")[2] for one in along] == ["ferry-tune.wav", "answer.wav"]
    heard.services.take_actions.switch(False, sounds[0].ident)
    assert [one["path"].rpartition("/")[2] for one in heard.services.live_session._along()] == ["answer.wav"]


def test_what_is_in_a_recording_is_proposed_and_one_click_hears_it(window, tmp_path, qtbot):
    window.activateWindow()
    window.files.open_files([melody_file(tmp_path)])
    qtbot.waitUntil(lambda: "sounds like a melody" in window.notice.text, timeout=30_000)
    offered = next(b for b in window.findChildren(QPushButton) if b.isVisible() and b.text() == "Hear its notes")
    qtbot.mouseClick(offered, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: any(one.heard for one in window.workbench.session.takes), timeout=60_000)
    assert window.workbench.session.take().heard.kind == "melody"


def test_the_first_notes_of_a_long_recording_are_there_soon_and_what_was_decided_stays(window, tmp_path, qtbot):
    bench, listener = window.workbench, window.services.listener
    short = soundfile.read(melody_file(tmp_path))[0]
    path = tmp_path / "long.wav"
    soundfile.write(path, np.tile(short, 30), RATE)
    listener.hear(path, "melody")
    qtbot.waitUntil(lambda: any(one.heard for one in bench.session.takes), timeout=30_000)
    ref = bench.session.take()
    first = bench.store[ref.material]
    assert listener.busy
    assert len(ref.heard.origin) >= 4 * len(LINE)
    assert first.length < 25
    origin = int(ref.heard.origin[7])
    at = float(first.events.arrived[origin])
    bench.do("drop", edits.with_verdicts(bench.session, ref.ident, [origin], Verdict(keep=False)))
    qtbot.waitUntil(lambda: not listener.busy, timeout=60_000)
    whole = bench.session.take(ref.ident)
    take = bench.store[whole.material]
    assert len(whole.heard.origin) >= 28 * len(LINE)
    (dropped,) = whole.verdicts
    assert take.events.arrived[dropped] == pytest.approx(at, abs=0.03)


def test_a_recording_that_is_taken_back_while_it_is_heard_stays_away(window, tmp_path, qtbot):
    bench, listener = window.workbench, window.services.listener
    short = soundfile.read(melody_file(tmp_path))[0]
    soundfile.write(tmp_path / "long.wav", np.tile(short, 20), RATE)
    before = bench.session
    listener.hear(tmp_path / "long.wav", "melody")
    qtbot.waitUntil(lambda: any(one.heard for one in bench.session.takes), timeout=30_000)
    bench.undo()
    assert bench.session == before
    qtbot.waitUntil(lambda: not listener.busy, timeout=60_000)
    assert bench.session == before


def test_the_balance_of_recording_and_notes_is_the_listeners(heard, qtbot):
    live, bench = heard.services.live_session, heard.workbench
    heard.show_view("Takes")
    strip = heard.takes.sound
    qtbot.waitUntil(strip.isVisible, timeout=3000)
    before = bench.session
    heard.playback.play()
    qtbot.waitUntil(lambda: "balance" in live._sound_told, timeout=8000)
    assert live._sound_told["balance"] == 0.0
    strip.balance.setFocus()
    qtbot.keyClick(strip.balance, Qt.Key.Key_Home)
    assert live._sound_told["balance"] == -1.0
    qtbot.keyClick(strip.balance, Qt.Key.Key_End)
    assert live._sound_told["balance"] == 1.0
    assert bench.session == before
    heard.playback.stop()
    live.close()


def test_from_a_recording_to_its_notes_in_a_file_takes_five_actions(window, tmp_path, monkeypatch, qtbot):
    window.activateWindow()
    short = soundfile.read(melody_file(tmp_path))[0]
    path = tmp_path / "half-a-minute.wav"
    soundfile.write(path, np.tile(short, 7), RATE)
    actions = []
    # 1: it is dropped on the window.
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path))])
    drop = QDropEvent(
        QPointF(640, 400), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    window.dropEvent(drop)
    actions.append("drop")
    # 2 and 3: Hear its notes, as what it probably is or as something chosen.
    qtbot.waitUntil(lambda: "Hear its notes" in window.notice.act.text(), timeout=30_000)
    listener = window.services.listener
    qtbot.waitUntil(lambda: not listener.busy, timeout=30_000)
    qtbot.mouseClick(window.notice.act, Qt.MouseButton.LeftButton)
    actions.append("hear")
    menu = QApplication.activePopupWidget()
    if menu is not None:
        qtbot.keyClick(menu, Qt.Key.Key_Return)
        actions.append("melody")
    qtbot.waitUntil(lambda: any(one.heard for one in window.workbench.session.takes), timeout=60_000)
    qtbot.waitUntil(lambda: not listener.busy, timeout=60_000)
    # 4 and 5: Ctrl+E, and Enter in the dialog.
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "notes.mid"), ""))
    qtbot.keyClick(window, Qt.Key.Key_E, Qt.KeyboardModifier.ControlModifier)
    actions += ["save", "accept"]
    qtbot.waitUntil((tmp_path / "notes.mid").exists, timeout=5000)
    notes = [m for m in mido.MidiFile(tmp_path / "notes.mid") if m.type == "note_on" and m.velocity]
    assert len(notes) >= 6 * len(LINE)
    assert len(actions) <= 6


@pytest.mark.parametrize(
    ("name", "make"),
    [
        ("eight-bit.wav", lambda p, s: soundfile.write(p, s, RATE, subtype="PCM_U8")),
        ("fast.wav", lambda p, s: soundfile.write(p, np.repeat(s, 4), 4 * RATE)),
        ("dc.wav", lambda p, s: soundfile.write(p, 0.6 * s + 0.35, RATE)),
        ("clipped.wav", lambda p, s: soundfile.write(p, np.clip(6 * s, -1, 1), RATE)),
        ("twelve.wav", lambda p, s: soundfile.write(p, np.tile(s[:, None], (1, 12)), RATE)),
    ],
)
def test_odd_recordings_are_heard_as_well(window, tmp_path, name, make, qtbot):
    make(tmp_path / name, soundfile.read(melody_file(tmp_path))[0])
    window.files.open_files([tmp_path / name])
    window.services.listener.hear(tmp_path / name, "melody")
    qtbot.waitUntil(lambda: any(one.heard for one in window.workbench.session.takes), timeout=60_000)
    notes = window.workbench.seen.outcome.output_notes
    assert [int(n) for n in notes.note] == [note for _, _, note in LINE]


@pytest.mark.parametrize(
    ("name", "content", "says"),
    [
        ("film.mp4", b"\x00\x00\x00\x18ftypmp42" + bytes(4000), ("WAV", "FLAC")),
        ("talk.m4a", b"\x00\x00\x00\x18ftypM4A " + bytes(4000), ("WAV", "FLAC")),
        ("nothing.flac", b"", ("nothing.flac",)),
    ],
)
def test_what_cannot_be_read_says_what_can(window, tmp_path, name, content, says, qtbot):
    path = tmp_path / name
    path.write_bytes(content)
    before = window.workbench.session
    window.files.open_files([path])
    said = window.notice.text
    for word in says:
        assert word in said
    assert window.workbench.session == before


def test_a_recording_that_vanishes_while_it_is_heard_ends_with_a_sentence(window, tmp_path, qtbot):
    path = melody_file(tmp_path)
    told = []
    window.services.listener.told.connect(lambda text, problem: told.append((text, problem)))
    window.services.listener.hear(path, "melody")
    path.unlink()
    qtbot.waitUntil(lambda: bool(told), timeout=30_000)
    assert told[0][1] is True or "heard" in told[0][0]


def test_keys_are_listed_before_one_is_chosen_and_adopted_for_the_session(heard, qtbot):
    heard.show_view("Takes")
    panel, bench = heard.view("Takes").path, heard.workbench
    keys = panel.key_list
    qtbot.waitUntil(lambda: keys.count() > 2, timeout=8000)
    assert keys.itemText(0) == "as heard, moves nothing"
    assert keys.currentIndex() == 0
    assert not bench.session.path.key.on
    played = bench.seen.outcome.output_notes.note.copy()
    # Each says how many notes it moves, and moves so many.
    row = max(range(1, keys.count()), key=lambda i: int(re.search(r"moves (\d+)", keys.itemText(i))[1]))
    told = int(re.search(r"moves (\d+)", keys.itemText(row))[1])
    keys.setCurrentIndex(row)
    keys.activated.emit(row)
    assert bench.session.path.key.on
    assert int((bench.seen.outcome.output_notes.note != played).sum()) == told
    chosen = bench.session.path.key.key
    qtbot.waitUntil(lambda: keys.currentData() == chosen, timeout=8000)
    panel.adopt_key.click()
    assert bench.session.key == chosen
    keys.setCurrentIndex(0)
    keys.activated.emit(0)
    assert not bench.session.path.key.on
    assert (bench.seen.outcome.output_notes.note == played).all()


def test_notes_of_one_side_of_the_stereo_picture_and_loud_ones_are_kept_by_a_slider(window, tmp_path, qtbot):
    rate, path = 22_050, tmp_path / "two sides.wav"
    at = np.arange(round(8 * rate)) / rate
    sound = np.zeros((len(at), 2))
    for number in range(8):
        wave = np.sin(2 * np.pi * 220 * 2 ** (number / 6) * at) * 0.2
        inside = (at >= number) & (at < number + 0.8)
        sound[inside, number % 2] += wave[inside] * np.minimum(1, (at[inside] - number) * 50)
    soundfile.write(path, sound.astype(np.float32), rate)
    window.files.open_files([path])
    window.files.hear(path, "melody")
    bench = window.workbench
    qtbot.waitUntil(lambda: any(one.heard for one in bench.session.takes), timeout=60_000)
    window.show_view("Takes")
    panel = window.takes.path
    every = len(bench.seen.outcome.output_notes)
    assert every >= 7
    panel.controls["heard", "right"].slider.setValue(panel.controls["heard", "right"].slider.minimum() + 10)
    seconds = np.floor(bench.seen.outcome.output_notes.start + 0.1)
    assert 0 < len(seconds) < every
    assert set(seconds.astype(int) % 2) == {0}
    bench.undo()
    assert len(bench.seen.outcome.output_notes) == every
    panel.controls["heard", "softest"].slider.setValue(127)
    assert not len(bench.seen.outcome.output_notes)
