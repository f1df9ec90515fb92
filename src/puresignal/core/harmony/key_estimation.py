"""The likely keys of notes, and notes snapped to one: as few moved as possible, as little as possible."""

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
    """(key, how likely) of all keys, likeliest first; the sum is 1. weight: how long each note is."""
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
    """Root 0..11 and mode of a key's name, like "D minor", "F# major", "Bb".

    Raises ValueError when it is none
    """
    match = re.fullmatch(r"\s*([A-Ga-g])\s*([#b♯♭]?)\s*(major|minor|maj|min|m)?\s*", text)
    if match is None:
        raise ValueError(text)
    letter, sign, mode = match.groups()
    root = {"C": 0, "D": 2, "E": 4, "F": 5, "G": 7, "A": 9, "B": 11}[letter.upper()]
    root += {"#": 1, "♯": 1, "b": -1, "♭": -1, "": 0}[sign]
    return root % 12, "minor" if mode in ("minor", "min", "m") else "major"


def snapped(pitch: np.ndarray, key: str) -> np.ndarray:
    """Whole MIDI numbers in a key, as few moved as can be, as little as can be, and the line keeping its shape.

    What is in the key stays. The rest goes to a neighbour in it: all at once, by how far each is (by its exact pitch)
    and by whether steps up, down or none to the notes beside it stay what they were.
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
"""Semitones that are worth moving further, so that a step of the line stays a step."""


def _choices(number: int, allowed: np.ndarray) -> np.ndarray:
    """The number itself where it is in the key, else its neighbours there."""
    if number % 12 in allowed:
        return np.array([number])
    near = np.arange(number - 2, number + 3)
    inside = near[np.isin(near % 12, allowed)]
    return np.array([inside[inside < number].max(), inside[inside > number].min()])


@dataclass(frozen=True, eq=False)
class Fit:
    """Notes as they would be in a key: its name, how likely it is, their numbers, and how many are moved."""

    key: str
    probability: float
    notes: np.ndarray
    moved: int


def fits(pitch: np.ndarray, weight: np.ndarray, most: int = 6) -> list[Fit]:
    """The likeliest keys, likeliest first, and the notes as they would be in each. weight: how long each note is."""
    out = []
    for name, odds in probability(pitch, weight)[:most]:
        notes = snapped(pitch, name)
        out.append(Fit(name, odds, notes, int(np.count_nonzero(notes != np.rint(pitch)))))
    return out


def best(fits: list[Fit]) -> Fit:
    """The key to snap to: likely, and moving few."""
    return max(fits, key=lambda fit: np.log(fit.probability + 1e-9) - 3.0 * fit.moved / max(1, len(fit.notes)))
