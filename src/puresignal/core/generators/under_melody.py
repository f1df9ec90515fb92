"""Chords that fit a melody: which steps of the key stand under it, found for all of it at once."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.generators.made_notes import MadeNotes
from puresignal.core.harmony import key_estimation, keys

FITS, CLASHES, ROOTED = 1.0, 0.8, 0.25
"""Weights of a beat of melody on a note of the chord, on another note, and on its root besides."""
FOLLOWS, REPEATS, HOME, CADENCE = 0.15, -0.1, 0.3, 1.2
"""Weights of a chord that usually follows the one before, that is the same, of the tonic at the beginning, and of the
cadence that was asked for ends."""
AWAY = -1.6
"""Weight of a borrowed chord, where everything may be; less the farther the recipe may go."""
WHIM = 0.2
"""By how much chords are preferred by chance, so that another number gives other chords that fit about as well."""
STRONG = 1.4
"""How much more a note counts that begins where the chord does."""


@dataclass(frozen=True)
class Candidate:
    """A chord that may stand: its step of the scale from 0, whether it is borrowed, and its pitch classes."""

    step: int
    borrowed: bool
    classes: tuple[int, ...]


def weights(melody: MadeNotes, step: float, count: int) -> np.ndarray:
    """(count, 12) beats of each pitch class that sound while each chord does."""
    found = np.zeros((count, 12))
    begins, ends, notes = melody.beat, melody.beat + melody.long, melody.note
    for i in range(count):
        first, last = i * step, (i + 1) * step
        shared = np.clip(np.minimum(ends, last) - np.maximum(begins, first), 0.0, None)
        shared = np.where(np.abs(begins - first) < 0.05, shared * STRONG, shared)
        np.add.at(found[i], notes.astype(np.int64) % 12, shared)
    return found


def key_of(melody: MadeNotes) -> str:
    """The likeliest key of a melody; empty for none."""
    if not len(melody):
        return ""
    likely = key_estimation.probability(melody.note.astype(float), melody.long)
    return keys.named(*key_estimation.parse(likely[0][0])) if likely else ""


def chosen(
    heard: np.ndarray, candidates: list[Candidate], follows: dict[int, tuple[int, ...]],
    ends: tuple[int, int] | None, far: float, whim: np.ndarray,
) -> list[Candidate]:  # fmt: skip
    """The chord for each part of a melody: the row that counts most altogether.

    heard    (count, 12) see weights; whim: (count, candidates) 0..1
    follows  steps that usually follow each step; ends: the last two steps, None for any; far: 0..1
    Source   G. D. Forney, The Viterbi algorithm, 1973
    """
    count, many = len(heard), len(candidates)
    member = np.zeros((many, 12))
    for k, one in enumerate(candidates):
        member[k, list(one.classes)] = 1.0
    roots = [one.classes[0] for one in candidates]
    total = heard.sum(axis=1, keepdims=True)
    inside = heard @ member.T
    score = FITS * inside - CLASHES * (total - inside) + ROOTED * heard[:, roots]
    score = score / np.maximum(1.0, total) + WHIM * whim
    score += np.array([AWAY * (1 - far) if one.borrowed else 0.0 for one in candidates])
    steps = np.array([one.step for one in candidates])
    plain = np.array([not one.borrowed for one in candidates])
    score[0] += np.where((steps == 0) & plain, HOME, 0.0)
    if ends is not None and count >= 2:
        for place, wanted in ((-2, ends[0]), (-1, ends[1])):
            score[place] += np.where((steps == wanted) & plain, CADENCE, 0.0)
    moves = np.zeros((many, many))
    for a, before in enumerate(candidates):
        for b, after in enumerate(candidates):
            if before == after:
                moves[a, b] = REPEATS
            elif after.step in follows.get(before.step, ()):
                moves[a, b] = FOLLOWS
    best, back = score[0], np.zeros((count, many), np.int64)
    for i in range(1, count):
        ways = best[:, None] + moves
        back[i] = np.argmax(ways, axis=0)
        best = ways[back[i], np.arange(many)] + score[i]
    row = [int(np.argmax(best))]
    for i in range(count - 1, 0, -1):
        row.append(int(back[i, row[-1]]))
    return [candidates[k] for k in reversed(row)]
