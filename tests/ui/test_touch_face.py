"""The touch surface in the real window: fingers, mouse and keys, what arrives, and the chord book."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from puresignal.core.midi import messages
from puresignal.core.session import session as edits
from puresignal.core.session.live_input import LiveInput
from puresignal.io import chord_books, ports
from puresignal.ui.inputs.found_ports import add_input

SCREEN = QTest.createTouchDevice()


@pytest.fixture
def window(demo_window, monkeypatch, qtbot):
    monkeypatch.setenv("JACK_DEFAULT_SERVER", "nobody-here")
    window = demo_window
    window.activateWindow()
    add_input(window.services, ports.TOUCH)
    live = window.services.live_session
    qtbot.waitUntil(lambda: bool(live.state.get("inputs")), timeout=8000)
    window.arrived = []
    live.messages_received.connect(lambda records: window.arrived.extend(r.data for r in records))
    yield window
    live.close()


def face(window, way, qtbot):
    made = window.view("Inputs").touch
    qtbot.waitUntil(made.isVisible, timeout=3000)
    made.way.setCurrentIndex(made.way.findData(way))
    made.way.activated.emit(made.way.currentIndex())
    return made


def middle(made, row, column):
    cell = next(c for c in made._touch.player.cells if (c.row, c.column) == (row, column))
    return made.sheet.box(cell).center().toPoint(), cell


def ons(window):
    return [data[1] for data in window.arrived if messages.is_note_on(data)]


def hangs(window):
    held = set()
    for data in window.arrived:
        if messages.is_note_on(data):
            held.add(data[1])
        elif data[0] & 0xF0 == 0x80:
            held.discard(data[1])
    return held


def test_ten_fingers_at_once_and_all_of_them_end(window, qtbot):
    made = face(window, "steps", qtbot)
    places = [middle(made, row, column) for row in range(2) for column in range(5)]
    touch = QTest.touchEvent(made.sheet, SCREEN)
    for finger, (at, _) in enumerate(places):
        touch.press(finger, at, made.sheet)
    touch.commit()
    wanted = [cell.notes[0] for _, cell in places]
    qtbot.waitUntil(lambda: len(ons(window)) == 10, timeout=5000)
    assert sorted(ons(window)) == sorted(wanted)
    lit = made.sheet.grab().toImage()
    touch = QTest.touchEvent(made.sheet, SCREEN)
    for finger, (at, _) in enumerate(places):
        touch.release(finger, at, made.sheet)
    touch.commit()
    qtbot.waitUntil(lambda: not hangs(window), timeout=5000)
    assert made.sheet.grab().toImage() != lit


def test_the_place_in_a_cell_is_loud_or_soft_and_a_drag_goes_on_legato(window, qtbot):
    made = face(window, "rows", qtbot)
    at, cell = middle(made, 1, 2)
    QTest.mousePress(made.sheet, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at)
    qtbot.waitUntil(lambda: len(ons(window)) == 1, timeout=5000)
    loud = window.arrived[0][2]
    beside, other = middle(made, 1, 3)
    QTest.mouseMove(made.sheet, beside)
    qtbot.waitUntil(lambda: len(ons(window)) == 2, timeout=5000)
    assert ons(window) == [cell.notes[0], other.notes[0]]
    QTest.mouseRelease(made.sheet, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, beside)
    edge = made.sheet.box(cell).topLeft().toPoint() + QPoint(3, 3)
    QTest.mouseClick(made.sheet, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, edge)
    qtbot.waitUntil(lambda: len(ons(window)) == 3, timeout=5000)
    soft = [data[2] for data in window.arrived if messages.is_note_on(data)][2]
    assert loud > 110 > 50 > soft
    qtbot.waitUntil(lambda: not hangs(window), timeout=5000)


def test_keys_play_cells_and_losing_the_focus_ends_them(window, qtbot):
    made = face(window, "steps", qtbot)
    made.sheet.setFocus()
    QTest.keyPress(made.sheet, Qt.Key.Key_Z)
    QTest.keyPress(made.sheet, Qt.Key.Key_D)
    wanted = [middle(made, *place)[1].notes[0] for place in ((0, 0), (1, 2))]
    qtbot.waitUntil(lambda: ons(window) == wanted, timeout=5000)
    window.view("Inputs").live.listen.setFocus()
    qtbot.waitUntil(lambda: not hangs(window), timeout=5000)


def test_chords_in_thirds_move_little_and_another_key_fills_the_surface_anew(window, qtbot):
    made = face(window, "lattice", qtbot)
    for column in (2, 0):
        at, _ = middle(made, 1, column)
        QTest.mouseClick(made.sheet, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at)
    qtbot.waitUntil(lambda: len(ons(window)) == 6, timeout=5000)
    first, second = ons(window)[:3], ons(window)[3:]
    assert len(set(first) & set(second)) >= 1
    assert sum(abs(a - b) for a, b in zip(sorted(first), sorted(second), strict=True)) <= 4
    before = [cell.below for cell in made._touch.player.cells]
    bench = window.workbench
    bench.do("key", edits.with_key(bench.session, "E major"))
    assert [cell.below for cell in made._touch.player.cells if cell.row == 1][2] == "E"
    assert [cell.below for cell in made._touch.player.cells] != before


def test_a_chord_is_edited_as_bars_and_kept(window, qtbot):
    made = face(window, "book", qtbot)
    touch = made._touch
    at, cell = middle(made, 0, 1)
    QTest.mouseClick(made.sheet, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at)
    qtbot.waitUntil(lambda: sorted(ons(window)) == sorted(cell.notes), timeout=5000)
    assert touch.chosen == 1
    top = touch.chord.notes[-1]
    y = round(made.ladder.y_of(top))
    QTest.mousePress(made.ladder, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(80, y))
    QTest.mouseMove(made.ladder, QPoint(80, round(made.ladder.y_of(top + 3))))
    up = QPoint(80, round(made.ladder.y_of(top + 3)))
    QTest.mouseRelease(made.ladder, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, up)
    assert touch.chord.notes[-1] == top + 3
    low = QPoint(80, round(made.ladder.y_of(40)))
    QTest.mouseClick(made.ladder, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, low)
    assert 40 in touch.chord.notes
    QTest.mouseClick(made.edits["up"], Qt.MouseButton.LeftButton)
    assert 41 in touch.chord.notes
    made.own_strum.setValue(80)
    (book,) = chord_books.kept()
    assert book.chords[1] == touch.chord
    assert book.chords[1].strum == 80.0
    count = len(book.chords)
    QTest.mouseClick(made.edits["remove"], Qt.MouseButton.LeftButton)
    assert len(chord_books.kept()[0].chords) == count - 1


def test_chords_are_played_in_on_another_input(window, qtbot):
    made = face(window, "book", qtbot)
    live, bench = window.services.live_session, window.workbench
    inputs = (*bench.session.inputs, LiveInput(ports.SCREEN_PADS, name="Keys"))
    bench.do("keys", edits.with_inputs(bench.session, inputs))
    qtbot.waitUntil(lambda: ports.SCREEN_PADS in live.port_names, timeout=3000)
    before = len(made._touch.book.chords)
    QTest.mouseClick(made.play_in, Qt.MouseButton.LeftButton)
    for chord in ((50, 57, 65), (48, 55, 64)):
        for note in chord:
            live.play(ports.SCREEN_PADS, bytes((0x90, note, 90)))
        qtbot.wait(200)
        for note in chord:
            live.play(ports.SCREEN_PADS, bytes((0x80, note, 64)))
    qtbot.waitUntil(lambda: made.play_in.text() == "Done: 2 chords", timeout=5000)
    QTest.mouseClick(made.play_in, Qt.MouseButton.LeftButton)
    chords = made._touch.book.chords
    assert [one.notes for one in chords[before:]] == [(50, 57, 65), (48, 55, 64)]
    assert middle(made, 0, 0)[1].notes == chords[made._touch.player.columns * (made._touch.player.rows - 1)].notes


def test_drums_on_cells_are_chosen_rolled_and_named_by_their_map(window, qtbot):
    made = face(window, "drums", qtbot)
    bench, touch = window.services.workbench, window.services.touch
    at, cell = middle(made, 0, 1)
    assert cell.drum == "snare.head"
    window.arrived.clear()
    QTest.mouseClick(made.sheet, Qt.MouseButton.LeftButton, pos=at)
    qtbot.waitUntil(lambda: len(ons(window)) == 1, timeout=5000)
    # The input has the map of these drums: the hit is a snare.
    one = next(one for one in bench.session.inputs if one.port == ports.TOUCH)
    assert one.source is not None
    menu = made.sheet.menu(cell)
    ride = next(action.menu() for action in menu.actions() if action.text() == "Ride")
    next(action for action in ride.actions() if action.text() == "ride, bell").trigger()
    at, cell = middle(made, 0, 1)
    assert cell.drum == "ride.bell"
    grey = made.sheet.grab().toImage()
    made.page.setValue(2)
    assert made.sheet.grab().toImage() != grey
    window.arrived.clear()
    QTest.mouseClick(made.sheet, Qt.MouseButton.LeftButton, pos=at)
    qtbot.wait(150)
    assert ons(window) == []
    made.page.setValue(1)
    # A roll goes on while the finger is down, and ends with it.
    made.roll.setCurrentIndex(made.roll.findData("1/16"))
    made.roll.activated.emit(made.roll.currentIndex())
    window.arrived.clear()
    QTest.mousePress(made.sheet, Qt.MouseButton.LeftButton, pos=at)
    qtbot.waitUntil(lambda: len(ons(window)) >= 4, timeout=5000)
    QTest.mouseRelease(made.sheet, Qt.MouseButton.LeftButton, pos=at)
    qtbot.wait(150)
    count = len(ons(window))
    qtbot.wait(400)
    assert len(ons(window)) == count
    assert not hangs(window)
    # It is kept for the next time.
    from puresignal.io import preferences

    assert preferences.read().surface == touch.settings
    face(window, "steps", qtbot)
    one = next(one for one in bench.session.inputs if one.port == ports.TOUCH)
    assert one.source is None
