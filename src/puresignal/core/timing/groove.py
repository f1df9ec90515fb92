"""Grooves: how early or late, and how loud, a player is at each place of a bar; taken from playing, laid over other."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.translation import mark

STEP = 0.25
"""Quarter notes of the places of a groove: sixteenths."""
MOST_LATE = 80.0
MOST_PLACES = 256
FEWEST = 2
"""Strokes at a place from which it has a feel of its own."""


@dataclass(frozen=True)
class Groove:
    """A pattern that repeats.

    name    for the eye
    late    (places,) milliseconds by which strokes at each sixteenth are late, or early if negative
    louder  (places,) factor on their velocity
    """

    name: str = ""
    late: tuple[float, ...] = ()
    louder: tuple[float, ...] = ()

    @property
    def beats(self) -> float:
        """Quarter notes after which it repeats."""
        return len(self.late) * STEP

    def places(self, beats: np.ndarray) -> np.ndarray:
        """(n,) which of its places the nearest sixteenth is. beats: quarter notes from a bar line."""
        return np.asarray(np.mod(np.round(beats / STEP).astype(np.int64), len(self.late)))


NONE = Groove()
OWN = (
    Groove(mark("Leaning back"), (0, 6, 4, 8, 14, 8, 6, 9, 2, 6, 4, 8, 16, 9, 6, 9),
           (1.05, 0.82, 0.95, 0.8, 1.1, 0.82, 0.95, 0.8, 1.0, 0.82, 0.95, 0.8, 1.12, 0.84, 0.95, 0.82)),
    Groove(mark("Pushing on"), (0, -5, -4, -7, -8, -5, -5, -8, -1, -5, -4, -7, -9, -6, -5, -8),
           (1.08, 0.86, 0.97, 0.86, 1.05, 0.86, 0.97, 0.88, 1.02, 0.86, 0.97, 0.86, 1.06, 0.88, 0.98, 0.9)),
    Groove(mark("Lazy sixteenths"), (0, 12, 2, 14, 1, 12, 2, 14, 0, 12, 2, 14, 1, 13, 3, 15),
           (1.06, 0.74, 0.96, 0.78, 1.02, 0.74, 0.94, 0.78, 1.04, 0.74, 0.96, 0.78, 1.02, 0.76, 0.96, 0.8)),
)  # fmt: skip
"""A few to begin with."""


def extracted(
    name: str, beats: np.ndarray, seconds_a_beat: np.ndarray, velocity: np.ndarray, key: np.ndarray, bar: float
) -> Groove:
    """The groove of what was played.

    beats           (n,) quarter notes from a bar line
    seconds_a_beat  (n,) seconds that a quarter note lasts there
    velocity        (n,) 1..127
    key             (n,) number of each one's drum: loudness is against that of its drum
    bar             quarter notes of a bar
    """
    count = int(np.clip(round(bar / STEP), 1, MOST_PLACES))
    line = np.round(beats / STEP)
    place = np.mod(line.astype(np.int64), count)
    late = (beats - line * STEP) * seconds_a_beat * 1000
    mean = {one: float(velocity[key == one].mean()) for one in np.unique(key).tolist()}
    against = velocity / np.array([max(1.0, mean[one]) for one in key.tolist()]) if len(key) else velocity
    found_late, found_louder = np.zeros(count), np.ones(count)
    for i in range(count):
        mine = place == i
        if mine.sum() >= FEWEST:
            found_late[i] = float(np.clip(np.median(late[mine]), -MOST_LATE, MOST_LATE))
            found_louder[i] = float(np.clip(np.median(against[mine]), 0.25, 2.0))
    return Groove(name, tuple(found_late.round(2).tolist()), tuple(found_louder.round(3).tolist()))
