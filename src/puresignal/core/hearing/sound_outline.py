"""What a recording looks like: its level, and the pitch of a melody, in even steps."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing.dsp import chunks
from puresignal.core.hearing.dsp.chunks import Source
from puresignal.core.hearing.melody import candidates
from puresignal.core.hearing.melody.candidates import MelodyAnalysis
from puresignal.core.hearing.transcribed import TranscribedNotes

STEP = 0.01
"""Seconds."""
PER_DB = 4.0
"""Units of the level in a decibel; full scale is 255."""
CENTS = 100
"""Units of the pitch in a semitone; 0 where there is none."""
CLEAR = 0.25
"""Aperiodicity up to which a pitch that belongs to no note is shown."""
QUIET_DB = 40.0
"""Decibels below the loud moments from which a pitch that belongs to no note is not shown."""
OWN = 1.8
"""Semitones from a note up to which a pitch belongs to it."""


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


def levels(source: Source, rate: int) -> np.ndarray:
    """(n,) level of a recording. rate: samples per second"""
    size, rest, parts = round(STEP * rate), np.zeros(0, np.float32), []
    for block in chunks.blocks(source):
        rest = np.concatenate([rest, block])
        whole = len(rest) // size * size
        parts.append(np.abs(rest[:whole].reshape(-1, size)).max(axis=1, initial=0.0))
        rest = rest[whole:]
    if len(rest):
        parts.append(np.abs(rest).max(keepdims=True))
    peak = np.concatenate(parts) if parts else np.zeros(0)
    # A step of the sample rate is no whole number of samples; the difference is made up for here.
    step = size / rate
    if step != STEP:
        places = np.arange(int(len(peak) * step / STEP)) * STEP / step
        peak = peak[np.minimum(len(peak) - 1, np.rint(places).astype(int))] if len(peak) else peak
    decibels = 20 * np.log10(np.maximum(peak, 1e-9))
    return np.clip(np.rint(255 + PER_DB * decibels), 0, 255).astype(np.uint8)


def pitch_line(analysis: MelodyAnalysis, notes: TranscribedNotes) -> np.ndarray:
    """(n,) pitch of a melody: within a note what is nearest to it, elsewhere what is clear."""
    pitch, count = analysis.pitch, len(analysis.pitch)
    best = np.argmin(np.where(np.isnan(pitch), np.inf, analysis.dip), axis=1)
    rows = np.arange(count)
    line, dip = pitch[rows, best], analysis.dip[rows, best]
    line = np.where((dip < CLEAR) & (analysis.level > analysis.loud - QUIET_DB), line, np.nan)
    number = np.full(count, np.nan)
    for start, end, note in zip(notes.start.tolist(), notes.end.tolist(), notes.pitch.tolist(), strict=True):
        number[round(start / candidates.STEP) : round(end / candidates.STEP)] = note
    away = np.where(np.isnan(pitch), np.inf, np.abs(pitch - number[:, None]))
    away = np.where(np.isnan(away), np.inf, away)
    near = np.argmin(away, axis=1) if count else rows
    line = np.where(~np.isnan(number), np.where(away[rows, near] < OWN, pitch[rows, near], np.nan), line)
    places = np.arange(int(count * candidates.STEP / STEP)) * STEP / candidates.STEP
    even = line[np.minimum(count - 1, np.rint(places).astype(int))] if count else line
    return np.asarray(np.nan_to_num(np.rint(even * CENTS), nan=0.0), np.int16)
