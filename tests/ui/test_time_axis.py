"""The time axis of Takes: zooming keeps what is under the pointer, and nothing leads out of the take."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from puresignal.ui.takes.row_labels import GUTTER
from puresignal.ui.takes.time_axis import WIDEST, TimeAxis


def axis(length: float, width: float = 800.0) -> TimeAxis:
    made = TimeAxis(lambda: width)
    made.length = length
    made.show_all()
    return made


@given(st.floats(2.0, 4000.0), st.lists(st.tuples(st.floats(0.2, 5.0), st.floats(0.0, 800.0)), max_size=8))
def test_any_zoom_stays_within_the_take_and_its_places_are_seconds(length, zooms):
    one = axis(length)
    for factor, x in zooms:
        one.zoom(factor, GUTTER + x)
        begin, end = one.seconds_in_view()
        assert 0 <= begin <= length
        assert one.scale <= WIDEST
        assert one.x_of(begin) == pytest.approx(GUTTER)
        assert one.second_at(one.x_of(end)) == pytest.approx(end)
        assert one.x_of_all(np.array([begin, end])) == pytest.approx([GUTTER, GUTTER + 800])


def test_zooming_in_keeps_the_second_under_the_pointer():
    one = axis(60.0)
    under = one.second_at(GUTTER + 300)
    one.zoom(3.0, GUTTER + 300)
    assert one.second_at(GUTTER + 300) == pytest.approx(under)
    one.zoom(2.0)
    assert one.second_at(GUTTER + 300) != pytest.approx(under)


def test_the_page_turns_only_where_the_line_leaves_it():
    one = axis(60.0)
    one.zoom(4.0, GUTTER)
    begin, end = one.seconds_in_view()
    assert not one.turn_page((begin + end) / 2)
    assert one.seconds_in_view() == (begin, end)
    assert one.turn_page(end + 1)
    assert one.seconds_in_view()[0] <= end + 1 <= one.seconds_in_view()[1]


def test_before_it_is_shown_it_has_some_width():
    assert axis(10.0, -200.0).width == 50.0
