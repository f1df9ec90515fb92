"""The delay of a loop-back: the median, the spread, and what was lost."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.core.timing import loop_back


@given(st.floats(0.0, 0.3), st.floats(0.0, 0.02), st.integers(0, 100))
@settings(deadline=None)
def test_the_delay_is_found_whatever_else_arrives(delay, jitter, seed):
    chance = np.random.default_rng(seed)
    sent = np.arange(24) * 0.15 + 100.0
    note = 40 + np.arange(24)
    came = sent + delay + chance.uniform(0, jitter, 24)
    others = chance.uniform(99, 105, 30)
    at = np.concatenate([came, others])
    numbers = np.concatenate([note, chance.integers(0, 40, 30)])
    order = np.argsort(at)
    found = loop_back.measured(sent, note, at[order], numbers[order])
    assert found.delay == pytest.approx(delay + jitter / 2, abs=jitter / 2 + 1e-9)
    assert found.jitter <= jitter + 1e-9
    assert (found.lost, found.counts.sum()) == (0, 24)


def test_lost_notes_are_counted_and_too_few_are_no_measurement():
    sent, note = np.arange(8) * 0.15, np.arange(8)
    found = loop_back.measured(sent, note, sent[2:] + 0.01, note[2:])
    assert (found.lost, round(found.delay, 6)) == (2, 0.01)
    assert loop_back.measured(sent, note, sent[:3] + 0.01, note[:3]) is None
    assert loop_back.measured(sent, note, np.zeros(0), np.zeros(0, int)) is None
