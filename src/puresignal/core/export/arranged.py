"""A result in its playing order: sections repeated, put elsewhere, or without the bars that are hidden.

Applied after the path, so that what is played twice is the same notes twice. A note that begins before a join sounds on
to its end, unless the next one on its key strikes it; what was played a hair before a section's first bar belongs to
it.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from puresignal.core.midi.events import NO_EVENT, Controls, Events, Notes, Take
from puresignal.core.midi.messages import BEND, CONTROL, PROGRAM
from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.path.context import Context
from puresignal.core.path.tally import Entries, Tally
from puresignal.core.path.tidy import Tidy
from puresignal.core.session.playing_order import Piece
from puresignal.core.session.recorded import AHEAD_BEATS, AHEAD_SECONDS, steps_of
from puresignal.core.timing.session_time import MeterPoint, TempoPoint, Timeline


def timeline_of(timeline: Timeline, pieces: Sequence[Piece]) -> Timeline:
    """Tempo and meters of what is played, by its own bars."""
    tempos: list[TempoPoint] = []
    meters: list[MeterPoint] = []
    beat, number = 0.0, 1
    for piece in pieces:
        begin, end = timeline.bar_to_beats(piece.first), timeline.bar_to_beats(piece.after)
        tempos += steps_of(timeline, begin, end, beat, 1.0)
        for bar in range(piece.first, piece.after):
            meter = timeline.meter_at(bar)
            if not meters or (meters[-1].numerator, meters[-1].denominator) != (meter.numerator, meter.denominator):
                meters.append(MeterPoint(number, meter.numerator, meter.denominator))
            number += 1
        beat += end - begin
    merged: list[TempoPoint] = []
    for point in tempos:
        if merged and abs(merged[-1].bpm - point.bpm) < 1e-9:
            continue
        merged.append(point)
    return Timeline(tuple(merged) or timeline.tempos, tuple(meters))


def arranged(
    outcome: Outcome, take: Take, context: Context, timeline: Timeline, bars_before: int, pieces: Sequence[Piece],
    of_round: Callable[[int], Outcome] | None = None,
) -> tuple[Outcome, Take, Timeline, int]:  # fmt: skip
    """Outcome, take, timeline and bars before bar 1 of what is played.

    outcome, take  in the time of their file, which begins `bars_before` bars before bar 1 of the timeline
    of_round       the outcome of a later round, where random draws differ by it; None: as the first
    """
    shift = _shift(take, bars_before)
    played = timeline_of(timeline, pieces)
    # What sounds before bar 1 leads into it, wherever the file begins with it.
    leads_in = bars_before if pieces and pieces[0].first <= 1 else 0
    tempo = played.to_tempo_map(take.tempo.ppq, leads_in)
    early = round(leads_in * played.meter_at(1).beats * take.tempo.ppq)
    later = float(tempo.ticks_to_seconds(np.array([early]))[0])
    made = _Pieces(timeline, played, shift, later, pieces, leads_in > 0, len(take.events))
    rounds = [outcome if not piece.round or of_round is None else of_round(piece.round) for piece in pieces]
    notes = made.notes([one.output_notes for one in rounds])
    controls = made.controls(outcome.controls)
    result = Tidy().apply(notes, controls, context)
    heard = made.notes([outcome.input_notes] * len(pieces))
    tally = _tally(outcome, rounds, made, heard, notes)
    outcome = replace(outcome, input_notes=heard, output_notes=_in_order(result.notes), controls=controls, tally=tally)
    length = float(played.beats_to_seconds(np.array([made.beats]))[0]) + later
    # A syllable goes with its note each time that this is played.
    sung = [
        replace(meta, event=meta.event + made.moved_origins(number))
        for meta in take.metas
        if meta.event != NO_EVENT
        for number in range(len(pieces))
    ]
    metas = tuple(
        replace(meta, tick=tick)
        for meta in (*(meta for meta in take.metas if meta.event == NO_EVENT), *dict.fromkeys(sung))
        if (tick := made.tick(meta.tick / take.tempo.ppq, timeline, bars_before, take.tempo.ppq, early)) is not None
    )
    # Each time that a bar is played its notes are events of their own, so that they can be told apart.
    events = Events.join([take.events] * made.times) if made.times > 1 else take.events
    take = replace(take, events=events, tempo=tempo, ticks=None, metas=metas, end_tick=0, lasts=length)
    return outcome, take, played, leads_in


def _tally(outcome: Outcome, rounds: Sequence[Outcome], made: _Pieces, heard: Notes, left: Notes) -> Tally:
    """The tally of what is played, each note as often as it is played. rounds: the outcome that each piece is of."""
    parts = []
    for number, one in enumerate(rounds):
        entries, moved = one.tally.entries, made.moved_origins(number)
        mine = one.input_notes.origin[made.inside(number, one.input_notes)]
        entries = entries.take(np.isin(entries.origin, mine))
        parts.append(entries.but(origin=entries.origin + moved))
    return Tally(len(heard), len(left), Entries.join(parts), outcome.tally.strays)


def _shift(take: Take, bars_before: int) -> float:
    """Seconds of a file before bar 1."""
    if not bars_before:
        return 0.0
    return float(take.tempo.ticks_to_seconds(np.array([take.tempo.bar_start(bars_before + 1)]))[0])


def _in_order(notes: Notes) -> Notes:
    return notes.take(np.lexsort((notes.seq, notes.start))).but(seq=np.arange(len(notes)))


class _Pieces:
    """Copies rows into the pieces that they are played in.

    beats  of all pieces together
    times  how often the bar that is played most often is played
    """

    def __init__(
        self, timeline: Timeline, played: Timeline, shift: float, later: float, pieces: Sequence[Piece], leads_in: bool,
        events: int,
    ):  # fmt: skip
        self._timeline, self._played, self._shift, self._later = timeline, played, shift, later
        self._events = events
        self._spans: list[tuple[float, float, float]] = []
        # Which time each piece's bars are played, from 0.
        self._time: list[int] = []
        self.beats = 0.0
        played_before: dict[int, int] = {}
        for number, piece in enumerate(pieces):
            begin, end = timeline.bar_to_beats(piece.first), timeline.bar_to_beats(piece.after)
            first = -math.inf if leads_in and number == 0 else begin
            self._spans.append((first, end, self.beats - begin))
            self.beats += end - begin
            bars = range(piece.first, piece.after)
            self._time.append(max((played_before.get(bar, 0) for bar in bars), default=0))
            played_before |= dict.fromkeys(bars, self._time[-1] + 1)
        self.times = max(self._time, default=0) + 1

    def _beats(self, seconds: np.ndarray) -> np.ndarray:
        return np.asarray(self._timeline.seconds_to_beats(seconds - self._shift))

    def inside(self, number: int, notes: Notes) -> np.ndarray:
        """(n,) which notes belong to a piece."""
        first, after, _ = self._spans[number]
        start = self._beats(notes.start)
        return np.asarray((start >= first - self._ahead(first)) & (start < after - self._ahead(after)))

    def moved_origins(self, number: int) -> int:
        """The number added to the origins of a piece's notes, so that each time a bar is played has its own."""
        return self._time[number] * self._events

    def _seconds(self, beats: np.ndarray) -> np.ndarray:
        return np.maximum(self._played.beats_to_seconds(beats) + self._later, 0.0)

    def _ahead(self, beat: float) -> float:
        """Beats by which what comes before a beat may still belong to it."""
        if not math.isfinite(beat):
            return 0.0
        a, b = self._timeline.beats_to_seconds(np.array([beat - AHEAD_BEATS, beat])).tolist()
        return float(AHEAD_BEATS * min(1.0, AHEAD_SECONDS / max(1e-9, b - a)))

    def notes(self, of_piece: Sequence[Notes]) -> Notes:
        """The notes of all pieces. of_piece: those of the round that each is taken from."""
        parts, beats = [], {}
        for notes, (first, after, moved), time in zip(of_piece, self._spans, self._time, strict=True):
            if id(notes) not in beats:
                beats[id(notes)] = self._beats(notes.start), self._beats(notes.end)
            start, end = beats[id(notes)]
            inside = np.flatnonzero((start >= first - self._ahead(first)) & (start < after - self._ahead(after)))
            begins = np.maximum(start[inside] + moved, min(0.0, first + moved))
            ends = np.maximum(end[inside] + moved, begins)
            part = notes.take(inside).but(
                start=self._seconds(begins),
                end=self._seconds(ends),
                end_event=np.full(len(inside), NO_EVENT),
                origin=notes.origin[inside] + time * self._events,
            )
            parts.append(part)
        joined = Notes.join(parts) if parts else Notes.empty()
        # In playing order; at one moment as they were.
        return joined.take(np.argsort(joined.start, kind="stable")).but(seq=np.arange(len(joined)))

    def controls(self, controls: Controls) -> Controls:
        at = self._beats(controls.at)
        parts, last_end = [], -math.inf
        for first, after, moved in self._spans:
            inside = np.flatnonzero((at >= first) & (at < after))
            if first != last_end and math.isfinite(first):
                state = _state(controls, at, first)
                parts.append(controls.take(state).but(at=self._seconds(np.full(len(state), first + moved))))
            parts.append(controls.take(inside).but(at=self._seconds(at[inside] + moved)))
            last_end = after
        joined = Controls.join(parts) if parts else controls.take(np.zeros(0, np.int64))
        return joined.take(np.argsort(joined.at, kind="stable")).but(seq=np.arange(len(joined)))

    def tick(self, beat: float, timeline: Timeline, bars_before: int, ppq: int, early: int) -> int | None:
        """Tick of a text at a beat of the file, where its bar is played first; None if it is not."""
        beat -= bars_before * timeline.meter_at(1).beats
        for first, after, moved in self._spans:
            if first <= beat < after:
                return max(0, round((beat + moved) * ppq) + early)
        return None


def _state(controls: Controls, at: np.ndarray, beat: float) -> np.ndarray:
    """Rows of the controllers, programs and bends that are in force at a beat."""
    before = np.flatnonzero((at < beat) & np.isin(controls.kind, (CONTROL, PROGRAM, BEND)))
    number = np.where(controls.kind == CONTROL, controls.number, 0)
    key = (controls.track.astype(np.int64) << 32) + (controls.port.astype(np.int64) << 24)
    key += (controls.channel.astype(np.int64) << 16) + (controls.kind.astype(np.int64) << 8) + number
    last = {int(key[row]): row for row in before.tolist()}
    return np.array(sorted(last.values()), np.int64)
