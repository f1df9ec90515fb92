"""The live ear on a stream: notes soon after they begin, the pitch on the face, level, floor, threshold."""

from __future__ import annotations

import numpy as np
import pytest

from puresignal.core.hearing import live_ear
from puresignal.core.hearing.live_ear import RATE, LiveEar
from puresignal.io import models
from puresignal.sim import singer

LINE = singer.line(np.random.default_rng(8), 7.0, 50, 70)


@pytest.fixture(scope="module")
def sung():
    return singer.perform(LINE, singer.SUNG, RATE, 4)


def fed(ear, sound, block=256):
    found, pitches = [], []
    for begin in range(0, len(sound), block):
        heard = ear.feed(sound[begin : begin + block])
        found += [((begin + block) / RATE, one) for one in heard.notes if one.velocity]
        pitches.append(ear.pitch)
    return found, pitches


@pytest.mark.parametrize("block", [64, 441, 2048])
def test_sung_notes_are_told_soon_whatever_the_blocks(sung, block):
    found, _ = fed(LiveEar(models.dense_net("live_pitch")), sung, block)
    told = {
        i: [(now - s, one.number) for now, one in found if abs(one.at - s) < 0.12] for i, (s, *_) in enumerate(LINE)
    }
    right = [told[i][0] for i, (_, _, note, _) in enumerate(LINE) if told[i] and told[i][0][1] == note]
    assert len(right) >= 0.9 * len(LINE)
    assert np.median([late for late, _ in right]) < 0.045 + block / RATE


def test_the_pitch_on_the_face_is_the_sung_one(sung):
    _, pitches = fed(LiveEar(models.dense_net("live_pitch")), sung)
    middles = [(int((s + e) / 2 * RATE / 256), note) for s, e, note, _ in LINE if e - s > 0.2]
    assert all(pitches[at] == pytest.approx(note, abs=0.7) for at, note in middles)
    tone = np.sin(2 * np.pi * 196.0 * np.arange(8000) / (RATE / 2))[: live_ear.LOOK + live_ear.LONGEST]
    assert live_ear.pitch_of(tone) == pytest.approx(69 + 12 * np.log2(196 / 440), abs=0.02)
    noise = np.random.default_rng(0).normal(size=live_ear.LOOK + live_ear.LONGEST)
    assert live_ear.pitch_of(noise) is None


def test_below_the_threshold_nothing_is_heard_and_the_level_is_still_told(sung):
    ear = LiveEar(models.dense_net("live_pitch"))
    ear.set(36, 84, 0.5, -20.0)
    found, _ = fed(ear, 0.02 * sung)
    assert not found
    assert ear.gated > 0
    assert -110 < ear.level < -20
    loud = LiveEar(None)
    loud.feed(np.ones(512, np.float32))
    assert loud.clipped == 1
