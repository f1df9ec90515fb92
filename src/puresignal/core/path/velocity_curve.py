"""Shaping velocities: curve, range, threshold, spread, accents; and drawing by chance."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from functools import lru_cache

import numpy as np

from puresignal.core.path.setting import setting
from puresignal.translation import mark

STRAIGHT = ((1.0, 1.0), (127.0, 127.0))
LEAST, MOST = 1.0, 127.0
ALL = "*"
"""The key of the shape for every drum and track without one of its own."""
TRACK = "track:"
"""The prefix of the key of a pitched track's shape; the track's own key follows."""


@dataclass(frozen=True)
class Shape:
    """How the velocities of a drum, or of all drums, are shaped. Velocities are 1..127.

    curve      (in, out) points, in rising; linear between them
    threshold  hits up to this are removed, and those just above it start at the softest velocity
    low, high  range of the output; the curve is scaled into it
    scale, offset  factor and sum applied after that
    fixed      one velocity for every hit; 0: off
    spread     1: as played; 0: all at the centre; above 1: wider
    centre     centre of the spread; 0: the middle of the curve
    accents    hits from this velocity keep their distance above it when the spread is narrowed; 0: off
    """

    curve: tuple[tuple[float, float], ...] = setting(
        STRAIGHT, mark("Points of velocity in and out, with straight lines between.")
    )
    threshold: float = setting(
        0.0, mark("Hits up to this are removed; those just above leave softly."), label=mark("Threshold"), high=126.0
    )
    low: float = setting(LEAST, mark("No hit leaves softer than this."), label=mark("Minimum"), low=LEAST, high=MOST)
    high: float = setting(MOST, mark("No hit leaves harder than this."), label=mark("Maximum"), low=LEAST, high=MOST)
    scale: float = setting(
        1.0, mark("Factor on every velocity."), label=mark("Scale"), unit="%", high=4.0, reach=2.0, step=0.01
    )
    offset: float = setting(
        0.0, mark("Added to every velocity."), label=mark("Offset"), low=-MOST, high=MOST, reach=60.0
    )
    fixed: float = setting(0.0, mark("One velocity for every hit; 0: off."), label=mark("Fixed"), high=MOST)
    spread: float = setting(
        1.0, mark("From all even (0 %) through as played (100 %) to wider."),
        label=mark("Spread"), unit="%", high=3.0, reach=2.0, step=0.01,
    )  # fmt: skip
    centre: float = setting(
        0.0, mark("Centre of the spread; 0: the middle of the curve."), label=mark("Centre"), high=MOST
    )
    accents: float = setting(
        0.0,
        mark("Hits from this velocity keep their distance above it; 0: off."),
        label=mark("Accents from"),
        high=MOST,
    )

    @property
    def plain(self) -> bool:
        """Whether velocities pass unchanged."""
        return self == Shape()


@lru_cache(maxsize=256)
def table(shape: Shape) -> np.ndarray:
    """(128,) float64 output for velocities 0..127; NaN where the hit is removed."""
    velocity = np.arange(128, dtype=np.float64)
    gone = velocity <= shape.threshold if shape.threshold > 0 else np.zeros(128, bool)
    if shape.threshold > 0:
        velocity = LEAST + (velocity - shape.threshold) / (MOST - shape.threshold) * (MOST - LEAST)
    xs, ys = (np.array(axis, np.float64) for axis in zip(*shape.curve, strict=True))
    out = np.interp(velocity, xs, ys)
    if shape.spread != 1.0:
        centre = shape.centre or float(np.interp(64.0, xs, ys))
        distance = out - centre
        if shape.accents > 0:
            # An accent keeps its distance above the accent level; everything below is narrowed.
            over = np.maximum(0.0, out - shape.accents)
            distance = np.minimum(out, shape.accents) - centre
            out = centre + shape.spread * distance + over
        else:
            out = centre + shape.spread * distance
    if (shape.low, shape.high) != (LEAST, MOST):
        out = shape.low + (np.clip(out, LEAST, MOST) - LEAST) / (MOST - LEAST) * (shape.high - shape.low)
    out = out * shape.scale + shape.offset
    if shape.fixed > 0:
        out = np.full(128, float(shape.fixed))
    made = np.where(gone, np.nan, np.clip(out, LEAST, MOST))
    made.flags.writeable = False
    return made


def through(tables: np.ndarray, which: np.ndarray, velocity: np.ndarray) -> np.ndarray:
    """Velocities through their tables, interpolated linearly.

    tables  (shapes, 128); which: (n,) row of each velocity
    """
    velocity = np.asarray(velocity, np.float64)
    below = np.clip(np.floor(velocity), 0, 126).astype(np.int64)
    part = velocity - below
    first, second = tables[which, below], tables[which, below + 1]
    # At a whole velocity only its own entry counts, so that a removed neighbour has no effect.
    return np.asarray(np.where(part == 0, first, np.where(part == 1, second, first + part * (second - first))))


def draw(seed: int, origin: np.ndarray, round_: int) -> np.ndarray:
    """(n,) random values -1..1 by note origin, independent of all other notes.

    Source  SplitMix64 (G. Steele, D. Lea and C. Flood, Fast Splittable Pseudorandom Number Generators, 2014) as a hash
    """
    with np.errstate(over="ignore"):
        x = np.asarray(origin, np.uint64) + np.uint64((seed * 0x9E3779B97F4A7C15 + round_ * 0xD1B54A32D192ED03) % 2**64)
        x = (x + np.uint64(0x9E3779B97F4A7C15)) * np.uint64(0xBF58476D1CE4E5B9)
        x ^= x >> np.uint64(30)
        x *= np.uint64(0xBF58476D1CE4E5B9)
        x ^= x >> np.uint64(27)
        x *= np.uint64(0x94D049BB133111EB)
        x ^= x >> np.uint64(31)
    return np.asarray((x >> np.uint64(11)).astype(np.float64) / 2**52 - 1.0)


def leaves_as(shape: Shape, velocity: float) -> float:
    """The output for one velocity; NaN if it is removed."""
    return float(through(table(shape)[None, :], np.zeros(1, int), np.array([velocity]))[0])


def with_field(shape: Shape, name: str, value: object) -> Shape:
    """A shape with one setting changed; ranges stay in order."""
    shape = replace(shape, **{name: value})  # type: ignore[arg-type]
    if shape.low > shape.high:
        shape = replace(shape, **{"high" if name == "low" else "low": value})  # type: ignore[arg-type]
    return shape


def evened(
    velocities: dict[str, np.ndarray], shares: tuple[float, ...] = (0.1, 0.3, 0.5, 0.7, 0.9)
) -> dict[str, Shape]:
    """Curves that match pads: soft, medium and hard hits of each get the velocities of those of all pads.

    Quantile matching: a hit at some quantile of its pad gets the velocity at that quantile of all pads. Pads with
    fewer than eight hits are left alone.
    """
    known = {name: v for name, v in velocities.items() if len(v) >= 8}
    if len(known) < 2:
        return {}
    quantiles = {name: np.quantile(v, shares) for name, v in known.items()}
    goal = np.median(np.stack(list(quantiles.values())), axis=0)
    found = {}
    for name, own in quantiles.items():
        points = [(LEAST, LEAST)]
        for x, y in zip(own.tolist(), goal.tolist(), strict=True):
            if x > points[-1][0] + 0.5:
                points.append((round(x, 1), round(max(y, points[-1][1]), 1)))
        if points[-1][0] < MOST - 0.5:
            points.append((MOST, MOST))
        found[name] = Shape(curve=tuple(points))
    return found


NUMBERS = tuple(f.name for f in fields(Shape) if f.name != "curve")
