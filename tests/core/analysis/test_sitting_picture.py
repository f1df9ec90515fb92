"""Hours of playing on one line: pauses folded, nothing moved out of order, and every pixel leads back to its moment."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.core.analysis import sitting_picture
from puresignal.core.analysis.sitting_picture import FOLDED, density, folded, phrase_at

gaps = st.lists(st.one_of(st.floats(0.001, 7.9), st.floats(8.1, 20_000)), min_size=1, max_size=60)


@settings(deadline=None)
@given(gaps, st.floats(0, 1e6))
def test_a_place_leads_back_to_its_moment_and_order_is_kept(gap, start):
    at = start + np.cumsum(gap)
    line = folded(at)
    places = line.place(at)
    assert (np.diff(places) >= -1e-9).all()
    assert [line.moment(place) for place in places] == pytest.approx(at.tolist(), abs=1e-6)
    assert 0 <= places.min() <= places.max() <= line.length


@settings(deadline=None)
@given(gaps)
def test_only_long_pauses_become_shorter(gap):
    at = np.cumsum(gap)
    shown = np.diff(folded(at).place(at))
    short = np.diff(at) <= FOLDED
    assert shown[short] == pytest.approx(np.diff(at)[short], abs=1e-6)
    whole = float(np.diff(at)[short].sum())
    assert (shown[~short] <= max(2.0, sitting_picture.SHARE * (whole + len(at))) + 2.0).all()


@settings(deadline=None)
@given(gaps, st.integers(1, 2000))
def test_every_hit_is_in_the_picture_once(gap, columns):
    at = np.cumsum(gap)
    line = folded(at)
    assert density(at, line, 0.0, line.length, columns).sum() == len(at)


def test_a_click_finds_the_phrase_it_is_in_or_the_nearest():
    at = np.array([1.0, 2.0, 3.0, 30.0, 31.0])
    assert phrase_at(at, 2.4, 4.0) == (1.0, 3.0)
    assert phrase_at(at, 20.0, 4.0) == (30.0, 31.0)
    assert phrase_at(np.zeros(0), 1.0, 4.0) is None
