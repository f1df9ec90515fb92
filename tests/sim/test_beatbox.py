"""Beatboxing and speech: each syllable sounds like its kind, no two takes are alike, and the ground truth is exact."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from puresignal.sim import beatbox, sung_lines

RATE = 44_100
HISS = beatbox.Syllable(
    burst=0.0, hiss=1.0, voice=0.0, centre=6000, wide=0.5, lasts=0.03, pitch=100, falls=0.0, formant=500, hum=0.05
)
VOICED = replace(HISS, hiss=0.3, voice=1.0, after=0.1)


def level(sound: np.ndarray, begin: float, end: float) -> float:
    return float(np.sqrt(np.mean(sound[round(begin * RATE) : round(end * RATE)] ** 2)))


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_a_slow_hiss_comes_up_slowly_and_a_held_one_stays(seed):
    random = np.random.default_rng(seed)
    quick = beatbox.say(HISS, 0.8, RATE, random)
    slow = beatbox.say(replace(HISS, rises=0.06, lasts=0.2), 0.8, RATE, random)
    held = beatbox.say(replace(HISS, holds=0.15), 0.8, RATE, random)
    assert level(slow, 0.0, 0.02) < 0.5 * level(slow, 0.045, 0.07)
    assert level(quick, 0.015, 0.03) > level(quick, 0.06, 0.09)
    assert level(held, 0.09, 0.12) > 0.6 * level(held, 0.02, 0.05)
    assert level(quick, 0.09, 0.12) < 0.4 * level(quick, 0.015, 0.03)


def test_a_vowel_comes_after_its_consonant():
    for seed in range(5):
        sound = beatbox.say(VOICED, 0.8, RATE, np.random.default_rng(seed))
        low = np.convolve(sound, np.ones(40) / 40, "same")
        assert level(low, 0.0, 0.07) < 0.2 * level(low, 0.14, 0.2)
        assert np.abs(sound).max() == pytest.approx(0.8)
        assert abs(sound[-1]) < 1e-6


def test_spoken_rhythms_match_their_ground_truth():
    random = np.random.default_rng(4)
    sound, truth = beatbox.beat([HISS, replace(HISS, centre=900)], 6.0, RATE, random, breaths=0.0)
    assert {which for _, which in truth} == {0, 1}
    assert sound.dtype == np.float32
    for at, which in truth:
        own = sound[round(at * RATE) :][:1200].astype(float)
        spectrum = np.abs(np.fft.rfft(own * np.hanning(1200))) ** 2
        middle = (spectrum * np.fft.rfftfreq(1200, 1 / RATE)).sum() / spectrum.sum()
        assert (middle > 3000) == (which == 0)


def test_a_spoken_syllable_is_the_same_one_each_time_and_another_by_its_number():
    random = np.random.default_rng(5)
    who = replace(sung_lines.any_singer(random), habits=(0.0, 0.0, 1.0, 0.0, 0.0))

    def spectrum(what: int, take: int) -> np.ndarray:
        sound = sung_lines.say(who, what, 48.0, 0.25, 0.8, RATE, take)
        assert np.abs(sound).max() == pytest.approx(0.8)
        found = np.abs(np.fft.rfft(sound[-9000:-3000] * np.hanning(6000))) ** 2
        bands = [found[a:b].sum() for a, b in zip((20, 60, 120, 240), (60, 120, 240, 480), strict=True)]
        return np.log10(np.array(bands) / np.sum(bands))

    same = [np.abs(spectrum(what, 1) - spectrum(what, 2)).max() for what in range(8)]
    other = [np.abs(spectrum(what, 1) - spectrum(what + 1, 1)).max() for what in range(8)]
    assert np.median(same) < 0.5 * np.median(other)
    a, b = (sung_lines.say(who, 3, 48.0, 0.25, 0.8, RATE, take) for take in (1, 2))
    assert not np.array_equal(a[:4000], b[:4000])
