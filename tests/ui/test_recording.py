"""Recording without a port system: what is armed becomes takes, and nothing else changes."""

from __future__ import annotations

import os
import signal
import subprocess
import time
from dataclasses import replace

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt

from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi import messages
from puresignal.core.path.velocity_curve import Shape
from puresignal.core.session import session as edits
from puresignal.core.touch import hand_control
from puresignal.core.touch.computer_keyboard import own_map
from puresignal.engine.client import RouterProcess
from puresignal.engine.router_config import RouterConfig
from puresignal.io import ports, session_file, work_folder
from puresignal.ui.shell.main_window import MainWindow
from puresignal.ui.shell.record_settings import ControlRows
from puresignal.ui.state.workbench import Workbench
from tests.ui.conftest import record_at_once


@pytest.fixture
def alone(window, monkeypatch):
    """The window on a machine without a port system."""
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    yield window
    window.live_session.close()


def ons(records):
    return [(r.data[1], r.data[2]) for r in records if messages.is_note_on(r.data)]


def test_hits_before_the_router_is_up_belong_to_the_take(alone, qtbot):
    record_at_once(alone)
    live, pads = alone.live_session, alone.services.pads
    live.listen_to(ports.SCREEN_PADS, own_map())
    alone.services.capture.begin()
    for velocity in (31, 32, 33):
        pads.strike("kick", velocity, 20)
    assert live.state == {}, "the router was up before the hits"
    qtbot.waitUntil(lambda: bool(live.state), timeout=8000)
    pads.strike("kick", 34, 20)
    qtbot.wait(300)
    alone.services.capture.end()
    take = alone.workbench.own.take
    on = (take.events.status == 0x99) & (take.events.data2 > 0)
    assert take.events.data2[on].tolist() == [31, 32, 33, 34]


def test_playback_goes_on_unchanged_while_something_is_recorded(alone, qtbot):
    record_at_once(alone)
    alone.inputs.drummer.bars.setValue(8)
    alone.inputs.play_take()
    old = alone.workbench.own
    left = []
    alone.live_session.messages_sent.connect(left.extend)
    alone.live_session.listen_to(ports.SCREEN_PADS, own_map())
    bench = alone.workbench
    # Only playback is heard, so that what leaves is all its own.
    quiet = tuple(one.__class__(**{**vars(one), "output": None}) for one in bench.session.inputs)
    bench.do("quiet", edits.with_inputs(bench.session, quiet))
    alone.playback.play()
    qtbot.waitUntil(lambda: len(ons(left)) > 4, timeout=8000)
    alone.services.capture.begin()
    for _ in range(3):
        alone.services.pads.strike("claps", 99, 20)
        qtbot.wait(150)
    [arriving] = [take.ident for take, _ in bench._open]
    assert arriving in bench.seen.several.idents
    assert bench.session.current == old.ref.ident
    alone.services.capture.end()
    assert bench.own.ref.ident != old.ref.ident
    sent = len(ons(left))
    qtbot.waitUntil(lambda: len(ons(left)) > sent + 4, timeout=8000)
    assert alone.playback.playing
    alone.playback.stop()
    wanted = old.outcome.output_notes
    expected = list(zip(wanted.note.tolist(), wanted.velocity.astype(int).tolist(), strict=True))
    assert ons(left) == expected[: len(ons(left))]


def test_takes_are_called_by_where_they_came_from(alone, kit_file, qtbot):
    record_at_once(alone)
    alone.live_session.listen_to(ports.SCREEN_PADS, own_map())
    alone.services.capture.begin()
    alone.services.pads.strike("kick", 90, 20)
    qtbot.waitUntil(lambda: bool(alone.services.capture._records), timeout=8000)
    alone.services.capture.end()
    alone.inputs.play_take()
    alone.open_files([kit_file])
    assert [card._kind for card in alone.rail.cards] == ["MIDI file", "simulated", "pads on screen"]
    assert ports.kind_of_input("bridge:Harbour Mesh MIDI 1") == "played"


def test_two_armed_inputs_get_idents_of_their_own_after_a_take_was_removed(alone, tmp_path, qtbot):
    record_at_once(alone)
    bench = alone.workbench
    for _ in range(3):
        alone.inputs.play_take()
    bench.do("remove", edits.without_take(bench.session, "take1"))
    bench.delete_removed_takes()
    alone.files.save_session_to(tmp_path / "three.puresignal")
    alone.open_files([tmp_path / "three.puresignal"])
    alone.live_session.listen_to(ports.SCREEN_PADS, own_map())
    alone.live_session.listen_to(ports.COMPUTER_KEYBOARD, own_map())
    alone.services.capture.begin()
    alone.services.pads.strike("kick", 90, 20)
    alone.live_session.play(ports.COMPUTER_KEYBOARD, messages.note_on(10, 38, 77))
    qtbot.waitUntil(lambda: len(ons(alone.services.capture._records)) == 2, timeout=8000)
    alone.services.capture.end()
    idents = [ref.ident for ref in bench.session.takes]
    assert len(idents) == len(set(idents)) == 4
    assert {ref.ident for ref in bench.session.takes} == {take.ident for take in bench.store}


def test_a_take_that_was_undone_stays_in_the_file_until_it_is_deleted(alone, tmp_path, qtbot):
    bench = alone.workbench
    alone.inputs.play_take()
    undone = bench.own.take
    bench.undo()
    alone.inputs.play_take()
    path = tmp_path / "a.puresignal"
    alone.files.save_session_to(path)
    opened = session_file.read(path)
    assert [ref.ident for ref in opened.session.takes] != [undone.ident]
    kept = next(take for take in opened.takes if take.ident == undone.ident)
    assert np.array_equal(kept.events.arrived, undone.events.arrived)
    alone.open_files([path])
    alone.files.fill_removed(alone.menus.removed)
    alone.menus.removed.actions()[0].trigger()
    assert bench.session.current == undone.ident
    bench.undo()
    bench.delete_removed_takes()
    alone.files.save_session_to(path)
    assert len(session_file.read(path).takes) == 1


def test_nothing_of_a_comparison_outlives_its_session(alone):
    alone.inputs.play_take()
    alone.playback.compare_settings()
    assert alone.playback.other_path is not None
    alone.files.new_session()
    assert alone.playback.other_path is None
    now = alone.workbench.session.path
    alone.playback.compare_settings()
    assert alone.workbench.session.path == now


def test_the_level_and_the_chosen_take_are_no_steps_of_the_history(alone, qtbot):
    level, bench = alone.transport.level, alone.workbench
    first = bench.session.sound.level
    level.setFocus()
    qtbot.keyClick(level, Qt.Key.Key_Left)
    second = bench.session.sound.level
    qtbot.keyClick(level, Qt.Key.Key_Left)
    third = bench.session.sound.level
    assert first > second > third
    assert bench.history.past == ()
    bench.do("rename session", edits.with_name(bench.session, "Ferry"))
    qtbot.keyClick(level, Qt.Key.Key_Left)
    bench.undo()
    # Undo takes back the name, and leaves the level where it is now.
    assert bench.session.name != "Ferry"
    assert bench.session.sound.level < third


def test_hear_played_is_as_hard_as_it_was_played(alone):
    alone.inputs.play_take()
    alone.velocity._set("fixed", 100.0, "one")
    alone.velocity._set("threshold", 50.0, "two")
    own = alone.workbench.own
    played = alone.playback._as_played(own).output_notes
    assert len(played) == len(own.outcome.input_notes)
    arrived = own.take.events.data2[played.origin]
    assert np.array_equal(played.velocity.astype(int), arrived)


@pytest.mark.parametrize("victim", ["engine.recorder", "engine [0-9]"])
def test_a_helper_that_hangs_keeps_nothing_from_being_stored(qtbot, monkeypatch, victim):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    window = MainWindow(Workbench())
    qtbot.addWidget(window)
    window.show()
    window.live_session.listen_to(ports.SCREEN_PADS, own_map())
    qtbot.waitUntil(lambda: bool(window.live_session.state), timeout=8000)
    window.inputs.play_take()
    told = subprocess.run(["pgrep", "-P", str(os.getpid()), "-f", f"puresignal.{victim}"],
                          capture_output=True, text=True)  # fmt: skip
    [pid] = [int(p) for p in told.stdout.split()][:1]
    os.kill(pid, signal.SIGSTOP)
    window.close()
    [leftover] = work_folder.leftovers()
    assert len(work_folder.recover(leftover).takes) == 1
    qtbot.waitUntil(lambda: not alive(pid), timeout=8000)


def alive(pid):
    try:
        with open(f"/proc/{pid}/stat") as file:
            return file.read().rsplit(")", 1)[1].split()[0] != "Z"
    except OSError:
        return False


def test_a_crashing_router_never_makes_the_window_wait(monkeypatch):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    router = RouterProcess(RouterConfig((), (), None, None))
    try:
        router.restarts = 7
        router.process.kill()
        longest, end = 0.0, time.monotonic() + 4.0
        while router.restarts == 7 or router._restart_at is not None:
            began = time.monotonic()
            router.read(0.0)
            longest = max(longest, time.monotonic() - began)
            assert time.monotonic() < end
            time.sleep(0.01)
        assert longest < 0.1
    finally:
        router.close()


def test_crashes_of_long_ago_do_not_slow_restarts_for_ever(monkeypatch):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    router = RouterProcess(RouterConfig((), (), None, None))
    try:
        now = time.monotonic()
        router._crashes = [now - 60 + n for n in range(40)]
        router.process.kill()
        while router.restarts == 0:
            router.read(0.01)
        assert router._restart_at is None or router._restart_at - time.monotonic() < 0.2
        assert len(router._crashes) == 1
    finally:
        router.close()


def test_a_dragged_pad_sheet_still_strikes(alone, qtbot):
    sheet = alone.inputs.pads
    struck = []
    alone.services.pads.struck.connect(lambda *hit: struck.append(hit))
    box = sheet.boxes()["kick"]
    sheet.press(1, QPointF(box.center()))
    sheet.lift(1)
    assert struck[0][0] == "kick"


def test_a_view_made_while_live_input_runs_shows_it(qtbot, monkeypatch):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    window = MainWindow(Workbench(), "Takes")
    qtbot.addWidget(window)
    window.show()
    window.live_session.listen_to(ports.SCREEN_PADS, own_map())
    window.services.capture.begin()
    assert "Inputs" not in window.views
    panel = window.inputs.live
    assert (panel.listen.isChecked(), panel.listen.text()) == (True, "Stop listening")
    assert window.transport.record.isChecked()
    window.live_session.close()


def test_each_go_of_learning_is_an_undo_step_of_its_own(alone, qtbot):
    bench, live, learner = alone.workbench, alone.live_session, alone.services.learner
    live.listen_to(ports.SCREEN_PADS, NoteMap("Learnt", ()))
    for notes in ((41, 43), (45,)):
        learner.learn(True)
        for note in notes:
            known = len(learner.learning.note_map.pads)
            for _ in range(8):
                live.play(ports.SCREEN_PADS, bytes((0x99, note, 90)))
                live.play(ports.SCREEN_PADS, bytes((0x89, note, 0)))
                qtbot.wait(250)
                if len(learner.learning.note_map.pads) > known:
                    break
        learner.learn(False)

    def learnt():
        return [pad.note for pad in bench.session.inputs[0].source.pads]

    assert learnt() == [41, 43, 45]
    bench.undo()
    assert learnt() == [41, 43]
    bench.undo()
    assert learnt() == []


def test_a_hit_under_the_threshold_is_named_as_too_soft(alone, qtbot):
    bench, live, pads = alone.workbench, alone.live_session, alone.services.pads
    live.listen_to(ports.SCREEN_PADS, own_map())
    velocity = replace(bench.session.path.velocity, shapes=(("*", Shape(threshold=40)),))
    bench.do("threshold", edits.with_path(bench.session, replace(bench.session.path, velocity=velocity)))
    arrived = []
    live.messages_received.connect(arrived.extend)
    pads.strike("snare.head", 20, 20)
    qtbot.waitUntil(lambda: bool(arrived), timeout=8000)
    alone.inputs.live.why.click()
    assert "✕ kept" in alone.notice.text
    assert "removed: too soft" in alone.notice.text
    assert "double" not in alone.notice.text


def test_messages_that_came_before_the_list_was_made_are_in_it(qtbot, monkeypatch):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    window = MainWindow(Workbench(), "Takes")
    qtbot.addWidget(window)
    window.show()
    window.live_session.listen_to(ports.SCREEN_PADS, own_map())
    window.services.pads.strike("snare.head", 77, 20)
    qtbot.waitUntil(lambda: len(window.live_session.recent()) >= 1, timeout=8000)
    assert "Inputs" not in window.views
    rows = window.inputs.messages.model
    assert "77" in rows.index(0).data()
    assert window.inputs.messages._total == len(window.live_session.recent())
    window.live_session.close()


def test_live_input_stops_and_starts_without_the_window_waiting(alone, qtbot):
    live, pads = alone.live_session, alone.services.pads
    live.listen_to(ports.SCREEN_PADS, own_map())
    qtbot.waitUntil(lambda: bool(live.state), timeout=8000)
    for act in (live.stop, live.start, live.stop, live.start):
        began = time.process_time()
        act()
        assert time.process_time() - began < 0.05
    arrived = []
    live.messages_received.connect(arrived.extend)
    qtbot.waitUntil(lambda: bool(live.state), timeout=8000)
    pads.strike("kick", 60, 20)
    qtbot.waitUntil(lambda: bool(arrived), timeout=8000)
    assert ons(arrived) == [(own_map().pad_for("kick").note, 60)]


def test_learning_a_control_without_an_input_says_what_to_do(window, qtbot):
    window.show_record_settings()
    rows = window._record_settings.findChild(ControlRows)
    button = rows.buttons[hand_control.RECORD]
    qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
    assert "Choose a port" in window.notice.text
    assert not button.isChecked()
