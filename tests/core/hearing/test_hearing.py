"""The ear: lines, chords, drums and taught sounds come back as notes, and what is none does not."""

from __future__ import annotations

import time
from dataclasses import replace

import hypothesis
import numpy as np
import pytest
import scipy.sparse
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra import numpy as hnp

from puresignal.core.harmony import key_estimation
from puresignal.core.hearing.dsp import chunks, spectra, stereo_filter, viterbi, yin
from puresignal.core.hearing.melody import candidates, pitch_bend, segmentation
from puresignal.core.hearing.melody import notes as melody_notes
from puresignal.core.hearing.networks import convolutional, multipitch, onset, pitch_levels
from puresignal.core.hearing.networks.dense import peaks, windowed_sum
from puresignal.core.hearing.percussion import drum_transcription, example_classifier, stroke_features
from puresignal.core.hearing.polyphony import chord_names, note_decisions
from puresignal.core.hearing.transcribed import REMOVAL_REASONS, TranscribedNotes, far_from_others, removal_reasons
from puresignal.core.timing import audio_beats
from puresignal.io.models import attention_nets, chord_network, conv_net, dense_net, feature_space, pitch_networks
from puresignal.sim import beatbox, instrument_synthesis, random_kits, singer


def melody_analysis(source, *args):
    return candidates.analyse(conv_net("onset"), pitch_networks(), source, *args)


def drum_analysis(source):
    return drum_transcription.analyse(conv_net("drum_onset"), attention_nets(), source)


def heard(samples: np.ndarray, **settings: float) -> TranscribedNotes:
    analysis = melody_analysis(samples)
    return melody_notes.decide(analysis, segmentation.MelodySettings(**settings)).kept()


def found(truth: list[tuple], notes: list[tuple], within: float = 0.05) -> int:
    """Number of true (second, label) pairs among those heard, each counted once."""
    left = list(notes)
    hits = 0
    for at, action in truth:
        near = [n for n in left if abs(n[0] - at) <= within and n[1] == action]
        if near:
            left.remove(min(near, key=lambda n: abs(n[0] - at)))
            hits += 1
    return hits


def f1(truth: list[tuple], notes: list[tuple]) -> float:
    return 2 * found(truth, notes) / max(1, len(truth) + len(notes))


def pairs(notes: TranscribedNotes) -> list[tuple]:
    return [(s, round(p)) for s, p in zip(notes.start.tolist(), notes.pitch.tolist(), strict=True)]


LINE = [(0.3, 0.7, 60, 0.8), (0.75, 1.1, 60, 0.7), (1.15, 1.6, 64, 0.9), (1.9, 2.3, 67, 0.5), (2.35, 3.0, 55, 0.8)]


@pytest.mark.parametrize("manner", [singer.SUNG, singer.HUMMED, singer.PLUCKED, singer.BLOWN])
def test_a_melody_comes_back_as_its_notes(manner):
    notes = heard(singer.perform(LINE, manner, candidates.RATE, 3))
    assert [round(p) for p in notes.pitch] == [n for _, _, n, _ in LINE]
    assert notes.start.tolist() == pytest.approx([s for s, *_ in LINE], abs=0.05)
    assert (np.diff(notes.start) > 0).all()
    assert (notes.end > notes.start).all()
    assert notes.velocity[3] < notes.velocity[2]


@pytest.mark.parametrize("tuned", [-0.4, 0.35])
def test_a_player_who_is_tuned_otherwise_plays_the_same_notes(tuned):
    notes = heard(singer.perform(LINE, replace(singer.BLOWN, tuned=tuned), candidates.RATE, 4))
    assert [round(p) for p in notes.pitch] == [n for _, _, n, _ in LINE]


def test_a_note_that_starts_while_another_rings_has_its_true_onset():
    """The best period is then shared by both notes and belongs to neither."""
    timbre = instrument_synthesis.Timbre(1 / np.arange(1, 12) ** 1.5, attack=0.05, release=0.3)
    for first, second in ((60, 67), (71, 76)):
        truth = [(0.3, 0.9, first, 0.9), (0.9, 1.5, second, 0.45), (1.5, 2.1, first, 0.9)]
        notes = pairs(heard(instrument_synthesis.play(truth, timbre, candidates.RATE, 1)))
        assert [n for _, n in notes] == [first, second, first]
        assert found([(s, n) for s, _, n, _ in truth], notes) == 3


def test_a_note_whose_pitch_is_lost_for_a_moment_stays_one_note():
    timbre = instrument_synthesis.Timbre(1 / np.arange(1, 12) ** 1.5, release=0.1)
    whole = candidates.analyse(
        conv_net("onset"),
        pitch_networks(),
        instrument_synthesis.play([(0.3, 1.5, 60, 0.9)], timbre, candidates.RATE, 1),
    )
    lost = slice(round(0.8 / candidates.STEP), round(0.92 / candidates.STEP))
    whole.pitch[lost], whole.dip[lost], whole.sounds[lost] = np.nan, 1.0, 0.0
    [(start, number)] = pairs(melody_notes.decide(whole).kept())
    assert (round(start, 1), number) == (0.3, 60)
    assert melody_notes.decide(whole).end[0] > 1.4
    begins = whole.begins.copy()
    begins[lost.stop - 2 : lost.stop + 3] = (0.15, 0.6, 1.0, 0.6, 0.15)
    again = candidates.MelodyAnalysis(
        whole.pitch,
        whole.dip,
        whole.level,
        whole.formants,
        begins,
        whole.sounds,
        whole.starts,
        whole.envelope,
        whole.judge,
    )
    assert [round(s, 1) for s, _ in pairs(melody_notes.decide(again).kept())] == [0.3, 0.9]


def test_vibrato_does_not_trill_and_a_scoop_is_one_note_at_its_aim():
    wide = replace(singer.SUNG, vibrato=0.8, scoop=2.0)
    line = [(0.3, 1.8, 62, 0.8), (2.0, 3.5, 66, 0.8)]
    assert [n for _, n in pairs(heard(singer.perform(line, wide, candidates.RATE, 5)))] == [62, 66]


def test_silence_hum_hiss_and_breath_make_no_notes():
    random = np.random.default_rng(1)
    t = np.arange(3 * candidates.RATE) / candidates.RATE
    for nothing in (
        np.zeros(0), np.zeros(100), np.zeros(len(t)), random.normal(size=len(t)) * 0.05,
        np.convolve(random.normal(size=len(t)), np.ones(9) / 9, "same") * np.sin(np.pi * t) ** 2 * 0.1,
    ):  # fmt: skip
        assert len(heard(np.asarray(nothing, np.float32))) <= 1


def test_range_and_shortest_note_apply_at_once():
    samples = singer.perform(LINE, singer.BLOWN, candidates.RATE, 3)
    analysis = melody_analysis(samples)
    low = melody_notes.decide(analysis, segmentation.MelodySettings(high=61)).kept()
    assert max(low.pitch) <= 61
    long = melody_notes.decide(analysis, segmentation.MelodySettings(shortest=0.42)).kept()
    assert (long.end - long.start >= 0.42).all()
    assert 0 < len(long) < len(LINE)


def test_settings_answer_quickly_on_a_long_recording():
    samples = np.tile(singer.perform(LINE, singer.BLOWN, candidates.RATE, 3), 8)
    analysis = melody_analysis(samples)
    began = time.process_time()
    melody_notes.decide(analysis).kept()
    seconds = len(samples) / candidates.RATE
    # Four minutes take less than a fifth of a second; a machine that is busy is given five times as long.
    assert time.process_time() - began < 0.004 * seconds


def test_a_voice_is_isolated_by_its_stereo_position():
    t = np.arange(4 * candidates.RATE) / candidates.RATE
    voice = singer.perform(LINE, singer.SUNG, candidates.RATE, 3)[: len(t)]
    beneath = 0.12 * sum(np.sin(2 * np.pi * f * t) for f in (110.0, 164.8, 220.0))
    stereo = np.zeros((len(t), 2), np.float32)
    stereo[: len(voice)] += voice[:, None]
    stereo[:, 0] += beneath
    alone = stereo_filter.at_place(stereo, 0.0)
    notes = heard(stereo_filter.above(alone, candidates.RATE, 180.0), low=52)
    assert f1([(s, n) for s, _, n, _ in LINE], pairs(notes)) >= 0.8


def test_chords_come_back_note_by_note():
    random = np.random.default_rng(8)
    timbre = instrument_synthesis.Timbre(1 / np.arange(1, 20) ** 1.2, attack=0.004, decay=1.2, release=0.15)
    truth = []
    for i, chord in enumerate(((48, 60, 64, 67), (45, 57, 60, 64), (50, 62, 65, 69), (43, 55, 59, 62))):
        truth += [(0.3 + 0.9 * i, 1.1 + 0.9 * i, n, 0.8) for n in chord]
    samples = instrument_synthesis.play(truth, timbre, note_decisions.RATE, 8) + random.normal(size=1) * 0
    notes = note_decisions.decide(note_decisions.analyse(chord_network(), samples)).kept()
    assert f1([(s, n) for s, _, n, _ in truth], pairs(notes)) >= 0.85
    assert [chord_names.name_chord(np.array(c)) for c in ((48, 60, 64, 67), (45, 57, 60, 64))] == ["C", "Am"]


def test_drums_are_told_apart_with_several_at_once():
    scores = []
    for seed in (901, 902, 903):
        random = np.random.default_rng(seed)
        sound, truth = random_kits.groove(
            random_kits.built_kit(random, drum_transcription.RATE), 8, drum_transcription.RATE, random
        )
        hits = drum_transcription.hits(drum_analysis(sound)).kept()
        told = [(s, drum_transcription.KINDS[k]) for s, k in zip(hits.start.tolist(), hits.kind.tolist(), strict=True)]
        scores.append(f1([(t, n) for t, n, _ in truth], told))
        kicks = [(t, n) for t, n, _ in truth if n == "kick"]
        assert found(kicks, told) >= 0.85 * len(kicks)
    assert np.mean(scores) >= 0.7


def with_echo(sound: np.ndarray, rate: int, seconds: float, decibels: float) -> np.ndarray:
    late, out = round(seconds * rate), sound.copy()
    out[late:] += 10 ** (decibels / 20) * np.convolve(sound, np.ones(5) / 5, "same")[:-late]
    return out


def strokes_of(sound: np.ndarray, truth: np.ndarray) -> tuple[int, int]:
    """Number of false strokes, and number of true strokes that were heard."""
    begun = drum_transcription.hits(drum_analysis(sound)).kept().start
    away = np.abs(begun[:, None] - truth)
    return len(np.unique(np.rint(begun[away.min(axis=1) > 0.05] / 0.03))), int((away.min(axis=0) < 0.05).sum())


def test_the_echo_of_a_groove_is_no_stroke_of_its_own():
    heard_falsely = heard_with = heard_without = 0
    for seed in range(3):
        random = np.random.default_rng(seed)
        sound, hits = random_kits.groove(
            random_kits.built_kit(random, drum_transcription.RATE), 9.0, drum_transcription.RATE, random
        )
        truth = np.array([at for at, _, _ in hits])
        heard_without += strokes_of(sound, truth)[1]
        false, right = strokes_of(with_echo(sound, drum_transcription.RATE, 0.17, -28.0), truth)
        heard_falsely, heard_with = heard_falsely + false, heard_with + right
    assert heard_falsely <= 3
    assert heard_with >= 0.95 * heard_without > 30


def test_the_echo_of_a_line_is_no_note_struck_again():
    for seed in (0, 2, 3):
        random = np.random.default_rng(seed)
        notes = instrument_synthesis.a_line(random, 9.0, 50, 70)
        sound = instrument_synthesis.play(notes, instrument_synthesis.any_timbre(random, 0.5), candidates.RATE, seed)
        truth = [(s, n) for s, _, n, _ in notes]
        dry, echoing = heard(sound), heard(with_echo(sound, candidates.RATE, 0.2, -28.0))
        assert found(truth, pairs(echoing)) >= found(truth, pairs(dry)) - 1 > 0.8 * len(truth)
        assert len(echoing.start) <= len(dry.start)


def lesson(seed: int, count: int):
    random = np.random.default_rng(seed)
    syllables = [beatbox.any_syllable(random) for _ in range(3)]
    examples = {
        f"aux{i + 1}": [
            example_classifier.example(beatbox.say(s, 0.8, stroke_features.RATE, random)) for _ in range(count)
        ]
        for i, s in enumerate(syllables)
    }
    return random, syllables, examples


def test_taught_sounds_are_found_again_and_breath_is_none_of_them():
    scores = []
    for seed in (31, 32, 33, 34):
        random, syllables, examples = lesson(seed, 5)
        known = example_classifier.teach(feature_space(), examples)
        sound, truth = beatbox.beat(syllables, 10, stroke_features.RATE, random, breaths=0.2)
        hits = example_classifier.hits(known, stroke_features.analyse(sound)).kept()
        told = [(s, int(k)) for s, k in zip(hits.start.tolist(), hits.kind.tolist(), strict=True)]
        scores.append(f1(truth, told))
    assert np.mean(scores) >= 0.85


def test_an_example_unlike_the_others_is_named_and_sounds_are_distinguished():
    _, syllables, examples = lesson(35, 5)
    random = np.random.default_rng(9)
    other = beatbox.say(syllables[1], 0.8, stroke_features.RATE, random)
    examples["aux1"].insert(2, example_classifier.example(other))
    known = example_classifier.teach(feature_space(), examples)
    assert ("aux1", 2) in known.outliers
    apart = example_classifier.told_apart(known)
    assert (apart[~np.eye(3, dtype=bool)] > 1).all()
    assert apart[0, 0] == 0


def test_a_sound_unlike_all_examples_is_rejected():
    _, _, examples = lesson(36, 5)
    known = example_classifier.teach(feature_space(), examples)
    far = np.full((1, stroke_features.FEATURES), 9.0, np.float32)
    assert example_classifier.classify(known, example_classifier.exactly(far))[0].tolist() == [-1]
    assert example_classifier.classify(example_classifier.teach(feature_space(), {}), example_classifier.exactly(far))[
        0
    ].tolist() == [-1]


def test_keys_are_told_and_snapping_moves_as_little_as_can_be():
    scale = np.array([60, 62, 64, 65, 67, 69, 71, 72], float)
    ranked = key_estimation.probability(scale, np.array([2, 1, 1, 1, 2, 1, 0.5, 2]))
    assert ranked[0][0] == "C major"
    assert sum(share for _, share in ranked) == pytest.approx(1)
    assert key_estimation.snapped(np.array([60.1, 60.6, 61.6, 66.4]), "C major").tolist() == [60, 60, 62, 67]
    assert key_estimation.snapped(scale, "C").tolist() == scale.tolist()
    with pytest.raises(ValueError, match="H"):
        key_estimation.parse("H major")


@pytest.mark.parametrize("bpm", [72.0, 98.0, 132.0])
def test_the_beat_of_a_recording_is_found(bpm):
    random = np.random.default_rng(int(bpm))
    kit = random_kits.built_kit(random, onset.RATE)
    step = 60 / bpm
    sound = np.zeros(round(16 * step * onset.RATE) + onset.RATE, np.float32)
    for i in range(32):
        for name, here in (("kick", i % 8 == 0), ("snare.head", i % 4 == 2), ("hat.closed", True)):
            if here:
                stroke = kit[name](0.8, random)
                at = round((0.2 + i * step / 2) * onset.RATE)
                sound[at : at + len(stroke)] += stroke[: len(sound) - at]
    begins = conv_net("onset").probability(onset.SPECTROGRAM.levels(sound))[:, 0]
    beat = audio_beats.beat(sound, begins)
    assert beat.bpm == pytest.approx(bpm, rel=0.02)
    off = np.abs((beat.beats - 0.2 + step / 2) % step - step / 2)
    assert np.median(off) < 0.04
    assert beat.meter == 4
    assert np.median(np.abs((beat.bars - 0.2 + 2 * step) % (4 * step) - 2 * step)) < 0.06
    assert len(audio_beats.beat(np.zeros(50_000, np.float32), np.zeros(500)).beats) == 0


def test_a_long_recording_gives_the_same_notes_whole_and_in_blocks(monkeypatch):
    monkeypatch.setattr(chunks, "OWN", 20 * chunks.COMMON)
    samples = np.tile(singer.perform(LINE, singer.BLOWN, candidates.RATE, 3), 4)

    def blocks():
        for at in range(0, len(samples), 7_777):
            yield samples[at : at + 7_777]

    heard_of = []
    whole = melody_analysis(samples)
    told = []
    parts = melody_analysis(blocks, told.append)
    assert len(whole.level) == len(parts.level) == len(whole.sounds) == 1 + len(samples) // candidates.HOP
    assert told == sorted(told)
    assert told[-1] == len(samples)
    for analysis in (whole, parts):
        heard_of.append(melody_notes.decide(analysis).kept())
    assert heard_of[0].pitch.tolist() == pytest.approx(heard_of[1].pitch.tolist(), abs=0.02)
    assert heard_of[0].start.tolist() == pytest.approx(heard_of[1].start.tolist(), abs=0.002)
    assert len(heard_of[0]) == 4 * len(LINE)


def test_an_analysis_can_be_stopped():
    def stop(_: float) -> None:
        raise InterruptedError

    with pytest.raises(InterruptedError):
        note_decisions.analyse(chord_network(), np.zeros(note_decisions.RATE, np.float32), stop)


def test_pieces_cover_a_recording_once_with_what_stands_beside_them(monkeypatch):
    monkeypatch.setattr(chunks, "OWN", 2 * chunks.COMMON)
    monkeypatch.setattr(chunks, "MARGIN", chunks.COMMON)
    for length in (0, 1, chunks.COMMON, 2 * chunks.COMMON, 7 * chunks.COMMON + 5):
        ramp = np.arange(length, dtype=np.float32) % 97
        made = list(chunks.pieces(ramp))
        assert sum(p.own for p in made) == length
        assert [p.last for p in made] == [False] * (len(made) - 1) + [True] * bool(made)
        joined = [p.samples[p.lead : p.lead + p.own] for p in made]
        for own, at in zip(joined, np.cumsum([0] + [p.own for p in made]).tolist(), strict=False):
            assert np.ptp(own - ramp[at : at + len(own)]) < 1e-3
        assert sum(p.frames(220).stop - p.frames(220).start for p in made) == (1 + length // 220 if length else 0)


def test_a_swell_has_one_onset_and_a_clear_attack_is_exact():
    probability = np.zeros(100)
    probability[18:23] = (0.15, 0.6, 1.0, 0.6, 0.15)
    probability[55:66] = 0.22
    assert peaks(probability, 0.5, 5).tolist() == pytest.approx([20.0])
    assert peaks(windowed_sum(probability, 4), 0.5, 12).tolist() == pytest.approx([20.0, 60.0], abs=2.5)
    assert len(peaks(np.zeros(2), 0.1, 3)) == 0
    assert len(windowed_sum(np.zeros(0), 3)) == 0


def test_chords_get_names_with_their_times():
    rows = [(0.0, 0.9, n) for n in (48, 64, 67)] + [(1.0, 1.9, n) for n in (45, 57, 60, 64)]
    rows += [(2.0 + 0.02 * i, 2.9, n) for i, n in enumerate((43, 59, 62, 65))]
    columns = [np.array(c, float) for c in zip(*rows, strict=True)]
    told = chord_names.named(
        TranscribedNotes(
            columns[0], columns[1], columns[2], np.full(len(rows), 80.0), np.ones(len(rows)), 0 * columns[0]
        )
    )
    # The last one is strummed.
    assert [name for _, _, name in told] == ["C", "Am", "G7 ↓"]
    assert [round(start, 1) for start, _, _ in told] == [0.0, 1.0, 2.0]
    assert all(end > start for start, end, _ in told)
    assert chord_names.named(TranscribedNotes.empty()) == []


def test_bends_of_notes_that_follow_at_once_begin_where_the_player_did():
    deep = replace(singer.SUNG, vibrato=0.0, scoop=1.5, drift=0.0, consonant=0.0)
    line = [(0.3, 1.0, 60, 0.8), (1.0, 1.8, 64, 0.8)]
    analysis = melody_analysis(singer.perform(line, deep, candidates.RATE, 2))
    notes = melody_notes.decide(analysis).kept()
    assert [round(p) for p in notes.pitch] == [60, 64]
    sent = pitch_bend.bends(analysis, notes)
    assert [t for t, _ in sent] == sorted(t for t, _ in sent)
    at_second = [v for t, v in sent if t == pytest.approx(float(notes.start[1]))]
    assert at_second[-1] < -0.2
    assert sent[-1][1] == 0.0


def test_doubtful_examples_are_reported():
    _, syllables, examples = lesson(35, 2)
    random = np.random.default_rng(9)
    examples["twin"] = [example_classifier.example(beatbox.say(syllables[1], 0.8, stroke_features.RATE, random))] * 3
    examples["silent"] = [example_classifier.example(np.zeros(20_000, np.float32))]
    known = example_classifier.teach(feature_space(), examples)
    assert "silent" not in known.names
    said = " ".join(example_classifier.removal_reasons(known))
    assert "aux1 has 2 usable examples; 3 or more are better" in said
    assert "aux2 and twin sound much alike" in said
    assert "aux1 and aux3" not in said


def test_every_pitch_goes_through_the_same_network():
    for number in (33, 45, 57, 69, 81, 93):
        timbre = instrument_synthesis.Timbre(1 / np.arange(1, 20) ** 1.4, attack=0.005, decay=1.0)
        samples = instrument_synthesis.play([(0.3, 1.2, number, 0.8)], timbre, multipitch.RATE, number)
        probability = multipitch.probability(dense_net("multipitch"), *multipitch.levels(samples))
        middle = probability[round(0.7 / multipitch.STEP), :, 0]
        assert int(np.argmax(middle)) + multipitch.LOWEST == number
        assert middle.max() > 0.5


def test_a_stereo_position_is_the_same_in_blocks():
    random = np.random.default_rng(3)
    stereo = random.normal(size=(60_000, 2)).astype(np.float32)
    whole = stereo_filter.above(stereo.mean(axis=1), 22_050, 200.0)
    blocks = [stereo[a : a + 15_000] for a in range(0, 60_000, 15_000)]
    parts = list(stereo_filter.in_blocks(blocks, lambda b: stereo_filter.above(b.mean(axis=1), 22_050, 200.0), 4_000))
    assert [len(p) for p in parts] == [15_000] * 4
    assert np.abs(np.concatenate(parts) - whole)[500:-500].max() < 0.02


def test_doubtful_notes_are_proposed_for_removal_with_the_reason():
    samples = singer.perform(LINE, singer.BLOWN, candidates.RATE, 3)
    analysis = melody_analysis(samples)
    all_of_them = melody_notes.decide(analysis, segmentation.MelodySettings(shortest=0.42))
    short = all_of_them.end - all_of_them.start < 0.42
    assert short.any()
    assert [REMOVAL_REASONS[d] for d in all_of_them.removal_reason[short]] == ["too short"] * int(short.sum())
    assert len(all_of_them.kept()) == len(LINE) - int(short.sum())
    # A note far from all others, of which the ear is not sure, is told apart from one that it is sure of.
    start, pitch = np.arange(6) * 0.4, np.array([60, 62, 64, 90, 62, 60], float)
    confidence = np.array([0.9, 0.9, 0.9, 0.6, 0.9, 0.9])
    assert far_from_others(pitch, start, confidence).tolist() == [False, False, False, True, False, False]
    assert not far_from_others(pitch, start, np.full(6, 0.9)).any()
    no, yes = np.array([False]), np.array([True])
    assert removal_reasons(no, yes, yes, no).tolist() == [REMOVAL_REASONS.index("too soft")]


def test_higher_sensitivity_proposes_fewer_drums_for_removal():
    proposed = calmly = eagerly = 0
    for seed in (5, 6, 7):
        random = np.random.default_rng(seed)
        sound, _ = random_kits.groove(
            random_kits.built_kit(random, drum_transcription.RATE), 6.0, drum_transcription.RATE, random
        )
        analysis = drum_analysis(sound)
        calm, eager = drum_transcription.hits(analysis, 0.3), drum_transcription.hits(analysis, 0.9)
        proposed += int((calm.removal_reason > 0).sum())
        calmly, eagerly = calmly + len(calm.kept().start), eagerly + len(eager.kept().start)
        assert (
            calm.confidence[calm.removal_reason > 0].max(initial=0.0) < calm.confidence[calm.removal_reason == 0].min()
        )
    assert proposed >= 3
    assert calmly + 5 < eagerly


def test_snapping_to_a_key_keeps_the_shape_of_a_line():
    tune = np.array([60, 62, 64, 65, 67, 66, 67, 69, 71, 72, 67, 60], float)
    fits = key_estimation.fits(tune, np.ones(len(tune)))
    assert fits[0].probability >= fits[-1].probability
    by_name = {fit.key: fit for fit in fits}
    assert by_name["C major"].moved == 1
    assert np.count_nonzero(by_name["C major"].notes != tune) == 1
    assert key_estimation.best(fits).key == "C major"
    # By its pitch alone the middle note would go up and stand on the next one: the step up would be lost.
    line = np.array([64.0, 66.1, 67.0])
    assert key_estimation.snapped(line, "C major").tolist() == [64, 65, 67]
    assert key_estimation.snapped(np.zeros(0), "C major").tolist() == []


@given(
    hnp.arrays(float, st.integers(1, 30), elements=st.floats(30, 95)),
    st.sampled_from(["C major", "F# minor", "Bb", "E minor"]),
)
def test_snapped_notes_are_in_the_key_and_near_and_those_in_it_stay(pitch, name):
    root, mode = key_estimation.parse(name)
    allowed = {(root + s) % 12 for s in key_estimation.STEPS[mode]}
    snapped = key_estimation.snapped(pitch, name)
    assert {int(n) % 12 for n in snapped} <= allowed
    whole = np.rint(pitch).astype(int)
    assert np.abs(snapped - whole).max() <= 2
    inside = np.isin(whole % 12, list(allowed))
    assert (snapped[inside] == whole[inside]).all()


def test_a_network_hears_the_same_in_batches_as_at_once(monkeypatch):
    levels = onset.SPECTROGRAM.levels(singer.perform(LINE, singer.SUNG, onset.RATE, 2))
    whole = conv_net("onset").probability(levels)
    assert whole.shape == (len(levels), 1)
    assert whole.max() > 0.5 > whole.min() >= 0
    monkeypatch.setattr(convolutional, "BATCH", 37)
    monkeypatch.setattr(convolutional, "PATCHED", 11)
    assert conv_net("onset").probability(levels) == pytest.approx(whole, abs=1e-4)
    assert conv_net("onset").probability(levels[:0]).shape == (0, 1)


@given(st.integers(0, 2**32 - 1), st.integers(0, 40))
@hypothesis.settings(deadline=None, max_examples=25)
def test_harmonics_are_relative_to_the_loudest_in_both_windows(seed, count):
    random = np.random.default_rng(seed)
    long, short = random.normal(size=(30, 3 * multipitch.SEMITONES)), random.normal(size=(30, multipitch.SEMITONES))
    frame, pitch = random.integers(0, 30, count), random.integers(multipitch.LOWEST, multipitch.HIGHEST + 1, count)
    rows = multipitch.rows(long.astype(np.float32), short.astype(np.float32), frame, pitch)
    assert rows.shape == (count, multipitch.INPUTS)
    for row, f, p in zip(rows, frame.tolist(), pitch.tolist(), strict=True):
        place, top = p - multipitch.FIRST, long[f].max()
        seen = [np.clip(place + related, 0, multipitch.SEMITONES - 1) for related in multipitch.RELATED]
        still = np.concatenate([long[f, 3 * s : 3 * s + 3] for s in seen])
        moving = [short[np.clip(f + m, 0, 29), min(place + q, multipitch.SEMITONES - 1)]
                  for m in multipitch.MOMENTS for q in multipitch.QUICK]  # fmt: skip
        wanted = [*(still - top), *(np.array(moving) - top), top, place / 60]
        assert row == pytest.approx(wanted, abs=1e-5)


@pytest.mark.parametrize("leap", [-24, -19, -12, 12, 19, 24, 4])
def test_there_is_no_jump_to_a_harmonic_without_an_onset(leap):
    timbre = instrument_synthesis.Timbre(1 / np.arange(1, 12) ** 1.5, release=0.1)
    whole = candidates.analyse(
        conv_net("onset"),
        pitch_networks(),
        instrument_synthesis.play([(0.3, 1.5, 60, 0.9)], timbre, candidates.RATE, 1),
    )
    turn = round(0.7 / candidates.STEP)
    pitch, sounds, begins = whole.pitch.copy(), whole.sounds.copy(), whole.begins.copy()
    pitch[:turn] += leap
    sounds[:turn] = np.roll(sounds[:turn], leap, axis=1)
    notes = pairs(melody_notes.decide(replace(whole, pitch=pitch, sounds=sounds)).kept())
    # At first it was taken for that, or for what it is a harmonic of. What is no harmonic was played.
    assert [(round(s, 1), n) for s, n in notes] == ([(0.3, 60 + 4), (0.7, 60)] if leap == 4 else [(0.3, 60)])
    begins[turn - 2 : turn + 3] = (0.15, 0.6, 1.0, 0.6, 0.15)
    notes = pairs(melody_notes.decide(replace(whole, pitch=pitch, sounds=sounds, begins=begins)).kept())
    assert [(round(s, 1), n) for s, n in notes] == [(0.3, 60 + leap), (0.7, 60)]


def test_a_low_string_without_a_period_is_heard_by_its_harmonics():
    line = [
        (0.2, 0.5, 32, 0.9), (0.55, 0.95, 36, 0.9), (1.0, 1.2, 28, 0.9), (1.25, 1.7, 40, 0.9), (1.75, 2.2, 28, 0.9),
        (2.3, 2.6, 33, 0.9), (2.7, 3.1, 35, 0.9), (3.2, 3.9, 40, 0.9),
    ]  # fmt: skip

    def heard(inharmonic):
        stiff = instrument_synthesis.Timbre(
            1 / np.arange(1, 16), inharmonic=inharmonic, attack=0.004, decay=0.35, release=0.12, bottom=200.0
        )
        sound = instrument_synthesis.play(line, stiff, candidates.RATE, 3)
        hiss = np.random.default_rng(0).normal(size=len(sound)) * 0.003 * np.abs(sound).max()
        return melody_analysis((sound + hiss).astype(np.float32))

    # Stiffer than the lowest string of a small piano.
    analysis = heard(0.002)
    assert np.nanmedian(analysis.dip[:, 0]) > 0.45
    notes = pairs(melody_notes.decide(analysis).kept())
    # A fifth of a second of the lowest is too little.
    assert found([(s, n) for s, _, n, _ in line], notes) >= len(line) - 1
    # Where others play beneath, their harmonics sound as well, so there a note still needs its period.
    analysis = heard(0.01)
    assert np.nanmedian(analysis.dip[:, 0]) > 0.6
    assert len(pairs(melody_notes.decide(analysis, segmentation.MelodySettings(beneath=True)).kept())) < 6


def test_bands_and_grids_preserve_the_power_of_the_spectrum():
    random = np.random.default_rng(0)
    samples = random.normal(size=9_000).astype(np.float32)
    whole = spectra.spectra(samples, 512, 100) ** 2
    weights = spectra.bands(22_050, 512, 12, 60.0, 9_000.0)
    used = spectra.used_bands(22_050, 512, 12, 60.0, 9_000.0)
    assert used.shape[0] < len(weights)
    assert spectra.powers(samples, 512, 100, used)[0] == pytest.approx(whole @ weights, rel=1e-3)
    exact = spectra.powers(samples.astype(np.float64), 512, 100, used)[0]
    assert exact == pytest.approx(whole @ weights, rel=1e-3)
    plain, other = spectra.powers(
        samples, 512, 100, spectra.Bands(weights[:200]), spectra.Bands(scipy.sparse.csr_array(weights.T))
    )
    assert plain == pytest.approx(whole[:, :200] @ weights[:200], rel=1e-3)
    assert other == pytest.approx(whole @ weights, rel=1e-3)


@pytest.mark.parametrize("count", [1, 439, 440, 881, 40_001])
def test_the_spectrogram_matches_the_training_of_the_networks(count):
    sound = singer.perform(LINE, singer.SUNG, candidates.RATE, 2)[:count]
    loud, against = onset.SPECTROGRAM.loud(sound), multipitch.loud(sound)
    picture, seen = candidates._pictures(sound, against, loud)
    long, short = seen.long, seen.short
    assert picture == pytest.approx(onset.SPECTROGRAM.levels(sound, loud), abs=1e-5)
    shown, shortly = multipitch.levels(sound, against)
    assert long == pytest.approx(shown, abs=1e-5)
    assert short == pytest.approx(shortly, abs=1e-5)
    trained = pitch_levels.levels(sound, against)
    assert seen.middle == pytest.approx(trained.middle, abs=1e-5)
    # What lies between two long windows is as if there had been one.
    whole = spectra.powers(sound, multipitch.LONG, multipitch.HOP, multipitch.LONG_BANDS)[0]
    true = 0.5 * np.log10(whole / (against[0] + 1e-12) + 1e-8)
    plain = true > true.max(axis=1, keepdims=True) - 1.5
    assert long[::2] == pytest.approx(true[::2], abs=1e-5)
    assert np.abs(long - true)[plain].mean() < 0.01


@pytest.mark.parametrize("count", [1, 440, 881, 44_101])
def test_interpolated_long_windows_match_computed_ones(count):
    random = np.random.default_rng(1)
    sound = random_kits.groove(
        random_kits.built_kit(random, drum_transcription.RATE), 2, drum_transcription.RATE, random
    )[0][:count]
    loud = drum_transcription.SPECTROGRAM.loud(sound)
    seen, every = (
        drum_transcription.SPECTROGRAM.levels(sound, loud),
        replace(drum_transcription.SPECTROGRAM, seldom=1 << 30).levels(sound, loud),
    )
    assert seen.shape == every.shape == (1 + count // drum_transcription.HOP, drum_transcription.SPECTROGRAM.bands, 2)
    assert seen[:, :, 0] == pytest.approx(every[:, :, 0], abs=1e-5)
    assert seen[::2] == pytest.approx(every[::2], abs=1e-5)
    assert np.abs(seen - every)[every > every.max() - 2].mean() < 0.01


def test_accompaniment_does_not_retrigger_the_lead():
    lead = singer.perform([(0.3, 2.7, 72, 0.9), (2.8, 3.3, 74, 0.9)], singer.BLOWN, candidates.RATE, 1)
    beneath = [(0.5 + 0.4 * i, 0.8 + 0.4 * i, n, 0.9) for i, n in enumerate((48, 52, 55, 48, 53, 57))]
    under = singer.perform(beneath, singer.PLUCKED, candidates.RATE, 2)
    mixed = np.zeros(max(len(lead), len(under)), np.float32)
    mixed[: len(lead)] += lead
    mixed[: len(under)] += 0.6 * under
    above = stereo_filter.above(mixed, candidates.RATE, 0.75 * 440 * 2 ** ((67 - 69) / 12))
    notes = heard(above, low=67, high=80, beneath=True)
    assert [round(p) for p in notes.pitch] == [72, 74]
    # What is struck again by itself is told as ever.
    line = heard(singer.perform(LINE, singer.PLUCKED, candidates.RATE, 3), beneath=True)
    assert [round(p) for p in line.pitch] == [n for _, _, n, _ in LINE]


def test_a_note_starts_with_its_unpitched_attack():
    random = np.random.default_rng(3)
    t = np.arange(round(0.7 * candidates.RATE)) / candidates.RATE
    tone = sum(np.sin(2 * np.pi * 65.4 * k * t) / k for k in range(1, 9)) * np.clip((t - 0.06) / 0.05, 0, 1)
    attack = random.normal(size=len(t)) * np.exp(-t / 0.12) * 0.8
    samples = np.concatenate([np.zeros(8000), 0.2 * (tone + attack), np.zeros(8000)]).astype(np.float32)
    notes = heard(samples)
    assert [round(p) for p in notes.pitch] == [36]
    assert notes.start[0] == pytest.approx(8000 / candidates.RATE, abs=0.05)


def test_the_cheapest_path_in_parts_is_that_of_the_whole(monkeypatch):
    samples = np.tile(singer.perform(LINE, singer.SUNG, candidates.RATE, 5), 4)
    analysis = melody_analysis(samples)
    settings = segmentation.MelodySettings()
    in_stretches = segmentation.track(analysis, settings)
    monkeypatch.setattr(viterbi, "AT_ONCE", 3)
    # What was found is kept for the same settings; here it is to be looked for anew.
    analysis.paths.clear()
    assert segmentation.track(analysis, settings).tolist() == in_stretches.tolist()
    whole = -(-len(in_stretches) // viterbi.BLOCK) * viterbi.BLOCK
    monkeypatch.setattr(viterbi, "STRETCH", whole)
    analysis.paths.clear()
    assert segmentation.track(analysis, settings).tolist() == in_stretches.tolist()


@given(st.floats(45.0, 1500.0))
def test_a_period_is_found_where_a_tone_repeats(hertz):
    t = np.arange(2100) / candidates.RATE
    tone = (np.sin(2 * np.pi * hertz * t) + 0.4 * np.sin(4 * np.pi * hertz * t)).astype(np.float32)
    mean = yin.normalised(tone, 1, candidates.HOP, 7, 551)[0]
    lag = candidates.RATE / hertz
    assert mean[round(lag)] < 0.2
    if lag > 8:
        assert mean[round(lag / 2)] > mean[round(lag)]


@given(st.integers(0, 1000), st.integers(1, 9), st.integers(1, 12), st.integers(5, 90))
@hypothesis.settings(max_examples=40, deadline=None)
def test_each_moment_is_compared_with_what_comes_after_every_lag(seed, count, hops, longest):
    hop = 20
    sound = np.random.default_rng(seed).normal(size=(count + hops - 1) * hop + longest).astype(np.float32)
    mean = yin.normalised(sound, count, hop, hops, longest)
    assert mean.shape == (count, longest + 1)
    for row in range(count):
        own = sound[row * hop :].astype(float)
        off = np.array([((own[: hops * hop] - own[lag:][: hops * hop]) ** 2).sum() for lag in range(longest + 1)])
        expected = off[1:] * np.arange(1, longest + 1) / np.cumsum(off[1:])
        assert mean[row, 1:] == pytest.approx(expected, abs=1e-3)
        assert mean[row, 0] == 1.0


def test_how_loud_a_stroke_is_is_the_mean_of_what_follows_it_as_far_as_it_goes(monkeypatch):
    monkeypatch.setattr(spectra, "AT_ONCE", 4)
    level = np.repeat([0.0, 0.1, 0.5], 100).astype(np.float32)
    told = spectra.Envelope(level, 0.001).decibels_after(np.array([0.0, 0.05, 0.12, 0.2, 0.29, 0.4, -1.0]), 0.1)
    mean = [0.0, 0.005, (80 * 0.01 + 20 * 0.25) / 100, 0.25, 0.25, 0.0, 0.0]
    assert told == pytest.approx([10 * np.log10(m) if m else -120.0 for m in mean], abs=0.01)
    assert spectra.Envelope(level[:0], 0.001).decibels_after(np.array([0.3])).tolist() == [-120.0]


def test_strokes_are_found_alike_at_once_and_in_pieces(monkeypatch):
    random = np.random.default_rng(8)
    syllables = [beatbox.any_syllable(random) for _ in range(3)]
    sound, truth = beatbox.beat(syllables, 6.0, stroke_features.RATE, random)
    sound = sound + 0.05
    whole = stroke_features.analyse(sound)
    monkeypatch.setattr(chunks, "OWN", 13 * chunks.COMMON)
    parts = stroke_features.analyse(lambda: (sound[at : at + 5_000] for at in range(0, len(sound), 5_000)))
    assert len(parts.level) == len(whole.level)
    assert stroke_features.beginnings(parts, 0.5) == pytest.approx(stroke_features.beginnings(whole, 0.5), abs=0.003)
    assert found([(t, 0) for t, _ in truth], [(s, 0) for s in stroke_features.beginnings(parts, 0.5)]) >= 0.9 * len(
        truth
    )


def test_costs_that_are_kept_are_those_of_a_long_recording(monkeypatch):
    samples = singer.perform(LINE, singer.BLOWN, candidates.RATE, 3)
    analysis = melody_analysis(samples)
    kept = [melody_notes.decide(analysis, segmentation.MelodySettings(low=low)) for low in (28, 58)]
    monkeypatch.setattr(candidates, "REMEMBERED", 0)
    anew = [melody_notes.decide(analysis, segmentation.MelodySettings(low=low)) for low in (28, 58)]
    for one, other in zip(kept, anew, strict=True):
        assert one.start.tolist() == other.start.tolist()
        assert one.pitch.tolist() == other.pitch.tolist()


def tone(number: float, seconds: float, falls: float, swells: float = 0.004, lets_go: float = 0.04) -> np.ndarray:
    """A tone of eight harmonics at melody.RATE. falls  dB a second by itself; swells, lets_go  seconds at its ends."""
    t = np.arange(round((seconds + 4 * lets_go) * candidates.RATE)) / candidates.RATE
    hz = 440 * 2 ** ((number - 69) / 12)
    wave = sum(np.sin(2 * np.pi * k * hz * t + k) / k for k in range(1, 9))
    level = 10 ** (-falls * t / 20) * np.minimum(1, t / swells) * np.exp(-np.maximum(0, t - seconds) / lets_go)
    return 0.2 * wave * level


@pytest.mark.parametrize("falls", [0.0, 12.0, 22.0])
def test_a_note_ends_at_its_release_not_where_it_fades(falls):
    line = [(0.3, 0.9, 52), (1.3, 1.5, 57), (1.8, 2.7, 50), (3.0, 3.4, 61)]
    sound = np.random.default_rng(2).normal(size=round(4.2 * candidates.RATE)) * 1e-4
    for start, end, number in line:
        own = tone(number, end - start, falls)
        first = round(start * candidates.RATE)
        sound[first : first + len(own)] += own
    heard = melody_notes.decide(melody_analysis(sound.astype(np.float32))).kept()
    assert np.rint(heard.pitch).tolist() == [n for _, _, n in line]
    assert np.abs(heard.start - [s for s, _, _ in line]).max() < 0.02
    off = np.abs(heard.end - [e for _, e, _ in line])
    assert np.median(off) < 0.04
    assert (off < np.maximum(0.06, 0.2 * np.array([e - s for s, e, _ in line]))).all()


def test_a_note_that_swells_out_of_another_starts_where_it_swells():
    """Bowed without a gap: the old note rings while the new one swells."""
    line = [(0.3, 1.0, 62), (1.0, 1.6, 65), (1.6, 2.4, 69)]
    sound = np.random.default_rng(3).normal(size=round(3.2 * candidates.RATE)) * 1e-4
    for start, end, number in line:
        own = tone(number, end - start, 0.0, swells=0.12, lets_go=0.06)
        first = round(start * candidates.RATE)
        sound[first : first + len(own)] += own
    heard = melody_notes.decide(melody_analysis(sound.astype(np.float32))).kept()
    assert np.rint(heard.pitch).tolist() == [62, 65, 69]
    assert np.abs(heard.start - [0.3, 1.0, 1.6]).max() < 0.07
