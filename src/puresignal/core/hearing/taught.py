"""Taught sounds: a few examples of each, found again in a recording; "none of these" is an answer.

What a stroke sounds like (strokes.py) is projected to where takes of one sound lie close and other sounds far (linear
discriminants: R. A. Fisher, 1936, over many sounds at once), learnt by bench/train_ear.py from mouths and drums of our
own synthesis. There a stroke belongs to the sound whose examples are nearest, or to none.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing import rises, strokes
from puresignal.core.hearing.heard import DOUBTS, Hits, velocities
from puresignal.core.hearing.strokes import StrokeAnalysis

LEAST_EXAMPLES = 3
STRANGE = 3.2
"""So many usual distances from the nearest sound, and a stroke is none of them."""
ALIKE = 1.6
"""Sounds nearer to each other than this, in their own spreads, will be taken for each other."""
HARDLY = 0.2
"""An example in which nothing rises more than this holds no stroke."""
BREATH_DB = 30.0
"""What is softer than the loudest by so much must be very like a sound to be one."""


@dataclass(frozen=True, eq=False)
class Ground:
    """Where strokes are compared: features times `turn` (features, axes), in which takes of one sound vary by 1."""

    turn: np.ndarray

    def place(self, features: np.ndarray) -> np.ndarray:
        """(n, axes)"""
        return np.asarray(features @ self.turn)


@dataclass(frozen=True, eq=False)
class Taught:
    """What was taught.

    names   of the sounds
    middle  (sounds, axes) of each; takes: of each its examples (n, axes)
    spread  (sounds,) how much wider than usual its examples lie
    ground  where they are compared
    odd     (name, number of the example) of examples that are unlike the others of their name
    """

    names: tuple[str, ...]
    middle: np.ndarray
    takes: tuple[np.ndarray, ...]
    spread: np.ndarray
    ground: Ground
    odd: tuple[tuple[str, int], ...] = ()


def example(recording: np.ndarray) -> StrokeAnalysis:
    """An example analysed. recording (n,) at strokes.RATE, however closely it is cut."""
    return strokes.analyse(np.pad(np.asarray(recording, np.float32), round(0.3 * strokes.RATE)))


def teach(ground: Ground, examples: dict[str, list[StrokeAnalysis]]) -> Taught:
    """examples: for each name the analysed recordings, each with one or several strokes in it."""
    return placed(ground, {name: [_rows(recording) for recording in found] for name, found in examples.items()})


def placed(ground: Ground, examples: dict[str, list[list[np.ndarray]]]) -> Taught:
    """examples: for each name, of each recording the features of its strokes."""
    names, middles, takes, spreads, odd = [], [], [], [], []
    for name, recordings in sorted(examples.items()):
        rows = [(number, row) for number, recording in enumerate(recordings) for row in recording]
        if not rows:
            continue
        stack = ground.place(np.stack([row for _, row in rows]))
        middle = np.median(stack, axis=0) if len(stack) > 3 else stack.mean(axis=0)
        far = _far(stack, middle[None, :])[:, 0]
        usual = float(np.median(far))
        own = far > 2.0 * max(usual, 1.0)
        if own.any() and not own.all():
            odd += [(name, rows[i][0]) for i in np.flatnonzero(own).tolist()]
            stack = stack[~own]
            middle = stack.mean(axis=0)
        names.append(name)
        middles.append(middle)
        takes.append(stack)
        # Of a few examples their own scatter is half a guess, so the usual one counts as five more.
        spreads.append(max(0.8, (usual * len(far) + 5.0) / (len(far) + 5.0)))
    axes = ground.turn.shape[1]
    middle = np.stack(middles) if middles else np.zeros((0, axes))
    return Taught(tuple(names), middle, tuple(takes), np.array(spreads), ground, tuple(dict.fromkeys(odd)))


def _rows(analysis: StrokeAnalysis) -> list[np.ndarray]:
    found = strokes.beginnings(analysis, 0.5)
    if not len(found) and analysis.rises.max(initial=0.0) > HARDLY:
        found = np.array([(int(np.argmax(analysis.rises)) + 0.5) * rises.HOP / strokes.RATE])
    if not len(found):
        return []
    features = strokes.at(analysis, found)
    level = analysis.envelope.decibels_after(found)
    # Of one recording only what is about as loud as its loudest stroke is an example.
    return [row for row, db in zip(features, level, strict=True) if db > level.max() - 8]


def _far(places: np.ndarray, middle: np.ndarray) -> np.ndarray:
    """(n, sounds) distances, 1 for what is usual between takes of one sound."""
    off = places[:, None, :] - middle[None, :, :]
    return np.asarray(np.sqrt(np.minimum(off**2, 25.0).mean(axis=2)))


def classify(taught: Taught, features: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(n,) number of the nearest sound or -1, and how sure that is."""
    if not len(taught.names) or not len(features):
        return np.full(len(features), -1), np.zeros(len(features))
    places = taught.ground.place(features)
    # Half by the middle of a sound, which is steady, and half by its nearest example: some sounds have two ways.
    nearest_take = np.stack([_far(places, takes).min(axis=1) for takes in taught.takes], axis=1)
    far = 0.5 * (_far(places, taught.middle) + nearest_take)
    rows = np.arange(len(far))
    nearest = np.argmin(far, axis=1)
    best = far[rows, nearest]
    others = far.copy()
    others[rows, nearest] = np.inf
    second = others.min(axis=1) if len(taught.names) > 1 else best * 2
    limit = STRANGE * taught.spread[nearest]
    sure = np.clip(2 * (1 - best / (best + second)), 0, 1) * np.clip(2 * (1.05 - best / limit), 0, 1)
    return np.where(best > limit, -1, nearest), sure


def hits(taught: Taught, analysis: StrokeAnalysis, eagerness: float = 0.5) -> Hits:
    """The taught sounds in a recording; what is none of them is left out, what may be breath proposed for removal."""
    found = strokes.beginnings(analysis, eagerness)
    sound, sure = classify(taught, strokes.at(analysis, found))
    level = analysis.envelope.decibels_after(found)
    kept = sound >= 0
    # Breath between the hits is soft, and like nothing much.
    soft = (level < np.quantile(level, 0.9) - BREATH_DB) & (sure <= 0.6) if len(level) else kept
    doubt = np.where(soft, DOUBTS.index("too soft"), 0)
    return Hits(found[kept], sound[kept], velocities(level[kept]), sure[kept], doubt[kept])


def doubts(taught: Taught) -> list[str]:
    """What is to be said about the examples: too few, one unlike the others, sounds that are much alike."""
    said = [
        f"{name} has {len(takes)} usable example{'s' if len(takes) != 1 else ''}; {LEAST_EXAMPLES} or more are better"
        for name, takes in zip(taught.names, taught.takes, strict=True)
        if len(takes) < LEAST_EXAMPLES
    ]
    said += [f"example {number + 1} of {name} is unlike its others and is not used" for name, number in taught.odd]
    apart = told_apart(taught)
    return said + [
        f"{taught.names[i]} and {taught.names[j]} sound much alike and may be taken for each other"
        for i in range(len(apart))
        for j in range(i + 1, len(apart))
        if min(apart[i, j], apart[j, i]) < ALIKE
    ]


def told_apart(taught: Taught) -> np.ndarray:
    """(sounds, sounds) how well each two can be told apart: their distance in their own spreads."""
    far = _far(taught.middle, taught.middle)
    return np.asarray(far / (0.5 * (taught.spread[:, None] + taught.spread[None, :])))
