"""The grid of beats that were found in playing: a map of the session's type, and back."""

from __future__ import annotations

from dataclasses import replace

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


def grid_of(found: Beats) -> Timeline:
    """The timeline on which each beat stands at its second: bar 1 begins with the first downbeat.

    A bar with another number of beats, where playing paused or a downbeat was set by hand, has a meter of its own.
    Raises ValueError if fewer than two beats were found
    """
    if len(found.time) < 2:
        raise ValueError("no beats")
    meter, quarters = meter_of(found)
    downs = np.flatnonzero(found.down)
    first = int(downs[0]) if len(downs) else 0
    place = (np.arange(len(found.time)) - first) * quarters
    bpm = np.clip(60.0 * quarters / np.diff(found.time), SLOWEST, FASTEST)
    points: list[TempoPoint] = []
    for beat, one in zip(place[:-1].tolist(), bpm.tolist(), strict=True):
        points.append(TempoPoint(beat, one))
    meters = [MeterPoint(1, *meter)]
    for bar, long in enumerate(np.diff(downs).tolist(), 1):
        upper = round(long * quarters * meter[1] / 4)
        if upper != meters[-1].numerator:
            meters.append(MeterPoint(bar, upper, meter[1]))
    if len(downs) > 1 and meters[-1].numerator != meter[0]:
        meters.append(MeterPoint(len(downs), *meter))
    if len(meters) > 1 and meters[1].bar == 1:
        del meters[0]
    return Timeline(tuple(points), tuple(meters), float(found.time[first]))


def timeline_of(found: Beats) -> tuple[Timeline, float]:
    """The session's timeline on which the beats stand, and the beat from bar 1 at which second 0 of the take then is.

    Raises ValueError if fewer than two beats were found
    """
    return on_bar_1(grid_of(found))


def on_bar_1(grid: Timeline) -> tuple[Timeline, float]:
    """A take's grid as a session's timeline, and the beat from bar 1 at which second 0 of the take then is."""
    zero = float(grid.seconds_to_beats(np.array([0.0]))[0])
    return replace(grid, start=0.0), zero


def beats_of(grid: Timeline, end: float) -> Beats:
    """The beats of a grid from second 0 to `end`, each as sure as the next: the other way round.

    What is found and then stored has as many points as beats; a grid of few points has evenly spaced beats.
    """
    meter = grid.meter_at(1)
    compound = meter.denominator == 8 and meter.numerator % 3 == 0 and meter.numerator > 3
    quarters = 1.5 if compound else 4.0 / meter.denominator
    first, last = grid.seconds_to_beats(np.array([0.0, end])).tolist()
    places = np.arange(np.ceil(first / quarters - 1e-6), np.floor(last / quarters + 1e-6) + 1) * quarters
    into = np.array([grid.beats_to_bar(float(place))[1] for place in places])
    count = meter.numerator // 3 if compound else meter.numerator
    return Beats(
        grid.beats_to_seconds(places), np.ones(len(places)), np.abs(into) < 1e-6, count, compound, 1.0
    )  # fmt: skip


def usual_bpm(grid: Timeline) -> float:
    """The tempo that half of the beats are faster than, to a tenth: quarter notes per minute."""
    bpm = np.array([point.bpm for point in grid.tempos])
    return round(float(np.median(bpm)), 1)
