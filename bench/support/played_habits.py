"""Habits of playing that look like faults, drawn by chance and added to a performance: nothing is a fault because our
drummer never plays it.

A tap after strokes of a drum, always after much the same time; soft strokes of a second drum along with those of a
first, by their own loudness or by that of the hit, and some of them alone; graces before loud strokes; rolls that
grow, die away, or lean on one hand.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from puresignal.sim.adversarial_takes import spaced
from puresignal.sim.drummer import Performance, Stroke

HABITS = 0.35
"""How likely each habit is in a take."""
STRUCK_SOFTLY = ("kick", "snare.head", "hat.closed", "tom1.head", "tom2.head", "tom3.head", "ride.bow", "hat.pedal")
"""What is struck along with something else."""
OPENNESS = {"hat.closed": 0.0, "hat.pedal": 0.0}


def with_habits(played: Performance, seed: int) -> Performance:
    """The performance with some habits."""
    chance = np.random.default_rng([seed, 91])
    strokes = list(played.strokes)
    for habit in (_taps, _along, _graces, _rolls, _along):
        if chance.random() < HABITS:
            strokes += habit(played, chance)
    return replace(played, strokes=spaced(tuple(strokes)))


def _some(played: Performance, chance: np.random.Generator) -> list[Stroke]:
    """Some or all strokes of a drum, that was struck a few times at least."""
    by_drum: dict[str, list[Stroke]] = {}
    for stroke in played.strokes:
        by_drum.setdefault(stroke.articulation, []).append(stroke)
    enough = [mine for mine in by_drum.values() if len(mine) >= 6]
    if not enough:
        return []
    mine = enough[int(chance.integers(len(enough)))]
    way = chance.random()
    if way < 0.35:
        return mine
    if way < 0.6:
        # Accents only.
        usual = float(np.median([stroke.velocity for stroke in mine]))
        return [stroke for stroke in mine if stroke.velocity > usual] or mine
    if way < 0.8:
        return mine[:: int(chance.integers(2, 5))]
    share = chance.uniform(0.05, 0.6)
    return [stroke for stroke in mine if chance.random() < share]


def _struck(at: float, articulation: str, loud: float, kind: str) -> Stroke:
    return Stroke(max(0.0, at), articulation, int(np.clip(loud, 3, 127)), kind, OPENNESS.get(articulation))


def _taps(played: Performance, chance: np.random.Generator) -> list[Stroke]:
    gap, part = float(np.exp(chance.uniform(np.log(0.042), np.log(0.22)))), float(chance.uniform(0.2, 1.0))
    exact, even = float(chance.uniform(0.0, 0.008)), float(chance.uniform(0.02, 0.2))
    return [
        _struck(stroke.start + gap + chance.normal(0, exact), stroke.articulation,
                stroke.velocity * part * np.exp(chance.normal(0, even)), "tap")
        for stroke in _some(played, chance)
    ]  # fmt: skip


def _along(played: Performance, chance: np.random.Generator) -> list[Stroke]:
    first = _some(played, chance)
    if not first:
        return []
    others = [one for one in STRUCK_SOFTLY if one.split(".")[0] != first[0].articulation.split(".")[0]]
    drum = others[int(chance.integers(len(others)))]
    late, apart = float(chance.uniform(-0.004, 0.004)), float(chance.uniform(0.002, 0.008))
    loud, even = float(np.exp(chance.uniform(np.log(7), np.log(110)))), float(chance.uniform(0.04, 0.25))
    follows = chance.random() < 0.3
    part = float(chance.uniform(0.1, 0.9))
    found = [
        _struck(stroke.start + late + chance.normal(0, apart), drum,
                (stroke.velocity * part if follows else loud) * np.exp(chance.normal(0, even)), "along")
        for stroke in first
    ]  # fmt: skip
    if chance.random() < 0.4:
        # Now and then it is struck alone, too.
        for _ in range(int(chance.integers(1, 12))):
            at = chance.uniform(0.3, max(0.4, played.seconds - 2))
            found.append(_struck(at, drum, loud * np.exp(chance.normal(0, even)), "along"))
    return found


def _graces(played: Performance, chance: np.random.Generator) -> list[Stroke]:
    gap, part = float(chance.uniform(0.014, 0.07)), float(chance.uniform(0.15, 1.0))
    many, even = int(chance.choice((1, 1, 2))), float(chance.uniform(0.05, 0.25))
    return [
        _struck(stroke.start - gap * k + chance.normal(0, 0.1 * gap), stroke.articulation,
                stroke.velocity * part * np.exp(chance.normal(0, even)), "flam grace")
        for stroke in _some(played, chance)
        for k in range(1, many + 1)
    ]  # fmt: skip


def _rolls(played: Performance, chance: np.random.Generator) -> list[Stroke]:
    found: list[Stroke] = []
    starts = _some(played, chance)
    for stroke in starts[: int(chance.integers(1, 9))]:
        gap, count = float(np.exp(chance.uniform(np.log(0.034), np.log(0.12)))), int(chance.integers(3, 20))
        lean, grows = float(chance.uniform(0.55, 1.0)), float(chance.uniform(-0.12, 0.08))
        slower = float(chance.uniform(-0.04, 0.06))
        loud = float(chance.uniform(30, 110))
        at = stroke.start
        for i in range(1, count):
            at += gap * np.exp(slower * i) + chance.normal(0, 0.05 * gap)
            level = loud * np.exp(grows * i + chance.normal(0, 0.08)) * (lean if i % 2 else 1.0)
            found.append(_struck(at, stroke.articulation, level, "roll"))
    return found
