"""Likely keys of a melody, and notes snapped to a key with as few and as small moves as possible."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

NAMES = ("C", "C#", "D", "Eb", "E", "F", "F#", "G", "Ab", "A", "Bb", "B")
# Profiles of C. Krumhansl, Cognitive Foundations of Musical Pitch, 1990.
_MAJOR = np.array([6.35, 2.23, 3.48, 2.33, 4.38, 4.09, 2.52, 5.19, 2.39, 3.66, 2.29, 2.88])
_MINOR = np.array([6.33, 2.68, 3.52, 5.38, 2.60, 3.53, 2.54, 4.75, 3.98, 2.69, 3.34, 3.17])
STEPS = {"major": (0, 2, 4, 5, 7, 9, 11), "minor": (0, 2, 3, 5, 7, 8, 10)}


def probability(pitch: np.ndarray, weight: np.ndarray) -> list[tuple[str, float]]:
    """(key, probability) of all keys, likeliest first; the sum is 1. weight: length of each note."""
    classes = np.zeros(12)
    np.add.at(classes, np.rint(pitch).astype(int) % 12, weight)
    if not classes.any():
        return []
    scores = []
    for mode, profile in (("major", _MAJOR), ("minor", _MINOR)):
        for root in range(12):
            scores.append((f"{NAMES[root]} {mode}", float(np.corrcoef(np.roll(profile, root), classes)[0, 1])))
    values = np.array([s for _, s in scores])
    odds = np.exp(9 * (values - values.max()))
    ranked = sorted(zip([n for n, _ in scores], (odds / odds.sum()).tolist(), strict=True), key=lambda r: -r[1])
    return ranked


def parse(text: str) -> tuple[int, str]:
    """Root 0..11 and mode of a key name such as "D minor", "F# major", "Bb".

    Raises ValueError for anything else
    """
    match = re.fullmatch(r"\s*([A-Ga-g])\s*([#b♯♭]?)\s*(major|minor|maj|min|m)?\s*", text)
    if match is None:
        raise ValueError(text)
    letter, sign, mode = match.groups()
    root = {"C": 0, "D": 2, "E": 4, "F": 5, "G": 7, "A": 9, "B": 11}[letter.upper()]
    root += {"#": 1, "♯": 1, "b": -1, "♭": -1, "": 0}[sign]
    return root % 12, "minor" if mode in ("minor", "min", "m") else "major"


def snapped(pitch: np.ndarray, key: str) -> np.ndarray:
    """Whole MIDI note numbers in a key: few notes moved, by little, and the line keeps its shape.

    Notes in the key stay. The others go to a neighbour in the key. All are decided together, by their distance (from
    the exact pitch) and by whether the steps up, down or level between adjacent notes are preserved.
    """
    root, mode = parse(key)
    allowed = np.array([(root + s) % 12 for s in STEPS[mode]])
    whole = np.rint(pitch).astype(int)
    if not len(whole):
        return np.zeros(0, int)
    choices = [_choices(number, allowed) for number in whole.tolist()]
    costs = [np.abs(c - exact) if len(c) > 1 else np.zeros(1) for c, exact in zip(choices, pitch.tolist(), strict=True)]
    best, ways = costs[0], []
    for i in range(1, len(choices)):
        step = choices[i][None, :] - choices[i - 1][:, None]
        bent = np.sign(step) != np.sign(whole[i] - whole[i - 1])
        total = best[:, None] + SHAPE * bent
        ways.append(np.argmin(total, axis=0))
        best = total.min(axis=0) + costs[i]
    place = int(np.argmin(best))
    out = [place]
    for way in reversed(ways):
        place = int(way[place])
        out.append(place)
    return np.array([c[k] for c, k in zip(choices, reversed(out), strict=True)])


SHAPE = 0.6
"""Semitones of extra movement that are worth paying to preserve the direction of a step."""


def _choices(number: int, allowed: np.ndarray) -> np.ndarray:
    """The number itself if it is in the key, else its neighbours in the key."""
    if number % 12 in allowed:
        return np.array([number])
    near = np.arange(number - 2, number + 3)
    inside = near[np.isin(near % 12, allowed)]
    return np.array([inside[inside < number].max(), inside[inside > number].min()])


@dataclass(frozen=True, eq=False)
class Fit:
    """The notes in one key: its name and probability, the note numbers, and how many of them move."""

    key: str
    probability: float
    notes: np.ndarray
    moved: int


def fits(pitch: np.ndarray, weight: np.ndarray, most: int = 6) -> list[Fit]:
    """The likeliest keys, likeliest first, and the notes in each. weight: length of each note."""
    out = []
    for name, odds in probability(pitch, weight)[:most]:
        notes = snapped(pitch, name)
        out.append(Fit(name, odds, notes, int(np.count_nonzero(notes != np.rint(pitch)))))
    return out


def best(fits: list[Fit]) -> Fit:
    """The key to snap to: likely, and few notes moved."""
    return max(fits, key=lambda fit: np.log(fit.probability + 1e-9) - 3.0 * fit.moved / max(1, len(fit.notes)))
