"""Edits on tempo and meter along the bars."""

from __future__ import annotations

from dataclasses import replace

from puresignal.core.timing.session_time import FASTEST, SLOWEST, MeterPoint, TempoPoint, Timeline

DENOMINATORS = (1, 2, 4, 8, 16, 32, 64)
SAME = 1e-6
"""Beats within which two places are one."""


def within(bpm: float) -> float:
    """A tempo within what a session can have."""
    return min(FASTEST, max(SLOWEST, bpm))


def point_at(timeline: Timeline, beat: float) -> TempoPoint:
    """The tempo change in force at a beat."""
    points = timeline.tempos or (TempoPoint(0.0, 120.0),)
    return next((one for one in reversed(points) if one.beat <= beat + SAME), points[0])


def with_tempo_in_force(timeline: Timeline, beat: float, bpm: float) -> Timeline:
    """Change the tempo that is in force at a beat, where it began."""
    here = point_at(timeline, beat)
    points = timeline.tempos or (here,)
    return replace(timeline, tempos=tuple(replace(one, bpm=within(bpm)) if one == here else one for one in points))


def with_tempo_at(timeline: Timeline, beat: float, bpm: float, glides: bool = False) -> Timeline:
    """Another tempo from a beat on, at once or evenly to the next change; replaces what was there."""
    others = [one for one in timeline.tempos or (TempoPoint(0.0, 120.0),) if abs(one.beat - beat) > SAME]
    points = sorted([*others, TempoPoint(beat, within(bpm), glides)], key=lambda one: one.beat)
    return replace(timeline, tempos=tuple(points))


def without_tempo_at(timeline: Timeline, beat: float) -> Timeline:
    """Without the tempo change at a beat; the first one stays."""
    left = tuple(one for i, one in enumerate(timeline.tempos) if not i or abs(one.beat - beat) > SAME)
    return replace(timeline, tempos=left)


def with_meter_at(timeline: Timeline, bar: int, numerator: int, denominator: int) -> Timeline:
    """Another meter from a bar on. Tempo changes keep their beats."""
    others = [one for one in timeline.meters if one.bar != bar]
    points = sorted([*others, MeterPoint(bar, numerator, denominator)], key=lambda one: one.bar)
    # A change to what is in force anyhow is none.
    kept: list[MeterPoint] = []
    for one in points:
        before = (kept[-1].numerator, kept[-1].denominator) if kept else (4, 4)
        if one.bar <= 1 or (one.numerator, one.denominator) != before:
            kept.append(one)
    return replace(timeline, meters=tuple(kept))


def without_meter_at(timeline: Timeline, bar: int) -> Timeline:
    """Without the change of meter at a bar."""
    return replace(timeline, meters=tuple(one for one in timeline.meters if one.bar != bar))


def meter_of(text: str) -> tuple[int, int] | None:
    """A meter from text like 7/8; None if it is none."""
    above, slash, below = text.strip().partition("/")
    if not slash or not above.strip().isdecimal() or not below.strip().isdecimal():
        return None
    numerator, denominator = int(above), int(below)
    return (numerator, denominator) if 1 <= numerator <= 255 and denominator in DENOMINATORS else None
