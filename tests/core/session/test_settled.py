"""Two hearings of one recording: what is corrected, and that nothing is where both agree."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.session import settled
from puresignal.core.session.settled import Settled

NOTHING = Settled({}, {}, (), ())


def hear(*rows):
    return np.array(rows, float).reshape(-1, 4)


def live(*rows):
    return np.array(rows, float).reshape(-1, 2)


def test_pitch_is_corrected_where_the_whole_sound_is_sure():
    sung = live((1.00, 57), (2.00, 60), (3.00, 64))
    found = settled.compare(sung, hear((0.99, 1.5, 57, 0.9), (2.01, 2.5, 59, 0.9), (3.0, 3.5, 66, 0.2)))
    assert found == Settled({1: -1}, {}, (), ())
    assert found
    # An octave is, more is not.
    found = settled.compare(live((1.0, 57), (2.0, 40)), hear((1.0, 1.5, 69, 0.9), (2.0, 2.5, 60, 0.9)))
    assert found.moved == {0: 12}


def test_an_onset_told_late_goes_where_the_sound_begins():
    found = settled.compare(live((1.09, 57), (2.01, 60)), hear((1.0, 1.5, 57, 0.9), (2.0, 2.5, 60, 0.9)))
    assert found.shifted == {0: pytest.approx(-0.09)}


def test_a_dip_that_was_heard_as_a_new_note_is_left_out_and_a_soft_one_is_added():
    sung = live((1.0, 57), (1.4, 57), (2.0, 57))
    found = settled.compare(sung, hear((1.0, 1.9, 57, 0.9), (2.0, 2.4, 57, 0.9), (2.5, 2.8, 60, 0.9), (3, 4, 62, 0.1)))
    assert found == Settled({}, {}, (1,), (2,))


def test_the_same_pitch_comes_before_the_nearer_moment():
    found = settled.compare(live((1.0, 57), (1.08, 60)), hear((1.06, 1.5, 57, 0.9), (1.14, 1.5, 60, 0.9)))
    assert not found.moved
    assert not found.gone


def test_what_lies_beyond_the_sound_stays():
    assert settled.compare(live((0.2, 57), (1.0, 57), (9.0, 57)), hear((1.0, 2.0, 57, 0.9))) == NOTHING
    assert settled.compare(live((0.2, 57)), hear()) == NOTHING
    assert not NOTHING


@given(st.lists(st.tuples(st.floats(0, 60), st.integers(36, 84)), max_size=20))
def test_two_hearings_that_agree_correct_nothing(rows):
    rows = sorted({round(at, 1): note for at, note in rows}.items())
    assert settled.compare(live(*rows), hear(*((at, at + 0.09, note, 1.0) for at, note in rows))) == NOTHING


@given(
    st.lists(st.tuples(st.floats(0, 9), st.integers(50, 60)), max_size=12),
    st.lists(st.tuples(st.floats(0, 9), st.floats(0.05, 2), st.integers(50, 60), st.floats(0.5, 1)), max_size=12),
)
def test_a_sure_sound_is_what_remains(sung, heard):
    sung = sorted(sung)
    rows = hear(*((at, at + length, note, sure) for at, length, note, sure in heard))
    found = settled.compare(live(*sung), rows)
    left = [i for i in range(len(sung)) if i not in found.gone]
    after = [(sung[i][0] + found.shifted.get(i, 0.0), sung[i][1] + found.moved.get(i, 0)) for i in left]
    after += [(rows[j, 0], int(rows[j, 2])) for j in found.missed]
    for at, note in rows[:, [0, 2]].tolist():
        assert any(abs(at - one) <= settled.LATE + 1e-9 and note == pitch for one, pitch in after)
