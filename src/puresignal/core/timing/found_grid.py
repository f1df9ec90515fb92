"""The tempo map and meter of beats that were found in playing."""

from __future__ import annotations

import numpy as np

from puresignal.core.timing.beat_finder import Beats
from puresignal.core.timing.session_time import FASTEST, SLOWEST, MeterPoint, TempoPoint, Timeline

QUICK = 0.48
"""Seconds below which the beats of a bar of seven are eighths."""


def meter_of(found: Beats) -> tuple[tuple[int, int], float]:
    """The meter as it is written, and the quarter notes of a beat."""
    period = float(np.median(np.diff(found.time)))
    if found.thirds and found.meter in (2, 4):
        return (3 * found.meter, 8), 1.5
    if found.meter == 7 and period < QUICK:
        return (7, 8), 0.5
    return (found.meter, 4), 1.0


def timeline_of(found: Beats) -> tuple[Timeline, float]:
    """The timeline on which the beats stand, and the beat from bar 1 at which second 0 of the take then is.

    Bar 1 begins with the first downbeat; every beat has a tempo of its own, so that each stands where it was found.
    Raises ValueError if fewer than two beats were found
    """
    if len(found.time) < 2:
        raise ValueError("no beats")
    meter, quarters = meter_of(found)
    first = int(np.argmax(found.down)) if found.down.any() else 0
    place = (np.arange(len(found.time)) - first) * quarters
    bpm = np.clip(60.0 * quarters / np.diff(found.time), SLOWEST, FASTEST)
    points = [TempoPoint(float(beat), float(one)) for beat, one in zip(place[:-1], bpm, strict=True)]
    timeline = Timeline(tuple(points), (MeterPoint(1, *meter),))
    zero = float(timeline.seconds_to_beats(np.array([-float(found.time[first])]))[0])
    return timeline, zero
