"""The strokes of a kit weighed against each other."""

from __future__ import annotations

import numpy as np
import pytest

from puresignal.core.hearing.dsp import spectra
from puresignal.core.hearing.dsp.spectra import Envelope
from puresignal.core.hearing.melody import candidates, segmentation
from puresignal.core.hearing.melody import notes as melody_notes
from puresignal.core.hearing.networks import attention
from puresignal.core.hearing.percussion import drum_transcription
from puresignal.core.hearing.polyphony import note_decisions
from puresignal.io.models import attention_nets, chord_network, conv_net, pitch_networks
from puresignal.sim import instrument_synthesis, random_kits, singer

DRUM = {name: number for number, name in enumerate(drum_transcription.LEARNT)}


@pytest.fixture(scope="module")
def groove():
    random = np.random.default_rng(77)
    return random_kits.groove(
        random_kits.built_kit(random, drum_transcription.RATE), 9.0, drum_transcription.RATE, random
    )


@pytest.fixture(scope="module")
def heard(groove):
    return drum_transcription.analyse(conv_net("drum_onset"), attention_nets(), groove[0])


def test_every_audible_stroke_is_examined_separately(groove, heard):
    missed = [t for t, _, _ in groove[1] if np.abs(heard.at - t).min() > 0.035]
    assert len(missed) <= 0.05 * len(groove[1])
    assert np.diff(heard.at).min() > (attention.APART - 1) * drum_transcription.STEP


def test_a_stroke_is_judged_in_the_context_of_others(groove):
    random = np.random.default_rng(3)
    network_ = attention_nets()
    levels = drum_transcription.SPECTROGRAM.levels(groove[0])
    probability = conv_net("drum_onset").probability(levels)
    at = attention.candidates(probability)
    taken = network_.embed(attention.about(levels, probability, at))
    together = network_.probability(taken, at * drum_transcription.STEP)
    alone = np.concatenate([network_.probability(row[None], np.zeros(1)) for row in taken])
    true = np.zeros(together.shape, bool)
    for moment, name, _ in groove[1]:
        nearest = int(np.argmin(np.abs(at * drum_transcription.STEP - moment)))
        true[nearest, DRUM["tom3.head" if name.startswith("tom") else name]] = True
    assert np.mean((together > 0.5) == true) > np.mean((alone > 0.5) == true)
    # Who else is there counts, not in which order they are held: that their moments tell.
    order = random.permutation(len(at))
    assert (
        np.abs(network_.probability(taken[order], at[order] * drum_transcription.STEP) - together[order]).max() < 1e-3
    )


def test_distant_strokes_have_no_influence_and_memory_stays_bounded():
    random = np.random.default_rng(4)
    network_ = attention_nets()
    shape = (len(network_.members), len(network_.members[0].embedding[1]))
    count = 4 * attention.STRETCH
    taken, seconds = random.random((count, *shape)).astype(np.float32), np.arange(count) * 0.1
    whole = network_.probability(taken, seconds)
    changed = taken.copy()
    changed[3 * attention.STRETCH :] = 0
    part = network_.probability(changed, seconds)
    safe = 3 * attention.STRETCH - attention.AROUND - attention.STRETCH
    assert np.abs(part[:safe] - whole[:safe]).max() < 1e-6
    assert np.abs(part[3 * attention.STRETCH :] - whole[3 * attention.STRETCH :]).max() > 1e-3
    assert network_.probability(taken[:0], seconds[:0]).shape == (0, len(drum_transcription.LEARNT))


def test_an_ensemble_gives_the_mean_of_its_members(groove):
    ensemble = attention_nets()
    levels = drum_transcription.SPECTROGRAM.levels(groove[0])
    probability = conv_net("drum_onset").probability(levels)
    at = attention.candidates(probability)
    taken = ensemble.embed(attention.about(levels, probability, at))
    each = [member.probability(taken[:, k], at * drum_transcription.STEP) for k, member in enumerate(ensemble.members)]
    assert ensemble.probability(taken, at * drum_transcription.STEP) == pytest.approx(np.mean(each, axis=0), abs=1e-6)
    assert np.abs(each[0] - each[1]).max() > 0.02


def test_rival_drums_in_one_stroke_are_decided_by_probability():
    probability = np.zeros((1, len(drum_transcription.LEARNT)))
    probability[0, [DRUM["hat.closed"], DRUM["hat.open"], DRUM["kick"], DRUM["snare.head"]]] = 0.7, 0.8, 0.9, 0.6
    told = drum_transcription.DrumAnalysis(
        np.array([0.2]), probability, Envelope(np.full(2000, 0.1), 1 / 2000), np.zeros(1600)
    )
    assert sorted(drum_transcription.KINDS[k] for k in drum_transcription.hits(told).kind) == [
        "hat.open",
        "kick",
        "snare.head",
    ]


def test_a_changed_setting_is_decided_as_if_it_had_been_the_first():
    notes = [(0.2 + 0.4 * i, 0.5 + 0.4 * i, n, 0.8) for i, n in enumerate((60, 62, 62, 67, 72, 55))]
    sound = singer.perform(notes, singer.PLUCKED, candidates.RATE, 3)

    def fresh():
        return candidates.analyse(conv_net("onset"), pitch_networks(), sound)

    kept = fresh()
    for settings in (
        segmentation.MelodySettings(), segmentation.MelodySettings(shortest=0.2), segmentation.MelodySettings(low=59.0),
        segmentation.MelodySettings(sensitivity=0.9), segmentation.MelodySettings(),
    ):  # fmt: skip
        again, first = melody_notes.decide(kept, settings), melody_notes.decide(fresh(), settings)
        assert again.pitch.tolist() == first.pitch.tolist()
        assert again.start.tolist() == first.start.tolist()
        assert again.end.tolist() == first.end.tolist()
    assert melody_notes.decide(kept, segmentation.MelodySettings(low=59.0)).pitch.min() > 58.5


def test_chords_are_decided_alike_whether_their_columns_are_kept_or_not(monkeypatch):
    random = np.random.default_rng(8)
    notes = instrument_synthesis.some_chords(random, 5.0)
    sound = instrument_synthesis.play(notes, instrument_synthesis.any_timbre(random, 0.6), note_decisions.RATE, 5)
    analysis = note_decisions.analyse(chord_network(), sound)
    kept = note_decisions.decide(analysis)
    monkeypatch.setattr(note_decisions, "REMEMBERED", 0)
    read = note_decisions.decide(analysis)
    assert len(kept.start) > 5
    assert (kept.start.tolist(), kept.end.tolist()) == (read.start.tolist(), read.end.tolist())


def test_windows_about_the_ends_say_what_is_there():
    seen, there = spectra.windows(np.arange(5.0), np.array([0, 4]), np.arange(-1, 2))
    assert there.tolist() == [[False, True, True], [True, True, False]]
    assert seen[there].tolist() == [0, 1, 3, 4]


def test_time_stretch_maps_long_times_like_short_ones(monkeypatch):
    random = np.random.default_rng(9)
    level = np.repeat(random.random(400), 50).astype(np.float32)
    envelope, moments = Envelope(level, 0.001), np.sort(random.uniform(0, 20, 300))
    whole = envelope.rises(moments)
    monkeypatch.setattr(spectra, "AT_ONCE", 7)
    assert envelope.rises(moments).tolist() == whole.tolist()
    assert (whole != moments).sum() > 50
