"""Chords as notes, each led from the one before with the least movement."""

from __future__ import annotations

import itertools
from functools import lru_cache

CLOSE, OPEN = "close", "open"


def movement(before: tuple[int, ...], after: tuple[int, ...]) -> int:
    """Semitones that all voices move, the lowest to the lowest and so on; voices that end or begin move from or to
    their nearest neighbour."""
    one, other = sorted(before), sorted(after)
    if len(one) == len(other):
        return sum(abs(a - b) for a, b in zip(one, other, strict=True))
    few, many = (one, other) if len(one) < len(other) else (other, one)
    best = min(
        sum(abs(a - b) for a, b in zip(few, chosen, strict=True)) for chosen in itertools.combinations(many, len(few))
    )
    return best + sum(min(abs(b - a) for a in few) for b in many) - sum(
        min(abs(b - a) for a in few) for b in few
    )  # fmt: skip


@lru_cache(maxsize=4096)
def voicings(classes: tuple[int, ...], low: int, high: int) -> tuple[tuple[int, ...], ...]:
    """All inversions of a chord in close position that lie between two notes, lowest first.

    classes  pitch classes from the root up
    """
    found = []
    for turn in range(len(classes)):
        turned = (*classes[turn:], *classes[:turn])
        for first in range(low, high + 1):
            if first % 12 != turned[0] % 12:
                continue
            notes = [first]
            for one in turned[1:]:
                notes.append(notes[-1] + ((one - notes[-1]) % 12 or 12))
            if notes[-1] <= high:
                found.append(tuple(notes))
    return tuple(sorted(found))


@lru_cache(maxsize=16_384)
def led(before: tuple[int, ...] | None, classes: tuple[int, ...], low: int, high: int) -> tuple[int, ...]:
    """The inversion of a chord with the least movement from the one before; the lowest in root position to begin with.

    Where the range is too narrow for any, the chord stands on the range's lowest note that is its root
    """
    there = voicings(classes, low, high)
    if not there:
        first = low + (classes[0] - low) % 12
        return tuple(min(127, first + (one - classes[0]) % 12) for one in classes)
    if before is None:
        root = [one for one in there if one[0] % 12 == classes[0] % 12]
        middle = (low + high) / 2
        return min(root or there, key=lambda one: abs(sum(one) / len(one) - middle))
    return min(there, key=lambda one: (movement(before, one), one))


def spread(notes: tuple[int, ...], wide: int) -> tuple[int, ...]:
    """A chord opened: every second voice from the top but the highest goes an octave down, `wide` of them."""
    own = sorted(notes)
    for i in range(len(own) - 2, -1, -2):
        if wide <= 0 or own[i] < 12:
            break
        own[i] -= 12
        wide -= 1
    return tuple(sorted(own))


def turned(notes: tuple[int, ...], up: bool) -> tuple[int, ...]:
    """A chord turned over: the lowest note goes an octave up, or the highest down."""
    own = sorted(notes)
    if not own:
        return ()
    if up:
        return tuple(sorted((*own[1:], own[0] + 12))) if own[0] + 12 <= 127 else tuple(own)
    return tuple(sorted((own[-1] - 12, *own[:-1]))) if own[-1] >= 12 else tuple(own)
