"""What was heard: notes with how sure the ear is of each, and which of them it would rather leave out."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from puresignal.core.midi.columns import Columns


@dataclass(frozen=True, eq=False)
class TranscribedNotes(Columns):
    """Notes that were heard, by their starts.

    start, end  seconds; pitch semitones (MIDI numbers, not rounded); velocity 1..127; sure 0..1
    doubt       why a note is proposed for removal: a place in DOUBTS, 0 where it is not
    """

    start: np.ndarray
    end: np.ndarray
    pitch: np.ndarray
    velocity: np.ndarray
    confidence: np.ndarray
    removal_reason: np.ndarray

    DTYPES: ClassVar[dict[str, Any]] = {
        "start": "f8",
        "end": "f8",
        "pitch": "f8",
        "velocity": "f8",
        "confidence": "f4",
        "removal_reason": "i1",
    }

    def kept(self) -> TranscribedNotes:
        """Without what is proposed for removal."""
        return self.take(self.removal_reason == 0)


@dataclass(frozen=True, eq=False)
class TranscribedHits(Columns):
    """Hits that were heard, by their starts.

    start  seconds; kind  what was struck, a place in a list of names; velocity 1..127; sure 0..1
    doubt  why a hit is proposed for removal: a place in DOUBTS, 0 where it is not
    """

    start: np.ndarray
    kind: np.ndarray
    velocity: np.ndarray
    confidence: np.ndarray
    removal_reason: np.ndarray

    DTYPES: ClassVar[dict[str, Any]] = {
        "start": "f8",
        "kind": "i2",
        "velocity": "f8",
        "confidence": "f4",
        "removal_reason": "i1",
    }

    def kept(self) -> TranscribedHits:
        """Without what is proposed for removal."""
        return self.take(self.removal_reason == 0)


REMOVAL_REASONS = ("", "too short", "too soft", "far from the notes around it", "hardly heard")


def removal_reasons(short: np.ndarray, soft: np.ndarray, far: np.ndarray, unsure: np.ndarray) -> np.ndarray:
    """For each note the first of these that is true of it, as its place in DOUBTS."""
    return np.asarray(np.select([short, soft, far, unsure], [1, 2, 3, 4], 0), np.int8)


def far_from_others(pitch: np.ndarray, start: np.ndarray, confidence: np.ndarray) -> np.ndarray:
    """(n,) whether a note is an octave or more from all that stand within some seconds of it, and none too sure."""
    out = np.zeros(len(pitch), bool)
    order = np.argsort(start, kind="stable")
    first = np.searchsorted(start[order], start - AROUND)
    last = np.searchsorted(start[order], start + AROUND)
    for i in np.flatnonzero((confidence < 0.75) & (last - first > 3)).tolist():
        off = np.abs(pitch[order[first[i] : last[i]]] - pitch[i])
        # It is near itself; nothing else may be.
        out[i] = np.count_nonzero(off < 12) == 1
    return out


AROUND = 2.5
"""Seconds around a note in which others stand."""


def velocity_of(below_db: np.ndarray | float) -> np.ndarray:
    """Velocities 8..127 of what is so many decibels below the loudest (negative)."""
    return np.asarray(np.clip(np.rint(112 * 10 ** (below_db / 40)), 8, 127))


def velocities(level_db: np.ndarray, quietest: float = -38.0) -> np.ndarray:
    """Velocities 1..127 of loudnesses in decibels, against the loudest of them: a third of it at `quietest` below."""
    if not len(level_db):
        return np.zeros(0)
    return velocity_of(level_db - np.quantile(level_db, 0.98))
