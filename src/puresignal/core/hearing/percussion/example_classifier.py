"""Taught sounds: a few examples of each, found again in a recording; "none of these" is an answer.

What a stroke sounds like (strokes.py) is turned to where takes of one sound lie about as close in every direction (the
distance of P. C. Mahalanobis, 1936, by what varies between takes and between rooms, in part: J. H. Friedman,
Regularized discriminant analysis, 1989), learnt by bench/train_ear.py from mouths and drums of our own synthesis. There
a stroke belongs to the sound whose examples are nearest, or to none. A sound of several parts is one hit: what comes
after its beginning is known from its examples as well.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing.dsp import spectral_flux
from puresignal.core.hearing.percussion import stroke_features
from puresignal.core.hearing.percussion.stroke_features import StrokeAnalysis
from puresignal.core.hearing.transcribed import REMOVAL_REASONS, TranscribedHits, velocities

LEAST_EXAMPLES = 3
STRANGE = 1.8
"""So many usual distances from the nearest sound, and a stroke is none of them."""
PARTS, FAINT, SOFTER = 0.16, 24.0, 8.0
"""Seconds between the parts of one sound at most, decibels by which its first may be softer than its loudest, and by
which a sound may be softer than the loudest one of its recording to be an example."""
LATER = np.arange(0.05, 0.35, 0.005)
"""Seconds after its beginning at which a sound is still looked at."""
GOES_ON = 0.9
"""So much nearer what goes on must be to a stroke than the nearest sound, for it to be no stroke."""
ALIKE = 1.3
"""Sounds nearer to each other than this, in their own spreads, will be taken for each other."""
ODD = 1.5
"""An example so many usual distances from the middle of its sound is unlike the others."""
AT_ONCE = 512
"""Strokes that are compared together: bounds the memory, whatever the length."""
HARDLY = 0.2
"""An example in which nothing rises more than this holds no stroke."""
BREATH_DB = 30.0
"""What is softer than the loudest by so much must be very like a sound to be one."""


@dataclass(frozen=True, eq=False)
class FeatureSpace:
    """Where strokes are compared: features times `turn` (features, axes), in which takes of one sound vary by 1."""

    turn: np.ndarray

    def place(self, features: np.ndarray) -> np.ndarray:
        """(..., features) to (..., axes)"""
        return np.asarray(features @ self.turn)

    def far(self, bounds: np.ndarray, rows: np.ndarray) -> np.ndarray:
        """(n, rows) distances of what lies between bounds (n, 2, features) from rows (n or 1, rows, features).

        Each is taken for as like the row as its bounds allow; 1 is usual between takes of one sound.
        """
        off = self.place(np.clip(rows, bounds[:, :1], bounds[:, 1:]) - rows)
        return np.asarray(np.sqrt(np.einsum("nrk,nrk->nr", off, off) / off.shape[2]))


def _apart(places: np.ndarray, others: np.ndarray) -> np.ndarray:
    """(n, axes) and (m, axes) to (n, m) distances."""
    squares = (places**2).sum(axis=1)[:, None] + (others**2).sum(axis=1) - 2 * places @ others.T
    return np.asarray(np.sqrt(np.maximum(0, squares) / max(1, places.shape[1])))


@dataclass(frozen=True, eq=False)
class Stroke:
    """One stroke of an example: (features,) at its beginning, and (LATER, features) of what comes after it."""

    row: np.ndarray
    continuations: np.ndarray


@dataclass(frozen=True, eq=False)
class ExampleSet:
    """What was taught.

    names   of the sounds
    middle  (sounds, features) of each; takes: of each its examples (n, features)
    places  of each its middle and its examples where they are compared (1 + n, axes)
    later   of each what comes after the beginning of its examples, there (n, LATER, axes)
    spread  (sounds,) how much wider than usual its examples lie
    ground  where they are compared
    odd     (name, number of the example) of examples that are unlike the others of their name
    """

    names: tuple[str, ...]
    middle: np.ndarray
    takes: tuple[np.ndarray, ...]
    places: tuple[np.ndarray, ...]
    continuations: tuple[np.ndarray, ...]
    spread: np.ndarray
    feature_space: FeatureSpace
    outliers: tuple[tuple[str, int], ...] = ()


def example(recording: np.ndarray) -> StrokeAnalysis:
    """An example analysed. recording (n,) at strokes.RATE, however closely it is cut."""
    return stroke_features.analyse(np.pad(np.asarray(recording, np.float32), round(0.3 * stroke_features.RATE)))


def teach(feature_space: FeatureSpace, examples: dict[str, list[StrokeAnalysis]]) -> ExampleSet:
    """examples: for each name the analysed recordings, each with one or several strokes in it."""
    return placed(
        feature_space, {name: [_strokes(recording) for recording in found] for name, found in examples.items()}
    )


def placed(feature_space: FeatureSpace, examples: dict[str, list[list[Stroke]]]) -> ExampleSet:
    """examples: for each name, of each recording its strokes."""
    names, middles, takes, places, laters, spreads, outliers = [], [], [], [], [], [], []
    for name, recordings in sorted(examples.items()):
        rows = [(number, stroke) for number, recording in enumerate(recordings) for stroke in recording]
        if not rows:
            continue
        stack, continuations = (
            np.stack([stroke.row for _, stroke in rows]),
            np.stack([stroke.continuations for _, stroke in rows]),
        )
        middle = np.median(stack, axis=0) if len(stack) > 3 else stack.mean(axis=0)
        far = feature_space.far(exactly(stack), middle[None, None, :])[:, 0]
        usual = float(np.median(far))
        own = far > ODD * max(usual, 1.0)
        if own.any() and not own.all():
            outliers += [(name, rows[i][0]) for i in np.flatnonzero(own).tolist()]
            stack, continuations = stack[~own], continuations[~own]
            middle = stack.mean(axis=0)
        names.append(name)
        middles.append(middle)
        takes.append(stack)
        places.append(feature_space.place(np.concatenate([middle[None], stack])))
        laters.append(feature_space.place(continuations))
        # Of a few examples their own scatter is half a guess, so the usual one counts as five more.
        spreads.append(max(1.0, (usual * len(far) + 5.0) / (len(far) + 5.0)))
    middle = np.stack(middles) if middles else np.zeros((0, len(feature_space.turn)), np.float32)
    told_odd = tuple(dict.fromkeys(outliers))
    return ExampleSet(
        tuple(names), middle, tuple(takes), tuple(places), tuple(laters), np.array(spreads), feature_space, told_odd
    )


def first_parts(moments: np.ndarray, level: np.ndarray) -> np.ndarray:
    """Which of the strokes of an example begin a sound: of a sound of several parts the first that is plainly heard.

    moments (n,) rising seconds, level (n,) decibels; sounds much softer than the loudest one are left out
    """
    sound = np.cumsum(np.diff(moments, prepend=moments[:1]) > PARTS)
    first = []
    for number in np.unique(sound):
        own = np.flatnonzero(sound == number)
        if level[own].max() > level.max() - SOFTER:
            first.append(own[level[own] > level[own].max() - FAINT][0])
    return np.array(first, int)


def _strokes(analysis: StrokeAnalysis) -> list[Stroke]:
    found = stroke_features.beginnings(analysis, 0.5)
    if not len(found) and analysis.rises.max(initial=0.0) > HARDLY:
        found = np.array([(int(np.argmax(analysis.rises)) + 0.5) * spectral_flux.HOP / stroke_features.RATE])
    if not len(found):
        return []
    found = found[first_parts(found, analysis.envelope.decibels_after(found))]
    rows = stroke_features.at(analysis, found)
    return [
        Stroke(row, stroke_features.at(analysis, moment + LATER))
        for row, moment in zip(rows, found.tolist(), strict=True)
    ]


def exactly(features: np.ndarray) -> np.ndarray:
    """(n, features) as bounds (n, 2, features) that leave nothing open."""
    return np.repeat(features[:, None, :], 2, axis=1)


def classify(examples_set: ExampleSet, bounds: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(n,) number of the nearest sound or -1, and how sure that is; bounds (n, 2, features): strokes.with_bounds()."""
    if not len(examples_set.names) or not len(bounds):
        return np.full(len(bounds), -1), np.zeros(len(bounds))
    far = _far(examples_set, bounds)
    rows = np.arange(len(far))
    nearest = np.argmin(far, axis=1)
    best = far[rows, nearest]
    others = far.copy()
    others[rows, nearest] = np.inf
    second = others.min(axis=1) if len(examples_set.names) > 1 else best * 2
    limit = STRANGE * examples_set.spread[nearest]
    confidence = np.clip(2 * (1 - best / (best + second)), 0, 1) * np.clip(2 * (1.05 - best / limit), 0, 1)
    return np.where(best > limit, -1, nearest), confidence


def _far(examples_set: ExampleSet, bounds: np.ndarray) -> np.ndarray:
    """(n, 2, features) to (n, sounds) distances."""
    out = np.empty((len(bounds), len(examples_set.names)), np.float32)
    for begin in range(0, len(bounds), AT_ONCE):
        part = bounds[begin : begin + AT_ONCE]
        # The example that is nearest to what is seen; how near it may be is then asked of that alone.
        seen = examples_set.feature_space.place(part[:, 1])
        nearest = [
            takes[_apart(seen, own[1:]).argmin(axis=1)]
            for takes, own in zip(examples_set.takes, examples_set.places, strict=True)
        ]
        # Half by the middle of a sound, which is steady, and half by its nearest example: some sounds have two ways.
        middle = examples_set.feature_space.far(part, examples_set.middle[None])
        out[begin : begin + AT_ONCE] = 0.5 * (middle + examples_set.feature_space.far(part, np.stack(nearest, axis=1)))
    return out


class ContinuationFilter:
    """Tells what goes on from what begins, stroke by stroke: a sound of several parts is one hit."""

    def __init__(self, examples_set: ExampleSet) -> None:
        self._taught = examples_set
        self._before: list[tuple[float, int]] = []

    def hits(self, features: np.ndarray, moments: np.ndarray, sounds: np.ndarray) -> np.ndarray:
        """(n,) whether each stroke is a hit, and not the rest of one before it; the next ones, at rising moments.

        features (n, features) of them; sounds (n,) which sound each was taken for, -1 where it is none
        """
        begun = np.flatnonzero(sounds >= 0)
        out = np.zeros(len(sounds), bool)
        if not len(begun):
            return out
        places = self._taught.feature_space.place(features[begun])
        before = len(self._before)
        at = np.concatenate([[moment for moment, _ in self._before], moments[begun]])
        which = np.concatenate([[sound for _, sound in self._before], sounds[begun]]).astype(int)
        kept = np.ones(len(at), bool)
        # Rising, so that whether the earlier one is a hit itself is known by then.
        for continuations, earlier in self._rests(places, at, which, before):
            kept[continuations] &= not kept[earlier]
        recent = kept & (at > at[-1] - LATER[-1])
        self._before = list(zip(at[recent].tolist(), which[recent].tolist(), strict=True))
        out[begun] = kept[before:]
        return out

    def _rests(self, places: np.ndarray, at: np.ndarray, which: np.ndarray, before: int) -> list[tuple[int, int]]:
        """Which strokes, from `before` on, are more like what goes on from which earlier one than like a sound."""
        known = self._taught.places
        nearest = np.min([0.5 * (_apart(places, own[:1])[:, 0] + _apart(places, own[1:]).min(axis=1))
                          for own in known], axis=0)  # fmt: skip
        squares = (places**2).sum(axis=1)
        nearer = (GOES_ON * nearest) ** 2 * places.shape[1] - squares
        first = np.searchsorted(at, at - LATER[-1], side="right")
        count = np.where(np.arange(len(at)) < before, 0, np.arange(len(at)) - first)
        continuations = np.repeat(np.arange(len(at)), count)
        earlier = np.arange(len(continuations)) - np.repeat(np.cumsum(count) - count - first, count)
        steps = np.rint((at[continuations] - at[earlier] - LATER[0]) / (LATER[1] - LATER[0])).astype(int)
        continuations, earlier, steps = (each[steps >= -2] for each in (continuations, earlier, steps))
        rest = np.zeros(len(continuations), bool)
        # Those that come as long after the same sound are held against the same.
        together = which[earlier] * (len(LATER) + 3) + steps
        order = np.argsort(together, kind="stable")
        for own in np.split(order, np.flatnonzero(np.diff(together[order])) + 1) if len(order) else []:
            step, sound = int(steps[own[0]]), int(which[earlier[own[0]]])
            goes_on = self._taught.continuations[sound][:, max(0, step - 2) : step + 3].reshape(-1, places.shape[1])
            stroke = continuations[own] - before
            off = (goes_on**2).sum(axis=1) - 2 * places[stroke] @ goes_on.T
            rest[own] = off.min(axis=1) < nearer[stroke]
        return list(zip(continuations[rest].tolist(), earlier[rest].tolist(), strict=True))


def hits(examples_set: ExampleSet, analysis: StrokeAnalysis, sensitivity: float = 0.5) -> TranscribedHits:
    """The taught sounds in a recording; what is none of them is left out, what may be breath proposed for removal."""
    found = stroke_features.beginnings(analysis, sensitivity)
    features, bounds = stroke_features.with_bounds(analysis, found)
    sound, confidence = classify(examples_set, bounds)
    level = analysis.envelope.decibels_after(found)
    kept = ContinuationFilter(examples_set).hits(features, found, sound)
    # Breath between the hits is soft, and like nothing much.
    soft = (level < np.quantile(level, 0.9) - BREATH_DB) & (confidence <= 0.6) if len(level) else kept
    removal_reason = np.where(soft, REMOVAL_REASONS.index("too soft"), 0)
    return TranscribedHits(found[kept], sound[kept], velocities(level[kept]), confidence[kept], removal_reason[kept])


def removal_reasons(examples_set: ExampleSet) -> list[str]:
    """What is to be said about the examples: too few, one unlike the others, sounds that are much alike."""
    said = [
        f"{name} has {len(takes)} usable example{'s' if len(takes) != 1 else ''}; {LEAST_EXAMPLES} or more are better"
        for name, takes in zip(examples_set.names, examples_set.takes, strict=True)
        if len(takes) < LEAST_EXAMPLES
    ]
    said += [
        f"example {number + 1} of {name} is unlike its others and is not used" for name, number in examples_set.outliers
    ]
    apart = told_apart(examples_set)
    return said + [
        f"{examples_set.names[i]} and {examples_set.names[j]} sound much alike and may be taken for each other"
        for i in range(len(apart))
        for j in range(i + 1, len(apart))
        if min(apart[i, j], apart[j, i]) < ALIKE
    ]


def told_apart(examples_set: ExampleSet) -> np.ndarray:
    """(sounds, sounds) how well each two can be told apart: their distance in their own spreads."""
    middle = examples_set.feature_space.place(examples_set.middle)
    far = _apart(middle, middle)
    return np.asarray(far / (0.5 * (examples_set.spread[:, None] + examples_set.spread[None, :])))
