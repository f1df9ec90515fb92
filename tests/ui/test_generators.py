"""Generators in the real window: added, their sentence filled in, other notes, kept, and written."""

from __future__ import annotations

import io

import mido
import pytest
from PySide6.QtCore import Qt

from puresignal.core.generators.recipe import from_text
from puresignal.core.session.take_ref import DRAWN, GENERATED
from puresignal.ui.inputs.found_ports import add_menu
from tests.ui.test_several_takes import trio  # noqa: F401 - fixture


@pytest.fixture
def window(trio):  # noqa: F811
    trio.activateWindow()
    return trio


def add(window, title):
    menu = add_menu(window.services, window)
    next(action for action in menu.actions() if action.text() == title).trigger()


def chosen(window):
    return window.workbench.session.take()


def written(window, channel):
    file = mido.MidiFile(file=io.BytesIO(window.workbench.midi_bytes()))
    return [m.note for m in file if m.type == "note_on" and m.velocity and m.channel == channel]


def test_a_progression_is_added_changed_made_anew_and_kept(window, qtbot):
    add(window, "Chord progression")
    ref = chosen(window)
    assert ref.kind == GENERATED
    bar = window.takes.recipe
    qtbot.waitUntil(bar.isVisible, timeout=3000)
    first = ref.drawn
    assert len(first) >= 24
    assert window.takes.timeline.rows()
    qtbot.mouseClick(bar.other, Qt.MouseButton.LeftButton)
    assert chosen(window).drawn != first
    qtbot.mouseClick(bar.before, Qt.MouseButton.LeftButton)
    assert chosen(window).drawn == first
    every = bar.blanks["every"]
    every.setFocus()
    every.setCurrentIndex(every.findData("1/2"))
    every.activated.emit(every.currentIndex())
    assert len(chosen(window).drawn) >= 2 * len(first) - 8
    bar.bars.setValue(2)
    assert max(one.beat for one in chosen(window).drawn) < 8
    # Turning a number is one step of the history.
    for value in (3, 4, 5):
        bar.bars.setValue(value)
    window.workbench.undo()
    assert from_text(chosen(window).recipe).bars in (2, 8)
    qtbot.mouseClick(bar.keep, Qt.MouseButton.LeftButton)
    assert chosen(window).kind == DRAWN
    qtbot.waitUntil(lambda: not bar.isVisible(), timeout=3000)


def test_a_bass_and_an_arpeggio_listen_to_what_is_chosen(window, qtbot):
    add(window, "Chord progression")
    chords = chosen(window).ident
    add(window, "Bass line")
    bass = chosen(window)
    assert from_text(bass.recipe).source == chords
    add(window, "Arpeggio")
    run = chosen(window)
    assert from_text(run.recipe).source == bass.ident
    bar = window.takes.recipe
    source = bar.blanks["source"]
    offered = {source.itemData(i) for i in range(source.count())}
    assert {chords, bass.ident} <= offered
    assert run.ident not in offered
    before = run.drawn
    source.setCurrentIndex(source.findData(chords))
    source.activated.emit(source.currentIndex())
    assert chosen(window).drawn != before
    assert set(written(window, 1)) >= {one.note for one in bass.drawn}


def test_without_anything_to_listen_to_chords_are_made_first(window, qtbot):
    window.files.new_session()
    add(window, "Arpeggio")
    kinds = [from_text(ref.recipe).kind for ref in window.workbench.session.takes]
    assert kinds == ["chords", "arpeggio"]
    assert chosen(window).drawn


def test_a_drum_pattern_plays_the_sessions_kit_and_stands_at_the_position(window, qtbot):
    timeline = window.workbench.timeline
    window.playback.go(window.playback.second_of(timeline.bar_to_beats(3)))
    add(window, "Drum pattern")
    ref = chosen(window)
    assert ref.beat == timeline.bar_to_beats(3)
    assert ref.source is not None
    bar = window.takes.recipe
    bar.blanks["kicks"].setValue(0)
    assert not [one for one in chosen(window).drawn if one.note == 36]
    assert written(window, 9)
