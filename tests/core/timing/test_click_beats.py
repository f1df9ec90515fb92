"""Where the click falls, through changes of meter, and how long a count-in is."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.timing import click_beats as click
from puresignal.core.timing.session_time import MeterPoint, TempoPoint, Timeline

MIXED = Timeline((TempoPoint(0, 100),), (MeterPoint(1, 4, 4), MeterPoint(3, 7, 8), MeterPoint(4, 6, 8)))


def test_first_beats_beats_and_parts_of_a_bar_of_four():
    found = click.clicks(Timeline.steady(120), 0.0, 4.0, parts=2)
    assert found.beat.tolist() == [0, 0.5, 1, 1.5, 2, 2.5, 3, 3.5]
    assert found.kind.tolist() == [2, 0, 1, 0, 1, 0, 1, 0]


def test_meters_change_inside():
    found = click.clicks(MIXED, 4.0, 14.5)
    firsts = found.beat[found.kind == click.FIRST].tolist()
    assert firsts == [4.0, 8.0, 11.5]
    # Seven eighths have seven beats, six eighths two.
    assert found.beat[(found.beat >= 8) & (found.beat < 11.5)].tolist() == [8 + i / 2 for i in range(7)]
    assert found.beat[found.beat >= 11.5].tolist() == [11.5, 13.0]


@pytest.mark.parametrize(("beat", "bars", "begin"), [(0.0, 1, -4.0), (0.0, 4, -16.0), (11.5, 1, 8.0), (11.5, 2, 4.0)])
def test_a_count_in_is_as_long_as_the_bars_before_it(beat, bars, begin):
    assert click.before(MIXED, beat, bars) == begin


def test_a_count_in_before_the_middle_of_a_bar_ends_there():
    assert click.before(Timeline.steady(90), 6.0, 1) == 2.0


@given(st.floats(-20, 60), st.floats(0.1, 40), st.sampled_from([1, 2, 3, 4]))
def test_two_stretches_click_as_one(begin, long, parts):
    middle, end = begin + long / 3, begin + long
    whole = click.clicks(MIXED, begin, end, parts)
    halves = [click.clicks(MIXED, a, b, parts) for a, b in ((begin, middle), (middle, end))]
    assert np.concatenate([h.beat for h in halves]) == pytest.approx(whole.beat)
    assert np.concatenate([h.kind for h in halves]).tolist() == whole.kind.tolist()
