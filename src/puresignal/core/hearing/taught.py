"""Taught sounds: a few examples of each, found again in a recording; "none of these" is an answer."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing import strokes
from puresignal.core.hearing.heard import velocities
from puresignal.core.hearing.strokes import StrokeAnalysis

LEAST_EXAMPLES = 3
STRANGE = 2.2
"""So many times as far from its nearest sound as that sound's examples are from each other, and it is none of them."""


@dataclass(frozen=True, eq=False)
class Taught:
    """What was taught.

    names   of the sounds
    middle  (sounds, features); scale (features,) how much each feature varies within a sound
    spread  (sounds,) usual distance of an example from its middle
    """

    names: tuple[str, ...]
    middle: np.ndarray
    scale: np.ndarray
    spread: np.ndarray


@dataclass(frozen=True, eq=False)
class Hits:
    """Hits that were heard: seconds, number of the sound (-1: none of them), velocity, how sure."""

    start: np.ndarray
    sound: np.ndarray
    velocity: np.ndarray
    sure: np.ndarray


def teach(examples: dict[str, list[np.ndarray]]) -> Taught:
    """examples: for each name the recordings, each (n,) at strokes.RATE with one or several strokes in it."""
    names, middles, rest, spreads = [], [], [], []
    for name, recordings in sorted(examples.items()):
        rows = [row for recording in recordings for row in _rows(recording)]
        if not rows:
            continue
        stack = np.stack(rows)
        names.append(name)
        middles.append(np.median(stack, axis=0))
        rest.append(stack - middles[-1])
    within = np.concatenate(rest) if rest else np.zeros((1, strokes.FEATURES))
    # With few examples a feature's own variation is half a guess.
    scale = np.sqrt((within**2).mean(axis=0) * len(within) / (len(within) + 6) + 0.22**2)
    for own in rest:
        far = np.sqrt(((own / scale) ** 2).mean(axis=1))
        spreads.append(max(0.55, float(np.median(far))))
    middle = np.stack(middles) if middles else np.zeros((0, strokes.FEATURES))
    return Taught(tuple(names), middle, scale, np.array(spreads))


def _rows(recording: np.ndarray) -> list[np.ndarray]:
    analysis = strokes.analyse(recording)
    found = strokes.beginnings(analysis, 0.35, 0.08)
    if not len(found):
        return []
    features = strokes.at(analysis, found)
    level = strokes.loudness_at(analysis, found)
    # Of one recording only what is about as loud as its loudest stroke is an example.
    return [row for row, db in zip(features, level, strict=True) if db > level.max() - 10]


def classify(taught: Taught, features: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(n,) number of the nearest sound or -1, and how sure that is."""
    if not len(taught.names) or not len(features):
        return np.full(len(features), -1), np.zeros(len(features))
    off = (features[:, None, :] - taught.middle[None, :, :]) / taught.scale
    off[:, :, -2:] *= 0.3
    far = np.sqrt((np.minimum(np.abs(off), 4.0) ** 2).mean(axis=2))
    nearest = np.argmin(far, axis=1)
    best = far[np.arange(len(far)), nearest]
    others = far.copy()
    others[np.arange(len(far)), nearest] = np.inf
    second = others.min(axis=1) if len(taught.names) > 1 else best * 2
    sure = (
        np.clip(1 - best / (best + second), 0, 1)
        * 2
        * np.clip(1.6 - best / (STRANGE * taught.spread[nearest] + 0.6), 0, 1)
    )
    none = best > STRANGE * taught.spread[nearest] + 0.6
    return np.where(none, -1, nearest), np.clip(sure, 0, 1)


def hits(taught: Taught, analysis: StrokeAnalysis, eagerness: float = 0.5) -> Hits:
    """The taught sounds in a recording; what is none of them is left out."""
    found = strokes.beginnings(analysis, eagerness, 0.05)
    sound, sure = classify(taught, strokes.at(analysis, found))
    level = strokes.loudness_at(analysis, found)
    kept = sound >= 0
    if len(level):
        # Breath between the hits is soft, and like nothing much.
        kept &= (level > level.max() - 34) | (sure > 0.6)
    return Hits(found[kept], sound[kept], velocities(level[kept]), sure[kept])


def told_apart(taught: Taught) -> np.ndarray:
    """(sounds, sounds) how well each two can be told apart: their distance in their own spreads."""
    off = (taught.middle[:, None, :] - taught.middle[None, :, :]) / taught.scale
    far = np.sqrt((np.minimum(np.abs(off), 4.0) ** 2).mean(axis=2))
    return np.asarray(far / (taught.spread[:, None] + taught.spread[None, :]))
