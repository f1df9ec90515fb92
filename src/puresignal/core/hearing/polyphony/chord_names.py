"""The names of the chords that notes form."""

from __future__ import annotations

from itertools import pairwise

import numpy as np

from puresignal.core.hearing.polyphony import strums
from puresignal.core.hearing.transcribed import TranscribedNotes


def named(notes: TranscribedNotes) -> list[tuple[float, float, str]]:
    """(start, end, name) of the chords, in sequence; repetitions of one name are merged.

    A strummed chord has an arrow behind its name, down for a downstroke, and stands alone.
    """
    out: list[tuple[float, float, str]] = []
    if not len(notes):
        return out
    strokes = strums.found(notes.start, notes.pitch)
    begins = np.array([stroke.start for stroke in strokes])
    starts = np.sort(notes.start)
    changes = starts[np.concatenate([[True], np.diff(starts) > TOGETHER])]
    for begin, end in pairwise([*changes.tolist(), float(notes.end.max())]):
        # A note struck a little later belongs to the chord too.
        sounds = (notes.start < begin + TOGETHER) & (notes.end > begin + TOGETHER)
        name = name_chord(notes.pitch[sounds]) if sounds.any() else ""
        last = min(end, float(notes.end[sounds].max())) if sounds.any() else end
        if not name:
            continue
        near = np.flatnonzero(np.abs(begins - begin) < TOGETHER)
        if len(near):
            name += f" {ARROWS[strokes[near[0]].direction]}"
        elif out and out[-1][2] == name and begin - out[-1][1] < 2 * TOGETHER:
            out[-1] = (out[-1][0], last, name)
            continue
        out.append((begin, last, name))
    return out


ARROWS = {1: "↓", -1: "↑"}
TOGETHER = 0.09
"""Seconds within which notes count as struck together."""

QUALITIES = {
    "": (0, 4, 7), "m": (0, 3, 7), "dim": (0, 3, 6), "aug": (0, 4, 8), "7": (0, 4, 7, 10), "maj7": (0, 4, 7, 11),
    "m7": (0, 3, 7, 10), "sus4": (0, 5, 7), "sus2": (0, 2, 7), "6": (0, 4, 7, 9), "m6": (0, 3, 7, 9), "5": (0, 7),
}  # fmt: skip


def name_chord(notes: np.ndarray, weights: np.ndarray | None = None) -> str:
    """The likeliest chord name for simultaneous notes; empty for fewer than two."""
    classes = np.zeros(12)
    weights = np.ones(len(notes)) if weights is None else weights
    np.add.at(classes, np.rint(notes).astype(int) % 12, weights)
    if np.count_nonzero(classes) < 2:
        return ""
    bass = int(np.rint(np.min(notes))) % 12
    names = ("C", "C♯", "D", "E♭", "E", "F", "F♯", "G", "A♭", "A", "B♭", "B")
    best, found = -np.inf, ""
    for root in range(12):
        for quality, steps in QUALITIES.items():
            tones = [(root + s) % 12 for s in steps]
            inside = classes[tones]
            score = inside.sum() - 1.1 * (classes.sum() - inside.sum()) - 0.9 * np.count_nonzero(inside == 0)
            score += 0.35 * (root == bass) - 0.06 * len(steps)
            if score > best:
                best, found = score, names[root] + quality
    return found
