"""The pitch of a melody in the steps of its recording's outline."""

from __future__ import annotations

import numpy as np

from puresignal.core.hearing.melody import candidates
from puresignal.core.hearing.melody.candidates import MelodyAnalysis
from puresignal.core.hearing.sound_outline import CENTS, STEP
from puresignal.core.hearing.transcribed import TranscribedNotes

CLEAR = 0.25
"""Aperiodicity up to which a pitch that belongs to no note is shown."""
QUIET_DB = 40.0
"""Decibels below the loud moments from which a pitch that belongs to no note is not shown."""
OWN = 1.8
"""Semitones from a note up to which a pitch belongs to it."""


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
