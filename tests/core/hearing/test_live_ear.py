"""The ear live: hits and notes reported at once, and notes settled as they would be offline."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import pytest

from puresignal.core.hearing.dsp import spectral_flux
from puresignal.core.hearing.melody import candidates, live_melody
from puresignal.core.hearing.melody import notes as melody_notes
from puresignal.core.hearing.percussion import example_classifier, live_hits, stroke_features
from puresignal.core.hearing.transcribed import TranscribedNotes
from puresignal.io.models import conv_net, dense_net, feature_space, live_feature_space, pitch_networks
from puresignal.sim import beatbox, singer
from puresignal.sim.beatbox import Syllable

SYLLABLES = (
    Syllable(1.0, 0.05, 1.0, 900, 0.8, 0.04, 90, 0.8, 350, 0.15),
    Syllable(0.5, 1.0, 0.0, 7500, 0.5, 0.05, 200, 0.0, 1500, 0.1),
    Syllable(0.8, 0.7, 0.3, 2200, 1.0, 0.1, 190, 0.2, 900, 0.08),
)
TUNE = [
    (0.3, 0.7, 60, 0.8), (0.75, 1.1, 63, 0.7), (1.15, 1.6, 65, 0.9), (1.9, 2.3, 67, 0.6), (2.35, 3.0, 67, 0.8),
    (3.1, 3.4, 60, 0.8),
]  # fmt: skip


@lru_cache
def drummed(seed=11):
    random = np.random.default_rng(seed)
    examples = {
        f"aux{i + 1}": [np.asarray(beatbox.say(s, 0.8, stroke_features.RATE, random), np.float32) for _ in range(4)]
        for i, s in enumerate(SYLLABLES)
    }
    sound, truth = beatbox.beat(list(SYLLABLES), 8.0, stroke_features.RATE, random, breaths=0.25)
    return live_hits.teach(live_feature_space(), examples), sound, truth


def in_blocks(live, samples, length):
    """(second, report) of everything reported for a stream of blocks."""
    told = []
    for begin in range(0, len(samples), length):
        told += [(begin + length, each) for each in live.feed(samples[begin : begin + length])]
    return told


def test_taught_sounds_are_reported_within_15_ms_and_a_block_and_breaths_rejected():
    right, told_all, true = 0, 0, 0
    for seed in (11, 12):
        known, sound, truth = drummed(seed)
        told = in_blocks(live_hits.LiveHits(known), sound, 128)
        assert max(at / stroke_features.RATE - hit.start for at, hit in told) < 0.015 + 128 / stroke_features.RATE
        assert all(1 <= hit.velocity <= 127 and 0 <= hit.confidence <= 1 for _, hit in told)
        right += sum(
            any(abs(hit.start - moment) < 0.03 and known.names[hit.sound] == f"aux{which + 1}" for _, hit in told)
            for moment, which in truth
        )
        told_all, true = told_all + len(told), true + len(truth)
    assert right >= 0.9 * true
    # A quarter of what is said is breath.
    assert told_all <= 1.03 * true


def test_most_untaught_sounds_are_rejected():
    random = np.random.default_rng(7)
    told = strange = 0
    for _ in range(4):
        syllables = [beatbox.any_syllable(random) for _ in range(6)]
        examples = {
            f"aux{i + 1}": [np.asarray(beatbox.say(s, 0.8, stroke_features.RATE, random), np.float32) for _ in range(4)]
            for i, s in enumerate(syllables[:3])
        }
        sound, truth = beatbox.beat(syllables, 8.0, stroke_features.RATE, random, breaths=0.0)
        known = example_classifier.teach(
            feature_space(), {n: [example_classifier.example(s) for s in own] for n, own in examples.items()}
        )
        heard = example_classifier.hits(known, stroke_features.analyse(sound)).kept().start
        others = [moment for moment, which in truth if which > 2]
        strange += len(others)
        told += sum(bool((np.abs(heard - moment) < 0.03).any()) for moment in others)
    assert strange > 20
    assert told < 0.5 * strange


@pytest.mark.parametrize("length", [17, 1024, 100_000])
def test_live_results_do_not_depend_on_the_block_length(length):
    known, sound, _ = drummed()
    sound = sound[: 4 * stroke_features.RATE]
    usual = [hit for _, hit in in_blocks(live_hits.LiveHits(known), sound, 256)]
    again = [hit for _, hit in in_blocks(live_hits.LiveHits(known), sound, length)]
    assert len(usual) > 3
    assert [h.start for h in again] == pytest.approx([h.start for h in usual])
    assert [h.sound for h in again] == [h.sound for h in usual]


def test_a_sound_that_was_not_taught_is_not_told():
    known, _, _ = drummed()
    t = np.arange(8000) / stroke_features.RATE
    bell = 0.5 * np.sin(2 * np.pi * 4000 * t) * np.exp(-t / 0.05)
    stream = np.concatenate([np.zeros(20_000), bell, np.zeros(20_000)]).astype(np.float32)
    assert len(spectral_flux.Beginnings(stroke_features.RATE).feed(stream)) == 1
    assert not live_hits.LiveHits(known).feed(stream)
    assert live_hits.example(np.zeros(4000, np.float32)) == []


def test_rises_are_the_same_in_a_recording_and_in_a_stream():
    _, sound, truth = drummed()
    streamed = spectral_flux.Beginnings(stroke_features.RATE).feed(sound)
    offline = stroke_features.beginnings(stroke_features.analyse(sound), 0.5)
    assert len(streamed) == len(offline)
    assert np.abs(np.array(streamed) - offline).max() < 0.02
    near = [min(abs(s - moment) for s in streamed) for moment, _ in truth]
    assert np.median(near) < 0.004


def sung(manner, low=0):
    return singer.perform([(s, e, n + low, v) for s, e, n, v in TUNE], manner, live_melody.RATE, 1)


def live_of(samples, length=128):
    live = live_melody.LiveMelody(conv_net("onset"), pitch_networks(), dense_net("live_pitch"))
    told, settled = [], []
    for begin in range(0, len(samples), length):
        told += [((begin + length) / live_melody.RATE, each) for each in live.feed(samples[begin : begin + length])]
        settled.append(live.settled())
    told += [(len(samples) / live_melody.RATE, each) for each in live.end()]
    settled.append(live.settled())
    return told, TranscribedNotes.join([part for part in settled if len(part)]).kept()


def test_a_plucked_tune_is_reported_live_within_40_ms():
    told, _ = live_of(sung(singer.PLUCKED))
    begun = [(at, each.number) for at, each in told if each.velocity]
    assert [number for _, number in begun] == [n for _, _, n, _ in TUNE]
    assert max(at - start for (at, _), (start, *_) in zip(begun, TUNE, strict=True)) < 0.04 + 128 / live_melody.RATE
    # What begins ends before the next begins, and nothing is left sounding.
    sounding = None
    for _, each in told:
        assert (sounding is None) == bool(each.velocity)
        sounding = each.number if each.velocity else None
    assert sounding is None


@pytest.mark.parametrize(("manner", "times"), [(singer.BLOWN, 2), (singer.HUMMED, 1)])
def test_settled_notes_are_those_of_the_recording(manner, times):
    samples = np.tile(sung(manner), times)
    _, settled = live_of(samples)
    offline = melody_notes.decide(candidates.analyse(conv_net("onset"), pitch_networks(), samples)).kept()
    assert np.rint(settled.pitch).tolist() == np.rint(offline.pitch).tolist()
    assert settled.start.tolist() == pytest.approx(offline.start.tolist(), abs=0.03)
    assert settled.end.tolist() == pytest.approx(offline.end.tolist(), abs=0.06)


def test_notes_are_settled_soon_after_their_end_and_silence_tells_nothing():
    samples = np.concatenate([sung(singer.BLOWN), np.zeros(2 * live_melody.RATE, np.float32)])
    live = live_melody.LiveMelody(conv_net("onset"), pitch_networks(), dense_net("live_pitch"))
    seen = 0
    for begin in range(0, len(samples), 512):
        live.feed(samples[begin : begin + 512])
        now = (begin + 512) / live_melody.RATE
        seen += len(live.settled().kept())
        assert seen >= sum(end < now - live_melody.SETTLES - 0.1 for _, end, _, _ in TUNE)
    quiet = live_melody.LiveMelody(conv_net("onset"), pitch_networks(), dense_net("live_pitch"))
    assert quiet.feed(np.zeros(live_melody.RATE, np.float32)) == []
    assert quiet.end() == []
    assert len(quiet.settled()) == 0


def test_invalid_samples_in_a_stream_do_not_affect_later_ones():
    samples = sung(singer.PLUCKED).copy()
    samples[100:140] = np.nan
    samples[200] = np.inf
    told, settled = live_of(samples)
    assert [each.number for _, each in told if each.velocity] == [n for _, _, n, _ in TUNE]
    assert np.rint(settled.pitch).tolist() == [n for _, _, n, _ in TUNE]
    known, sound, _ = drummed()
    spoilt = sound.copy()
    spoilt[50:90] = np.nan
    clean = live_hits.LiveHits(known).feed(sound)
    assert [h.sound for h in live_hits.LiveHits(known).feed(spoilt)] == [h.sound for h in clean]


def test_a_long_stream_keeps_no_more_than_it_needs():
    live = live_melody.LiveMelody(conv_net("onset"), pitch_networks(), dense_net("live_pitch"))
    piece = sung(singer.BLOWN)
    sizes = []
    for _ in range(3):
        for begin in range(0, len(piece), 4096):
            live.feed(piece[begin : begin + 4096])
        live.settled()
        sizes.append(sum(len(part.level) for part in live._parts) + len(live._held) // candidates.HOP)
    assert max(sizes) < (live_melody.KEPT + 6) / candidates.STEP
