"""Pairs of recordings of the same sounds in two rooms, to learn what varies between takes of one sound.

For training only (train_ear.py strokes): mouths that drum and speak, and kits, of our own synthesis.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from puresignal.core.hearing.dsp import spectral_flux
from puresignal.core.hearing.percussion import live_hits, stroke_features
from puresignal.sim import beatbox, instrument_synthesis, random_kits, sung_lines

RATE, SECONDS = stroke_features.RATE, 9.0
Said = tuple[np.ndarray, list[tuple[float, str]]]
"""A recording and its strokes as (second, sound)."""
Take = Callable[[float, np.random.Generator], np.ndarray]
"""Make the sound again at this level."""


def a_mouth(random: np.random.Generator) -> list[Take]:
    """Random sounds of one mouth, some of them spoken."""
    drawn = sung_lines.any_singer(random)
    who = replace(
        drawn, tilt=float(random.uniform(0.2, 1.6)), vibrato=0.0, drift=0.0, attack=min(drawn.attack, 0.03),
        scoop=float(random.uniform(-4, 4)) if random.random() < 0.5 else 0.0, release=min(drawn.release, 0.1),
    )  # fmt: skip
    base = float(random.uniform(36, 60))
    return [
        _spoken(who, base, random) if random.random() < 0.4 else _drummed(beatbox.any_syllable(random))
        for _ in range(int(random.integers(3, 8)))
    ]


def _drummed(syllable: beatbox.Syllable) -> Take:
    return lambda loud, random: beatbox.say(syllable, loud, RATE, random)


def _spoken(who: sung_lines.Singer, base: float, random: np.random.Generator) -> Take:
    what, number = int(random.integers(1 << 30)), base + float(random.normal(0, 2))
    seconds = float(np.exp(random.uniform(np.log(0.03), np.log(0.25))))
    # Nearly always with a consonant.
    habits = np.random.default_rng(what).dirichlet([0.05, 0.3, 1.0, 1.5, 0.2])
    own = replace(who, habits=tuple(habits.tolist()))

    def take(loud: float, random: np.random.Generator) -> np.ndarray:
        sung, lasts = number + float(random.normal(0, 0.8)), seconds * float(random.uniform(0.8, 1.25))
        return sung_lines.say(own, what, sung, lasts, loud, RATE, int(random.integers(1 << 30)))

    return take


def _one_by_one(takes: list[Take], random: np.random.Generator) -> Said:
    """Five of each sound with silence between, as examples are recorded; every second clip completely dry."""
    parts, truth, at = [np.zeros(round(0.3 * RATE))], [], 0.3
    for number, take in enumerate(takes):
        for _ in range(5):
            said = take(float(random.uniform(0.4, 1)), random)
            parts.append(np.pad(said, (0, round(float(random.uniform(0.35, 0.5)) * RATE))))
            truth.append((at, str(number)))
            at += len(parts[-1]) / RATE
    sound = np.concatenate(parts)
    if random.random() < 0.5:
        return np.asarray(0.8 * sound / np.abs(sound).max(), np.float32), truth
    return instrument_synthesis.in_a_room(sound, RATE, random, (-78.0, -42.0)), truth


def twice(random: np.random.Generator) -> list[Said]:
    """Sounds in a rhythm, and the same sounds in another room."""
    if random.random() < 0.82:
        takes = a_mouth(random)
        sound, truth = beatbox.rhythm(takes, SECONDS, RATE, random)
        there = instrument_synthesis.in_a_room(sound, RATE, random, (-78.0, -42.0))
        return [(there, [(at, str(which)) for at, which in truth]), _one_by_one(takes, random)]
    kit = random_kits.built_kit(random, RATE) if random.random() < 0.2 else random_kits.drawn_kit(random, RATE)
    out: list[Said] = []
    for _ in range(2):
        sound, hits = random_kits.groove(kit, SECONDS, RATE, random)
        alone = [
            (at, name)
            for i, (at, name, _) in enumerate(hits)
            if all(abs(at - other[0]) > 0.06 for j, other in enumerate(hits) if j != i)
        ]
        out.append((instrument_synthesis.in_a_room(sound, RATE, random, (-80.0, -45.0)), alone))
    return out


def rows(seed: int) -> tuple[tuple[np.ndarray, np.ndarray], tuple[np.ndarray, np.ndarray]]:
    """Features (n, features) and sound of each detected stroke in both recordings.

    Twice: as stroke_features.py computes them, and as live_hits.py does.
    """
    slow, quick = [], []
    for sound, truth in twice(np.random.default_rng(seed)):
        analysis = stroke_features.analyse(sound)
        found = stroke_features.beginnings(analysis, 0.5)
        slow.append(_named(found, stroke_features.at(analysis, found), truth))
        found = np.array(spectral_flux.Beginnings(RATE).feed(sound))
        padded = np.pad(sound, (live_hits.BEFORE, live_hits.AFTER))
        around = [padded[p : p + live_hits.BEFORE + live_hits.AFTER] for p in np.rint(found * RATE).astype(int)]
        seen = live_hits.features(np.stack(around)) if around else np.zeros((0, live_hits.FEATURES), np.float32)
        quick.append(_named(found, seen, truth))
    return _joined(slow), _joined(quick)


def _named(found: np.ndarray, seen: np.ndarray, truth: list[tuple[float, str]]) -> tuple[np.ndarray, np.ndarray]:
    rows, names = [], []
    for at, name in truth if len(found) else []:
        nearest = int(np.argmin(np.abs(found - at)))
        if abs(found[nearest] - at) < 0.05:
            rows.append(nearest)
            names.append(name)
    return seen[np.array(rows, int)], np.array(names, str)


def _joined(parts: list[tuple[np.ndarray, np.ndarray]]) -> tuple[np.ndarray, np.ndarray]:
    return np.concatenate([x for x, _ in parts]), np.concatenate([names for _, names in parts])
