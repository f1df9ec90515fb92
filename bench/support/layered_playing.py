"""Playing in layers drawn by chance: each voice has a rhythm of its own, drawn by how strong the places of a bar are.

A voice is a bass, chords, a broken chord, a melody, or a drum. How likely it plays on a bar line, a group of beats, a
beat, a half or a quarter of one is drawn for each; its rhythm comes again, with changes, in one bar, two or four.
Nothing is written by hand but what a bar is, so that what is learnt from it holds for playing in general.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from .played_free import CRASH, HAT, KICK, OPEN, RIDE, RIM, SNARE, TOM, Row

Bar = Callable[[int, np.random.Generator], list[Row]]
GROUPS = {5: ((0, 3), (0, 2)), 7: ((0, 2, 4), (0, 3, 5), (0, 2, 5)), 4: ((0, 2),), 6: ((0, 3),)}
"""Beats on which groups begin in bars of so many beats."""
SCALE = (0, 2, 4, 5, 7, 9, 11)
CHORDS = ((0, 4, 7), (0, 3, 7), (0, 5, 7), (0, 4, 7, 10), (0, 3, 7, 10))


class Metre:
    """The places of a bar.

    place     (n,) quarter notes from the bar line
    strength  (n,) 0 bar line, 1 group, 2 beat, 3 first division of a beat, 4 second
    """

    def __init__(self, meter: tuple[int, int], beat: float, chance: np.random.Generator):
        self.long = 4 * meter[0] / meter[1]
        beats = round(self.long / beat)
        groups = GROUPS.get(beats, ((0,),))
        strong = groups[int(chance.integers(len(groups)))]
        by = 3 if beat == 1.5 else 1 if beat == 0.5 else int(chance.choice((2, 2, 2, 3)))
        second = 2 if by != 3 or beat == 1.5 else 1
        self.swing = float(chance.uniform(0.56, 0.68)) if by == 2 and chance.random() < 0.12 else 0.5
        place, strength = [], []
        for number in range(beats):
            for division in range(by):
                for part in range(second):
                    into = (division + part / second) / by
                    if self.swing != 0.5:
                        into = into * 2 * self.swing if into < 0.5 else self.swing + (into - 0.5) * 2 * (1 - self.swing)
                    place.append((number + into) * beat)
                    first = 0 if number == 0 else 1 if number in strong else 2
                    strength.append(4 if part else 3 if division else first)
        self.place, self.strength = np.array(place), np.array(strength)
        self.beat = beat


def _odds(chance: np.random.Generator, weakest: int) -> np.ndarray:
    """How likely a voice plays on places of each strength; weakest: from which on it never does."""
    kind = chance.random()
    if kind < 0.35:
        # A timekeeper: everything down to a strength.
        odds = np.where(np.arange(5) <= chance.integers(1, weakest + 1), 1.0, 0.0)
        odds[0] = 1.0
    elif kind < 0.45:
        # The offbeat.
        odds = np.array([0.1, 0.1, 0.1, 1.0, 0.0])
    else:
        odds = np.sort(chance.beta(0.8, 0.9, 5))[::-1] * np.array([1.0, 1.0, 1.0, 0.8, 0.5])
        odds[0] = max(odds[0], chance.choice((0.95, 0.95, 0.6)))
    return np.where(np.arange(5) <= weakest, odds, 0.0)


class Voice:
    """One voice: which places it plays in each bar, and how loud."""

    def __init__(self, metre: Metre, chance: np.random.Generator, weakest: int):
        self.metre = metre
        odds = _odds(chance, weakest)
        patterns = int(chance.choice((1, 1, 2, 2, 4)))
        self.patterns = [chance.random(len(metre.place)) < odds[metre.strength] for _ in range(patterns)]
        if chance.random() < 0.3:
            # Halves of a bar that are alike.
            half = len(metre.place) // 2
            self.patterns = [np.concatenate([p[:half], p[: len(p) - half]]) for p in self.patterns]
        self.changes = float(chance.choice((0.0, 0.0, 0.05, 0.15, 0.4)))
        self._odds = odds
        self.loud = float(chance.uniform(55, 100))
        lift = chance.uniform(0, 24) * np.sort(chance.random(5))[::-1]
        self.lift = lift if chance.random() < 0.7 else np.zeros(5)

    def bar(self, number: int, chance: np.random.Generator) -> list[tuple[float, float, int, int]]:
        """(place, until the next, velocity, strength) of what it plays in a bar."""
        plays = self.patterns[number % len(self.patterns)]
        other = chance.random(len(plays)) < self.changes
        plays = np.where(other, chance.random(len(plays)) < self._odds[self.metre.strength], plays)
        at = self.metre.place[plays]
        ends = np.append(at[1:], self.metre.long)
        loud = self.loud + self.lift[self.metre.strength[plays]]
        return list(zip(at.tolist(), (ends - at).tolist(), loud.astype(int).tolist(),
                        self.metre.strength[plays].tolist(), strict=True))  # fmt: skip


def pitched(meter: tuple[int, int], beat: float, chance: np.random.Generator) -> Bar:
    """One to three of bass, chords, broken chord and melody over a row of chords."""
    metre = Metre(meter, beat, chance)
    every = int(chance.choice((1, 1, 1, 2, 4)))
    twice = bool(metre.long > 2 and chance.random() < 0.2)
    roots = chance.choice(np.array(SCALE), int(chance.choice((2, 4, 4, 8)))) + int(chance.integers(33, 45))
    chord = CHORDS[int(chance.integers(len(CHORDS)))]
    weakest = {"bass": 3, "chords": 3, "broken": 4, "melody": 4}
    parts = [str(p) for p in chance.choice(tuple(weakest), int(chance.choice((1, 1, 2, 2, 3))), replace=False)]
    voices = {part: Voice(metre, chance, weakest[part]) for part in parts}
    rooted = float(chance.choice((1.0, 0.8, 0.3)))
    up = int(chance.choice((12, 12, 19, 24)))
    held = float(chance.choice((0.3, 0.6, 0.95)))
    shape = chance.integers(0, 6, 32)
    ladder = np.array([*chord, *(c + 12 for c in chord), *(c + 24 for c in chord)])
    starts_anew = int(chance.choice((0, 1, 2)))
    walk = [int(chance.integers(0, 14))]

    def bar(number: int, chance: np.random.Generator) -> list[Row]:
        rows: list[Row] = []
        for part, voice in voices.items():
            turn = 0
            for place, until, loud, strength in voice.bar(number, chance):
                step = number // every if not twice else 2 * number + (place >= metre.long / 2)
                root = int(roots[step % len(roots)])
                long = until * held
                if part == "bass":
                    note = root + (
                        0 if strength <= 1 and chance.random() < rooted else int(chance.choice((0, 7, 12, *chord)))
                    )
                    rows.append((place, note, loud, long))
                elif part == "chords":
                    rows += [(place, root + up + c, loud, long) for c in chord]
                elif part == "broken":
                    turn = 0 if strength <= starts_anew else turn + 1
                    rows.append((place, root + 12 + int(ladder[shape[turn % len(shape)] % len(ladder)]), loud, long))
                else:
                    walk[0] = int(np.clip(walk[0] + chance.integers(-2, 3), 0, 14))
                    rows.append((place, 60 + SCALE[walk[0] % 7] + 12 * (walk[0] // 7), loud, long))
        # A bar of rest is no bar to hear anything in.
        return rows or [(0.0, int(roots[0]), 80, metre.long * held)]

    return bar


def drums(meter: tuple[int, int], beat: float, chance: np.random.Generator) -> Bar:
    """A kick, something against it, timekeepers and what marks phrases."""
    metre = Metre(meter, beat, chance)
    keeper = Voice(metre, chance, int(chance.choice((2, 3, 3, 4))))
    keeps = int(chance.choice((HAT, HAT, RIDE, OPEN, TOM)))
    kick, back = Voice(metre, chance, 3), Voice(metre, chance, 3)
    kick.loud = float(chance.uniform(80, 105))
    back.loud = float(chance.uniform(75, 105))
    struck = SNARE if chance.random() < 0.8 else RIM
    beats = np.flatnonzero(metre.strength <= 2)
    style = chance.random()
    if style < 0.75:
        # Against the kick: every other beat, the middle of the bar, or all but the first.
        own = beats[1::2] if style < 0.45 else beats[[len(beats) // 2]] if style < 0.6 else beats[1:]
        against = np.zeros(len(metre.place), bool)
        against[own] = True
        back.patterns, back.changes = [against], 0.0
        kick.patterns = [p & ~against if chance.random() < 0.7 else p for p in kick.patterns]
        if chance.random() < 0.9:
            for pattern in kick.patterns:
                pattern[0] = True
    phrase = int(chance.choice((4, 8, 8, 16)))
    crashes, fills, silent = chance.random() < 0.6, chance.random() < 0.6, chance.random() < 0.1
    fill_long = float(chance.choice((1, 2))) * beat

    def bar(number: int, chance: np.random.Generator) -> list[Row]:
        fill = metre.long - fill_long if fills and number % phrase == phrase - 1 else metre.long
        rows: list[Row] = []
        for voice, note in ((keeper, keeps), (kick, KICK), (back, struck)):
            if voice is keeper and silent:
                continue
            rows += [(place, note, loud, 0.1) for place, _, loud, _ in voice.bar(number, chance) if place < fill - 1e-6]
        if crashes and number % phrase == 0:
            rows = [row for row in rows if row[0] or row[1] != keeps] + [(0.0, CRASH, 100, 0.5)]
        for place in metre.place[metre.place >= fill - 1e-6].tolist():
            if chance.random() < 0.8:
                rows.append((place, int(chance.choice((SNARE, TOM, TOM + 2))), int(chance.uniform(70, 105)), 0.1))
        return rows or [(0.0, KICK, 90, 0.1)]

    return bar
