"""The likely keys of notes, and notes snapped to one: as few moved as possible, as little as possible."""

from __future__ import annotations

import re

import numpy as np

NAMES = ("C", "C#", "D", "Eb", "E", "F", "F#", "G", "Ab", "A", "Bb", "B")
# Profiles of C. Krumhansl, Cognitive Foundations of Musical Pitch, 1990.
_MAJOR = np.array([6.35, 2.23, 3.48, 2.33, 4.38, 4.09, 2.52, 5.19, 2.39, 3.66, 2.29, 2.88])
_MINOR = np.array([6.33, 2.68, 3.52, 5.38, 2.60, 3.53, 2.54, 4.75, 3.98, 2.69, 3.34, 3.17])
STEPS = {"major": (0, 2, 4, 5, 7, 9, 11), "minor": (0, 2, 3, 5, 7, 8, 10)}


def likely(pitch: np.ndarray, weight: np.ndarray) -> list[tuple[str, float]]:
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
    """Whole MIDI numbers in a key: what is in it stays, the rest goes to the nearer neighbour, by its exact pitch."""
    root, mode = parse(key)
    allowed = [(root + s) % 12 for s in STEPS[mode]]
    whole = np.rint(pitch).astype(int)
    out = whole.copy()
    for i, (exact, number) in enumerate(zip(pitch.tolist(), whole.tolist(), strict=True)):
        if number % 12 not in allowed:
            near = [n for n in range(number - 2, number + 3) if n % 12 in allowed]
            out[i] = near[int(np.argmin(np.abs(np.array(near) - exact)))]
    return np.asarray(out)
