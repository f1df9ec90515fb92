"""Two people at one microphone are told from one."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.hearing.dsp import two_voices
from puresignal.core.hearing.live_ear import RATE, LiveEar
from puresignal.io import models
from puresignal.sim import instrument_synthesis, singer, sung_lines

SECONDS = 7.0


def voice(seed, low):
    random = np.random.default_rng(seed)
    notes = instrument_synthesis.a_line(random, SECONDS, low, low + 12)
    sound, _ = sung_lines.sing(notes, sung_lines.any_singer(random), RATE, seed)
    return sound[: round(SECONDS * RATE)]


def several(sound):
    ear, found = LiveEar(models.dense_net("live_pitch")), []
    for begin in range(0, len(sound), 512):
        ear.feed(sound[begin : begin + 512])
        found.append(ear.several)
    return any(found)


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_two_singers_are_noticed_and_one_is_not_doubted(seed):
    one, other = voice(seed, 45), voice(seed + 50, 55)
    size = min(len(one), len(other))
    assert not several(0.5 * one)
    assert not several(
        0.5 * singer.perform(singer.line(np.random.default_rng(seed), SECONDS, 50, 65), singer.SUNG, RATE, seed)
    )
    assert several(0.5 * one[:size] + 0.4 * other[:size])


def tone(number, random):
    hertz = 440 * 2 ** ((number - 69) / 12)
    t = np.arange(two_voices.SIZE) / two_voices.RATE
    return sum(np.sin(2 * np.pi * k * hertz * t + random.uniform(0, 6)) / k for k in range(1, 8))


@given(st.floats(41, 70), st.integers(0, 1 << 16))
def test_a_steady_tone_is_one_voice_whatever_its_phases(number, seed):
    assert not two_voices.sounds_like_two(tone(number, np.random.default_rng(seed)))


@pytest.mark.parametrize("low", [45, 50, 55, 60])
@pytest.mark.parametrize("apart", [3, 4, 8])
def test_two_steady_tones_are_two_voices(low, apart):
    random = np.random.default_rng(low)
    assert two_voices.sounds_like_two(tone(low, random) + tone(low + apart + 0.15, random))


def test_noise_and_silence_are_nobody():
    random = np.random.default_rng(1)
    assert not two_voices.sounds_like_two(random.normal(size=two_voices.SIZE))
    assert not two_voices.sounds_like_two(np.zeros(two_voices.SIZE))
