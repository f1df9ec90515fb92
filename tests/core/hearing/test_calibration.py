"""Curves that turn confidence into chances: they rise, and what they say holds."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.hearing import calibration
from puresignal.io import models


@given(st.integers(1, 400), st.integers(0, 2**32))
def test_a_fitted_curve_rises_and_stays_within_chances(count, seed):
    random = np.random.default_rng(seed)
    confidence = random.random(count)
    curve = calibration.fitted(confidence, random.random(count) < 0.5)
    told = curve.at(np.linspace(0, 1, 50))
    assert np.all(np.diff(told) >= -1e-12)
    assert 0 < told.min() <= told.max() < 1


def test_overconfident_numbers_become_chances():
    random = np.random.default_rng(1)
    confidence = random.uniform(0.4, 1.0, 6000)
    chance = confidence**3
    right = random.random(6000) < chance
    curve = calibration.fitted(confidence[:3000], right[:3000])
    before, after = confidence[3000:], curve.at(confidence[3000:])
    assert calibration.error(before, right[3000:]) > 0.15
    assert calibration.error(after, right[3000:]) < 0.03
    assert np.abs(after - chance[3000:]).mean() < 0.04


def test_of_notes_told_with_one_confidence_the_curve_counts_those_that_are_right():
    told = np.array([0.85, 0.85, 0.85, 0.85, 0.25, 0.25])
    right = np.array([True, True, True, False, False, True])
    assert calibration.curve(told, right) == [(0.25, 0.5, 2), (pytest.approx(0.85), 0.75, 4)]
    assert calibration.error(told, right) == pytest.approx((2 * 0.25 + 4 * 0.10) / 6)


def test_the_shipped_curve_rises_from_doubt_to_trust():
    told = models.chord_confidence().at(np.linspace(0, 1, 101))
    assert np.all(np.diff(told) >= 0)
    # Of the least certain notes that are looked at about half are right.
    assert told[0] < 0.6 < 0.8 < told[-1] < 1
