"""Recording to the transport, in the real window: count-in, loop rounds, undo while it runs, first hit, again, pads."""

from __future__ import annotations

import os
import resource
from dataclasses import replace

import numpy as np
import pytest
from PySide6.QtCore import Qt

from puresignal.core.midi import messages
from puresignal.core.session import recording
from puresignal.core.session import session as edits
from puresignal.core.timing.session_time import Timeline
from puresignal.core.touch import hand_control
from puresignal.core.touch.computer_keyboard import own_map
from puresignal.io import journal, ports
from puresignal.ui.state import capture as states
from tests.engine.test_journal import children

NEAR = 0.3
"""Beats at 240 BPM, 75 ms, that may pass between looking where the transport is and hitting."""


@pytest.fixture
def ready(window, monkeypatch, qtbot):
    """The window without a port system, the pads on screen armed, at 240 BPM."""
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    live = window.live_session
    live.listen_to(ports.SCREEN_PADS, own_map())
    qtbot.waitUntil(lambda: bool(live.state), timeout=8000)
    bench = window.workbench
    bench.do("tempo", edits.with_timeline(bench.session, Timeline.steady(240)))
    yield window
    window.live_session.close()


def set_recording(window, **changed):
    bench = window.workbench
    bench.do("settings", edits.with_recording(bench.session, replace(bench.session.recording, **changed)))


def loop_bars(window, first, last):
    timeline = window.workbench.timeline
    begin, end = (window.playback.second_of(timeline.bar_to_beats(bar)) for bar in (first, last + 1))
    window.playback.set_span((begin, end))
    window.playback.set_looping(True)


def press(window, qtbot, key, modifier=Qt.KeyboardModifier.NoModifier):
    """A key of the window, pressed where no control wants it."""
    window.transport.record.setFocus()
    qtbot.keyClick(window.transport.record, key, modifier)


def hit(window, name="snare.head", velocity=90):
    window.services.pads.strike(name, velocity, 20)


def hit_at(window, qtbot, beat, round_number=1, **about):
    """Hit a pad when the transport is at a beat of a round; 0: whatever round. Returns where it was then."""
    playback, capture = window.playback, window.services.capture

    def there():
        return (not round_number or capture.round == round_number) and playback.beat_of(playback.place) >= beat

    qtbot.waitUntil(there, timeout=8000)
    at = playback.beat_of(playback.heard_now())
    hit(window, **about)
    return at


def beats_of(window, ref):
    """Beats from bar 1 at which the note-ons of a take stand, of passes that are in."""
    bench = window.workbench
    placed, timeline = bench.placed(ref)
    events = bench.store[ref.material].events
    on = ((events.status & 0xF0) == 0x90) & (events.data2 > 0)
    seconds = events.arrived[on]
    kept = placed.uses(seconds, timeline)
    return np.sort(timeline.seconds_to_beats(placed.seconds(seconds, timeline)[kept]))


def test_after_a_count_in_hits_stand_where_they_were_played(ready, qtbot):
    capture = ready.services.capture
    qtbot.mouseClick(ready.transport.record, Qt.MouseButton.LeftButton)
    assert capture.state == states.COUNTING
    assert ready.display.isVisible()
    assert ready.display.words()[0] == "Count-in"
    hit(ready, "claps")
    qtbot.waitUntil(lambda: capture.state == states.RECORDING, timeout=8000)
    there = [hit_at(ready, qtbot, beat, 0) for beat in (1.0, 3.0, 6.0)]
    # It is seen while it is played, in its place, in no history yet.
    qtbot.waitUntil(lambda: len(ready.workbench.seen.outcome.output_notes) >= 3, timeout=4000)
    assert ready.workbench.session.takes == ()
    qtbot.mouseClick(ready.transport.record, Qt.MouseButton.LeftButton)
    [ref] = ready.workbench.session.takes
    assert ref.follows_beats
    # What was played while it counted in is not in the take.
    assert beats_of(ready, ref) == pytest.approx(there, abs=NEAR)
    assert ready.playback.place == 0.0
    assert not ready.display.isVisible()


def test_rounds_are_passes_and_one_is_undone_while_the_loop_runs(ready, qtbot):
    set_recording(ready, start=recording.AT_ONCE)
    loop_bars(ready, 1, 1)
    capture = ready.services.capture
    press(ready, qtbot, Qt.Key.Key_R)
    there = [hit_at(ready, qtbot, 1.0, 1, name="kick"), hit_at(ready, qtbot, 2.0, 2)]
    # Nothing in the third.
    hit_at(ready, qtbot, 1.0, 4, name="claps")
    qtbot.waitUntil(lambda: any(b.data[1] for b in capture._records[-2:]), timeout=2000)
    qtbot.wait(100)
    # The first pass sounds along in the later rounds.
    sent = [r for r in ready.live_session.recent(sent=True) if messages.is_note_on(r.data)]
    assert len(sent) > 3
    press(ready, qtbot, Qt.Key.Key_Backspace)
    assert "Pass 4" in ready.notice.text
    press(ready, qtbot, Qt.Key.Key_R)
    [ref] = ready.workbench.session.takes
    assert [one.is_in for one in ref.passes] == [True, True, False]
    assert beats_of(ready, ref) == pytest.approx(sorted(there), abs=NEAR)
    # Its card brings it back, and undo takes it out again.
    card = ready.rail.cards[0]
    assert [button.isChecked() for button in card.passes] == [True, True, False]
    qtbot.mouseClick(card.passes[2], Qt.MouseButton.LeftButton)
    assert len(beats_of(ready, ready.workbench.session.takes[0])) == 3
    ready.workbench.undo()
    assert len(beats_of(ready, ready.workbench.session.takes[0])) == 2
    # One key hears each alone, and then all of them again.
    heard = []
    for _ in range(4):
        ready.services.take_actions.compare_passes()
        heard.append([one.is_in for one in ready.workbench.session.takes[0].passes])
    assert heard == [[True, False, False], [False, True, False], [False, False, True], [True, True, True]]
    assert ready.notice.text == "All passes are in."
    ready.workbench.undo()
    assert [one.is_in for one in ready.workbench.session.takes[0].passes] == [True, True, False]


def test_in_place_of_what_is_there_only_the_last_round_counts(ready, qtbot):
    set_recording(ready, start=recording.AT_ONCE, rounds=recording.REPLACE)
    loop_bars(ready, 1, 1)
    ready.services.capture.begin()
    hit_at(ready, qtbot, 1.0, 1)
    there = hit_at(ready, qtbot, 2.0, 2)
    qtbot.wait(150)
    ready.services.capture.end()
    [ref] = ready.workbench.session.takes
    assert [one.is_in for one in ref.passes] == [False, True]
    assert beats_of(ready, ref) == pytest.approx([there], abs=NEAR)


def test_the_first_hit_is_beat_one_of_the_bar_and_is_kept(ready, qtbot):
    set_recording(ready, start=recording.FIRST_HIT)
    ready.playback.go(ready.playback.second_of(9.0))
    ready.services.capture.begin()
    assert ready.display.words() == ("Waiting for the first hit", "It becomes beat one of bar 3.")
    # A pedal, clock or active sensing is no hit.
    ready.live_session.play(ports.SCREEN_PADS, bytes((0xB9, 4, 90)))
    qtbot.wait(200)
    assert ready.services.capture.state == states.WAITING
    assert not ready.playback.playing
    hit(ready)
    qtbot.waitUntil(lambda: ready.services.capture.state == states.RECORDING, timeout=4000)
    hit_at(ready, qtbot, 10.0, 0)
    qtbot.wait(150)
    ready.services.capture.end()
    [ref] = ready.workbench.session.takes
    assert beats_of(ready, ref)[0] == pytest.approx(8.0, abs=0.01)


def test_again_keeps_the_attempt_out_of_the_result_and_begins_anew(ready, qtbot):
    set_recording(ready, start=recording.AT_ONCE)
    ready.services.capture.begin()
    hit_at(ready, qtbot, 1.0, 0)
    qtbot.wait(150)
    press(ready, qtbot, Qt.Key.Key_R, Qt.KeyboardModifier.ShiftModifier)
    assert ready.services.capture.running
    there = hit_at(ready, qtbot, 2.0, 0)
    qtbot.wait(150)
    ready.services.capture.end()
    first, second = ready.workbench.session.takes
    assert beats_of(ready, second) == pytest.approx([there], abs=NEAR)
    # The attempt is kept as an alternative, and the new one is the one that is used.
    [group] = ready.workbench.session.alternatives
    assert group.takes == (first.ident, second.ident)
    assert [ident for _, ident in group.choice] == [second.ident]
    heard = ready.workbench.written.outcome.output_notes
    assert len(heard) == 1


def test_a_pad_that_was_learned_undoes_the_pass_and_is_in_no_take(ready, qtbot):
    controls = ready.services.hand_controls
    controls.learn(hand_control.UNDO_PASS)
    hit(ready, "claps")
    qtbot.waitUntil(lambda: controls.learning is None, timeout=3000)
    assert "note" in controls.words(hand_control.UNDO_PASS)
    # What was hit within half a beat before Record would belong to the take.
    qtbot.wait(600)
    set_recording(ready, start=recording.AT_ONCE)
    loop_bars(ready, 1, 1)
    ready.services.capture.begin()
    hit_at(ready, qtbot, 1.0, 1)
    hit_at(ready, qtbot, 1.0, 2)
    qtbot.wait(300)
    hit(ready, "claps")
    qtbot.waitUntil(lambda: bool(ready.services.capture._off), timeout=3000)
    ready.services.capture.end()
    [ref] = ready.workbench.session.takes
    assert [one.is_in for one in ref.passes] == [True, False]
    # Its hit is in no result, and the tally says what became of it.
    number = controls.trigger(hand_control.UNDO_PASS).number
    outcome = ready.workbench.own.outcome
    assert number not in outcome.output_notes.note.tolist()
    ready.services.take_actions.switch_pass(1, True)
    removed = {why.word: count for why, count in ready.workbench.own.outcome.tally.removed().items()}
    assert removed == {"control": 1}
    assert ready.workbench.own.outcome.tally.balances()
    controls.forget(hand_control.UNDO_PASS)
    assert controls.words(hand_control.UNDO_PASS) == ""


def test_recording_while_something_plays_begins_here_and_now_and_what_plays_goes_on(ready, qtbot):
    ready.inputs.drummer.bars.setValue(8)
    ready.inputs.play_take()
    assert ready.workbench.session.recording.start == recording.AFTER_COUNT_IN
    ready.playback.play()
    qtbot.waitUntil(lambda: ready.playback.place > 0.5, timeout=8000)
    ready.services.capture.begin()
    begun = ready.services.capture.point
    assert begun > 1.0
    hit(ready, "claps")
    qtbot.wait(300)
    ready.services.capture.end()
    assert ready.playback.playing
    ready.playback.stop()
    ref = ready.workbench.session.takes[-1]
    assert beats_of(ready, ref)[0] == pytest.approx(begun, abs=0.4)
    assert ready.workbench.session.takes[0].is_in


def test_nothing_armed_says_what_to_do(ready, qtbot):
    bench = ready.workbench
    off = tuple(replace(one, armed=False) for one in bench.session.inputs)
    bench.do("disarm", edits.with_inputs(bench.session, off))
    qtbot.mouseClick(ready.transport.record, Qt.MouseButton.LeftButton)
    assert not ready.services.capture.running
    assert "No input is armed" in ready.notice.text


def test_nothing_played_is_no_take(ready, qtbot):
    set_recording(ready, start=recording.AT_ONCE)
    ready.services.capture.begin()
    qtbot.wait(300)
    ready.services.capture.end()
    assert ready.workbench.session.takes == ()
    assert "Nothing was played" in ready.notice.text


def test_the_click_is_in_what_the_player_plays(ready, qtbot):
    capture = ready.services.capture
    capture.begin()
    qtbot.waitUntil(lambda: capture.state == states.RECORDING, timeout=8000)
    qtbot.wait(1200)
    outputs = ready.live_session.outputs
    assert ports.CLICK in outputs
    number = outputs.index(ports.CLICK)
    clicks = [r for r in ready.live_session.recent(sent=True) if r.port == number and messages.is_note_on(r.data)]
    times = np.array([r.at for r in clicks])
    # A quarter of a second for each beat at 240, every fourth a first beat: to the frame.
    assert np.diff(times) == pytest.approx(0.25, abs=1 / 48_000 + 2.1e-5)
    firsts = [r.data[1] == 76 for r in clicks]
    assert firsts[:8] == [True, False, False, False, True, False, False, False]
    capture.end()


def test_the_journal_has_the_moves_of_the_transport(ready, qtbot):
    set_recording(ready, start=recording.AT_ONCE)
    loop_bars(ready, 1, 1)
    ready.services.capture.begin()
    hit_at(ready, qtbot, 1.0, 2)
    qtbot.wait(300)
    folder = ready.live_session.journal_folder()
    moves = [what for _, what in journal.read_moves(sorted(folder.glob("*.journal")))]
    kinds = [what["move"] for what in moves if "move" in what]
    assert kinds[-2:] == ["play", "round"] or "round" in kinds[kinds.index("play") :]
    notes = [what["note"] for what in moves if "note" in what]
    assert any(note.get("record") == 0.0 for note in notes)
    ready.services.capture.end()


def test_settings_act_at_once_and_can_be_undone(ready, qtbot):
    qtbot.mouseClick(ready.transport.how, Qt.MouseButton.LeftButton)
    dialog = ready._record_settings
    dialog.count_in.setValue(3)
    assert ready.workbench.session.recording.count_in == 3
    assert ready.transport.how.text() == "Count-in 3 bars"
    index = dialog.start.findData(recording.FIRST_HIT)
    dialog.start.setCurrentIndex(index)
    dialog.start.activated.emit(index)
    assert ready.transport.how.text() == "Starts on the first hit"
    ready.workbench.undo()
    assert ready.workbench.session.recording == recording.RecordingSettings()
    assert dialog.count_in.value() == 1


def test_a_drowned_click_is_offered_louder_once(ready, qtbot):
    set_recording(ready, start=recording.AT_ONCE)
    ready.services.capture.begin()
    qtbot.waitUntil(lambda: ready.services.capture.state == states.RECORDING, timeout=4000)
    ready.services.capture._watch_click({"clicks": [7, 7]})
    assert not ready.notice.isVisible()
    ready.services.capture._watch_click({"clicks": [12, 9]})
    assert "drowns the click" in ready.notice.text
    before = ready.workbench.session.recording.click.level
    ready.notice.act.click()
    assert ready.workbench.session.recording.click.level == before + 6
    ready.notice.hide()
    ready.services.capture._watch_click({"clicks": [30, 29]})
    assert not ready.notice.isVisible()
    ready.services.capture.end()


def test_the_first_beat_of_a_round_sounds_in_the_next_one(ready, qtbot):
    set_recording(ready, start=recording.AT_ONCE)
    loop_bars(ready, 1, 2)
    capture, playback = ready.services.capture, ready.playback
    capture.begin()
    hit_at(ready, qtbot, 0.05, 1, velocity=101)
    qtbot.waitUntil(lambda: capture.round == 2 and playback.beat_of(playback.place) > 1.5, timeout=8000)
    qtbot.wait(100)
    loud = [r.data for r in ready.live_session.recent(sent=True) if messages.is_note_on(r.data) and r.data[2] == 101]
    # Once as it was hit, once in the second round.
    assert len(loud) == 2
    capture.end()


def test_a_full_disk_is_told_at_once_and_what_is_played_is_kept(ready, qtbot):
    set_recording(ready, start=recording.AT_ONCE)
    ready.services.capture.begin()
    hit_at(ready, qtbot, 1.0, 0)
    qtbot.wait(200)
    [recorder] = children(os.getpid(), "puresignal.engine.recorder")
    # The disk takes nothing more from that process.
    resource.prlimit(recorder, resource.RLIMIT_FSIZE, (0, resource.RLIM_INFINITY))
    hit(ready, "claps")
    qtbot.waitUntil(lambda: "disk refuses" in ready.notice.text, timeout=3000)
    hit(ready, "kick")
    qtbot.wait(200)
    ready.services.capture.end()
    [ref] = ready.workbench.session.takes
    assert len(beats_of(ready, ref)) == 3
    resource.prlimit(recorder, resource.RLIMIT_FSIZE, (resource.RLIM_INFINITY, resource.RLIM_INFINITY))
    qtbot.waitUntil(lambda: "on disk again" in ready.notice.text, timeout=4000)
    rows = journal.sittings(ready.live_session.journal_folder().parent)[0].rows
    assert sum(messages.is_note_on(data) for _, _, data in rows) == 3


def test_the_simulated_drummer_joins_in_with_the_bar_and_keeps_the_transport_s_time(ready, qtbot):
    bench = ready.workbench
    bench.do("tempo", edits.with_timeline(bench.session, Timeline.steady(140)))
    set_recording(ready, start=recording.AFTER_COUNT_IN)
    ready.inputs.drummer.tempo.setValue(90)
    ready.inputs.play_device(ports.DRUM_MODULE, True)
    capture = ready.services.capture
    qtbot.wait(300)
    capture.begin()
    qtbot.waitUntil(lambda: ready.playback.beat_of(ready.playback.place) > 8.3, timeout=15_000)
    capture.end()
    ref = next(one for one in bench.session.takes if ports.DRUM_MODULE in bench.store[one.material].ports[0].name)
    beats = beats_of(ready, ref)
    assert len(beats) > 20
    # Played at 90 it would drift through the sixteenths; a hit is sent with what the device itself needs.
    off = beats * 4 - np.rint(beats * 4)
    assert np.median(np.abs(off - np.median(off))) < 0.1
    assert abs(float(np.median(off))) < 0.2
    ready.inputs.play_device(ports.DRUM_MODULE, False)


def test_the_jitter_of_an_input_is_measured_against_what_it_sends_evenly(ready, qtbot, monkeypatch):
    from puresignal.ui.state import jitter_meter

    monkeypatch.setattr(jitter_meter, "SECONDS", 5.0)
    meter = ready.services.jitter_meter
    ready.inputs.play_device(ports.DRUM_MODULE, True)
    qtbot.mouseClick(ready.transport.how, Qt.MouseButton.LeftButton)
    row = ready._record_settings.jitter
    qtbot.waitUntil(lambda: row.port.findText(ports.DRUM_MODULE) >= 0, timeout=5000)
    row.port.setCurrentIndex(row.port.findText(ports.DRUM_MODULE))
    qtbot.mouseClick(row.button, Qt.MouseButton.LeftButton)
    assert meter.running
    assert "Listening" in row.said.text()
    assert not row.button.isEnabled()
    qtbot.waitUntil(lambda: not meter.running, timeout=9000)
    ready.inputs.play_device(ports.DRUM_MODULE, False)
    # The module sends active sensing three times a second or so.
    assert meter.by == jitter_meter.SENSING
    assert meter.found.interval == pytest.approx(0.3, abs=0.01)
    assert "active sensing, every 3" in row.said.text()
    assert row.picture.isVisible()
    # A device that sends nothing even says what to do.
    told = []
    monkeypatch.setattr(meter._notices, "tell", lambda text, wrong=False: told.append((text, wrong)))
    monkeypatch.setattr(jitter_meter, "SECONDS", 0.3)
    meter.start(ports.DRUM_MODULE)
    qtbot.waitUntil(lambda: not meter.running, timeout=3000)
    assert "Nothing even came" in told[0][0]
    assert told[0][1]
