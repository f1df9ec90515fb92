"""The touch surface: what cells play, what fingers do, and that everything that began ends."""

from __future__ import annotations

import itertools
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.core.errors import BadFileError
from puresignal.core.harmony import chord_book, keys, scales, voice_leading
from puresignal.core.harmony.chord_book import BookChord, ChordBook
from puresignal.core.midi import messages
from puresignal.core.touch import surface
from puresignal.core.touch.surface import (
    BEND,
    BOOK,
    LATTICE,
    ROWS,
    STAY,
    STEP,
    SurfacePlayer,
    SurfaceSettings,
)


def at(player, row, column):
    """The middle of a cell."""
    return (column + 0.5) / player.columns, (row + 0.5) / player.rows


def ons(sent):
    return [data[1] for _, data in sent if messages.is_note_on(data)]


def offs(sent):
    return [data[1] for _, data in sent if messages.is_note_end(data)]


@pytest.mark.parametrize("key", keys.NAMES)
def test_steps_have_only_notes_of_the_key_and_its_roots_marked(key):
    scale = scales.scale_of(key)
    found = surface.cells(SurfaceSettings(rows=5, columns=9, under=3), key)
    assert {note % 12 for one in found for note in one.notes} <= set(scale)
    assert all((one.notes[0] % 12 == scale[0]) == one.root for one in found)
    # Three steps on, a row begins where the one below has its fourth cell.
    by_place = {(one.row, one.column): one.notes for one in found}
    assert by_place[1, 0] == by_place[0, 3]


def test_rows_are_tuned_and_show_what_lies_outside():
    found = {(one.row, one.column): one for one in surface.cells(SurfaceSettings(ROWS, apart=5, low=40), "D minor")}
    assert found[1, 0].notes == (45,)
    assert found[0, 5].notes == found[1, 0].notes
    assert found[0, 1].notes == (41,)
    assert not found[0, 1].pale
    assert found[0, 2].pale
    assert [one.pale for one in surface.cells(SurfaceSettings(ROWS), "")].count(True) == 0


def test_neighbours_of_the_lattice_share_two_notes_and_voices_move_little():
    player = SurfacePlayer(SurfaceSettings(LATTICE), "C major")
    row = [next(c for c in player.cells if (c.row, c.column) == (1, n)) for n in range(7)]
    for one, other in itertools.pairwise(row):
        assert len(set(one.classes) & set(other.classes)) == 2
    assert [one.label for one in row] == ["IV", "vi", "I", "iii", "V", "vii°", "ii"]
    first = ons(player.press(1, *at(player, 1, 2)))
    assert {note % 12 for note in first} == {0, 4, 7}
    player.lift(1)
    second = ons(player.press(1, *at(player, 1, 0)))
    best = min(voice_leading.movement(tuple(first), other) for other in voice_leading.voicings((5, 9, 0), 48, 67))
    assert voice_leading.movement(tuple(first), tuple(second)) == best
    # Another chord while one is held: its root below.
    (bass,) = ons(player.press(2, *at(player, 1, 4)))
    assert bass % 12 == 7
    assert bass < min(second)
    sevenths = [c for c in player.cells if c.row == 2]
    assert all(len(c.classes) == 4 for c in sevenths)


def test_a_chord_of_the_book_is_strummed_up_or_down():
    book = (BookChord((48, 55, 60, 64), "", 90, 60.0), BookChord((50, 57), "", 40, -20.0))
    player = SurfacePlayer(SurfaceSettings(BOOK, columns=4), "", book)
    up = player.press(1, *at(player, 0, 0))
    assert [(round(1000 * when), data[1]) for when, data in up] == [(0, 48), (20, 55), (40, 60), (60, 64)]
    player.lift(1)
    down = player.press(1, *at(player, 0, 1))
    assert [(round(1000 * when), data[1]) for when, data in down] == [(0, 57), (20, 50)]
    assert player.press(2, 0.5, 1.2) == []


def test_a_finger_slides_by_steps_bends_or_stays():
    stepping = SurfacePlayer(SurfaceSettings(slide=STEP), "C major")
    (first,) = ons(stepping.press(1, *at(stepping, 0, 0)))
    moved = stepping.move(1, *at(stepping, 0, 1))
    # Legato: the next begins before the first ends.
    assert [data[0] & 0xF0 for _, data in moved] == [0x90, 0x80]
    assert offs(moved) == [first]
    bending = SurfacePlayer(SurfaceSettings(ROWS, slide=BEND), "")
    bending.press(1, *at(bending, 0, 2))
    ((_, bend),) = bending.move(1, *at(bending, 0, 3))
    assert messages.bend_amount(bend[1], bend[2]) == pytest.approx(8191 / 2, abs=2)
    staying = SurfacePlayer(SurfaceSettings(slide=STAY), "")
    staying.press(1, *at(staying, 0, 0))
    assert staying.move(1, *at(staying, 0, 3)) == []


def test_one_voice_a_row_and_the_same_note_from_two_fingers():
    player = SurfacePlayer(SurfaceSettings(ROWS, apart=5, one_voice=True, slide=STAY), "")
    player.press(1, *at(player, 0, 0))
    second = player.press(2, *at(player, 0, 1))
    assert [data[0] & 0xF0 for _, data in second] == [0x80, 0x90]
    free = SurfacePlayer(SurfaceSettings(ROWS, apart=5, slide=STAY), "")
    (note,) = ons(free.press(1, *at(free, 0, 5)))
    assert ons(free.press(2, *at(free, 1, 0))) == [note]
    # It sounds until both are gone.
    assert offs(free.lift(1)) == []
    assert offs(free.lift(2)) == [note]


def test_another_key_leaves_what_is_held_and_ends_it_right():
    player = SurfacePlayer(SurfaceSettings(), "C major")
    (note,) = ons(player.press(1, *at(player, 0, 1)))
    player.use(replace(player.settings, low=60), "F# major")
    assert offs(player.lift(1)) == [note]


finger = st.tuples(
    st.sampled_from(["press", "move", "lift", "use"]), st.integers(0, 4), st.floats(-0.2, 1.2), st.floats(-0.2, 1.2)
)


@given(
    st.lists(finger, max_size=60), st.sampled_from(surface.WAYS), st.sampled_from(surface.SLIDES), st.booleans(),
    st.sampled_from(keys.NAMES), st.integers(0, 3),
)  # fmt: skip
@settings(max_examples=80, deadline=None)
def test_whatever_fingers_do_every_note_ends(done, way, slide, one_voice, key, wide):
    book = tuple(BookChord((n, n + 4, n + 7)) for n in range(40, 70, 2))
    made = SurfaceSettings(way, slide=slide, one_voice=one_voice, wide=wide, low=24)
    player, sounding = SurfacePlayer(made, key, book), {}

    def follow(sent):
        for _, data in sent:
            if messages.is_note_on(data):
                sounding[data[1]] = sounding.get(data[1], 0) + 1
            elif messages.is_note_end(data):
                assert sounding.get(data[1], 0) > 0
                sounding[data[1]] = 0

    for what, number, x, y in done:
        if what == "use":
            player.use(replace(made, low=24 + number), key, book)
        else:
            follow(player.press(number, x, y) if what == "press" else player.move(number, x, y) if what == "move"
                   else player.lift(number))  # fmt: skip
    follow(player.lift_all())
    assert not any(sounding.values())
    assert player.sounding == ()


def test_a_book_is_edited_played_in_and_kept():
    chord = BookChord((60, 64, 67))
    assert chord.turned(True).notes == (64, 67, 72)
    assert chord.turned(False).notes == (55, 60, 64)
    assert chord.wider().notes == (52, 60, 67)
    assert chord.wider().closer().notes == (52, 55, 60)
    assert chord.with_note(70).with_note(64).notes == (60, 67, 70)
    assert chord.moved(64, 63).notes == (60, 63, 67)
    assert chord.shifted(-61) == chord
    hits = [(0.0, 60, 80), (0.03, 64, 90), (0.05, 67, 100), (1.0, 55, 70), (1.2, 59, 60)]
    assert [(c.notes, c.velocity) for c in chord_book.from_played(hits)] == [
        ((60, 64, 67), 90),
        ((55,), 70),
        ((59,), 60),
    ]
    book = ChordBook("Ferry", (chord, chord.turned(True)))
    assert chord_book.from_json(chord_book.to_json(book), "f") == book
    assert book.swapped(0, 1).chords == book.chords[::-1]
    assert book.with_chord(0, None).chords == book.chords[1:]
    for wrong in ({}, {"format": chord_book.FORMAT}, {**chord_book.to_json(book), "chords": [{"notes": [200]}]},
                  {**chord_book.to_json(book), "chords": [{"notes": [60], "velocity": 0}]}):  # fmt: skip
        with pytest.raises(BadFileError):
            chord_book.from_json(wrong, "f")


def test_cells_of_drums_are_the_players_own_by_page_and_are_sent_on_the_drum_channel():
    from puresignal.core.touch import computer_keyboard

    settings = surface.with_way(SurfaceSettings(rows=2), surface.DRUMS)
    assert settings.columns == 4
    player = SurfacePlayer(settings)
    assert [cell.drum for cell in player.cells[:4]] == ["kick", "snare.head", "hat.closed", "hat.open"]
    kick = computer_keyboard.note_of("kick")
    (sent,) = player.press(1, 0.1, 0.2)
    assert sent[1][:2] == bytes((0x99, kick))
    assert player.held[0, 0] > 40
    (ended,) = player.lift(1)
    assert ended[1][:2] == bytes((0x89, kick))
    own = surface.with_drum(surface.with_drum(settings, 0, 1, "45"), 1, 3, surface.NOTHING)
    player.use(own, "")
    assert player.press(1, 0.3, 0.2)[0][1][:2] == bytes((0x99, 45))
    assert player.press(2, 0.9, 0.9) == []
    # Another page is empty until it is filled, and leaves the first one alone.
    second = replace(own, page=1)
    player.lift_all()
    player.use(second, "")
    assert player.press(3, 0.1, 0.1) == []
    filled = surface.with_drum(second, 0, 0, "ride.bell")
    assert surface.drum_at(replace(filled, page=0), 0, 1) == "45"
    player.use(filled, "")
    assert player.press(4, 0.1, 0.1)[0][1][1] == computer_keyboard.note_of("ride.bell")
    # What cannot be played is an empty cell.
    assert surface.drum_note("lampshade") is None
    assert surface.drum_note("200") is None


def test_a_roll_strikes_again_only_while_its_finger_is_down():
    player = SurfacePlayer(surface.with_way(SurfaceSettings(rows=2), surface.DRUMS))
    player.press(1, 0.1, 0.2)
    note = player.sounding[0]
    again = player.again(1, 77)
    assert [message[:2] for _, message in again] == [bytes((0x89, note)), bytes((0x99, note))]
    assert again[1][1][2] == 77
    assert player.velocity_at(1) == 77
    player.lift(1)
    assert player.again(1, 77) == []
    assert player.velocity_at(1) == 0


def test_the_hat_cell_opens_with_height_and_its_pedal_slides_and_damps():
    from puresignal.core.touch.computer_keyboard import note_of

    settings = surface.with_drum(surface.with_way(SurfaceSettings(rows=1), surface.DRUMS), 0, 0, surface.HAT)
    settings = surface.with_drum(settings, 0, 1, "crash1.bow")
    player = SurfacePlayer(settings)
    struck = {}
    for y, name in ((0.1, "hat.closed"), (0.5, "hat.half"), (0.95, "hat.open")):
        pedal, on = (message for _, message in player.press(1, 0.125, y))
        assert pedal == bytes((0xB9, 4, round(127 * (1 - y))))
        assert on[:2] == bytes((0x99, note_of(name)))
        struck[name] = on[2]
        assert [message for _, message in player.lift(1)] == [bytes((0x89, note_of(name), 64))]
    # Height is the pedal's; how hard is told by the distance from the middle line.
    assert len(set(struck.values())) == 1
    assert player.press(1, 0.24, 0.5)[-1][1][2] < struck["hat.half"]
    player.lift(1)

    player.press(2, 0.37, 0.5)
    player.press(1, 0.125, 0.9)
    assert [message for _, message in player.move(1, 0.125, 0.5)] == [bytes((0xB9, 4, 64))]
    closing = [message for _, message in player.move(1, 0.125, -0.3)]
    foot, crash = note_of("hat.pedal"), note_of("crash1.bow")
    assert closing == [
        bytes((0xB9, 4, 127)), bytes((0x89, note_of("hat.open"), 64)), bytes((0x99, foot, 72)), bytes((0x89, foot, 64)),
        bytes((0xA9, crash, 127)), bytes((0xA9, crash, 0)),
    ]  # fmt: skip
    assert player.move(1, 0.125, 0.0) == []
    assert player.lift(1) == []
    assert player.sounding == (crash,)
