"""Drum parts by others, as strokes for the two modules that make faults: players that no value was chosen on.

The files are those of training/collect_music.py. A part is played with the wander of a hand in time and loudness; how
loud each stroke is meant is what the file says.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from support.composed_takes import Piece

from puresignal.sim import adversarial_takes
from puresignal.sim.drummer import Performance, Stroke

ARTICULATIONS = {
    35: "kick", 36: "kick", 37: "snare.side", 38: "snare.head", 40: "snare.head", 41: "tom3.head",
    42: "hat.closed", 43: "tom3.head", 44: "hat.pedal", 45: "tom2.head", 46: "hat.open", 47: "tom2.head",
    48: "tom1.head", 49: "crash1.edge", 50: "tom1.head", 51: "ride.bow", 52: "crash2.edge", 53: "ride.bell",
    55: "crash1.edge", 57: "crash2.edge", 59: "ride.edge",
}  # fmt: skip
OPENNESS = {"hat.closed": 0.0, "hat.open": 1.0, "hat.pedal": 0.0}
BARS, FEWEST = 24, 60
"""Bars of a take, and the strokes it must have."""
SOFT = 45
"""Strokes on the snare below this are counted as ghost notes."""


def performance(pieces: list[Piece], seed: int) -> Performance:
    """Some bars of one of the drum parts; ValueError if none has enough strokes."""
    for number in range(seed, seed + len(pieces)):
        played = _played(pieces[number % len(pieces)], seed)
        if played is not None:
            return played
    raise ValueError(f"no drum part has {FEWEST} strokes in {BARS} bars")


def _played(piece: Piece, seed: int) -> Performance | None:
    chance = np.random.default_rng([3, seed])
    long = 4 * piece.meter[0] / piece.meter[1]
    total = int(piece.rows[-1, 0] // long) + 1
    begin = int(chance.integers(0, max(1, total - BARS))) * long
    rows = piece.rows[(piece.rows[:, 0] >= begin - 1e-6) & (piece.rows[:, 0] < begin + BARS * long)]
    bpm = (piece.bpm or 120.0) * float(np.exp(chance.normal(0, 0.08)))
    spread, wavers = float(chance.uniform(0.0025, 0.007)), float(chance.uniform(3, 9))
    strokes = []
    for at, note, velocity, _ in rows.tolist():
        articulation = ARTICULATIONS.get(int(note))
        if articulation is None:
            continue
        start = max(0.0, (at - begin) * 60 / bpm + 0.3 + float(chance.normal(0, spread)))
        loud = int(np.clip(velocity + chance.normal(0, wavers), 6, 127))
        kind = "ghost" if articulation == "snare.head" and loud < SOFT else "hit"
        strokes.append(Stroke(start, articulation, loud, kind, OPENNESS.get(articulation)))
    if len(strokes) < FEWEST:
        return None
    strokes.sort()
    whole = Performance(tuple(strokes), (), strokes[-1].start + 2.0, bpm)
    # No hand strikes one drum twice at a moment, as files now and then ask for.
    return replace(whole, strokes=adversarial_takes.spaced(whole.strokes))
