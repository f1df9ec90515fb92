from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.learn import Learning, choose, hear, missing
from puresignal.core.notemap import NoteMap, Pad, check_source
from puresignal.io import mapfile

GENERAL = mapfile.shipped("general-midi")
EMPTY = Learning(NoteMap("mine", ()))


def test_the_same_pad_again_accepts_the_guess():
    asked = hear(EMPTY, 1.0, 10, 38, GENERAL)
    assert (asked.waiting, asked.guess) == ((10, 38), "snare.head")
    learnt = hear(asked, 1.6, 10, 38, GENERAL)
    assert learnt.waiting is None
    assert learnt.note_map.pads == (Pad("snare.head", 38),)


def test_a_double_trigger_is_no_answer():
    asked = hear(EMPTY, 1.0, 10, 38, GENERAL)
    assert hear(asked, 1.02, 10, 38, GENERAL) is asked


def test_a_note_that_means_nothing_in_general_is_the_next_that_is_missing():
    learnt = choose(hear(EMPTY, 0.0, 10, 99, GENERAL), "kick")
    assert hear(learnt, 1.0, 10, 98, GENERAL).guess == "snare.head"
    assert "kick" not in missing(learnt.note_map)


def test_what_general_midi_says_is_not_offered_twice():
    learnt = choose(hear(EMPTY, 0.0, 10, 20, GENERAL), "snare.head")
    assert hear(learnt, 1.0, 10, 38, GENERAL).guess == "kick"


def test_another_pad_is_asked_about_instead_and_a_known_one_asks_nothing():
    asked = hear(hear(EMPTY, 1.0, 10, 38, GENERAL), 2.0, 10, 36, GENERAL)
    assert (asked.waiting, asked.guess) == ((10, 36), "kick")
    known = choose(asked, "kick")
    assert hear(known, 3.0, 10, 36, GENERAL) == known


@given(st.lists(st.tuples(st.sampled_from([1, 10]), st.integers(30, 60)), max_size=80))
def test_whatever_is_hit_the_map_stays_one_that_can_be_read_by(hits):
    learning = EMPTY
    for i, (channel, note) in enumerate(hits):
        learning = hear(learning, i * 0.5, channel, note, GENERAL)
    check_source(learning.note_map, "mine")
    names = [p.articulation for p in learning.note_map.pads]
    assert len(names) == len(set(names))
