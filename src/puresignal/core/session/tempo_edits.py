"""Edits with a take's own grid: beats found in its playing become its grid, the session's tempo, or a steady tempo."""

from __future__ import annotations

from dataclasses import replace
from pathlib import PurePath

import numpy as np

from puresignal.core.path.several_takes import BEATS, CLOCK, Placed
from puresignal.core.session.session import Session, with_changed
from puresignal.core.session.take_edits import second_at
from puresignal.core.session.take_ref import SOUND
from puresignal.core.timing import found_grid
from puresignal.core.timing.session_time import MeterPoint, TempoPoint, Timeline


def with_grid(session: Session, ident: str, grid: Timeline | None, timeline: Timeline) -> Session:
    """Give a take a grid of its own, or none. Its seconds stay, and so does the session's tempo.

    timeline  the session's, also where it has none of its own
    """
    session = session if session.timeline is not None else replace(session, timeline=timeline)
    return _with_its_recording(session, ident, grid=grid, follows=CLOCK)


def as_session_tempo(session: Session, ident: str, placed: Placed, timeline: Timeline) -> Session:
    """Make a take's grid the tempo and meters of the session. The take keeps its seconds.

    Its first bar line stands on the bar line that it was nearest to. Other takes that follow beats move along
    """
    if placed.grid is None:
        return session
    bar = _bar_of(placed, timeline)
    steady, zero = found_grid.on_bar_1(placed.grid)
    meter = steady.meter_at(1)
    before = (bar - 1) * meter.beats
    tempos = tuple(replace(point, beat=point.beat + before) for point in steady.tempos)
    meters = tuple(
        replace(one, bar=one.bar + bar - 1 if i or one.bar > 1 else 1) for i, one in enumerate(steady.meters)
    )
    there = Timeline(tempos, meters)
    session = replace(session, timeline=there)
    return _with_its_recording(session, ident, beat=zero + before, follows=CLOCK)


def straightened(session: Session, ident: str, placed: Placed, timeline: Timeline, bpm: float | None = None) -> Session:
    """Straighten a take: its beats stand on the session's.

    bpm  the session's tempo from now on, with the take's meter; None: the session's stays as it is
    """
    if placed.grid is None:
        return session
    bar = _bar_of(placed, timeline)
    there = timeline
    if bpm is not None:
        meter = placed.grid.meter_at(1)
        there = Timeline((TempoPoint(0.0, bpm),), (MeterPoint(1, meter.numerator, meter.denominator),))
    zero = float(placed.grid.seconds_to_beats(np.array([0.0]))[0])
    session = replace(session, timeline=there)
    return _with_its_recording(session, ident, beat=there.bar_to_beats(bar) + zero, follows=BEATS)


def _with_its_recording(session: Session, ident: str, **changed: object) -> Session:
    """Change a take, and the recording that its notes were heard in where that stands with it: they stay together."""
    ref = session.take(ident)
    together = [ident]
    if ref is not None and ref.heard is not None:
        together += [
            one.ident
            for one in session.takes
            if one.kind == SOUND and one.sound is not None and PurePath(one.sound.path).name == ref.heard.recording
            and abs(one.beat - ref.beat) < 1e-6
        ]  # fmt: skip
        if "grid" not in changed:
            changed["grid"] = ref.grid
    for one in together:
        session = with_changed(session, one, **changed)
    return session


KNOTS = 4000


def bend(placed: Placed, timeline: Timeline, length: float) -> list[list[float]] | None:
    """How a recording that follows the beats is stretched: seconds after its beginning, and its own seconds there.

    length  of the recording in seconds
    """
    if not length > 0:
        return None
    own = np.linspace(0.0, length, int(min(KNOTS, max(2.0, 2 * length))))
    shown = placed.seconds(own, timeline)
    shown = shown - shown[0]
    if np.abs(shown - own).max() < 1e-3:
        return None
    return [shown.round(6).tolist(), own.round(6).tolist()]


def bent_at(shown: np.ndarray, own: np.ndarray, second: float) -> tuple[float, float]:
    """The second of a file that follows the beats, and how much faster than playback it runs there.

    shown, own  (k,) rising seconds of playback, and those of the file; beyond the ends the file runs at its own speed
    """
    if second < shown[0]:
        return float(own[0] + second - shown[0]), 1.0
    if second >= shown[-1]:
        return float(own[-1] + second - shown[-1]), 1.0
    i = int(np.searchsorted(shown, second, "right")) - 1
    slope = float((own[i + 1] - own[i]) / (shown[i + 1] - shown[i]))
    return float(own[i]) + (second - float(shown[i])) * slope, slope


def _bar_of(placed: Placed, timeline: Timeline) -> int:
    """The bar of the session whose line the take's first bar line is nearest to; 1 at the earliest."""
    assert placed.grid is not None
    at = placed.seconds(np.array([placed.grid.start]), timeline)
    beat = float(timeline.seconds_to_beats(at)[0])
    bar, into = timeline.beats_to_bar(beat)
    return max(1, bar + (1 if into > timeline.meter_at(bar).beats / 2 else 0))


def moving(session: Session, ident: str) -> tuple[str, ...]:
    """Names of the other takes that another tempo of the session moves: those that follow its beats."""
    return tuple(one.name for one in session.takes if one.ident != ident and one.follows_beats and one.kind != SOUND)


def material_second(placed: Placed, timeline: Timeline, second: float) -> float:
    """The second of a take's material at a second from bar 1 of the session."""
    return second_at(placed, timeline, float(timeline.seconds_to_beats(np.array([second]))[0]))
