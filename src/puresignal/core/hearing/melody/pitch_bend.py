"""Pitch bend of a melody: glides and vibrato within each note."""

from __future__ import annotations

import numpy as np

from puresignal.core.hearing.melody.candidates import STEP, MelodyAnalysis
from puresignal.core.hearing.transcribed import TranscribedNotes


def bends(analysis: MelodyAnalysis, notes: TranscribedNotes) -> list[tuple[float, float]]:
    """(seconds, semitones) of the bend: glides and vibrato of each note, and back to 0 after it.

    Relative to the player's tuning; a point wherever the pitch has moved audibly.
    """
    out: list[tuple[float, float]] = []
    shifted = analysis.pitch - analysis.tuned
    following = [*notes.start.tolist()[1:], np.inf]
    columns = (notes.start.tolist(), notes.end.tolist(), np.rint(notes.pitch).tolist(), following)
    for start, end, number, later in zip(*columns, strict=True):
        first, last = round(start / STEP), min(len(shifted), round(end / STEP))
        off = shifted[first:last] - number
        if not len(off):
            continue
        near = np.nanmin(np.where(np.isnan(off), np.inf, np.abs(off)), axis=1)
        chosen = np.nanargmin(np.where(np.isnan(off), np.inf, np.abs(off)), axis=1)
        curve = np.where(near < BENT, off[np.arange(len(off)), chosen], np.nan)
        known = np.flatnonzero(~np.isnan(curve))
        if not len(known):
            continue
        whole = np.interp(np.arange(len(curve)), known, curve[known])
        padded = np.pad(whole, 1, mode="edge")
        calm = np.median(np.stack([padded[:-2], padded[1:-1], padded[2:]]), axis=0)
        sent = np.inf
        for i, value in enumerate(calm.tolist()):
            if abs(value - sent) > HEARD:
                out.append((start + i * STEP if i else start, value))
                sent = value
        # If another note follows at once, its own start sets the bend.
        if later > end + STEP:
            out.append((end, 0.0))
    return out


BENT = 1.8
"""Semitones from a note up to which a deviation is its own glide."""
HEARD = 0.03
"""Semitones of movement that are worth a message."""
