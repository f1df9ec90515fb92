"""A simulated player of bass lines on a small keyboard: over the form of a tune, with a hand's timing and strength."""

from __future__ import annotations

import numpy as np

from puresignal.core.midi.events import Events, Port, Take
from puresignal.core.midi.messages import NOTE_OFF, NOTE_ON
from puresignal.core.midi.tempo_map import TempoMap, on_arrival_grid

ROOTS = (38, 38, 34, 36)
"""Root of each bar, again and again: D, D, B flat, C."""
WALK = ((0.0, 0, 0.9), (1.5, 0, 0.4), (2.0, 7, 0.8), (3.0, 12, 0.45), (3.5, 10, 0.4))
PUSH = ((0.0, 0, 0.45), (0.5, 0, 0.4), (1.5, 12, 0.45), (2.0, 7, 0.45), (2.5, 7, 0.4), (3.5, 5, 0.45))
LONG = ((0.0, 0, 3.4),)
"""Figures of a bar: beat, semitones above the root, length in beats."""
LATE, EARLY_LATE, SPREAD = 0.006, 0.009, 9.0
"""Seconds that the hand is late on the mean, and by which it varies; velocities by which strokes vary."""


def play(bars: int, bpm: float, seed: int, ident: str, name: str, device: str, channel: int = 2) -> Take:
    """A bass line of so many bars of 4/4, silent in the first, held in the last."""
    chance = np.random.default_rng(seed)
    beat, rows = 60.0 / bpm, []
    for bar in range(1, bars):
        figure = LONG if bar == bars - 1 else PUSH if bar % 8 in (5, 6, 7) else WALK
        for at, above, long in figure:
            start = (4 * bar + at) * beat + LATE + EARLY_LATE * float(chance.standard_normal())
            end = start + long * beat * float(chance.uniform(0.85, 1.02))
            strength = 96 if at == 0 else 78
            velocity = int(np.clip(strength + SPREAD * chance.standard_normal(), 30, 127))
            note = ROOTS[bar % 4] + above
            rows.append((start, NOTE_ON | channel - 1, note, velocity))
            rows.append((end, NOTE_OFF | channel - 1, note, 64))
    rows.sort()
    columns = np.array([row[1:] for row in rows], np.int64).reshape(-1, 3)
    begin = rows[0][0] if rows and rows[0][0] < 0 else 0.0
    arrived = on_arrival_grid(np.array([row[0] - begin for row in rows]))
    count = len(rows)
    events = Events(arrived, np.zeros(count), columns[:, 0], columns[:, 1], columns[:, 2], np.full(count, -1))
    return Take(ident, name, events, (Port(device),), TempoMap.steady(bpm))
