"""Beats and seconds of a score as a few pairs of numbers, for the process that plays it."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence

import numpy as np

from puresignal.core.timing.session_time import Timeline

GLIDE_STEP = 0.25
"""Beats between the pairs within a glide of the tempo: a straight line between them is right to some microseconds."""


class BeatTable:
    """Pairs of a beat and its second, straight lines between them; outside, the tempo of the nearest two.

    beats, seconds  both rising, at least two of each
    """

    def __init__(self, beats: Sequence[float] = (0.0, 1.0), seconds: Sequence[float] = (0.0, 0.5)):
        self.beats, self.seconds = list(beats), list(seconds)

    def second_of(self, beat: float) -> float:
        """The second of the score at a beat from bar 1."""
        return _along(self.beats, self.seconds, beat)

    def beat_of(self, second: float) -> float:
        """The beat from bar 1 at a second of the score."""
        return _along(self.seconds, self.beats, second)

    def seconds_a_beat(self, beat: float) -> float:
        """How long a quarter note lasts there."""
        i = min(max(bisect_right(self.beats, beat), 1), len(self.beats) - 1)
        return (self.seconds[i] - self.seconds[i - 1]) / (self.beats[i] - self.beats[i - 1])


def _along(known: list[float], wanted: list[float], at: float) -> float:
    i = min(max(bisect_right(known, at), 1), len(known) - 1)
    steep = (wanted[i] - wanted[i - 1]) / (known[i] - known[i - 1])
    return wanted[i - 1] + (at - known[i - 1]) * steep


def table_of(timeline: Timeline, shift: float) -> BeatTable:
    """The table of a session. shift: seconds of the score before bar 1."""
    places = [point.beat for point in timeline.tempos]
    beats = {0.0, *places, max([0.0, *places]) + 1.0, min([0.0, *places]) - 1.0}
    for point, after in zip(timeline.tempos, timeline.tempos[1:], strict=False):
        if point.glides:
            count = max(1, round((after.beat - point.beat) / GLIDE_STEP))
            beats.update(np.linspace(point.beat, after.beat, count + 1).tolist())
    rising = sorted(beats)
    seconds = timeline.beats_to_seconds(np.array(rising)) + shift
    return BeatTable(rising, seconds.tolist())
