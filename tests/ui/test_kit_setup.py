"""The one-minute set-up in the real window: a player hits what is asked for, and what was ticked is set."""

from __future__ import annotations

import pytest
from PySide6.QtCore import Qt

from puresignal.core.kit.note_map import HatPedal
from puresignal.core.session import session as edits
from puresignal.core.session.live_input import LiveInput
from puresignal.io import ports

LEVELS = (28, 50, 75, 98, 119)
NOTES = {"kick": 11, "snare.head": 13, "hat.open": 20, "hat.closed": 21, "tom1.head": 30, "ride.bow": 44}


@pytest.fixture
def window(demo_window, monkeypatch, qtbot):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    window = demo_window
    bench = window.services.workbench
    bench.do("inputs", edits.with_inputs(bench.session, (LiveInput(ports.SCREEN_PADS, name="Pads"),)))
    window.show_view("Inputs")
    yield window
    window.services.live_session.close()


def play(window, qtbot, note, levels=LEVELS):
    live, heard = window.services.live_session, len(window.services.kit_setup._rows)
    for level in levels:
        live.play(ports.SCREEN_PADS, bytes((0x99, note, level)))
        live.play(ports.SCREEN_PADS, bytes((0x89, note, 64)))
        qtbot.wait(45)
    qtbot.waitUntil(lambda: len(window.services.kit_setup._rows) >= heard + 2 * len(levels), timeout=5000)


def test_a_kit_is_set_up_by_hitting_what_is_asked_for(window, qtbot):
    inputs = window.view("Inputs")
    qtbot.mouseClick(inputs.live.editors[0].set_up, Qt.MouseButton.LeftButton)
    dialog, setup = inputs.setup_dialog(), window.services.kit_setup
    qtbot.waitUntil(lambda: window.services.live_session.listening, timeout=5000)
    qtbot.waitUntil(lambda: bool(window.services.live_session.state.get("inputs")), timeout=8000)
    assert dialog.asked.text() == "Kick"
    bare = dialog.bars.grab().toImage()
    play(window, qtbot, NOTES["kick"])
    assert dialog.bars.grab().toImage() != bare
    assert "Note 11 on channel 10: 5 hits, 28 to 119." in dialog.found.text()
    # After a moment's rest it goes on by itself.
    qtbot.waitUntil(lambda: setup.setup.asked == "snare.head", timeout=4000)
    live = window.services.live_session
    for _ in range(40):
        name = setup.setup.asked if setup.setup is not None else ""
        if name in NOTES:
            if name == "hat.closed":
                for value in (10, 60, 115):
                    live.play(ports.SCREEN_PADS, bytes((0xB9, 4, value)))
            play(window, qtbot, NOTES[name])
            qtbot.keyClick(dialog.next, Qt.Key.Key_Return)
        elif name:
            qtbot.mouseClick(dialog.none if dialog.none.isVisible() else dialog.next, Qt.MouseButton.LeftButton)
        if not setup.setup.asked:
            break
    qtbot.waitUntil(lambda: bool(dialog.boxes), timeout=5000)
    box, _first = dialog.boxes[0]
    assert box.text() == "Note map “My kit” with 6 pads"
    bench = window.services.workbench
    assert bench.session.inputs[0].source is None
    qtbot.mouseClick(dialog.use, Qt.MouseButton.LeftButton)
    learnt = bench.session.inputs[0].source
    assert {pad.articulation: pad.note for pad in learnt.pads} == NOTES
    assert learnt.hat == HatPedal(4, 115, 10, True)
    assert not dialog.isVisible()
    bench.undo()
    assert bench.session.inputs[0].source is None


def test_what_is_not_ticked_is_not_set(window, qtbot):
    bench = window.services.workbench
    ref = bench.session.take()
    bench.do("no map", edits.with_changed(bench.session, ref.ident, source=None))
    window.view("Inputs").set_up_from_take()
    dialog = window.view("Inputs").setup_dialog()
    qtbot.waitUntil(lambda: bool(dialog.boxes), timeout=8000)
    assert dialog.boxes[0][0].text().startswith("Note map")
    before = bench.session
    for box, _ in dialog.boxes:
        qtbot.mouseClick(box, Qt.MouseButton.LeftButton, pos=box.rect().center().__class__(8, box.height() // 2))
    assert not dialog.use.isEnabled()
    box = dialog.boxes[0][0]
    qtbot.mouseClick(box, Qt.MouseButton.LeftButton, pos=box.rect().center().__class__(8, box.height() // 2))
    qtbot.mouseClick(dialog.use, Qt.MouseButton.LeftButton)
    assert bench.session.take(ref.ident).source is not None
    assert bench.session.path == before.path


def test_the_kit_is_learnt_while_it_is_played_where_the_player_allows_it(window, qtbot):
    services = window.services
    bench, live = services.workbench, services.live_session
    kit = bench.session.take().source
    notes = {pad.articulation: pad.note for pad in kit.pads}
    bench.do("inputs", edits.with_inputs(bench.session, (LiveInput(ports.SCREEN_PADS, source=kit, name="Pads"),)))
    before = bench.session
    window.show_view("Takes")
    panel = window.takes.path
    panel.learn_live.click()
    live.start()
    qtbot.waitUntil(lambda: bool(live.state.get("inputs")), timeout=8000)
    # A hard hit on one tom shakes the other each time.
    for level in (90, 100, 110, 95, 105, 115, 99, 108) * 2:
        for note, velocity in ((notes["tom1.head"], level), (notes["crash1.bow"], level // 5)):
            live.play(ports.SCREEN_PADS, bytes((0x99, note, velocity)))
            live.play(ports.SCREEN_PADS, bytes((0x89, note, 64)))
        qtbot.wait(40)
    lessons = services.live_lessons
    qtbot.waitUntil(lambda: lessons._heard == 32, timeout=4000)
    setup = live._setup
    lessons.learn_now()
    qtbot.waitUntil(lambda: live._setup != setup, timeout=5000)
    model = live._setup.path.crosstalk.kit_model
    assert any(row[:2] == ((10, notes["tom1.head"]), (10, notes["crash1.bow"])) for row in model.shakes)
    assert panel.learn_live.text() == "Learn while I play: 32 hits so far"
    assert bench.session == before
    panel.learn_live.click()
    assert live._setup == setup
