"""Playback, the computer keyboard and the pads in the real window, by real keys, clicks and touches."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QPointingDevice
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from puresignal.core.path import note_selection
from puresignal.core.path.cleaning_path import with_faults
from puresignal.core.path.scoped import Scoped
from puresignal.core.session import session as edits
from puresignal.core.touch import computer_keyboard
from puresignal.engine.process_clients import SoundProcess
from puresignal.io import ports, preferences
from puresignal.sim.devices import Receiver


@pytest.fixture
def deck(window, monkeypatch, qtbot):
    """The window with a take of eight bars, without a port system, and a record of the output."""
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    window.inputs.drummer.bars.setValue(8)
    window.inputs.drummer.tempo.setValue(150)
    window.inputs.drummer.play.click()
    window.show_view("Takes")
    window.activateWindow()
    window.takes.timeline.setFocus()
    window.left = []
    window.live_session.messages_sent.connect(window.left.extend)
    yield window
    window.services.keyboard.switch(False)
    window.live_session.close()


def ons(window):
    return [r for r in window.left if r.data[0] & 0xF0 == 0x90]


def still_sounding(window):
    receiver = Receiver()
    for record in window.left:
        receiver.take(record.at, record.data)
    return receiver.sounding


def test_space_plays_and_stops_and_the_line_moves(deck, qtbot):
    qtbot.keyClick(deck.takes.timeline, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: len(ons(deck)) > 8, timeout=8000)
    first = deck.playback.place
    assert deck.transport.play.accessibleName() == "Stop"
    qtbot.wait(200)
    assert deck.playback.place > first + 0.1
    line = deck.takes.timeline.line
    assert line.isVisible()
    assert line.x() == pytest.approx(deck.takes.timeline.axis.x_of(deck.playback.place), abs=25)
    qtbot.keyClick(deck.takes.timeline, Qt.Key.Key_Space)
    assert deck.transport.play.accessibleName() == "Play"
    qtbot.wait(250)
    assert still_sounding(deck) == {}
    sent = len(deck.left)
    qtbot.wait(200)
    assert len(deck.left) == sent
    clean = deck.workbench.shown.outcome.output_notes
    got = [(r.data[1], r.data[2]) for r in ons(deck)]
    wanted = list(zip(clean.note.tolist(), clean.velocity.astype(int).tolist(), strict=True))
    assert got == wanted[: len(got)]
    starts = np.array([r.at for r in ons(deck)])
    assert np.abs((starts - starts[0]) - (clean.start[: len(got)] - clean.start[0])).max() < 1e-4


def test_a_range_on_the_ruler_is_looped_and_another_version_is_heard_at_once(deck, qtbot):
    timeline = deck.takes.timeline
    timeline.set_stretch((0.0, 0.8))
    qtbot.mouseClick(deck.transport.loop, Qt.MouseButton.LeftButton)
    qtbot.mouseClick(deck.transport.play, Qt.MouseButton.LeftButton)
    clean = deck.workbench.shown.outcome.output_notes
    inside = int((clean.start < 0.8).sum())
    qtbot.waitUntil(lambda: len(ons(deck)) >= 3 * inside, timeout=9000)
    notes = [r.data[1] for r in ons(deck)]
    assert notes[:inside] == notes[inside : 2 * inside] == clean.note[:inside].tolist()
    gap = ons(deck)[inside].at - ons(deck)[0].at
    assert gap == pytest.approx(0.8, abs=1e-4)
    assert 0 <= deck.playback.place < 0.8
    deck.left.clear()
    bench = deck.workbench
    bench.do("silence the rest", edits.with_tracks(bench.session, [
        deck.workbench.session.delivery.track(t.track.key).__class__(t.track.key, muted=t.track.key != "kick")
        for t in bench.shown.tracks
    ]))  # fmt: skip
    qtbot.wait(60)
    deck.left.clear()
    qtbot.wait(900)
    kicks = set(clean.note[clean.track == next(t.index for t in bench.shown.tracks if t.track.key == "kick")].tolist())
    assert {r.data[1] for r in ons(deck)} == kicks
    qtbot.keyClick(timeline, Qt.Key.Key_Space)
    qtbot.wait(200)
    assert still_sounding(deck) == {}


def test_each_round_of_a_loop_is_drawn_anew_and_starts_on_time(deck, qtbot):
    bench, long = deck.workbench, 1.6
    vary = replace(bench.session.path.vary, on=True, amount=Scoped(40.0))
    bench.do("", edits.with_path(bench.session, replace(bench.session.path, vary=vary)))
    deck.takes.timeline.set_stretch((0.0, long))
    qtbot.mouseClick(deck.transport.loop, Qt.MouseButton.LeftButton)
    qtbot.mouseClick(deck.transport.play, Qt.MouseButton.LeftButton)
    clean = bench.shown.outcome.output_notes
    count = int((clean.start < long).sum())
    assert count > 8
    qtbot.waitUntil(lambda: len(ons(deck)) >= 3 * count, timeout=15_000)
    deck.playback.stop()
    rounds = [ons(deck)[i * count : (i + 1) * count] for i in range(3)]
    assert [[r.data[1] for r in one] for one in rounds] == [clean.note[:count].tolist()] * 3
    drawn = [bench.in_round(number).output_notes for number in range(3)]
    assert [[r.data[2] for r in one] for one in rounds] == [one.velocity[:count].astype(int).tolist() for one in drawn]
    assert len({tuple(r.data[2] for r in one) for one in rounds}) == 3
    starts = np.array([[r.at for r in one] for one in rounds])
    assert np.abs(np.diff(starts, axis=0) - long).max() < 2e-3


def test_played_and_clean_sound_different_and_a_b_swaps(deck, qtbot):
    deck.inputs.drummer.faults["doubles"].setChecked(True)
    timeline = deck.takes.timeline
    removed = deck.workbench.shown.outcome.tally.removed()
    assert sum(removed.values()) > 0
    qtbot.keyClick(timeline, Qt.Key.Key_H)
    assert deck.playback.version == "played"
    outcome = deck.playback._as_played(deck.workbench.shown)
    assert len(outcome.output_notes) > len(deck.workbench.shown.outcome.output_notes)
    qtbot.keyClick(timeline, Qt.Key.Key_H)
    assert deck.playback.version == "clean"
    bench = deck.workbench
    first = bench.session.path
    qtbot.keyClick(timeline, Qt.Key.Key_B)
    bench.do("other", edits.with_path(bench.session, with_faults(first, False)))
    second = bench.session.path
    qtbot.keyClick(timeline, Qt.Key.Key_B)
    assert bench.session.path == first
    qtbot.keyClick(timeline, Qt.Key.Key_B)
    assert bench.session.path == second
    one = bench.session.current
    deck.inputs.drummer.play.click()
    assert bench.session.current != one
    qtbot.keyClick(timeline, Qt.Key.Key_T)
    assert bench.session.current == one


def test_a_click_on_the_ruler_moves_playback_there(deck, qtbot):
    timeline = deck.takes.timeline
    at = QPoint(round(timeline.axis.x_of(1.0)), 10)
    qtbot.mouseClick(timeline.viewport(), Qt.MouseButton.LeftButton, pos=at)
    assert deck.playback.place == pytest.approx(1.0, abs=0.02)
    assert deck.transport.place.text().startswith("1.3")
    qtbot.mouseClick(deck.transport.start, Qt.MouseButton.LeftButton)
    assert deck.playback.place == 0


@pytest.fixture
def keyed(deck, qtbot):
    """The keyboard plays into the receiver."""
    deck.show_view("Inputs")
    deck.inputs.pages.setCurrentWidget(deck.inputs.keys)
    deck.inputs.keys.picture.setFocus()
    qtbot.mouseClick(deck.transport.keys, Qt.MouseButton.LeftButton)
    assert deck.services.keyboard.on
    deck.arrived = []
    deck.live_session.messages_received.connect(deck.arrived.extend)
    qtbot.waitUntil(lambda: bool(deck.live_session.state.get("inputs")), timeout=6000)
    return deck


def test_keys_play_drums_and_a_repeat_strikes_once(keyed, qtbot):
    picture = keyed.inputs.keys.picture
    before = picture.grab().toImage()
    QTest.keyPress(picture, Qt.Key.Key_F)
    assert picture.grab().toImage() != before
    QTest.keyPress(picture, Qt.Key.Key_F)
    QTest.keyPress(picture, Qt.Key.Key_K, Qt.KeyboardModifier.ShiftModifier)
    QTest.keyRelease(picture, Qt.Key.Key_F)
    QTest.keyRelease(picture, Qt.Key.Key_K)
    qtbot.waitUntil(lambda: len(keyed.arrived) == 4, timeout=4000)
    snare, hat = computer_keyboard.note_of("snare.head"), computer_keyboard.note_of("hat.closed")
    assert [(r.data[0], r.data[1]) for r in keyed.arrived] == [(0x99, snare), (0x99, hat), (0x89, snare), (0x89, hat)]
    assert keyed.arrived[1].data[2] > keyed.arrived[0].data[2]
    assert keyed.rail.live.cards[0].words.startswith("hi-hat, closed")
    assert keyed.services.keyboard.held.most == 2
    assert "keys at once so far: 2" in keyed.inputs.keys.says.text()
    assert keyed.services.keyboard.delay < 0.02


def test_shortcuts_still_work_and_a_lost_window_lets_all_keys_go(keyed, qtbot):
    picture = keyed.inputs.keys.picture
    QTest.keyPress(picture, Qt.Key.Key_F)
    qtbot.keyClick(picture, Qt.Key.Key_4, Qt.KeyboardModifier.ControlModifier)
    assert keyed.stack.currentWidget() is keyed.takes
    # L is the hat now, and no loop.
    QTest.keyClick(keyed.takes.timeline, Qt.Key.Key_L)
    assert not keyed.playback.looping
    from PySide6.QtCore import QEvent

    QApplication.sendEvent(keyed, QEvent(QEvent.Type.WindowDeactivate))
    qtbot.waitUntil(lambda: len(keyed.arrived) == 4, timeout=4000)
    assert keyed.services.keyboard.held.down == {}
    sounding = {}
    for r in keyed.arrived:
        sounding[r.data[1]] = r.data[0] == 0x99
    assert not any(sounding.values())
    qtbot.keyClick(keyed.takes.timeline, Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
    assert not keyed.services.keyboard.on
    QTest.keyClick(keyed.takes.timeline, Qt.Key.Key_L)
    assert keyed.playback.looping


def test_another_drum_on_a_key_and_notes_of_a_scale_are_kept(keyed, qtbot):
    panel = keyed.inputs.keys
    menu = panel.picture.menu(20)
    drums = {a.text(): a.menu() for a in menu.actions() if a.menu()}
    drums["Ride"].actions()[0].trigger()
    assert preferences.read().keyboard.drum(20).startswith("ride")
    panel.mode.setCurrentIndex(panel.mode.findData(computer_keyboard.SCALE))
    panel.mode.activated.emit(panel.mode.currentIndex())
    panel.root.setCurrentIndex(2)
    panel.root.activated.emit(2)
    QTest.keyClick(panel.picture, Qt.Key.Key_Z)
    qtbot.waitUntil(lambda: len(keyed.arrived) == 2, timeout=4000)
    status, note = keyed.arrived[0].data[:2]
    assert (status, note % 12) == (0x90, 2)
    assert preferences.read().keyboard.mode == computer_keyboard.SCALE


def test_pads_by_mouse_are_softer_at_their_edge_and_the_slide_is_the_hat(deck, qtbot):
    deck.show_view("Inputs")
    deck.inputs.pages.setCurrentWidget(deck.inputs.pads)
    arrived = []
    deck.live_session.messages_received.connect(arrived.extend)
    pads = deck.inputs.pads
    box = pads.boxes()["snare.head"]
    for at in (box.center(), QPointF(box.left() + 4, box.top() + 4)):
        qtbot.mouseClick(pads, Qt.MouseButton.LeftButton, pos=at.toPoint())
    slide = pads.slide()
    top = QPoint(round(slide.center().x()), round(slide.top() + 6))
    qtbot.mousePress(pads, Qt.MouseButton.LeftButton, pos=top)
    qtbot.mouseRelease(pads, Qt.MouseButton.LeftButton, pos=top)
    qtbot.mouseClick(pads, Qt.MouseButton.LeftButton, pos=pads.boxes()["hat"].center().toPoint())
    qtbot.waitUntil(lambda: len(arrived) >= 6, timeout=6000)
    struck = [(r.data[1], r.data[2]) for r in arrived if r.data[0] == 0x99]
    assert [n for n, _ in struck] == [computer_keyboard.note_of("snare.head")] * 2 + [
        computer_keyboard.note_of("hat.open")
    ]
    assert struck[0][1] > 100 > 40 > struck[1][1]
    assert sum(r.data[0] == 0x89 for r in arrived) == 3
    assert deck.workbench.session.inputs[0].port == ports.SCREEN_PADS


def test_two_fingers_strike_at_once_and_the_slide_closes_the_hat_by_foot(deck, qtbot):
    deck.show_view("Inputs")
    deck.inputs.pages.setCurrentWidget(deck.inputs.pads)
    arrived = []
    deck.live_session.messages_received.connect(arrived.extend)
    pads = deck.inputs.pads
    device = QTest.createTouchDevice(QPointingDevice.DeviceType.TouchScreen)
    boxes, slide = pads.boxes(), pads.slide()
    x = round(slide.center().x())
    window = deck.windowHandle()

    def at(point):
        return pads.mapTo(deck, point)

    touch = QTest.touchEvent(window, device)
    touch.press(1, at(boxes["kick"].center().toPoint())).press(2, at(QPoint(x, round(slide.top() + 8)))).commit()
    touch.stationary(1).move(2, at(QPoint(x, round(slide.bottom() - 4)))).commit()
    touch.release(1, at(boxes["kick"].center().toPoint())).release(2, at(QPoint(x, round(slide.bottom() - 4)))).commit()
    qtbot.waitUntil(lambda: sum(r.data[0] == 0x89 for r in arrived) == 2, timeout=6000)
    assert [r.data[1] for r in arrived if r.data[0] == 0x99] == [
        computer_keyboard.note_of("kick"),
        computer_keyboard.note_of("hat.pedal"),
    ]
    assert pads.openness < 0.1


def test_the_pads_beside_the_rows_sound_and_enter_nothing(deck, qtbot, monkeypatch):
    timeline = deck.takes.timeline
    arrived, struck = [], []
    deck.live_session.messages_received.connect(arrived.extend)
    monkeypatch.setattr(SoundProcess, "strike", lambda _, note, velocity: struck.append((note, velocity)))
    before = deck.workbench.history
    _, _, box = next(b for b in timeline.row_boxes() if b[1] == "kick")
    x = round(box.left()) - 10
    for y in (box.top() + 4, box.bottom() - 4):
        qtbot.mouseClick(timeline.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(x, round(y)))
    (kick, hard), (same, soft) = struck
    assert hard > soft + 30
    assert kick == same == deck.workbench.session.target.pad_for("kick").note
    assert deck.live_session._sound is not None
    qtbot.wait(100)
    assert arrived == []
    assert deck.workbench.history is before


def test_outputs_say_where_tracks_are_played_and_what_sounds(deck, qtbot):
    deck.show_view("Outputs")
    outputs = deck.outputs
    outputs.table.selectRow(0)
    outputs.table.setFocus()
    key = outputs.chosen_keys()[0]
    outputs.play.program.setValue(9)
    assert deck.workbench.session.delivery.track(key).program == 9
    qtbot.keyClick(outputs.table, Qt.Key.Key_M)
    assert deck.workbench.session.delivery.track(key).muted
    assert outputs.model.data(outputs.model.index(0, 4), Qt.ItemDataRole.DisplayRole) == "muted"
    qtbot.mouseClick(deck.transport.what, Qt.MouseButton.LeftButton)
    assert deck.notice.text == "Playback: stopped"
    deck.transport.level.setValue(30)
    assert deck.workbench.session.sound.level == 0.3
    outputs.sound.knobs["tune"].slider.setValue(30)
    assert deck.workbench.session.sound.drums[0][1].tune == 3.0
    assert deck.menus.undo.text() == "Undo: set tune of a drum"
    saved = deck.workbench.midi_bytes()
    assert b"\xc9\x09" in saved


def test_a_backing_track_has_its_own_level_and_never_enters_the_midi(deck, qtbot, tmp_path):
    from puresignal.io import audio_file

    path = tmp_path / "practice room.wav"
    audio_file.write_wav(path, 0.3 * np.sin(np.arange(48_000) / 20), 48_000)
    before = deck.workbench.midi_bytes()
    deck.show_view("Outputs")
    panel = deck.outputs.sound
    panel.set_along(str(path))
    assert panel.along.text() == "practice room.wav"
    panel.along_level.slider.setValue(40)
    panel.along_offset.slider.setValue(3100)
    backing = deck.workbench.session.backing
    assert (backing.level, backing.offset) == (-20.0, 1.0)
    assert deck.workbench.midi_bytes() == before
    panel.set_along(str(tmp_path / "nobody.wav"))
    assert "no such file" in deck.notice.text
    assert deck.workbench.session.backing == backing
    saved = tmp_path / "s.puresignal"
    deck.files.save_session_to(saved)
    deck.workbench.open_session(saved)
    assert deck.workbench.session.backing == backing
    panel.set_along("")
    assert deck.workbench.session.backing is None


def test_a_take_that_has_ended_stops_by_itself(deck, qtbot):
    length = deck.workbench.shown.take.length
    deck.playback.go(length - 2.5)
    qtbot.mouseClick(deck.transport.play, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(ons(deck)) > 0, timeout=6000)
    qtbot.waitUntil(lambda: not deck.playback.playing, timeout=6000)
    # What was sent last is told a little after the end.
    qtbot.waitUntil(lambda: still_sounding(deck) == {}, timeout=3000)


def test_a_doubtful_hit_is_played_in_context(deck, qtbot):
    deck.takes.path.controls["doubles", "min_confidence"].moved.emit(1.0, "g")
    doubtful = note_selection.doubtful(deck.workbench.shown.outcome)
    assert len(doubtful)
    qtbot.keyClick(deck.takes.timeline, Qt.Key.Key_D)
    assert deck.takes.timeline.selected.tolist() == doubtful[:1].tolist()
    assert deck.playback.playing
    start = float(deck.takes._starts(doubtful[:1])[0])
    assert deck.playback.place == pytest.approx(max(0.0, start - 1.5), abs=0.2)
    qtbot.waitUntil(lambda: not deck.playback.playing, timeout=8000)
    assert deck.playback.place == pytest.approx(start + 1.0, abs=0.3)
    around = deck.workbench.shown.outcome.output_notes.start
    heard = np.count_nonzero((around >= max(0, start - 1.5)) & (around < start + 1.0))
    assert abs(len(ons(deck)) - heard) <= 3
    assert not still_sounding(deck)
    deck.left.clear()
    deck.takes.tools.hear.setChecked(False)
    qtbot.keyClick(deck.takes.timeline, Qt.Key.Key_D)
    assert not deck.playback.playing
    qtbot.keyClick(deck.takes.timeline, Qt.Key.Key_E)
    assert deck.playback.playing


def test_the_first_start_plays_the_keyboard_and_leaves_nothing_to_save(window, qtbot):
    window.first_start()
    qtbot.waitUntil(lambda: window.live_session.listening, timeout=8000)
    assert window.services.keyboard.on
    assert window.workbench.session.inputs[0].port == "Computer keyboard"
    assert window.inputs.pages.currentWidget().isAncestorOf(window.inputs.keys)
    assert not window.workbench.unsaved


def test_keys_that_are_held_play_an_arpeggio_in_time_with_what_plays(deck, qtbot):
    from puresignal.core.session.live_input import with_input

    bench = deck.workbench
    bench.do("key", edits.with_key(bench.session, "C major"))
    inputs = with_input(bench.session.inputs, 0, port=ports.KEYBOARD, output=ports.HELD, source=None)
    bench.do("keys", edits.with_inputs(bench.session, inputs))
    deck.show_view("Inputs")
    editor = deck.inputs.live.editors[0]
    qtbot.waitUntil(editor.generator.isVisible, timeout=3000)
    qtbot.mouseClick(editor.generator, Qt.MouseButton.LeftButton)
    dialog = deck.inputs._held
    dialog.blanks["rate"].setCurrentIndex(dialog.blanks["rate"].findData("1/16"))
    dialog.blanks["rate"].activated.emit(dialog.blanks["rate"].currentIndex())
    dialog.blanks["octaves"].setValue(2)
    dialog.to.setCurrentIndex(dialog.to.findData(ports.RECEIVER))
    dialog.to.activated.emit(dialog.to.currentIndex())
    assert (bench.session.held.recipe.rate, bench.session.held.recipe.octaves) == ("1/16", 2)
    assert bench.session.held.to == ports.RECEIVER
    # Another kind and back: what was filled in is there again.
    for kind in ("bass", "arpeggio"):
        dialog.kind.setCurrentIndex(dialog.kind.findData(kind))
        dialog.kind.activated.emit(dialog.kind.currentIndex())
        assert bench.session.held.recipe.kind == kind
    assert bench.session.held.recipe.rate == "1/16"
    dialog.accept()
    live = deck.live_session
    live.start()
    qtbot.waitUntil(lambda: live.router is not None, timeout=5000)
    deck.playback.play()
    qtbot.waitUntil(lambda: deck.playback.was_heard, timeout=8000)
    for note in (60, 64, 67):
        live.play(ports.KEYBOARD, bytes((0x90, note, 100)))
    qtbot.wait(1500)
    for note in (60, 64, 67):
        live.play(ports.KEYBOARD, bytes((0x80, note, 0)))
    qtbot.wait(400)
    deck.playback.stop()
    qtbot.wait(200)
    to = live.outputs.index(ports.RECEIVER)
    notes = [(r.at, r.data[1]) for r in deck.left if r.port == to and r.data[0] & 0xF0 == 0x90 and r.data[2]]
    assert len(notes) >= 10
    row = [60, 64, 67, 72, 76, 79]
    begin = next(i for i, (_, note) in enumerate(notes) if note == 60)
    got = [note for _, note in notes[begin : begin + 6]]
    assert got == row
    # Sixteenths at 150 are a tenth of a second.
    gaps = np.diff([at for at, _ in notes])
    assert np.abs(gaps - 0.1).max() < 0.001
