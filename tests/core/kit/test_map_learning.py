from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.kit.map_learning import MapLearning, choose, guess_for, missing, note_received, pedal_moved
from puresignal.core.kit.note_map import NoteMap, Pad, check_source
from puresignal.io import note_map_file

GENERAL = note_map_file.shipped("general-midi")
EMPTY = MapLearning(NoteMap("mine", ()))


def test_the_same_pad_again_accepts_the_guess():
    asked = note_received(EMPTY, 1.0, 10, 38, GENERAL)
    assert (asked.waiting, asked.guess) == ((10, 38), "snare.head")
    learnt = note_received(asked, 1.6, 10, 38, GENERAL)
    assert learnt.waiting is None
    assert learnt.note_map.pads == (Pad("snare.head", 38),)


def test_a_double_trigger_does_not_count_as_an_answer():
    asked = note_received(EMPTY, 1.0, 10, 38, GENERAL)
    assert note_received(asked, 1.02, 10, 38, GENERAL) is asked


def test_an_unknown_note_is_guessed_as_the_next_missing_pad():
    learnt = choose(note_received(EMPTY, 0.0, 10, 99, GENERAL), "kick")
    assert note_received(learnt, 1.0, 10, 98, GENERAL).guess == "snare.head"
    assert "kick" not in missing(learnt.note_map)


def test_a_general_midi_guess_is_not_offered_twice():
    learnt = choose(note_received(EMPTY, 0.0, 10, 20, GENERAL), "snare.head")
    assert note_received(learnt, 1.0, 10, 38, GENERAL).guess == "kick"


def test_hitting_another_pad_asks_about_that_one_and_known_pads_are_skipped():
    asked = note_received(note_received(EMPTY, 1.0, 10, 38, GENERAL), 2.0, 10, 36, GENERAL)
    assert (asked.waiting, asked.guess) == ((10, 36), "kick")
    known = choose(asked, "kick")
    assert note_received(known, 3.0, 10, 36, GENERAL) == known


@given(st.lists(st.tuples(st.sampled_from([1, 10]), st.integers(30, 60)), max_size=80))
def test_whatever_is_hit_the_map_stays_one_that_can_be_read_by(hits):
    learning = EMPTY
    for i, (channel, note) in enumerate(hits):
        learning = note_received(learning, i * 0.5, channel, note, GENERAL)
    check_source(learning.note_map, "mine")
    names = [p.articulation for p in learning.note_map.pads]
    assert len(names) == len(set(names))


def press(learning, values, begin=0.0, controller=4):
    for i, value in enumerate(values):
        learning = pedal_moved(learning, begin + 0.01 * i, controller, value)
    return learning


@pytest.mark.parametrize(
    ("values", "open_at", "closed_at"),
    [
        ([2, 30, 70, 110, 127, 127, 90, 40, 3, 0], 0, 127),
        ([126, 90, 40, 5, 0, 0, 30, 80, 120, 127], 127, 0),
        ([20, 45, 80, 96, 97, 96, 60, 30, 21], 21, 97),
    ],
)
def test_one_press_and_release_tells_polarity_and_travel(values, open_at, closed_at):
    learnt = press(MapLearning(NoteMap("kit", (Pad("hat.closed", 42),))), values).note_map.hat
    assert (learnt.controller, learnt.open_at, learnt.closed_at) == (4, open_at, closed_at)
    assert not learnt.notes_follow_pedal
    assert learnt.closedness(closed_at) == 1.0


def test_a_jittering_pedal_or_another_controller_is_not_learnt():
    kit = NoteMap("kit", (Pad("hat.closed", 42),))
    assert press(MapLearning(kit), [60, 62, 59, 64, 61, 60] * 20).note_map is kit
    assert press(MapLearning(kit), [0, 60, 127, 60, 0], controller=7).note_map is kit
    assert press(MapLearning(kit), [0, 40, 90, 127]).note_map is kit


def test_a_kit_with_a_note_for_each_opening_keeps_them():
    kit = NoteMap("kit", (Pad("hat.closed", 42), Pad("hat.open", 46)))
    assert press(MapLearning(kit), [0, 60, 127, 60, 0]).note_map.hat.notes_follow_pedal


def test_a_note_right_after_the_foot_came_down_is_a_foot_close():
    kit = NoteMap("kit", (Pad("hat.closed", 42),), 10)
    down = press(MapLearning(kit), [0, 50, 100, 127])
    assert note_received(down, 0.05, 10, 60, GENERAL).guess == "hat.pedal"
    assert note_received(down, 2.0, 10, 60, GENERAL).guess != "hat.pedal"


def test_general_meanings_count_elsewhere_only_as_far_as_they_held():
    strange = NoteMap("pads", (Pad("kick", 60), Pad("snare.head", 61), Pad("hat.closed", 62)), 1)
    assert guess_for(strange, 49, GENERAL, 10) == "crash1.bow"
    assert guess_for(strange, 49, GENERAL, 1) == "hat.open"
