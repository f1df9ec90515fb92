"""Voiced consonants: neither notes of their own nor the beginnings of notes; struck and soft notes stay as they are."""

from __future__ import annotations

import numpy as np
import pytest

from puresignal.core.hearing.melody import consonants

STEP = 0.01


def outlined(*parts):
    """(frames,) decibels: each part (seconds, level at its beginning, level at its end)."""
    return np.concatenate([np.linspace(a, b, round(seconds / STEP)) for seconds, a, b in parts])


def test_a_consonant_that_leads_into_its_vowel_is_no_note():
    level = outlined((0.5, -70, -70), (0.1, -28, -27), (0.5, -20, -20), (0.3, -70, -70))
    start, end, number = np.array([0.5, 0.6]), np.array([0.6, 1.1]), np.array([57, 57])
    begins, lead_in = consonants.vowels(start, end, number, level, level, STEP)
    assert lead_in.tolist() == [True, False]
    assert begins[1] == 0.6


def test_a_note_that_begins_with_a_consonant_begins_with_its_vowel():
    level = outlined((0.5, -70, -70), (0.12, -32, -31), (0.6, -20, -20), (0.3, -70, -70))
    begins, lead_in = consonants.vowels(np.array([0.5]), np.array([1.2]), np.array([57]), level, level, STEP)
    assert begins[0] == pytest.approx(0.615, abs=0.011)
    assert not lead_in.any()


def test_the_voice_before_a_b_opens_is_not_the_beginning():
    level = outlined((0.5, -70, -70), (0.03, -31, -23), (0.04, -21, -20), (0.05, -19, -11), (0.5, -10, -10))
    begins, _ = consonants.vowels(np.array([0.5]), np.array([1.1]), np.array([57]), level, level - 14, STEP)
    assert begins[0] == pytest.approx(0.585, abs=0.02)


def test_what_grows_without_opening_is_no_vowel():
    level = outlined((0.5, -70, -70), (0.12, -32, -31), (0.6, -20, -20), (0.3, -70, -70))
    closed = outlined((0.5, -90, -90), (0.12, -50, -50), (0.6, -47, -47), (0.3, -90, -90))
    begins, _ = consonants.vowels(np.array([0.5]), np.array([1.2]), np.array([57]), level, closed, STEP)
    assert begins[0] == 0.5


@pytest.mark.parametrize(
    "before",
    [
        # Struck softly, then harder: the first one dies away.
        ((0.12, -24, -32),),
        # Tongued or bowed again: the level dips in between.
        ((0.1, -26, -26), (0.03, -38, -38)),
        # As loud as the next one.
        ((0.12, -21, -21),),
    ],
)
def test_notes_of_one_pitch_that_follow_each_other_stay(before):
    level = outlined((0.5, -70, -70), *before, (0.5, -20, -21), (0.3, -70, -70))
    second = 0.5 + sum(part[0] for part in before)
    start, end = np.array([0.5, second]), np.array([second, second + 0.5])
    begins, lead_in = consonants.vowels(start, end, np.array([57, 57]), level, level, STEP)
    assert not lead_in.any()
    assert begins.tolist() == [0.5, second]


def test_a_soft_attack_and_notes_of_other_pitches_stay():
    level = outlined((0.5, -70, -70), (0.2, -40, -20), (0.5, -20, -20), (0.3, -70, -70))
    begins, _ = consonants.vowels(np.array([0.5]), np.array([1.2]), np.array([57]), level, level, STEP)
    assert begins[0] == 0.5
    # The note before still rings where a bow sets in.
    level = outlined((0.5, -20, -20), (0.03, -20, -27), (0.02, -27, -27), (0.12, -26, -13), (0.5, -13, -13))
    begins, _ = consonants.vowels(np.array([0.5]), np.array([1.1]), np.array([57]), level, level, STEP)
    assert begins[0] == 0.5
    level = outlined((0.5, -70, -70), (0.1, -28, -27), (0.5, -20, -20), (0.3, -70, -70))
    _, lead_in = consonants.vowels(np.array([0.5, 0.6]), np.array([0.6, 1.1]), np.array([55, 57]), level, level, STEP)
    assert not lead_in.any()
