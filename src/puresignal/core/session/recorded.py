"""Recordings made to the transport: where each lies on the session's time, and its passes.

A recording is one take of what arrived, from a little before the record point to where it was stopped. Where in the
session each of its seconds lies is told by the moves of the transport: it began to play, another round of the loop
began, another tempo was set, it stopped.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from puresignal.core.session.recording import AT_ONCE, FIRST_HIT
from puresignal.core.session.take_ref import Pass
from puresignal.core.timing.session_time import FASTEST, SLOWEST, TempoPoint, Timeline

PLAY, ROUND, MOVED, STOP = "play", "round", "moved", "stop"
A_BLOCK = 0.025
"""Seconds of the longest block that is usual."""
AHEAD_BEATS, AHEAD_SECONDS = 0.25, 0.08
"""The most by which a hit may come before a round of the loop and still belong to it."""


@dataclass(frozen=True)
class Move:
    """A move of the transport.

    at      seconds of the clock by which what arrives is timed
    kind    PLAY from `beat` on, another ROUND from `beat` on, MOVED to another tempo, STOP
    beat    quarter notes from bar 1 at this moment
    speed   1.0 as the session says, less for slower
    tempo   the session's tempo from now on, None: as before
    """

    at: float
    kind: str
    beat: float
    speed: float = 1.0
    tempo: Timeline | None = None


@dataclass(frozen=True)
class Layout:
    """Where a recording lies.

    begin   seconds of the clock at which its material begins
    end     seconds of the clock after which nothing belongs to it
    beat    beats from bar 1 at which the material's beginning stands
    grid    beats by seconds of the material
    passes  rounds of the loop; none where there was no loop
    """

    begin: float
    end: float
    beat: float
    grid: Timeline
    passes: tuple[Pass, ...] = ()


def layout(
    moves: Sequence[Move], timeline: Timeline, early: float = 0.5, delay: float = 0.0, first: float | None = None
) -> Layout | None:
    """Where what was recorded lies; None if the transport never played.

    moves     since the record point, the first of them PLAY (or the ROUND that began there)
    timeline  the session's tempo when it began
    early  beats before the record point that belong to the recording
    delay  seconds by which what arrives is late; it is moved earlier by so much
    first  beats from bar 1 of the record point, where playing began before it; None: where playing began
    """
    moves = [replace(move, at=move.at + delay) for move in moves]
    started = next((i for i, move in enumerate(moves) if move.kind == PLAY), None)
    if started is None:
        return None
    moves = moves[started:]
    stop = next((move.at for move in moves if move.kind == STOP), None)
    # What the player had announced ahead and was then stopped before never happened.
    moving = [move for move in moves if move.kind != STOP and (stop is None or move.at < stop)]
    # Stopped before it began to play: what was played early is still there.
    moving = moving or [moves[0]]
    point = moving[0]
    if first is not None and first > point.beat:
        point = _point_at(moving, timeline, first)
        moving = [point, *(move for move in moving if move.at > point.at)]
    begin_beat = point.beat - early
    begin = point.at - _seconds(timeline, begin_beat, point.beat, point.speed)
    grid = _grid(moving, timeline, begin, begin_beat, stop)
    rounds = [i for i, move in enumerate(moving) if move.kind == ROUND]
    end = stop if stop is not None else np.inf
    if not rounds:
        return Layout(begin, end, begin_beat, grid)
    return Layout(begin, end, begin_beat, grid, tuple(_passes(moving, rounds, timeline, grid, begin, begin_beat, end)))


@dataclass(frozen=True)
class Begun:
    """How a recording began.

    point     beats from bar 1 of the record point
    pressed   seconds of the clock at which Record was pressed
    start     AT_ONCE, AFTER_COUNT_IN or FIRST_HIT of recording.py
    early     beats before the record point that belong to it
    by_hand   while the transport was playing already
    pre_roll  whether bars before the record point are played
    """

    point: float
    pressed: float
    start: str
    early: float = 0.5
    by_hand: bool = False
    pre_roll: bool = False


def layout_of(begun: Begun, moves: Sequence[Move], timeline: Timeline, stop: float | None = None) -> Layout | None:
    """Where a recording lies. moves: since the transport began to play; stop: seconds of the clock, if it ended."""
    moves = list(moves)
    if not moves:
        return None
    if begun.by_hand:
        # From the round on in which it began.
        first = max((i for i, m in enumerate(moves) if m.kind != STOP and m.beat <= begun.point), default=0)
        moves = [replace(moves[first], kind=PLAY), *moves[first + 1 :]]
    if stop is not None and moves[-1].kind != STOP:
        moves.append(Move(stop, STOP, 0.0))
    late = 0.0
    if begun.start == FIRST_HIT:
        # The transport began to play a little after the hit that started it.
        late = max(0.0, moves[0].beat - begun.point)
    elif begun.start == AT_ONCE and not begun.by_hand and not begun.pre_roll:
        # The transport may need a moment to start; who plays at once is not to lose that. A hit carries the time at
        # which its block began, which may lie before Record was pressed.
        a, b = timeline.seconds_to_beats(np.array([0.0, moves[0].at - begun.pressed + A_BLOCK])).tolist()
        late = max(0.0, b - a - begun.early)
    return layout(moves, timeline, begun.early + late, 0.0, begun.point)


def stretches_of(moves: Sequence[Move], timeline: Timeline, begin: float, end: float) -> list[Layout]:
    """Where a stretch of what was played lies although it was not recorded; empty where the transport did not run.

    moves  everything the transport did, in order. Where it began to play again within the stretch, another part begins
    """
    running: Move | None = None
    inside: list[Move] = []
    for move in moves:
        if move.at <= begin:
            running = None if move.kind == STOP else move
        elif move.at < end:
            inside.append(move)
    if running is not None:
        first = float(timeline.beats_to_seconds(np.array([running.beat]))[0]) + (begin - running.at) * running.speed
        beat = float(timeline.seconds_to_beats(np.array([first]))[0])
        inside.insert(0, Move(begin, PLAY, beat, running.speed, running.tempo))
    plays = [i for i, move in enumerate(inside) if move.kind == PLAY]
    found = []
    for number, (i, after) in enumerate(itertools.pairwise([*plays, len(inside)])):
        start, stop = inside[i], inside[after].at if after < len(inside) else end
        a, b = timeline.seconds_to_beats(np.array([0.0, (start.at - begin) * start.speed if not number else 0.0]))
        part = [move for move in inside[i:after] if move.kind != STOP]
        made = layout([*part, Move(stop, STOP, 0.0)], timeline, float(b - a))
        if made is not None:
            found.append(made)
    return found


def _point_at(moves: Sequence[Move], timeline: Timeline, beat: float) -> Move:
    """The moment at which the transport came to a beat, as a move."""
    move = next(
        (m for m, after in zip(moves, [*moves[1:], None], strict=True) if after is None or after.beat >= beat), moves[0]
    )
    return replace(move, at=move.at + _seconds(timeline, move.beat, beat, move.speed), beat=beat, kind=PLAY)


def _seconds(timeline: Timeline, begin: float, end: float, speed: float) -> float:
    """Seconds that it takes to play from one beat to another."""
    a, b = timeline.beats_to_seconds(np.array([begin, end])).tolist()
    return float(b - a) / speed


def _passes(
    moves: Sequence[Move], rounds: Sequence[int], timeline: Timeline, grid: Timeline, begin: float,
    begin_beat: float, end: float,
) -> Iterable[Pass]:  # fmt: skip
    """A pass for each round; what is played a hair before the loop point belongs to the pass that it begins."""
    edges = [(0.0, begin_beat)]
    for i in rounds:
        move = moves[i]
        ahead = min(AHEAD_SECONDS, _seconds(timeline, move.beat - AHEAD_BEATS, move.beat, move.speed))
        sooner = move.at - ahead - begin
        # By the tempo that was heard there: that of the end of the round before.
        a, b = grid.seconds_to_beats(np.array([sooner, move.at - begin])).tolist()
        edges.append((sooner, move.beat - (b - a)))
    last = end - begin if np.isfinite(end) else 1e9
    for (start, beat), (stop, _) in zip(edges, [*edges[1:], (last, 0.0)], strict=True):
        yield Pass(start, max(start, stop), beat)


def _grid(moves: Sequence[Move], timeline: Timeline, begin: float, begin_beat: float, stop: float | None) -> Timeline:
    """Beats of the material by its seconds: as many beats as were played, round after round."""
    points: list[TempoPoint] = []
    played, at_beat, at = 0.0, begin_beat, begin
    speed = moves[0].speed
    timeline = moves[0].tempo or timeline
    ends = [*(move.at for move in moves[1:]), stop if stop is not None else moves[-1].at + 1.0]
    for i, (move, until) in enumerate(zip(moves, ends, strict=True)):
        if i:
            at_beat, at, speed, timeline = move.beat, move.at, move.speed, move.tempo or timeline
        long = max(0.0, until - at)
        first = float(timeline.beats_to_seconds(np.array([at_beat]))[0])
        last = float(timeline.seconds_to_beats(np.array([first + long * speed]))[0])
        points += steps_of(timeline, at_beat, last, played, speed)
        played += last - at_beat
    merged: list[TempoPoint] = []
    for point in points:
        if merged and abs(point.beat - merged[-1].beat) < 1e-9:
            merged[-1] = point
        elif not merged or abs(point.bpm - merged[-1].bpm) > 1e-9:
            merged.append(point)
    return Timeline(tuple(merged), ())


FINE = 1 / 64
"""Beats of the steps in which a glide is followed: the times within one are exact to some microseconds."""


def steps_of(timeline: Timeline, begin: float, end: float, played: float, speed: float) -> list[TempoPoint]:
    """The tempo from one beat to another, as it is on a grid whose beat `played` is the first of them.

    Glides become steps, since at the end of a round the tempo may jump, which the end of a glide cannot
    """
    inner = [one.beat for one in timeline.tempos if begin + 1e-9 < one.beat < end - 1e-9]
    edges = [begin, *inner, end]
    found: list[TempoPoint] = []
    for first, last in itertools.pairwise(edges):
        middle = (first + last) / 2
        in_force = [one for one in timeline.tempos if one.beat <= middle]
        glides = bool(in_force) and in_force[-1].glides and in_force[-1] is not timeline.tempos[-1]
        parts = max(1, math.ceil((last - first) / FINE)) if glides else 1
        places = np.linspace(first, last, parts + 1)
        long = np.diff(timeline.beats_to_seconds(places))
        for place, beats, seconds in zip(places[:-1].tolist(), np.diff(places).tolist(), long.tolist(), strict=True):
            bpm = 60.0 * beats / seconds if seconds > 0 else timeline.bpm_at(place)
            found.append(TempoPoint(played + place - begin, min(FASTEST, max(SLOWEST, bpm * speed))))
    return found


def with_events_only(passes: tuple[Pass, ...], seconds: np.ndarray) -> tuple[Pass, ...]:
    """The passes in which anything was played. seconds: (n,) of the material, of its note-ons."""
    return tuple(one for one in passes if bool(((seconds >= one.begin) & (seconds < one.end)).any()))
