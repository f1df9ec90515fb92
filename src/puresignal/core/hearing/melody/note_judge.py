"""Which of the notes that one voice may have played it played, and when: trees judge by all that a note shows.

A dip in level alone is no new note, a consonant is not one either, and a note begins with its vowel: the trees have
learnt it from voices and instruments, some of them above chords (training/train_melody_notes.py). What sounds the
same and is no note of its own goes on with the note before it.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from puresignal.core.decision_trees import DecisionTrees, chances_of
from puresignal.core.midi.columns import Columns


@dataclass(frozen=True, eq=False)
class PossibleNotes(Columns):
    """Notes that one voice may have played, in sequence.

    first, last  frames; number: MIDI notes
    start, end   seconds; told: probability of the onset
    """

    first: np.ndarray
    last: np.ndarray
    number: np.ndarray
    start: np.ndarray
    end: np.ndarray
    told: np.ndarray

    DTYPES: ClassVar[dict[str, Any]] = {
        "first": "i8", "last": "i8", "number": "i8", "start": "f8", "end": "f8", "told": "f8",
    }  # fmt: skip


@dataclass(frozen=True, eq=False)
class NoteJudge:
    """played: whether a possible note was played; later, ends_later: seconds by which it begins and ends later than it
    seems."""

    played: DecisionTrees
    later: DecisionTrees
    ends_later: DecisionTrees

    def chances(self, figures: np.ndarray) -> np.ndarray:
        """(n,) chance that each was played. figures: (n, figures) of note_evidence.figures()"""
        return chances_of(self.played.estimate(figures))


_SILENT = DecisionTrees(0, np.zeros((0, 1), np.uint8), np.zeros((0, 1)), np.zeros((0, 2)), 0.0)
UNTAUGHT = NoteJudge(_SILENT, _SILENT, _SILENT)
"""Every possible note may have been played, where and when it seems."""
LED = 3
"""Frames between two notes that follow each other without a gap."""
AT_ALL = 0.012
"""Seconds by which a beginning or an end has to be off to be moved."""
SHORTEST = 0.03
"""Seconds that a note lasts, and that the next one begins later, at least."""


def moved(notes: PossibleNotes, later: np.ndarray, ends_later: np.ndarray) -> PossibleNotes:
    """The notes with their beginnings and ends moved by so many seconds, (n,) each."""
    start = notes.start + np.where(np.abs(later) > AT_ALL, later, 0.0)
    end = notes.end + np.where(np.abs(ends_later) > AT_ALL, ends_later, 0.0)
    for i in range(1, len(start)):
        start[i] = max(start[i], start[i - 1] + SHORTEST)
    end[:-1] = np.minimum(end[:-1], start[1:])
    end = np.maximum(end, start + SHORTEST)
    return notes.but(start=start, end=end)


def settled(notes: PossibleNotes, chance: np.ndarray, need: float) -> tuple[PossibleNotes, np.ndarray]:
    """The notes with those gone that only go on with the one before or lead into the next, and their chances."""
    start, end, number = notes.start.copy(), notes.end.copy(), notes.number
    first, last, told, sure = notes.first.copy(), notes.last.copy(), notes.told.copy(), chance.copy()
    gone = np.zeros(len(notes), bool)
    at = -1
    for i in range(len(notes)):
        same = at >= 0 and number[i] == number[at] and first[i] - last[at] <= LED
        if same and min(sure[i], sure[at]) < need:
            if sure[i] > sure[at]:
                # What leads into a note is not a part of it, unless both are doubtful.
                if sure[i] >= need:
                    gone[at] = True
                    at = i
                    continue
                start[at], first[at], told[at] = start[i], first[i], told[i]
            sure[at] = 1 - (1 - sure[at]) * (1 - sure[i]) if max(sure[i], sure[at]) < need else max(sure[i], sure[at])
            end[at], last[at] = end[i], last[i]
            gone[i] = True
            continue
        at = i
    kept = ~gone
    return notes.but(first=first, last=last, start=start, end=end, told=told).take(kept), sure[kept]
