"""Sound that was lost is made up without a click, without a silence and in its full length."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.hearing.dsp.lost_sound import filler
from puresignal.core.hearing.dsp.spectral_flux import Beginnings

RATE = 48_000


@given(st.integers(1, 400), st.integers(1, 400), st.integers(0, 3000), st.integers(0, 2**32))
def test_any_gap_gets_its_length_and_stays_within_what_is_around_it(before, after, count, seed):
    rng = np.random.default_rng(seed)
    left, right = (rng.uniform(-1, 1, size).astype(np.float32) for size in (before, after))
    made = filler(left, right, count)
    assert made.shape == (count,)
    assert made.dtype == np.float32
    assert np.abs(made).max(initial=0.0) <= max(np.abs(left).max(), np.abs(right).max()) + 1e-6


@pytest.mark.parametrize("count", [64, 128, 256, 512])
def test_in_a_held_note_there_is_no_step_and_no_new_beginning(count):
    seconds = np.arange(RATE) / RATE
    tone = sum(0.2 / n * np.sin(2 * np.pi * 196.0 * n * seconds) for n in range(1, 8)).astype(np.float32)
    at = 24_000
    made = filler(tone[at - 1536 : at], tone[at + count : at + count + 256], count)
    whole = np.concatenate([tone[:at], made, tone[at + count :]])
    # No step is larger than the tone's own.
    assert np.abs(np.diff(whole)).max() <= 1.1 * np.abs(np.diff(tone)).max()
    # As loud as what surrounds it.
    assert 0.5 < np.sqrt(np.mean(made**2)) / np.sqrt(np.mean(tone**2)) < 1.5
    # Silence in its place is a new beginning.
    silent = whole.copy()
    silent[at : at + count] = 0

    def beginnings(sound):
        return [when for when in Beginnings(RATE).feed(sound) if 0.45 < when < 0.6]

    assert beginnings(whole) == []
    if count >= 512:
        assert beginnings(silent)
