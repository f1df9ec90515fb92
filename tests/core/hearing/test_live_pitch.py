"""Pitch from the newest moments of a stream, and the notes reported from it."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from puresignal.core.hearing.dsp import yin
from puresignal.core.hearing.melody import live_melody
from puresignal.core.hearing.melody.segmentation import MelodySettings
from puresignal.core.hearing.networks import live_pitch
from puresignal.io.models import dense_net
from puresignal.sim import instrument_synthesis, singer

RATE = live_pitch.RATE
LINE = [
    (0.3, 0.7, 57, 0.8), (0.75, 1.1, 60, 0.7), (1.15, 1.6, 62, 0.9), (1.9, 2.3, 64, 0.6), (2.35, 3.0, 64, 0.8),
    (3.1, 3.5, 69, 0.8), (3.55, 4.4, 65, 0.8),
]  # fmt: skip

GOLDEN = Path(__file__).parent.parent.parent / "golden"


def tone(number, seconds=0.2, cents=0.0):
    t = np.arange(round(seconds * RATE)) / RATE
    hz = 440 * 2 ** ((number + cents / 100 - 69) / 12)
    partials = [k for k in range(1, 7) if k * hz < 0.45 * RATE]
    return np.sum([np.sin(2 * np.pi * k * hz * t + k) / k for k in partials], axis=0).astype(np.float32) * 0.2


@pytest.mark.parametrize("number", [31, 40, 52, 64, 76, 88, 95])
def test_a_steady_tone_repeats_itself_at_its_pitch_in_every_window_that_can_show_it(number):
    looks = live_pitch.looked(tone(number, cents=20))
    pitch = number - live_pitch.LOWEST
    lag = RATE / (440 * 2 ** ((number + 0.2 - 69) / 12))
    able = [k for k, (_, longest) in enumerate(live_pitch.WINDOWS) if lag < longest - 1]
    assert able
    depth = looks.depth[:, live_pitch.EDGE + pitch]
    assert depth[:, able].max() < 0.06
    assert np.abs(looks.beside[:, pitch][:, able] - 0.2).max() < 0.12
    unable = [k for k in range(len(live_pitch.WINDOWS)) if k not in able]
    assert (depth[:, unable] > 0.5).all()


def test_a_sharp_player_gives_notes_in_tune():
    looks = live_pitch.looked(tone(60, cents=45), tuning=0.45)
    assert np.abs(looks.beside[:, 60 - live_pitch.LOWEST, -1]).max() < 0.05


@given(seed=st.integers(0, 1000), which=st.integers(0, 3))
@settings(max_examples=30, deadline=None)
def test_one_frame_is_computed_like_many(seed, which):
    size, longest = live_pitch.WINDOWS[which]
    turned = np.random.default_rng(seed).normal(size=live_pitch.SEEN).astype(np.float32)
    sums = np.concatenate([[0.0], np.cumsum(turned.astype(np.float64) ** 2)])
    half = size - longest
    expected = yin.normalised(turned[:size].astype(np.float64), 1, half, 1, longest)[0]
    assert yin.of_moment(turned[:size], sums, longest) == pytest.approx(expected, abs=1e-4)


def told(samples, length, chosen=None):
    quick = live_melody.LiveNotes(dense_net("live_pitch"), chosen)
    out = []
    for begin in range(0, len(samples), length):
        out += quick.feed(samples[begin : begin + length])
    return out + quick.end()


@pytest.mark.parametrize("manner", [singer.PLUCKED, singer.SUNG])
def test_live_every_note_is_reported_once_whatever_the_block_length(manner):
    samples = singer.perform(LINE, manner, RATE, 4)
    heard = told(samples, 128)
    assert heard == told(samples, 999)
    begun = [(each.at, each.number) for each in heard if each.velocity]
    found = [any(n == number and start < at < start + 0.15 for at, n in begun) for start, _, number, _ in LINE]
    assert sum(found) >= len(LINE) - 1
    assert len(begun) <= len(LINE) + 1
    # What begins ends, and before the next begins.
    assert [bool(each.velocity) for each in heard] == [True, False] * len(begun)


def test_noise_hum_and_silence_give_no_notes():
    random = np.random.default_rng(2)
    quiet = np.zeros(RATE, np.float32)
    assert not len(live_pitch.asked(live_pitch.looked(np.pad(quiet, (live_pitch.SEEN, 0))))[0])
    hum = 0.0004 * np.sin(2 * np.pi * 50 * np.arange(2 * RATE) / RATE)
    assert told((hum + 0.001 * random.normal(size=2 * RATE)).astype(np.float32), 256) == []


def test_notes_out_of_range_are_not_reported():
    samples = singer.perform(LINE, singer.BLOWN, RATE, 4)
    heard = told(samples, 256, MelodySettings(low=59, high=64))
    assert {each.number for each in heard} <= {60, 62, 64}
    assert {60, 62, 64} <= {each.number for each in heard if each.velocity}


def test_a_random_instrument_gives_the_golden_live_notes():
    # bench/live_ear.py has the figures over many instruments; this one recording stands for them.
    random = np.random.default_rng(901)
    notes = instrument_synthesis.a_line(random, 3.0, 50, 70)
    sound = instrument_synthesis.play(notes, instrument_synthesis.any_timbre(random, 0.4), RATE, 901)
    changes = told(instrument_synthesis.in_a_room(sound, RATE, random), 256)
    found = [[round(each.at, 3), each.number] for each in changes if each.velocity]
    golden = json.loads((GOLDEN / "live_notes.json").read_text())
    assert [number for _, number in found] == [number for _, number in golden["notes"]]
    assert [at for at, _ in found] == pytest.approx([at for at, _ in golden["notes"]], abs=0.006)
    soon = sum(any(n == number and start < at < start + 0.06 for at, n in found) for start, _, number, _ in notes)
    assert soon == golden["within 60 ms"] >= 0.8 * len(notes)


@pytest.mark.parametrize("seed", [3, 8])
def test_repeated_notes_are_reported_again(seed):
    notes = [(0.2 + 0.3 * k, 0.47 + 0.3 * k, 64, 0.5 + 0.1 * (k % 3)) for k in range(8)]
    sound = singer.perform(notes, singer.PLUCKED, RATE, seed)
    at = [each.at for each in told(sound, 128) if each.velocity]
    assert len(at) == len(notes)
    assert all(start < moment < start + 0.05 for (start, *_), moment in zip(notes, at, strict=True))
