"""A drum module whose faults are drawn anew for each kit, pad and pair of pads: no one range describes them.

A pad may ring after one time or several, a stick may bounce anywhere, hard strokes alone may do it or all. Of the
pairs of pads one may talk, those of a stand, all, or whatever the kick shakes; each has its own loudness, delay and
spread, also between stands. A fault that falls upon a stroke of its pad is not sent: the module makes one hit of both.
Shares no constant with the path or with the other modules.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TypeVar

import numpy as np

from puresignal.core.kit.note_map import NoteMap, Pad
from puresignal.sim.drum_module import DrumModule, Faults, Sent
from puresignal.sim.drummer import Performance, Stroke

ATTEMPTS = 40
LESS, LESS_AT_LEAST = 0.9, 0.5
"""Of the faults of a kit with too many, between so much is left at a time."""
WAYS = ("mended", "softer", "rarer", "harder")
"""How they are made fewer: pads and pairs without, softer ones, rarer ones, only after harder strokes."""
HARDER = 60.0
"""Velocity by which strokes must be harder to cause faults, for all of them less."""
MASK = 0.005
"""Seconds around a hit of a pad in which it sends no other."""


@dataclass(frozen=True)
class Echo:
    """A second hit that a pad sends now and then.

    gap, gap_spread      ms after the stroke, and its spread in logarithms
    level, level_spread  fraction of the stroke's velocity, and its spread in logarithms
    odds                 how often
    from_velocity        of strokes at least as hard
    """

    gap: float
    gap_spread: float
    level: float
    level_spread: float
    odds: float
    from_velocity: float


@dataclass(frozen=True)
class Passed:
    """What one pad passes on to another.

    level, level_spread  fraction of the stroke's velocity, and its spread in logarithms
    rises                exponent of that fraction over velocity: 0 if it is the same for all strokes
    delay, delay_spread  ms
    odds                 how often
    from_velocity        of strokes at least as hard
    """

    level: float
    level_spread: float
    rises: float
    delay: float
    delay_spread: float
    odds: float
    from_velocity: float


Fault = TypeVar("Fault", Echo, Passed)


@dataclass(frozen=True)
class KitFaults:
    """All faults of a kit.

    echoes  by note of the pad
    passed  by notes of the pad that is struck and of the one that is shaken
    least   velocity under which nothing is sent
    """

    echoes: dict[int, tuple[Echo, ...]]
    passed: dict[tuple[int, int], Passed]
    least: float


def drawn(kit: NoteMap, random: np.random.Generator) -> KitFaults:
    """The faults of a kit."""

    def between(low: float, high: float) -> float:
        """Evenly over the logarithm."""
        return float(np.exp(random.uniform(np.log(low), np.log(high))))

    def either(low: float, high: float) -> float:
        """That, or evenly."""
        return between(low, high) if random.random() < 0.4 else float(random.uniform(low, high))

    def echo() -> Echo:
        anywhere = random.random() < 0.25
        return Echo(
            gap=18.0 if anywhere else either(5, 65), gap_spread=0.6 if anywhere else between(0.01, 0.25),
            level=either(0.03, 0.75), level_spread=random.uniform(0.05, 0.5), odds=between(0.02, 1),
            from_velocity=random.uniform(20, 110) if random.random() < 0.4 else 0.0,
        )  # fmt: skip

    echoes = {
        pad.note: tuple(echo() for _ in range(random.choice([0, 1, 2, 3], p=[0.2, 0.35, 0.25, 0.2])))
        for pad in kit.pads
    }
    way = str(random.choice(["none", "one pair", "stands", "all", "kick"], p=[0.1, 0.15, 0.35, 0.25, 0.15]))
    usual, usual_level = random.uniform(-2, 8), either(0.02, 0.45)
    pairs = [(a, b) for a in kit.pads for b in kit.pads if _drum(a) != _drum(b) and _talks(way, a, b)]
    if way == "one pair" and pairs:
        pairs = [pairs[int(random.integers(len(pairs)))]]
    steady, spread = random.random() < 0.5, between(0.15, 3)
    passed = {}
    for a, b in pairs:
        delay = usual + random.normal(0, 2) if random.random() < 0.6 else random.uniform(-5, 28)
        passed[a.note, b.note] = Passed(
            level=float(np.clip(usual_level * random.lognormal(0, 0.7), 0.01, 0.5)),
            level_spread=random.uniform(0.05, 0.4), rises=random.uniform(-0.2, 0.6),
            delay=float(np.clip(delay, -5, 28)), delay_spread=spread * random.uniform(0.5, 1.5),
            odds=1.0 if steady else random.uniform(0.05, 1), from_velocity=0.0,
        )  # fmt: skip
    return KitFaults(echoes, passed, random.uniform(1, 6))


def _talks(way: str, a: Pad, b: Pad) -> bool:
    """Whether a pad may shake another one at all."""
    if way == "kick":
        return _drum(a) == "kick"
    return way in ("all", "one pair") or (way == "stands" and a.group is not None and a.group == b.group)


def _drum(pad: Pad) -> str:
    return pad.articulation.split(".")[0]


class RandomlyFaultyModule(DrumModule):
    """The module of a kit with such faults."""

    def __init__(self, kit: NoteMap, faults: KitFaults, seed: int = 0):
        super().__init__(kit, Faults(hanging=0.01, no_length=0.02, stray=0.005), seed)
        self._echoes = faults.echoes
        self._least = max(1.0, faults.least)
        by_note = {pad.note: pad for pad in kit.pads}
        self._passed: dict[int, list[tuple[Pad, Passed]]] = {}
        for (struck, shaken), row in faults.passed.items():
            self._passed.setdefault(struck, []).append((by_note[shaken], row))
        self._struck: dict[int, np.ndarray] = {}
        self._last_false: dict[int, float] = {}

    def perform(self, performance: Performance) -> Sent:
        """Everything that the module sends for a performance."""
        struck: dict[int, list[float]] = {}
        for stroke in performance.strokes:
            pad = self._pad(stroke.articulation)
            if pad is not None:
                struck.setdefault(pad.note, []).append(stroke.start)
        self._struck = {note: np.sort(times) for note, times in struck.items()}
        self._last_false = {}
        return super().perform(performance)

    def _misbehave(self, pad: Pad, stroke: Stroke) -> None:
        random, loud = self._random, stroke.velocity
        for echo in self._echoes[pad.note]:
            if loud >= echo.from_velocity and random.random() < echo.odds:
                gap = echo.gap * random.lognormal(0, echo.gap_spread)
                level = min(0.85, echo.level * random.lognormal(0, echo.level_spread))
                if 4 < gap < 70:
                    self._send_false(pad, stroke, gap, level, "double")
        for other, row in self._passed.get(pad.note, ()):
            if loud >= row.from_velocity and random.random() < row.odds:
                level = row.level * random.lognormal(0, row.level_spread) * (loud / 100) ** row.rises
                gap = random.normal(row.delay, row.delay_spread)
                self._send_false(other, stroke, gap, min(0.6, level), "crosstalk")

    def _send_false(self, pad: Pad, stroke: Stroke, gap: float, level: float, cause: str) -> None:
        at, velocity = stroke.start + gap / 1000, stroke.velocity * level
        if velocity < self._least or at <= 0:
            return
        struck = self._struck.get(pad.note, np.zeros(0))
        near = struck[max(0, int(np.searchsorted(struck, at)) - 1) :][:2]
        if (np.abs(near - at) < MASK).any() or abs(at - self._last_false.get(pad.note, -1.0)) < MASK:
            return
        self._last_false[pad.note] = at
        self._strike(pad, None, at, round(velocity), cause)


def _less(faults: KitFaults, part: float, way: str, random: np.random.Generator) -> KitFaults:
    """With about this part of what is wrong."""
    echoes, passed = faults.echoes, faults.passed
    if way == "mended":
        return replace(
            faults,
            echoes={note: tuple(one for one in rows if random.random() < part) for note, rows in echoes.items()},
            passed={pair: row for pair, row in passed.items() if random.random() < part},
        )

    def changed(one: Fault) -> Fault:
        if way == "softer":
            return replace(one, level=one.level * part)
        if way == "rarer":
            return replace(one, odds=one.odds * part)
        return replace(one, from_velocity=one.from_velocity + HARDER * (1 - part))

    return replace(
        faults,
        echoes={note: tuple(changed(one) for one in rows) for note, rows in echoes.items()},
        passed={pair: changed(row) for pair, row in passed.items()},
    )


def perform(kit: NoteMap, played: Performance, seed: int, least: float = 0.01, most: float = 0.12) -> Sent:
    """What a kit of `on_a_kit` sends."""
    return on_a_kit(kit, played, seed, least, most)[0]


def on_a_kit(
    kit: NoteMap, played: Performance, seed: int, least: float = 0.01, most: float = 0.12
) -> tuple[Sent, KitFaults]:  # fmt: skip
    """A performance on a kit whose faults are a share of the hits between two bounds, `least` and one drawn up to
    `most`: where there are too many, they are made fewer in one of four ways. With what
    is wrong with the kit.
    """
    best, nearest = None, np.inf
    random = np.random.default_rng([seed, 0])
    at_most, way = random.uniform(2 * least, most), str(random.choice(WAYS, p=(0.35, 0.15, 0.25, 0.25)))
    faults = drawn(kit, random)
    for attempt in range(ATTEMPTS):
        sent = RandomlyFaultyModule(kit, faults, seed * 100 + attempt).perform(played)
        share = sum(hit.stroke is None for hit in sent.hits) / max(1, len(sent.hits))
        if least <= share <= at_most:
            return sent, faults
        if abs(share - at_most) < nearest:
            best, nearest = (sent, faults), abs(share - at_most)
        if share > at_most:
            faults = _less(faults, float(np.clip(at_most / share, LESS_AT_LEAST, LESS)), way, random)
        else:
            # Nothing of it is heard: another kit.
            random = np.random.default_rng([seed, attempt + 1])
            faults = drawn(kit, random)
    assert best is not None
    return best
