"""Toms distinguished by pitch."""

from __future__ import annotations

import tracemalloc
from dataclasses import replace

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from puresignal.core.hearing.dsp.spectra import Envelope
from puresignal.core.hearing.percussion import drum_transcription
from puresignal.core.hearing.percussion import tom_pitch as by_pitch

DRUM = {name: number for number, name in enumerate(drum_transcription.LEARNT)}


def struck(low, moment, number, loud=1.0, rings=0.1):
    """Add a low falling tone."""
    t = np.arange(round(0.6 * drum_transcription.LOW_RATE)) / drum_transcription.LOW_RATE
    begin = round(moment * drum_transcription.LOW_RATE)
    tone = loud * np.sin(2 * np.pi * 440 * 2 ** ((number - 69) / 12) * t) * np.exp(-t / rings)
    low[begin : begin + len(t)] += tone[: len(low) - begin]


def toms(pitches):
    """An analysis of strokes that are certainly toms, each a low falling tone."""
    rate, step = drum_transcription.LOW_RATE, 0.4
    low = np.zeros(round((len(pitches) + 2) * step * rate), np.float32)
    at = 0.2 + np.arange(len(pitches)) * step
    for moment, number in zip(at, pitches, strict=True):
        t = np.arange(round(0.35 * rate)) / rate
        begin = round(moment * rate)
        low[begin : begin + len(t)] += np.sin(2 * np.pi * 440 * 2 ** ((number - 69) / 12) * t) * np.exp(-t / 0.1)
    probability = np.zeros((len(pitches), len(drum_transcription.LEARNT)))
    probability[:, DRUM["tom3.head"]] = 0.9
    fine = Envelope(np.full(round((len(pitches) + 2) * step * 2000), 0.1), 1 / 2000)
    return drum_transcription.DrumAnalysis(at, probability, fine, low)


def names(analysis):
    return [drum_transcription.KINDS[k].split(".")[0] for k in drum_transcription.hits(analysis).kind]


def test_toms_are_distinguished_by_their_pitches():
    assert names(toms([52, 48, 45, 41, 52, 41])) == ["tom1", "tom2", "tom3", "tom4", "tom1", "tom4"]
    # A kit that is tuned higher is the same kit.
    assert names(toms([57, 53, 50, 46])) == ["tom1", "tom2", "tom3", "tom4"]
    # Two toms are a higher and a lower one, wherever they are.
    high, low = names(toms([55, 42]))
    assert (high, low) == ("tom1", "tom4")


def test_a_stray_pitch_does_not_rename_a_tom():
    told = names(toms([52, 52, 48, 48, 45, 45, 41, 41, 36]))
    assert told[:8] == ["tom1", "tom1", "tom2", "tom2", "tom3", "tom3", "tom4", "tom4"]
    assert told[8] == "tom4"


def test_proposed_removals_do_not_define_the_toms():
    # A snare that may have been a tom, between the third and the fourth.
    heard = toms([52, 48, 45, 43, 43, 43, 41, 41])
    probability = heard.probability.copy()
    probability[3:6, DRUM["tom3.head"]] = drum_transcription.LIMIT - 0.05
    told = drum_transcription.hits(replace(heard, probability=probability))
    kept = [drum_transcription.KINDS[k].split(".")[0] for k in told.kept().kind]
    assert kept == ["tom1", "tom2", "tom3", "tom4", "tom4"]
    assert (told.removal_reason[3:6] > 0).all()


def test_a_kick_struck_with_a_tom_does_not_change_its_pitch():
    low = np.zeros(round(8 * drum_transcription.LOW_RATE))
    kicks, at = np.array([0.5, 1.5, 2.5, 5.0, 6.0]), np.array([3.5, 5.0, 6.0])
    for moment in kicks:
        struck(low, moment, 33, loud=2.0)
    for moment, number in zip(at, (52, 47, 41), strict=True):
        struck(low, moment, number)
    heard = by_pitch.pitches(at, kicks, low, drum_transcription.LOW_RATE)
    assert np.abs(heard - (52, 47, 41)).max() < 0.6
    # Without being told of the kicks it would be misled.
    assert by_pitch.pitches(at, kicks[:0], low, drum_transcription.LOW_RATE)[1] < 36


def test_a_ringing_tom_is_not_heard_again_in_the_next():
    low = np.zeros(round(3 * drum_transcription.LOW_RATE))
    struck(low, 0.5, 43, loud=1.0, rings=0.5)
    struck(low, 0.7, 52, loud=0.6, rings=0.5)
    heard = by_pitch.pitches(np.array([0.5, 0.7]), np.zeros(0), low, drum_transcription.LOW_RATE)
    assert np.abs(heard - (43, 52)).max() < 0.6


@given(st.lists(st.integers(32 * 16, 64 * 16), min_size=1, max_size=40), st.integers(-20, 20))
def test_groups_follow_pitch_are_at_most_four_and_the_same_in_any_tuning(pitches, up):
    pitch = np.array(pitches) / 16
    own = by_pitch.groups(pitch, np.ones(len(pitch)))
    assert set(own.tolist()) <= {0, 1, 2, 3}
    order = np.argsort(pitch, kind="stable")
    assert (np.diff(own[order]) >= 0).all()
    assert (by_pitch.groups(pitch + up, np.ones(len(pitch))) == own).all()


def test_no_strokes_give_no_toms():
    nothing = np.zeros(0)
    assert len(by_pitch.named(nothing, nothing, nothing, np.zeros(100), drum_transcription.LOW_RATE)) == 0
    # One at the very end of a recording, with hardly a sound left of it.
    assert (
        by_pitch.named(
            np.array([0.99]),
            np.ones(1),
            nothing,
            np.zeros(round(drum_transcription.LOW_RATE)),
            drum_transcription.LOW_RATE,
        )[0]
        < 4
    )


def test_the_toms_of_hours_take_no_more_memory_than_they_have_to():
    seconds, rate = 3600.0, drum_transcription.LOW_RATE
    random = np.random.default_rng(4)
    struck, kicks = np.sort(random.uniform(0, seconds, 12_000)), np.sort(random.uniform(0, seconds, 12_000))
    low = random.normal(size=round(seconds * rate)).astype(np.float32)
    tracemalloc.start()
    try:
        told = by_pitch.named(struck, np.ones(len(struck)), kicks, low, rate)
        _, most = tracemalloc.get_traced_memory()
    finally:
        tracemalloc.stop()
    assert len(told) == len(struck)
    assert most < 120e6
