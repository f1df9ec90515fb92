"""Taught sounds: finds a few taught examples again in a recording; "none of these" is a possible answer.

Features of a stroke (stroke_features.py) are transformed so that takes of one sound vary about equally in every
direction; the transform is learnt by training/train_ear.py from synthesised mouth sounds and drums. A stroke belongs
to the sound with the nearest examples, or to none. A sound of several parts is one hit: its continuation is known
from its examples too.

Source  P. C. Mahalanobis, 1936; J. H. Friedman, Regularized discriminant analysis, 1989
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing.dsp import spectral_flux
from puresignal.core.hearing.percussion import stroke_features
from puresignal.core.hearing.percussion.stroke_features import StrokeAnalysis
from puresignal.core.hearing.transcribed import REMOVAL_REASONS, TranscribedHits, velocities
from puresignal.translation import count_tr, tr

LEAST_EXAMPLES = 3
STRANGE = 1.8
"""Distance from the nearest sound, in usual distances, beyond which a stroke is none of them."""
PARTS, FAINT, SOFTER = 0.16, 24.0, 8.0
"""Longest time between the parts of one sound in seconds; decibels by which its first part may be softer than its
loudest; and decibels by which an example may be softer than the loudest of its recording.
"""
LATER = np.arange(0.05, 0.35, 0.005)
"""Seconds after its onset at which a sound is followed."""
GOES_ON = 0.9
"""How much nearer to a continuation than to any sound a stroke must be to count as one."""
ALIKE = 1.3
"""Sounds closer to each other than this, in their own spreads, will be confused."""
ODD = 1.5
"""Distance from the centre of its sound, in usual distances, at which an example is an outlier."""
AT_ONCE = 512
"""Strokes compared together: bounds the memory for any length."""
HARDLY = 0.2
"""Rise below which an example contains no stroke."""
BREATH_DB = 30.0
"""Decibels below the loudest at which a stroke must match a sound closely."""


@dataclass(frozen=True, eq=False)
class FeatureSpace:
    """The space in which strokes are compared: features times `turn` (features, axes), where takes of one sound vary
    by 1."""

    turn: np.ndarray

    def place(self, features: np.ndarray) -> np.ndarray:
        """Transform (..., features) to (..., axes)."""
        return np.asarray(features @ self.turn)

    def far(self, bounds: np.ndarray, rows: np.ndarray) -> np.ndarray:
        """(n, rows) distances of bounded features (n, 2, features) from rows (n or 1, rows, features).

        Within its bounds each stroke is taken to be as similar as possible; 1 is usual between takes of one sound.
        """
        off = self.place(np.clip(rows, bounds[:, :1], bounds[:, 1:]) - rows)
        return np.asarray(np.sqrt(np.einsum("nrk,nrk->nr", off, off) / off.shape[2]))


def _apart(places: np.ndarray, others: np.ndarray) -> np.ndarray:
    """(n, axes) and (m, axes) to (n, m) distances."""
    squares = (places**2).sum(axis=1)[:, None] + (others**2).sum(axis=1) - 2 * places @ others.T
    return np.asarray(np.sqrt(np.maximum(0, squares) / max(1, places.shape[1])))


@dataclass(frozen=True, eq=False)
class Stroke:
    """One stroke of an example: (features,) at its onset, and (LATER, features) of its continuation."""

    row: np.ndarray
    continuations: np.ndarray


@dataclass(frozen=True, eq=False)
class ExampleSet:
    """The taught sounds.

    names          of the sounds
    middle         (sounds, features) centre of each; takes: the examples of each (n, features)
    places         centre and examples of each in the feature space (1 + n, axes)
    continuations  of the examples of each, in the feature space (n, LATER, axes)
    spread         (sounds,) spread of its examples relative to the usual one
    feature_space  in which they are compared
    outliers       (name, number of the example) of examples unlike the others of their name
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
    """Analyse an example. recording: (n,) at stroke_features.RATE, however closely it is cut."""
    return stroke_features.analyse(np.pad(np.asarray(recording, np.float32), round(0.3 * stroke_features.RATE)))


def teach(feature_space: FeatureSpace, examples: dict[str, list[StrokeAnalysis]]) -> ExampleSet:
    """examples: for each name the analysed recordings, each with one or more strokes."""
    return placed(
        feature_space, {name: [_strokes(recording) for recording in found] for name, found in examples.items()}
    )


def placed(feature_space: FeatureSpace, examples: dict[str, list[list[Stroke]]]) -> ExampleSet:
    """examples: for each name the strokes of each recording."""
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
        # The spread of few examples is uncertain, so the usual spread counts as five more.
        spreads.append(max(1.0, (usual * len(far) + 5.0) / (len(far) + 5.0)))
    middle = np.stack(middles) if middles else np.zeros((0, len(feature_space.turn)), np.float32)
    told_odd = tuple(dict.fromkeys(outliers))
    return ExampleSet(
        tuple(names), middle, tuple(takes), tuple(places), tuple(laters), np.array(spreads), feature_space, told_odd
    )


def first_parts(moments: np.ndarray, level: np.ndarray) -> np.ndarray:
    """(n,) bool: the strokes of an example that begin a sound; of a sound of several parts the first clear one.

    moments  (n,) rising seconds; level: (n,) decibels; sounds much softer than the loudest are left out
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
    """(n, features) as bounds (n, 2, features) of zero width."""
    return np.repeat(features[:, None, :], 2, axis=1)


def classify(examples_set: ExampleSet, bounds: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(n,) number of the nearest sound or -1, and confidence. bounds: (n, 2, features) from with_bounds()."""
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
        # The example nearest to the observed features; the bounds are then used for that one only.
        seen = examples_set.feature_space.place(part[:, 1])
        nearest = [
            takes[_apart(seen, own[1:]).argmin(axis=1)]
            for takes, own in zip(examples_set.takes, examples_set.places, strict=True)
        ]
        # Half by the centre of a sound, which is stable, half by its nearest example: some sounds come in two variants.
        middle = examples_set.feature_space.far(part, examples_set.middle[None])
        out[begin : begin + AT_ONCE] = 0.5 * (middle + examples_set.feature_space.far(part, np.stack(nearest, axis=1)))
    return out


class ContinuationFilter:
    """Separates continuations from onsets, stroke by stroke: a sound of several parts is one hit."""

    def __init__(self, examples_set: ExampleSet) -> None:
        self._taught = examples_set
        self._before: list[tuple[float, int]] = []

    def hits(self, features: np.ndarray, moments: np.ndarray, sounds: np.ndarray) -> np.ndarray:
        """(n,) bool: which strokes are hits and not the continuation of one before; call with rising moments.

        features  (n, features); sounds: (n,) sound of each stroke, -1 for none
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
        # In order, so that it is known by then whether the earlier one is a hit itself.
        for continuations, earlier in self._rests(places, at, which, before):
            kept[continuations] &= not kept[earlier]
        recent = kept & (at > at[-1] - LATER[-1])
        self._before = list(zip(at[recent].tolist(), which[recent].tolist(), strict=True))
        out[begun] = kept[before:]
        return out

    def _rests(self, places: np.ndarray, at: np.ndarray, which: np.ndarray, before: int) -> list[tuple[int, int]]:
        """Pairs (stroke, earlier stroke) in which the former, from `before` on, matches a continuation better than
        any sound."""
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
        # Strokes equally long after the same sound are compared with the same continuation.
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
    """The taught sounds in a recording; others are left out, and possible breath is proposed for removal."""
    found = stroke_features.beginnings(analysis, sensitivity)
    features, bounds = stroke_features.with_bounds(analysis, found)
    sound, confidence = classify(examples_set, bounds)
    level = analysis.envelope.decibels_after(found)
    kept = ContinuationFilter(examples_set).hits(features, found, sound)
    # Breath between the hits is soft and matches nothing closely.
    soft = (level < np.quantile(level, 0.9) - BREATH_DB) & (confidence <= 0.6) if len(level) else kept
    removal_reason = np.where(soft, REMOVAL_REASONS.index("too soft"), 0)
    return TranscribedHits(found[kept], sound[kept], velocities(level[kept]), confidence[kept], removal_reason[kept])


def removal_reasons(examples_set: ExampleSet) -> list[str]:
    """Warnings about the examples: too few, an outlier, sounds that are much alike."""
    said = [
        count_tr(
            "{name} has {n} usable example; {least} or more are better",
            "{name} has {n} usable examples; {least} or more are better",
            len(takes),
            name=name,
            least=LEAST_EXAMPLES,
        )
        for name, takes in zip(examples_set.names, examples_set.takes, strict=True)
        if len(takes) < LEAST_EXAMPLES
    ]
    said += [
        tr("example {number} of {name} is unlike the others and is not used", number=number + 1, name=name)
        for name, number in examples_set.outliers
    ]
    apart = told_apart(examples_set)
    return said + [
        tr(
            "{one} and {other} sound much alike and may be confused",
            one=examples_set.names[i],
            other=examples_set.names[j],
        )
        for i in range(len(apart))
        for j in range(i + 1, len(apart))
        if min(apart[i, j], apart[j, i]) < ALIKE
    ]


def told_apart(examples_set: ExampleSet) -> np.ndarray:
    """(sounds, sounds) separation of each pair: their distance in their own spreads."""
    middle = examples_set.feature_space.place(examples_set.middle)
    far = _apart(middle, middle)
    return np.asarray(far / (0.5 * (examples_set.spread[:, None] + examples_set.spread[None, :])))
