"""The delay of a microphone by clapping: from sound to seconds, with hands, with a loudspeaker, with neither."""

from __future__ import annotations

import numpy as np
import pytest

from puresignal.core.hearing.dsp.sharp_sounds import SharpSounds
from puresignal.core.timing import clapping

CLICKS = 5.0 + np.arange(12) * 0.6


@pytest.mark.parametrize("rate", [44_100, 48_000])
@pytest.mark.parametrize("block", [64, 256, 1000])
def test_claps_in_noise_are_found_to_a_few_milliseconds_whatever_the_blocks(rate, block):
    random = np.random.default_rng(1)
    sound = (0.004 * random.normal(size=rate * 8)).astype(np.float32)
    wanted = 1.0 + 0.55 * np.arange(11) + random.normal(0, 0.02, 11)
    for at in wanted:
        first = round(at * rate)
        burst = random.normal(size=rate // 20) * np.exp(-np.arange(rate // 20) / (0.006 * rate))
        sound[first : first + len(burst)] += (0.2 * burst).astype(np.float32)
    ear, found = SharpSounds(rate), []
    for first in range(0, len(sound), block):
        found += ear.feed(100.0 + first / rate, sound[first : first + block])
    assert len(found) == len(wanted)
    assert np.abs(np.array(found) - 100.0 - wanted).max() < 0.004


def test_humming_and_speech_that_swell_are_no_claps():
    rate = 48_000
    t = np.arange(6 * rate) / rate
    hum = (0.3 * np.sin(2 * np.pi * 180 * t) * (0.5 - 0.5 * np.cos(2 * np.pi * 0.7 * t))).astype(np.float32)
    ear = SharpSounds(rate)
    assert [at for i in range(0, len(hum), 256) for at in ear.feed(i / rate, hum[i : i + 256])] == []


def test_hands_give_the_delay_and_a_missed_or_doubled_clap_does_no_harm():
    random = np.random.default_rng(2)
    claps = CLICKS + 0.043 + random.normal(0, 0.012, 12)
    claps = np.sort(np.concatenate([np.delete(claps, 3), [claps[6] + 0.19, CLICKS[9] + 0.25]]))
    found = clapping.measured(CLICKS, claps)
    assert found.delay == pytest.approx(0.043, abs=0.008)
    assert not found.itself
    assert found.count >= 10


def test_a_click_from_a_loudspeaker_is_known_for_what_it_is():
    found = clapping.measured(CLICKS, CLICKS + 0.0231 + np.random.default_rng(3).normal(0, 0.0004, 12))
    assert found.itself
    assert found.delay == pytest.approx(0.0231, abs=0.0005)


def test_too_few_or_none_are_no_measurement():
    assert clapping.measured(CLICKS, CLICKS[:4] + 0.02) is None
    assert clapping.measured(CLICKS, np.zeros(0)) is None
    assert clapping.measured(np.zeros(0), CLICKS) is None
    assert clapping.measured(CLICKS, CLICKS + 0.31) is None
