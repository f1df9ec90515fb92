"""The sitting strip in the real window: what was played is on it, a drag keeps a stretch, earlier sittings stay."""

from __future__ import annotations

import json
import time

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt

from puresignal.core.session import session as edits
from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.recorded import PLAY, ROUND, STOP, Move
from puresignal.core.timing.session_time import Timeline
from puresignal.core.touch.computer_keyboard import own_map
from puresignal.io import ports
from puresignal.io.journal import Writer
from puresignal.io.session_json import input_json, timeline_json

MINUTE = 60.0


def note_on(at, note=38, velocity=90):
    return [
        (at, ports.SCREEN_PADS, bytes((0x99, note, velocity))),
        (at + 0.02, ports.SCREEN_PADS, bytes((0x89, note, 0))),
    ]


@pytest.fixture
def sat(window, qtbot):
    """A window after a sitting of two phrases, ten minutes apart, on the pads on screen."""
    bench, log = window.workbench, window.services.sitting
    bench.do("pads", edits.with_inputs(bench.session, (LiveInput(ports.SCREEN_PADS, source=own_map(), ident="in1"),)))
    bench.do("tempo", edits.with_timeline(bench.session, Timeline.steady(120)))
    begin = time.monotonic() - 20 * MINUTE
    hits = [begin + i * 0.5 for i in range(16)] + [begin + 10 * MINUTE + i * 0.5 for i in range(24)]
    log.now.messages += [row for at in hits for row in note_on(at)]
    log.now.on = np.array(hits)
    log.changed.emit()
    qtbot.waitUntil(lambda: window.sitting.line.line.length > 20.5, timeout=2000)
    return window, hits


def drag(window, qtbot, first, last):
    """Drag over the strip from one moment to another."""
    line = window.sitting.line
    a, b = (QPoint(round(line.x_of(at)), 20) for at in (first, last))
    qtbot.mousePress(line, Qt.MouseButton.LeftButton, pos=a)
    qtbot.mouseMove(line, (a + b) / 2)
    qtbot.mouseMove(line, b)
    qtbot.mouseRelease(line, Qt.MouseButton.LeftButton, pos=b)


def onsets(window, ref):
    """Beats from bar 1 of a take's hits."""
    take = window.workbench.store[ref.material]
    placed, timeline = window.workbench.placed(ref)
    on = (take.events.status == 0x99) & (take.events.data2 > 0)
    return timeline.seconds_to_beats(placed.seconds(take.events.arrived, timeline))[on]


def test_a_drag_keeps_a_phrase_and_its_bracket_chooses_it(sat, qtbot):
    window, hits = sat
    line, bench = window.sitting.line, window.workbench
    bare = line.grab().toImage()
    drag(window, qtbot, hits[16] - 0.3, hits[-1] + 0.3)
    [ref] = bench.session.takes
    assert len(onsets(window, ref)) == 24
    assert bench.store[ref.material].name.startswith("Kept, ")
    assert window.menus.undo.text() == "Undo: keep earlier playing"
    # It says how its beats are found.
    assert window.notice.isVisible()
    assert "no beats" in window.notice.text
    qtbot.wait(150)
    assert line.grab().toImage() != bare
    window.inputs.play_take()
    assert bench.session.current != ref.ident
    qtbot.mouseClick(line, Qt.MouseButton.LeftButton, pos=QPoint(round(line.x_of(hits[20])), 3))
    assert bench.session.current == ref.ident
    bench.undo()
    bench.undo()
    bench.undo()
    assert bench.session.takes == ()
    assert len(window.services.sitting.shown.on) == 40


def test_where_the_transport_ran_it_stands_where_it_was_played_and_rounds_are_stacked(sat, qtbot):
    window, hits = sat
    start = hits[16]
    moves = [
        Move(start, PLAY, 0.0),
        *(Move(start + 2.0 * k, ROUND, 0.0) for k in range(1, 6)),
        Move(hits[-1] + 9, STOP, 0),
    ]
    window.services.sitting.now.moves += moves
    drag(window, qtbot, start + 3.9, start + 8.1)
    [ref] = window.workbench.session.takes
    # 4.0 to 8.0 s: two rounds of four beats, and the hit that begins the third.
    found = onsets(window, ref)
    assert found % 1 == pytest.approx(np.zeros(len(found)), abs=1e-3)
    assert found.min() > -0.01
    assert found.max() < 3.01
    assert len(ref.passes) == 3


def test_keys_choose_a_phrase_and_keep_it(sat, qtbot):
    window, _hits = sat
    line = window.sitting.line
    line.setFocus()
    qtbot.keyClick(line, Qt.Key.Key_Right)
    qtbot.keyClick(line, Qt.Key.Key_Left)
    assert "16 notes" in line.accessibleDescription()
    qtbot.keyClick(line, Qt.Key.Key_Return)
    [ref] = window.workbench.session.takes
    assert len(onsets(window, ref)) == 16


def test_what_is_played_now_appears_on_it_recorded_or_not(window, monkeypatch, qtbot):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    live, line = window.live_session, window.sitting.line
    live.listen_to(ports.SCREEN_PADS, own_map())
    qtbot.waitUntil(lambda: bool(live.state), timeout=8000)
    bare = line.grab().toImage()
    for _ in range(3):
        window.services.pads.strike("snare.head", 90, 20)
        qtbot.wait(60)
    qtbot.waitUntil(lambda: len(window.services.sitting.now.on) == 3, timeout=4000)
    qtbot.waitUntil(lambda: line.grab().toImage() != bare, timeout=2000)
    live.close()


def test_an_earlier_sitting_is_shown_kept_from_and_thrown_away(sat, qtbot, monkeypatch):
    window, _ = sat
    folder = window.live_session.journal_folder().parent / "earlier"
    writer = Writer(folder, (ports.SCREEN_PADS,))
    writer.add([(50.0 + i, 0, bytes((0x99, 38, 40 + i))) for i in range(5)])
    writer.close()
    log = window.services.sitting
    qtbot.mouseClick(window.sitting.earlier, Qt.MouseButton.LeftButton)
    assert len(log.shown.on) == 5
    assert window.sitting.later.isVisible()
    qtbot.waitUntil(lambda: window.sitting.line.line.begins[0] < 100, timeout=2000)
    drag(window, qtbot, 50.9, 53.1)
    [ref] = window.workbench.session.takes
    assert len(onsets(window, ref)) == 3
    log.throw_away()
    assert not folder.exists()
    assert log.shown is log.now
    # What was kept of it stays.
    assert len(window.workbench.session.takes) == 1
    qtbot.mouseClick(window.sitting.earlier, Qt.MouseButton.LeftButton)
    assert log.shown is log.now


def test_a_recording_that_was_cut_off_is_brought_back_by_one_click(window, qtbot):
    folder = window.live_session.journal_folder().parent / "killed"
    writer = Writer(folder, ("gone:out",))
    kit = LiveInput("gone:out", ident="in1")
    noted = {
        "record": 0.0, "pressed": 10.0, "start": "count-in", "early": 0.5, "by_hand": False, "pre_roll": False,
        "timeline": timeline_json(Timeline.steady(120)), "inputs": [input_json(kit)], "delay": 0.0, "knew_time": True,
        "only_last": False,
    }  # fmt: skip
    writer.add_moves([(10.0, 0, json.dumps({"note": noted}).encode())])
    writer.add_moves([(12.0, 0, json.dumps({"move": "play", "seconds": 0.0, "speed": 1.0}).encode())])
    writer.add([(12.5, 0, b"\x99\x26\x50"), (13.0, 0, b"\x99\x24\x50")])
    writer.close()
    window.services.sitting.offer_killed()
    assert "cut off" in window.notice.text
    window.notice.act.click()
    [ref] = window.workbench.session.takes
    assert onsets(window, ref) == pytest.approx([1.0, 2.0])
    window.services.sitting.offer_killed()
    assert len(window.workbench.session.takes) == 1
