"""The click: where it falls, and which of its clicks are first beats, beats and parts of beats."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.timing.session_time import MeterPoint, Timeline

FIRST, BEAT, PART = 2, 1, 0
"""Kinds of clicks: on the first beat of a bar, on another beat, and between beats."""
VELOCITY = (52, 92, 127)
"""Velocity of each kind."""


@dataclass(frozen=True, eq=False)
class Clicks:
    """Clicks in order.

    beat  (n,) quarter notes from bar 1
    kind  (n,) FIRST, BEAT or PART
    """

    beat: np.ndarray
    kind: np.ndarray


def clicks(timeline: Timeline, begin: float, end: float, parts: int = 1) -> Clicks:
    """The clicks from a beat on, before another. parts: clicks for each beat.

    A beat is what the meter counts: an eighth in 7/8, three eighths in 6/8, 9/8 and 12/8
    """
    beats: list[np.ndarray] = []
    kinds: list[np.ndarray] = []
    bar, _ = timeline.beats_to_bar(begin)
    while (at := timeline.bar_to_beats(bar)) < end - 1e-9:
        meter = timeline.meter_at(bar)
        length = counted(meter)
        count = round(meter.beats / length)
        place = np.arange(count * parts)
        beats.append(at + place * (length / parts))
        kinds.append(np.where(place == 0, FIRST, np.where(place % parts == 0, BEAT, PART)))
        bar += 1
    if not beats:
        return Clicks(np.zeros(0), np.zeros(0, np.int64))
    beat, kind = np.concatenate(beats), np.concatenate(kinds)
    keep = (beat >= begin - 1e-9) & (beat < end - 1e-9)
    return Clicks(beat[keep], kind[keep])


def counted(meter: MeterPoint) -> float:
    """Quarter notes of the beat that a meter counts."""
    if meter.denominator == 8 and meter.numerator % 3 == 0 and meter.numerator > 3:
        return 1.5
    return 4.0 / meter.denominator


def before(timeline: Timeline, beat: float, bars: int) -> float:
    """The beat at which a count-in of so many bars begins that ends at a beat."""
    bar, into = timeline.beats_to_bar(beat)
    return timeline.bar_to_beats(bar - bars) + into
