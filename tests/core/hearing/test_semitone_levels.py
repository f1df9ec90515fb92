"""The partials of the newest moments, and the pitches that they speak for."""

from __future__ import annotations

import numpy as np
import pytest

from puresignal.core.hearing.dsp import semitone_levels
from puresignal.core.hearing.networks import live_pitch

RATE, SEEN, PAST = live_pitch.RATE, live_pitch.SEEN, live_pitch.PAST


def tone(number, seconds, loud=0.2):
    t = np.arange(round(seconds * RATE)) / RATE
    hz = 440 * 2 ** ((number - 69) / 12)
    return loud * sum(np.sin(2 * np.pi * k * hz * t + k) / k for k in range(1, 7) if k * hz < 0.45 * RATE)


def looks_of(samples):
    return live_pitch.looked(np.pad(samples, (SEEN - live_pitch.HOP, 0)).astype(np.float32))


@pytest.mark.parametrize("number", [57, 64, 72, 84])
def test_a_sine_is_loudest_at_its_semitone_and_its_level_is_its_own(number):
    t = np.arange(SEEN) / RATE
    sine = (0.1 * np.sin(2 * np.pi * 440 * 2 ** ((number - 69) / 12) * t)).astype(np.float32)
    long = semitone_levels.levels(sine[None])[0, 1]
    # Low down a window of 70 ms cannot tell neighbours apart.
    assert abs(int(long.argmax()) + semitone_levels.FIRST - number) <= (1 if number < 60 else 0)
    assert 20 * long.max() == pytest.approx(-22, abs=4)


def test_a_fresh_onset_counts_at_once():
    sound = np.concatenate([np.zeros(SEEN), tone(69, 0.3)])
    levels = looks_of(sound).levels[:, 0, 69 - semitone_levels.FIRST]
    begin = SEEN // live_pitch.HOP
    steady = levels[begin + 40]
    assert 20 * levels[begin - 2] < -85
    # 15 ms after its beginning it is within 12 dB of what it will be.
    assert 20 * (steady - levels[begin + 3]) < 12


def test_a_note_that_starts_under_a_louder_one_is_considered():
    long = tone(57, 0.6, 0.3)
    new = tone(64, 0.3, 0.06) * np.clip(np.arange(round(0.3 * RATE)) / (0.02 * RATE), 0, 1)
    sound = long.copy()
    begins = round(0.3 * RATE)
    sound[begins:] += new
    looks = looks_of(sound)
    moment = round((begins + 0.035 * RATE) / live_pitch.HOP) - 1
    spoken = semitone_levels.plainest(looks.loud, PAST, live_pitch.PARTLY)[moment - PAST]
    assert spoken[64 - live_pitch.LOWEST]
    look, number = live_pitch.asked(looks)
    assert 64 in number[look == moment]
    # By its period alone it is not there to be asked after.
    assert looks.depth[moment, live_pitch.EDGE + 64 - live_pitch.LOWEST].min() > live_pitch.MAYBE
    # Before it began it was neither loud nor growing.
    assert not semitone_levels.plainest(looks.loud, PAST, 2)[moment - 12 - PAST, 64 - live_pitch.LOWEST]


def test_candidates_are_the_loudest_and_the_growing_pitches():
    assert not semitone_levels.plainest(live_pitch.nothing(30).loud, PAST, 4).any()
    loud = looks_of(tone(57, 0.3)).loud
    spoken = semitone_levels.plainest(loud, PAST, 4)[-1]
    assert spoken[57 - live_pitch.LOWEST]
    assert 4 <= spoken.sum() <= 8


def test_pitches_outside_the_range_are_not_considered():
    looks = looks_of(tone(57, 0.3))
    _, number = live_pitch.asked(looks, 60, 62)
    assert set(number.tolist()) == {60, 61, 62}
    assert not len(live_pitch.asked(looks, 60.2, 60.8)[0])


def test_partials_are_told_against_the_loudest_whatever_the_level():
    sound = np.concatenate([np.zeros(SEEN), tone(64, 0.3)])
    look, number = np.array([60]), np.array([64])
    loud, soft = (semitone_levels.rows(looks_of(sound * gain).levels, look, number)[0] for gain in (1.0, 0.1))
    count = len(semitone_levels.PARTIALS)
    # The five partials that sound, in either window.
    assert loud[:5] == pytest.approx(soft[:5], abs=0.01)
    assert loud[count : count + 5] == pytest.approx(soft[count : count + 5], abs=0.01)
    assert loud[:5].max() == pytest.approx(0, abs=0.05)
    # How loud the moment is, is said apart.
    assert loud[2 * count : 2 * count + 2] - soft[2 * count : 2 * count + 2] == pytest.approx(1.0, abs=0.01)
