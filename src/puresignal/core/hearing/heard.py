"""What was heard: notes with how sure the ear is of each."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from puresignal.core.columns import Columns


@dataclass(frozen=True, eq=False)
class Heard(Columns):
    """Notes that were heard, by their starts.

    start, end  seconds; pitch semitones (MIDI numbers, not rounded); velocity 1..127; sure 0..1
    """

    start: np.ndarray
    end: np.ndarray
    pitch: np.ndarray
    velocity: np.ndarray
    sure: np.ndarray

    DTYPES: ClassVar[dict[str, Any]] = {"start": "f8", "end": "f8", "pitch": "f8", "velocity": "f8", "sure": "f4"}


def velocities(level_db: np.ndarray, quietest: float = -38.0) -> np.ndarray:
    """Velocities 1..127 of loudnesses in decibels, against the loudest of them: a third of it at `quietest` below."""
    if not len(level_db):
        return np.zeros(0)
    below = level_db - np.quantile(level_db, 0.98)
    return np.asarray(np.clip(np.rint(112 * 10 ** (below / 40)), 8, 127))
