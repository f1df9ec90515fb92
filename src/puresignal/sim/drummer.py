"""A drummer who plays bars as a person does, and knows exactly what was meant."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from puresignal.sim.grooves import FILLS, GROOVES, Bar


class Stroke(NamedTuple):
    """One stroke as intended and played: the truth.

    start         seconds
    articulation  what was struck
    velocity      1..127
    kind          "hit", "ghost", "flam grace", "flam", "drag grace", "drag", "roll"
    openness      0 closed .. 1 open, of a hat stroke; else None
    """

    start: float
    articulation: str
    velocity: int
    kind: str = "hit"
    openness: float | None = None


class Choke(NamedTuple):
    """A hand on a cymbal."""

    at: float
    articulation: str


@dataclass(frozen=True)
class Performance:
    """All strokes and chokes of a performance in order of time, and its length."""

    strokes: tuple[Stroke, ...]
    chokes: tuple[Choke, ...]
    seconds: float
    bpm: float


@dataclass(frozen=True)
class Feel:
    """How somebody plays.

    spread_ms  standard deviation of the strokes around their place
    push_ms    how late everything is; negative is early
    swing      0 straight .. 1 triplet, on the second of each pair of sixteenths
    loudness   factor on all velocities
    """

    spread_ms: float = 4.0
    push_ms: float = 3.0
    swing: float = 0.12
    loudness: float = 1.0


_LEVELS = {"X": 108, "x": 82, "o": 34, "f": 104, "d": 100, "r": 78}
_BY_ARTICULATION = {
    "hat.closed": 0.84, "hat.edge.closed": 0.9, "hat.half": 0.88, "hat.open": 0.9, "hat.pedal": 0.6, "hat.splash": 0.7,
    "ride.bow": 0.8, "ride.bell": 0.98, "snare.side": 0.86,
}  # fmt: skip
_OPENNESS = {
    "hat.closed": 0.03, "hat.edge.closed": 0.04, "hat.pedal": 0.0, "hat.half": 0.5, "hat.open": 0.96,
    "hat.edge.open": 0.96, "hat.splash": 0.8,
}  # fmt: skip
_STEPS = 16


def play(bars: Sequence[Bar], bpm: float, seed: int, hand: Feel | None = None, start: float = 0.0) -> Performance:
    """Play bars of four quarter notes.

    bpm    quarter notes per minute
    start  seconds before the first bar
    """
    hand = hand or Feel()
    random = np.random.default_rng(seed)
    step = 60 / bpm / 4
    strokes: list[Stroke] = []
    chokes: list[Choke] = []
    for number, bar in enumerate(bars):
        begin = start + number * _STEPS * step
        for articulation, line in bar.lines:
            for i, letter in enumerate(line):
                if letter == ".":
                    continue
                place = begin + i * step + (hand.swing * step / 3 if i % 2 else 0.0)
                place += hand.push_ms / 1000 + random.normal(0, hand.spread_ms / 1000)
                strokes += _ornament(letter, articulation, max(0.0, place), step, hand, random)
        if bar.choke is not None:
            at = begin + bar.choke * step
            chokes += [Choke(at, a) for a, _ in bar.lines if a.startswith("crash")]
    strokes.sort()
    return Performance(tuple(strokes), tuple(chokes), start + len(bars) * _STEPS * step, bpm)


def improvise(bars: int, bpm: float, seed: int, hand: Feel | None = None) -> Performance:
    """Grooves of the drummer's own choice, with a fill every fourth bar."""
    random = np.random.default_rng(seed + 7919)
    chosen: list[Bar] = []
    groove = GROOVES[0]
    for number in range(bars):
        if number % 4 == 0:
            groove = GROOVES[int(random.integers(len(GROOVES)))]
        chosen.append(FILLS[int(random.integers(len(FILLS)))] if number % 4 == 3 else groove)
    return play(chosen, bpm, seed, hand)


def _ornament(
    letter: str, articulation: str, at: float, step: float, hand: Feel, random: np.random.Generator
) -> list[Stroke]:
    level = _LEVELS[letter] * _BY_ARTICULATION.get(articulation, 1.0) * hand.loudness

    def stroke(start: float, velocity: float, kind: str) -> Stroke:
        openness = _OPENNESS.get(articulation)
        if openness is not None:
            openness = max(0.0, min(1.0, openness + random.normal(0, 0.015)))
        loud = max(1, min(127, round(velocity * random.normal(1, 0.07))))
        return Stroke(max(0.0, start), articulation, loud, kind, openness)

    if letter == "o":
        return [stroke(at, level, "ghost")]
    if letter == "f":
        grace = at - random.uniform(0.018, 0.034)
        return [stroke(grace, level * 0.42, "flam grace"), stroke(at, level, "flam")]
    if letter == "d":
        gap = random.uniform(0.045, 0.06)
        graces = [stroke(at - 2 * gap, level * 0.38, "drag grace"), stroke(at - gap, level * 0.42, "drag grace")]
        return [*graces, stroke(at, level, "drag")]
    if letter == "r":
        # A buzz roll fills the beat evenly and grows a little; its gaps are those of bouncing sticks.
        count = int(4 * step / random.uniform(0.03, 0.042))
        times = at + np.arange(count) * (4 * step / count)
        return [
            stroke(t + random.normal(0, 0.0012), level * (0.72 + 0.3 * i / count), "roll") for i, t in enumerate(times)
        ]
    return [stroke(at, level, "hit")]
