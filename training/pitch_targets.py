"""What the pitch networks are to say of a clip, from its notes."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from puresignal.core.hearing.networks.multipitch import LOWEST, PITCHES, STEP
from puresignal.sim.instrument_synthesis import Notes

AUDIBLE = 0.15
"""Seconds of release beyond which a note may be heard after its end."""


def targets(notes: Notes, rings: Sequence[float], frames: int) -> dict[str, np.ndarray]:
    """(frames, PITCHES) arrays: "sounds" 0 or 1, "starts" 0..100, and "ringing", where neither is known.

    rings  seconds for which each note may ring on after its end
    """
    sounds, starts = np.zeros((frames, PITCHES), np.uint8), np.zeros((frames, PITCHES), np.uint8)
    ringing = np.zeros(sounds.shape, bool)
    for (start, end, number, _), rang in zip(notes, rings, strict=True):
        if not 0 <= number - LOWEST < PITCHES:
            continue
        column, first = number - LOWEST, round(start / STEP)
        last = max(first + 1, round(end / STEP))
        sounds[first:last, column] = 1
        ringing[last : last + round(rang / STEP), column] = rang > AUDIBLE
        for k, value in ((0, 100), (1, 60), (-1, 60)):
            at = min(max(0, first + k), frames - 1)
            starts[at, column] = max(starts[at, column], value)
    return {"sounds": sounds, "starts": starts, "ringing": ringing & (sounds == 0)}
