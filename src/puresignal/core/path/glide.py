"""Glides: the pitch of a note slides there from the note before it, as bend."""

from __future__ import annotations

import numpy as np

from puresignal.core.midi.events import NO_EVENT, Controls, Notes
from puresignal.core.midi.messages import BEND
from puresignal.core.midi.tempo_map import on_arrival_grid

STEP_SECONDS = 0.005
"""Seconds between two bends of a glide."""
MIDDLE, MOST = 8192, 8191


def bends(
    notes: Notes, rows: np.ndarray, before: np.ndarray, until: np.ndarray, seconds: np.ndarray, reach: np.ndarray,
    closing: np.ndarray,
) -> Controls:  # fmt: skip
    """The bends of notes that glide from those before them, and of those that must not go on being bent.

    rows     (n,) rows of notes that glide
    before   (n,) note number that each comes from
    until    (n,) seconds at which the next note of its voice begins, inf for none
    seconds  (n,) how long it takes
    reach    (n,) semitones of a whole bend
    closing  rows of notes of the same voices that do not glide: their bend is in the middle
    """
    parts = []
    for row, origin, stop, long, most in zip(
        rows.tolist(), before.tolist(), until.tolist(), seconds.tolist(), reach.tolist(), strict=True
    ):
        start = float(notes.start[row])
        wide = float(np.clip((origin - int(notes.note[row])) / most, -1.0, 1.0))
        at = np.append(np.arange(start, start + long - STEP_SECONDS / 2, STEP_SECONDS), start + long)
        part = np.clip((at - start) / max(long, 1e-6), 0.0, 1.0)
        value = np.rint(MIDDLE + wide * (1.0 - part) * MOST).astype(np.int64)
        # The next note of the voice says what it is bent by itself.
        value, at = value[at < stop], at[at < stop]
        changed = np.concatenate([[True], value[1:] != value[:-1]])
        parts.append(_rows(notes, row, at[changed], value[changed]))
    parts += [_rows(notes, row, notes.start[[row]], np.array([MIDDLE])) for row in closing.tolist()]
    return Controls.join(parts) if parts else Controls.empty()


def _rows(notes: Notes, row: int, at: np.ndarray, value: np.ndarray) -> Controls:
    count = len(at)
    return Controls(
        on_arrival_grid(at), np.full(count, notes.port[row]), np.full(count, notes.channel[row]), np.full(count, BEND),
        value & 0x7F, value >> 7, np.full(count, notes.track[row]), np.full(count, NO_EVENT), np.full(count, -1),
    )  # fmt: skip
