"""What the networks that hear pitches look at: levels, and what the moments before do not explain."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.core.hearing.networks import multipitch, pitch_levels
from puresignal.core.hearing.networks.multipitch import FIRST, HOP, RATE

SECONDS, STRUCK = 1.6, 0.8
AGAINST = (0.1, 0.1)
COMPLETE = round(0.2 * RATE / HOP)
"""Frames after which the windows hold nothing from before the sound."""


def tone(note: float, phase: float, struck: float = 0.0) -> np.ndarray:
    """A steady tone that begins at once; struck: level of the same tone, struck again, from STRUCK on."""
    at = np.arange(round(SECONDS * RATE)) / RATE
    hertz = 440 * 2 ** ((note - 69) / 12)
    again = struck * np.sin(2 * np.pi * hertz * at + phase) * (at >= STRUCK)
    return np.asarray(0.3 * (np.sin(2 * np.pi * hertz * at) + again), np.float32)


def band(note: float) -> int:
    return round(note) - FIRST


@settings(max_examples=25, deadline=None)
@given(st.floats(45, 100))
def test_a_tone_that_goes_on_changes_nothing_whatever_its_pitch(note):
    levels, changes = pitch_levels.levels_and_changes(tone(note, 0.0), AGAINST)
    still = slice(COMPLETE, len(levels) - COMPLETE)
    for seen, change in ((levels.middle, changes.middle), (levels.short, changes.short)):
        assert change[still, band(note)].max() < seen[still, band(note)].min() - 2


@settings(max_examples=25, deadline=None)
@given(st.integers(50, 95), st.floats(0, 2 * np.pi))
def test_a_tone_that_is_struck_again_changes_even_where_it_grows_no_louder(note, phase):
    levels, changes = pitch_levels.levels_and_changes(tone(note, phase, 0.6), AGAINST)
    struck, column = round(STRUCK / multipitch.STEP), band(note)
    around, before = slice(struck - 4, struck + 5), slice(COMPLETE, struck - 8)
    for change in (changes.middle, changes.short):
        assert change[around, column].max() > change[before, column].max() + 1
    # For a phase near 180 degrees the tone grows softer: its level alone says that it ended.
    if abs(phase - np.pi) < 0.5:
        assert levels.short[struck + 6, column] < levels.short[struck - 6, column]


def test_the_levels_are_the_same_with_and_without_the_changes():
    samples = tone(60.3, 1.0, 0.5)
    alone, moved = pitch_levels.levels(samples, AGAINST), pitch_levels.changes(samples, AGAINST)
    together, changes = pitch_levels.levels_and_changes(samples, AGAINST)
    for name in ("long", "middle", "short"):
        assert getattr(together, name) == pytest.approx(getattr(alone, name), abs=1e-4)
    assert np.array_equal(changes.middle, moved.middle)
    assert np.array_equal(changes.short, moved.short)


@pytest.mark.parametrize("count", [0, 1, 500, 9000])
def test_a_few_samples_have_finite_changes(count):
    levels, changes = pitch_levels.levels_and_changes(np.full(count, 0.1, np.float32), AGAINST)
    assert changes.middle.shape == changes.short.shape == levels.short.shape
    assert np.isfinite(changes.middle).all()
    assert np.isfinite(changes.short).all()
