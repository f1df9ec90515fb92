"""The choice row in the real window: clicks, letters and a range choose which take is heard in which bar."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt

from puresignal.core.session import alternative_edits
from puresignal.io import midi_reader
from tests.ui.test_several_takes import trio  # noqa: F401 - fixture


@pytest.fixture
def two(trio, qtbot):  # noqa: F811
    """The demo with both drum takes as alternatives; the one that was in is A."""
    card = next(card for card in trio.rail.cards if card.ident == "take1")
    menu = card.context_menu(card)
    others = next(a.menu() for a in menu.actions() if a.text() == "Choose bar by bar with")
    next(a for a in others.actions() if "first try" in a.text()).trigger()
    qtbot.waitUntil(lambda: trio.takes.timeline.choices.isVisible(), timeout=3000)
    return trio


def used(window, bars):
    [group] = window.workbench.session.alternatives
    return "".join(alternative_edits.letter(group, alternative_edits.take_at(group, bar)) for bar in bars)


def at_bar(window, bar):
    """The middle of a bar on the row."""
    row = window.takes.timeline.choices
    left, right = (window.takes.timeline.axis.x_of(row.choices.second_of(n)) for n in (bar, bar + 1))
    return QPoint(round((left + right) / 2), 10)


def drum_hits(window):
    """(beat, note) of the drums in the file, by bar."""
    song = midi_reader.parse(window.workbench.midi_bytes(), "a.mid")
    ppq = song.tempo.ppq
    rows = []
    for track in song.tracks:
        m = track.messages
        on = (m.status == 0x99) & (m.data2 > 0)
        rows += list(zip((m.tick[on] / ppq).tolist(), m.data1[on].tolist(), strict=True))
    return sorted(rows)


def test_a_click_takes_the_next_one_for_its_bar_and_the_file_has_it_there(two, qtbot):
    before = drum_hits(two)
    row = two.takes.timeline.choices
    bare = row.grab().toImage()
    qtbot.mouseClick(row, Qt.MouseButton.LeftButton, pos=at_bar(two, 3))
    assert used(two, range(1, 6)) == "AABAA"
    after = drum_hits(two)
    # Outside the bar (and the hair before its line) nothing has changed.
    lead = before[0][0] - after[0][0]
    assert lead == 0
    outside = [row for row in before if not 7.5 <= row[0] < 12.5]
    assert [row for row in after if not 7.5 <= row[0] < 12.5] == outside
    assert after != before
    qtbot.wait(50)
    assert row.grab().toImage() != bare
    assert two.menus.undo.text() == "Undo: choose take for bars"
    two.workbench.undo()
    assert drum_hits(two) == before


def test_letters_choose_and_a_selected_range_is_chosen_at_once(two, qtbot):
    row = two.takes.timeline.choices
    row.setFocus()
    qtbot.keyClick(row, Qt.Key.Key_Right)
    qtbot.keyClick(row, Qt.Key.Key_B)
    assert used(two, range(1, 6)) == "ABAAA"
    qtbot.keyClick(row, Qt.Key.Key_A)
    assert used(two, range(1, 6)) == "AAAAA"
    timeline = two.takes.timeline
    timeline.set_stretch((row.choices.second_of(2), row.choices.second_of(4)))
    qtbot.wait(50)
    qtbot.mouseClick(row, Qt.MouseButton.LeftButton, pos=at_bar(two, 3))
    assert used(two, range(1, 6)) == "ABBAA"
    assert "bar 3: B" in row.words(3)


def test_the_menu_lists_both_and_the_card_lets_one_go(two, qtbot):
    row = two.takes.timeline.choices
    texts = [action.text() for action in row.menu(2).actions()]
    assert [text[0] for text in texts] == ["A", "B"]
    row.menu(2).actions()[1].trigger()
    assert used(two, range(1, 4)) == "ABA"
    card = next(card for card in two.rail.cards if card.ident == "take2")
    assert "B ·" in card.accessibleName()
    next(a for a in card.context_menu(card).actions() if a.text() == "No longer an alternative").trigger()
    assert two.workbench.session.alternatives == ()
    assert not two.workbench.session.take("take2").is_in
    assert not row.isVisible()


def test_joins_leave_every_note_once(two):
    actions = two.services.take_actions
    [group] = two.workbench.session.alternatives
    a = len(two.workbench.written.outcome.output_notes)
    for bar in range(2, 30, 4):
        actions.choose_for_bars(bar, bar + 2, group.takes[1])
    notes = two.workbench.written.outcome.output_notes
    # The same groove twice, played anew: about as many hits, none of them doubled.
    assert abs(len(notes) - a) < 0.1 * a
    for note in np.unique(notes.note[notes.channel == 10]):
        starts = np.sort(notes.start[(notes.note == note) & (notes.channel == 10)])
        assert np.diff(starts).min() > 0.012
