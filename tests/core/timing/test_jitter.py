"""Jitter against a device's own clock: the interval is found through lateness, gaps and drift of no clock."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.timing import jitter


@given(
    st.floats(0.004, 0.5),
    st.integers(30, 400),
    st.floats(0.0, 0.05),
    st.floats(0.0, 0.2),
    st.integers(0, 1 << 16),
)
def test_interval_and_spread_are_found_although_some_are_missing(interval, count, part, missing, seed):
    random = np.random.default_rng(seed)
    late = random.uniform(0, 1, count) * part * interval
    at = 12.0 + interval * np.arange(count) + late
    kept = random.random(count) >= missing
    kept[[0, 1, 2, -1]] = True
    found = jitter.measured(at[kept])
    assert found is not None
    assert found.interval == pytest.approx(interval, rel=0.004)
    assert found.lost == count - kept.sum()
    assert found.jitter <= part * interval + 1e-9
    assert found.jitter >= 0.5 * part * interval - 1e-9
    assert found.counts.sum() == found.count == kept.sum()


def test_what_is_not_even_is_no_clock():
    random = np.random.default_rng(3)
    assert jitter.measured(np.cumsum(random.exponential(0.2, 60))) is None
    assert jitter.measured(np.arange(5.0)) is None
    assert jitter.measured(np.zeros(40)) is None


def test_one_late_message_does_not_hide_that_the_rest_is_even():
    at = 0.02 * np.arange(200.0)
    at[100] += 0.008
    found = jitter.measured(at)
    assert found.interval == pytest.approx(0.02, rel=1e-3)
    assert found.jitter < 0.0005
    assert found.spread[1] == pytest.approx(0.008, abs=0.001)
