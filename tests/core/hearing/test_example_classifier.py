"""Taught sounds: of several parts, over what still rings, in another room than their examples, or not taught at all."""

from __future__ import annotations

import numpy as np
import pytest

from puresignal.core.hearing.percussion import example_classifier, live_hits, stroke_features
from puresignal.core.hearing.percussion.stroke_features import DEEPEST, RATE
from puresignal.io.models import feature_space, live_feature_space
from puresignal.sim import beatbox, sung_lines

TWO_PARTS = beatbox.Syllable(
    burst=0.5, hiss=0.5, voice=1.0, centre=5000, wide=0.7, lasts=0.02, pitch=140, falls=0.3, formant=700, hum=0.12,
    after=0.11,
)  # fmt: skip
SHORT = beatbox.Syllable(
    burst=0.3, hiss=1.0, voice=0.0, centre=7500, wide=0.5, lasts=0.03, pitch=100, falls=0.0, formant=500, hum=0.05
)
LOW = beatbox.Syllable(
    burst=0.8, hiss=0.05, voice=1.0, centre=900, wide=0.8, lasts=0.02, pitch=75, falls=0.8, formant=350, hum=0.1
)
SOUNDS = {"aux1": TWO_PARTS, "aux2": SHORT, "aux3": LOW}


def recordings(count: int = 5) -> dict[str, list[np.ndarray]]:
    random = np.random.default_rng(1)
    return {
        name: [np.asarray(beatbox.say(s, 0.8, RATE, random), np.float32) for _ in range(count)]
        for name, s in SOUNDS.items()
    }


def taught_of(examples: dict[str, list[np.ndarray]]) -> example_classifier.ExampleSet:
    return example_classifier.teach(
        feature_space(), {name: [example_classifier.example(s) for s in own] for name, own in examples.items()}
    )


def right(truth, told) -> tuple[int, int]:
    """Number of correct (second, name) pairs, and of false ones."""
    good = sum(any(abs(t - s) < 0.05 and name == n for s, n in told) for t, name in truth)
    extra = sum(all(abs(t - s) >= 0.05 for t, _ in truth) for s, _ in told)
    return good, extra


def told_by(known: example_classifier.ExampleSet, sound: np.ndarray) -> list[tuple[float, str]]:
    hits = example_classifier.hits(known, stroke_features.analyse(sound)).kept()
    return [(s, known.names[k]) for s, k in zip(hits.start.tolist(), hits.kind.tolist(), strict=True)]


@pytest.fixture(scope="module")
def played() -> tuple[np.ndarray, list[tuple[float, str]]]:
    random = np.random.default_rng(2)
    sound, truth, at = np.zeros(16 * RATE), list[tuple[float, str]](), 0.4
    while at < 15:
        name = str(random.choice(list(SOUNDS)))
        own = beatbox.say(SOUNDS[name], float(random.uniform(0.4, 1.0)), RATE, random)
        sound[round(at * RATE) :][: len(own)] += own
        truth.append((at, name))
        at += float(random.choice([0.4, 0.5, 0.6]))
    return np.asarray(sound, np.float32), truth


def test_a_sound_of_several_parts_is_one_hit(played):
    sound, truth = played
    analysis = stroke_features.analyse(sound)
    vowels = [at + 0.11 for at, name in truth if name == "aux1"]
    rising = stroke_features.beginnings(analysis, 0.5)
    # The vowel rises like a stroke of its own,
    assert sum(bool((np.abs(rising - at) < 0.04).any()) for at in vowels) > 0.5 * len(vowels)
    # and is the rest of the sound that began before it.
    good, extra = right(truth, told_by(taught_of(recordings()), sound))
    assert good >= 0.93 * len(truth)
    assert extra <= 1


def test_a_vowel_by_itself_is_still_a_stroke():
    known, random = taught_of(recordings()), np.random.default_rng(3)
    row = next(iter(known.continuations[0]))[0] @ np.linalg.inv(feature_space().turn)
    heard = example_classifier.ContinuationFilter(known)
    assert heard.hits(row[None].astype(np.float32), np.array([1.0]), np.array([2])).tolist() == [True]
    first = known.takes[0][:1]
    assert heard.hits(first, np.array([2.0]), np.array([0])).tolist() == [True]
    assert heard.hits(row[None].astype(np.float32), np.array([2.05]), np.array([2])).tolist() == [False]
    # The same sound again is never the rest of itself, however soon it comes.
    soon = 2.05 + float(random.uniform(0.08, 0.3))
    assert heard.hits(first, np.array([soon]), np.array([0])).tolist() == [True]


@pytest.mark.parametrize("seconds", [0.2, 0.4, 0.6])
def test_dry_examples_are_known_again_in_a_room(played, seconds):
    sound, truth = played
    random, count = np.random.default_rng(4), round(seconds * RATE)
    answer = random.normal(size=count) * np.exp(-np.arange(count) / (count / 6)) * 0.02
    answer[0] = 1.0
    size = 1 << (len(sound) + count).bit_length()
    there = np.fft.irfft(np.fft.rfft(sound, size) * np.fft.rfft(answer, size), size)[: len(sound)]
    there = there + random.normal(size=len(there)) * 0.001
    good, extra = right(truth, told_by(taught_of(recordings()), there.astype(np.float32)))
    assert good >= 0.9 * len(truth)
    assert extra <= 1


def test_a_ringing_sound_hides_features_without_changing_them():
    random = np.random.default_rng(7)
    bed = 0.25 * beatbox._coloured(2 * RATE, 7000, 0.5, RATE, random)
    bed[: RATE // 4] *= np.linspace(0, 1, RATE // 4)
    low = beatbox.say(LOW, 0.6, RATE, random)
    alone, over = np.zeros(2 * RATE), bed.copy()
    alone[RATE : RATE + len(low)] += low
    over[RATE : RATE + len(low)] += low
    known = taught_of(recordings())
    at = np.array([1.0])
    plain, bounds = stroke_features.with_bounds(stroke_features.analyse(over.astype(np.float32)), at)
    sound, confidence = example_classifier.classify(known, bounds)
    assert known.names[sound[0]] == "aux3"
    # By what is seen alone it would be further off.
    itself = stroke_features.at(stroke_features.analyse(alone.astype(np.float32)), at)
    far = [float(feature_space().far(each, itself[None])[0, 0]) for each in (bounds, example_classifier.exactly(plain))]
    assert far[0] < 0.7 * far[1]
    assert confidence[0] > 0.3


def test_bounds_contain_what_is_audible_and_stay_open_where_hidden(played):
    analysis = stroke_features.analyse(played[0])
    moments = stroke_features.beginnings(analysis, 0.9)
    plain, bounds = stroke_features.with_bounds(analysis, moments)
    assert plain == pytest.approx(stroke_features.at(analysis, moments))
    assert plain.shape == (len(moments), stroke_features.FEATURES)
    assert (bounds[:, 0] <= plain + 1e-6).all()
    assert (plain <= bounds[:, 1] + 1e-6).all()
    assert bounds.min() >= DEEPEST
    # The loudest of a stroke is heard; of what is not heard at all nothing is left open.
    heard = (plain > DEEPEST).any(axis=1)
    assert plain[heard].max(axis=1) == pytest.approx(0.0, abs=1e-5)
    silent = stroke_features.with_bounds(analysis, np.array([0.05]))[1]
    assert (silent == np.float32(DEEPEST)).all()
    assert stroke_features.with_bounds(analysis, np.zeros(0))[1].shape == (0, 2, stroke_features.FEATURES)


def test_an_example_with_several_parts_teaches_the_first():
    moments, level = np.array([0.30, 0.41, 1.00, 1.90, 2.00]), np.array([-30.0, -12.0, -14.0, -60.0, -28.0])
    # The third sound is much softer than the loudest and no example.
    assert example_classifier.first_parts(moments, level).tolist() == [0, 2]
    level[0] = -40.0
    assert example_classifier.first_parts(moments, level).tolist() == [1, 2]
    assert example_classifier.first_parts(np.zeros(0), np.zeros(0)).tolist() == []


def test_live_a_sound_of_several_parts_is_one_hit(played):
    sound, truth = played
    known = live_hits.teach(live_feature_space(), recordings())
    live = live_hits.LiveHits(known)
    hits = [hit for begin in range(0, len(sound), 512) for hit in live.feed(sound[begin : begin + 512])]
    good, extra = right(truth, [(hit.start, known.names[hit.sound]) for hit in hits])
    assert good >= 0.85 * len(truth)
    assert extra <= 0.06 * len(truth)


def test_spoken_syllables_are_sounds_as_well():
    random = np.random.default_rng(11)
    who = sung_lines.any_singer(random)
    said = {f"aux{k}": (900 + k, 45.0 + 7 * k, 0.05 + 0.06 * k) for k in range(1, 4)}

    def take(name: str) -> np.ndarray:
        action, number, seconds = said[name]
        again = seconds * float(random.uniform(0.85, 1.15))
        return sung_lines.say(who, action, number, again, 0.8, RATE, int(random.integers(1 << 30)))

    a, b = take("aux1"), take("aux1")
    assert len(a) > 0.04 * RATE
    assert np.abs(a).max() == pytest.approx(0.8)
    assert len(a) != len(b) or not np.allclose(a, b)
    known = taught_of({name: [np.asarray(take(name), np.float32) for _ in range(5)] for name in said})
    sound, truth = np.zeros(12 * RATE), []
    for k in range(24):
        name = f"aux{1 + int(random.integers(3))}"
        at = 0.4 + 0.45 * k
        own = take(name)
        sound[round(at * RATE) :][: len(own)] += own
        truth.append((at, name))
    good, extra = right(truth, told_by(known, sound.astype(np.float32)))
    assert good >= 0.85 * len(truth)
    assert extra <= 2
