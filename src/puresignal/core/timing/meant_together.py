"""Strokes that were meant as one: grace notes before their stroke, the strokes of a roll, the notes of a chord."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

GRACE_SECONDS = 0.062
"""The most by which a grace note comes before the stroke, or the grace, that it leads to."""
GRACE_SOFTER = 0.62
"""A grace note is at most so loud as a share of the stroke that it leads to."""
MOST_GRACES = 3
ROLL_SECONDS = 0.058
"""The most between strokes of a roll that is too fast for hands to place each on a line."""
ROLL_STROKES = 4
ROLL_EVEN = 0.35
"""How much the distances within a roll may differ, as a share of their mean."""
TOGETHER_DRUMS = 0.014
"""Seconds within which strokes on different drums are one moment."""


@dataclass(frozen=True, eq=False)
class Together:
    """Which notes lead, and which go with them.

    lead   (n,) row of the note that each goes with, itself for one that leads
    grace  (n,) whether it is a grace note or a stroke within a roll: it keeps its distance
    group  (n,) number of the moment that it is part of: chords, and drums struck as one; grace notes have their lead's
    """

    lead: np.ndarray
    grace: np.ndarray
    group: np.ndarray


def together(
    start: np.ndarray, key: np.ndarray, velocity: np.ndarray, pitched: np.ndarray, tolerance: float = 0.030
) -> Together:
    """Find what was meant together.

    start      (n,) seconds, rising
    key        (n,) number of the drum, or of the note of a track
    velocity   (n,) 1..127
    pitched    (n,) number of the pitched track that each note is of, -1 for drums
    tolerance  seconds within which the notes of a chord begin
    """
    n = len(start)
    lead = np.arange(n)
    drums = pitched < 0
    by_key = np.lexsort((start, key))
    same = np.zeros(n, bool)
    same[:-1] = (key[by_key][1:] == key[by_key][:-1]) & drums[by_key[:-1]]
    gap = np.full(n, np.inf)
    gap[:-1] = np.where(same[:-1], np.diff(start[by_key]), np.inf)
    loud = velocity[by_key].astype(float)
    after = np.r_[loud[1:], np.inf] if n else loud
    rolls = _rolls(gap, loud)
    softer = (gap <= GRACE_SECONDS) & (loud <= GRACE_SOFTER * after) & (rolls < 0)
    # A grace before a grace: as soft, and as near.
    grace = softer.copy()
    for _ in range(MOST_GRACES - 1):
        next_is = np.r_[grace[1:], False] if n else grace
        grace |= (gap <= GRACE_SECONDS) & next_is & (loud <= 1.8 * after) & (rolls < 0)
    follows = np.arange(n)
    for i in range(n - 2, -1, -1):
        if grace[i]:
            follows[i] = follows[i + 1]
    # Strokes of a roll go with its first.
    inside = rolls >= 0
    follows[inside] = rolls[inside]
    is_grace = np.zeros(n, bool)
    lead[by_key] = by_key[follows]
    is_grace[by_key] = follows != np.arange(n)
    return Together(lead, is_grace, _groups(start, key, pitched, is_grace, lead, tolerance))


def _rolls(gap: np.ndarray, loud: np.ndarray) -> np.ndarray:
    """(n,) place of the first stroke of the roll that each is part of, -1 for none. gap: to the next of its drum."""
    found = np.full(len(gap), -1)
    fast = gap <= ROLL_SECONDS
    edges = np.flatnonzero(np.diff(np.r_[False, fast, False].astype(int)))
    for begin, end in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
        if end - begin + 1 < ROLL_STROKES:
            continue
        gaps = gap[begin:end]
        if gaps.std() <= ROLL_EVEN * gaps.mean():
            found[begin : end + 1] = begin
    return found


def _groups(
    start: np.ndarray, key: np.ndarray, pitched: np.ndarray, grace: np.ndarray, lead: np.ndarray, tolerance: float
) -> np.ndarray:
    """(n,) number of the moment of each note: nothing in one begins later than its first by more than the tolerance."""
    group = np.full(len(start), -1)
    number = 0
    for track in np.unique(pitched).tolist():
        mine = np.flatnonzero((pitched == track) & ~grace)
        within = tolerance if track >= 0 else min(TOGETHER_DRUMS, tolerance)
        first, keys = -np.inf, set[int]()
        for row, at, one in zip(mine.tolist(), start[mine].tolist(), key[mine].tolist(), strict=True):
            if at - first > within or one in keys:
                number += 1
                first, keys = at, set()
            keys.add(one)
            group[row] = number
    group[grace] = group[lead[grace]]
    return group
