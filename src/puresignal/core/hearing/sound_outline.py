"""The outline of a recording: its level, and the pitch of a melody, in even steps."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

STEP = 0.01
"""Seconds."""
PER_DB = 4.0
"""Units of the level in a decibel; full scale is 255."""
CENTS = 100
"""Units of the pitch in a semitone; 0 where there is none."""


@dataclass(frozen=True, eq=False)
class SoundOutline:
    """level (n,) uint8 by PER_DB, 0 for silence; pitch (n,) int16 by CENTS, or of length 0; both each STEP."""

    level: np.ndarray
    pitch: np.ndarray

    @property
    def length(self) -> float:
        """Seconds."""
        return len(self.level) * STEP

    def amplitude(self) -> np.ndarray:
        """(n,) largest sample of each step, 0..1."""
        return np.where(self.level > 0, 10 ** ((self.level.astype(np.float32) - 255) / (20 * PER_DB)), 0.0)

    def note(self) -> np.ndarray:
        """(n,) pitch as MIDI note numbers, NaN where there is none."""
        return np.where(self.pitch > 0, self.pitch / CENTS, np.nan)
