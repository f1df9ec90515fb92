"""Transcribed notes and hits, with confidence and proposed removals."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from puresignal.core.midi.columns import Columns
from puresignal.translation import mark


@dataclass(frozen=True, eq=False)
class TranscribedNotes(Columns):
    """Transcribed notes in the order of their starts.

    start, end      seconds
    pitch           semitones (MIDI notes, not rounded)
    velocity        1..127
    confidence      0..1
    removal_reason  index into REMOVAL_REASONS, 0 if removal is not proposed
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
        """Without the notes proposed for removal."""
        return self.take(self.removal_reason == 0)


@dataclass(frozen=True, eq=False)
class TranscribedHits(Columns):
    """Transcribed hits in the order of their starts.

    start           seconds
    kind            index into a list of names
    velocity        1..127
    confidence      0..1
    removal_reason  index into REMOVAL_REASONS, 0 if removal is not proposed
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
        """Without the hits proposed for removal."""
        return self.take(self.removal_reason == 0)


REMOVAL_REASONS = (
    "",
    mark("too short"),
    mark("too soft"),
    mark("far from the notes around it"),
    mark("barely audible"),
)


def removal_reasons(short: np.ndarray, soft: np.ndarray, far: np.ndarray, unsure: np.ndarray) -> np.ndarray:
    """(n,) index into REMOVAL_REASONS of the first of these that applies to each note."""
    return np.asarray(np.select([short, soft, far, unsure], [1, 2, 3, 4], 0), np.int8)


def far_from_others(pitch: np.ndarray, start: np.ndarray, confidence: np.ndarray) -> np.ndarray:
    """(n,) bool: notes an octave or more away from all others within some seconds, and of limited confidence."""
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
"""Seconds around a note in which its neighbours are sought."""


def velocity_of(below_db: np.ndarray | float) -> np.ndarray:
    """Velocities 8..127 for levels in decibels relative to the loudest (negative)."""
    return np.asarray(np.clip(np.rint(112 * 10 ** (below_db / 40)), 8, 127))


def velocities(level_db: np.ndarray, quietest: float = -38.0) -> np.ndarray:
    """Velocities 1..127 for levels in decibels relative to the loudest of them; `quietest` gives a third of it."""
    if not len(level_db):
        return np.zeros(0)
    return velocity_of(level_db - np.quantile(level_db, 0.98))
