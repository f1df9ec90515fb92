"""Several takes as one result: each runs the path on its own, then they are laid on the session's time and merged.

What looks at more than one note of a track - cutting overlaps, one note of several at a moment, thinning - runs over
the merge. Everything before it belongs to a take alone: its map, its faults, its velocities.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi.events import NO_ARTICULATION, NO_EVENT, Controls, Events, Notes, Take
from puresignal.core.midi.tempo_map import on_arrival_grid
from puresignal.core.path.cleaning_path import CleaningPath, Outcome, StageCache, make_context, run
from puresignal.core.path.context import Context, PathTrack, Verdict
from puresignal.core.path.tally import Entries, Tally
from puresignal.core.path.target import Target
from puresignal.core.timing.session_time import Timeline

BEATS, CLOCK = "beats", "clock"
"""What a placed take follows: a later tempo change moves its notes along, or leaves their seconds as they are."""
MOST_PPQ, USUAL_PPQ = 32_767, 9_600
"""The most ticks a quarter note of a MIDI file, and what is taken where the takes' have no common multiple below it."""


@dataclass(frozen=True, eq=False)
class Placed:
    """A take on the session's time.

    beat     where its own beginning stands: beats from bar 1
    follows  BEATS (by its own tempo map) or CLOCK
    """

    take: Take
    source: NoteMap | None = None
    target: NoteMap | None = None
    verdicts: Mapping[int, Verdict] = field(default_factory=dict)
    beat: float = 0.0
    follows: str = CLOCK
    cache: StageCache | None = None
    _known: dict[int, tuple[np.ndarray, Timeline, np.ndarray]] = field(default_factory=dict, init=False, repr=False)

    def seconds(self, own: np.ndarray, timeline: Timeline) -> np.ndarray:
        """Seconds from bar 1 of (n,) seconds of the take, NaN where those are, on the 20 µs grid."""
        # Most columns of a result stay the same arrays while a setting is moved.
        known = self._known.get(id(own))
        if known is not None and known[0] is own and known[1] == timeline:
            return known[2]
        if len(self._known) > 16:
            self._known.clear()
        placed = self._placed(own, timeline)
        self._known[id(own)] = own, timeline, placed
        return placed

    def _placed(self, own: np.ndarray, timeline: Timeline) -> np.ndarray:
        if self.follows == BEATS:
            beats = self.beat + self.take.tempo.seconds_to_beats(np.nan_to_num(own))
            placed = timeline.beats_to_seconds(beats)
        else:
            placed = float(timeline.beats_to_seconds(np.array([self.beat]))[0]) + np.nan_to_num(own)
        return np.asarray(np.where(np.isnan(own), np.nan, on_arrival_grid(placed)))

    def context(self, path: CleaningPath) -> Context:
        """The context of its path; the one of the last run where it is still valid."""
        if self.cache is not None:
            return self.cache.context(self.take, self.source, self.target, path, self.verdicts)
        return make_context(self.take, self.source, self.target, path, self.verdicts)

    def ticks(self, timeline: Timeline, ppq: int) -> np.ndarray:
        """(events,) ticks from bar 1: the file's own where it follows the beats, else the nearest."""
        if self.follows == BEATS and self.take.ticks is not None:
            own = np.asarray(self.take.ticks, np.int64)
            # Whole numbers as long as possible: a common multiple keeps every tick of a file exactly.
            scaled = (own * ppq * 2 + self.take.tempo.ppq) // (2 * self.take.tempo.ppq)
            return np.asarray(scaled + round(self.beat * ppq), np.int64)
        beats = timeline.seconds_to_beats(self.seconds(self.take.events.arrived, timeline))
        return np.asarray(np.rint(beats * ppq), np.int64)


@dataclass(frozen=True, eq=False)
class _Merged(Context):
    """The context of the merge. names: the articulations of all takes; rooms: (ports,) receiver of each port."""

    names: tuple[str, ...] = ()
    rooms: tuple[int, ...] = ()

    @cached_property
    def vocabulary(self) -> tuple[str, ...]:
        return self.names

    @cached_property
    def receivers(self) -> np.ndarray:
        return np.array(self.rooms or (0,), np.int64)


@dataclass(frozen=True, eq=False)
class Whole:
    """The result of all takes that are in.

    outcome  notes and controls in seconds from bar 1; an origin counts the events of all takes one after another
    first    (takes,) number of each take's first event
    """

    outcome: Outcome
    first: np.ndarray
    placed: tuple[Placed, ...]
    timeline: Timeline

    def whose(self, origin: int) -> tuple[int, int]:
        """The take, by its place in the list, and its event that an origin stands for."""
        part = int(np.searchsorted(self.first, origin, "right")) - 1
        return part, origin - int(self.first[part])

    def for_file(self, name: str, ppq: int | None = None) -> tuple[Outcome, Take]:
        """All takes as one, for a file that begins with bar 1, or whole bars earlier for what sounds before it.

        ppq  ticks a quarter note, None for as many as keep every take's
        """
        ppq = ppq or common_ppq([one.take for one in self.placed])
        take, shift = _as_one(self.placed, self.timeline, ppq, name, _bars_before(self.outcome, self.timeline))
        return (_later(self.outcome, shift) if shift else self.outcome), take


def common_ppq(takes: Sequence[Take]) -> int:
    """Ticks a quarter note in which no take loses a tick, as far as a file can state them."""
    ppq = math.lcm(*(take.tempo.ppq for take in takes)) if takes else USUAL_PPQ
    return ppq if ppq <= MOST_PPQ else USUAL_PPQ


def run_together(placed: Sequence[Placed], path: CleaningPath, timeline: Timeline) -> Whole:
    """Run every take, lay them on the session's time, and finish what looks across them."""
    own_stages = next(i for i, stage in enumerate(path.stages()) if stage.stage == Target.stage) + 1
    contexts = [one.context(path) for one in placed]
    outcomes = [
        run(one.take, path, context, one.cache, own_stages) for one, context in zip(placed, contexts, strict=True)
    ]
    merged = _merged_context(placed, contexts, path)
    counts = [len(one.take.events) for one in placed]
    first = np.concatenate([[0], np.cumsum(counts)[:-1]]).astype(np.int64) if placed else np.zeros(0, np.int64)
    ports = np.concatenate([[0], np.cumsum([len(one.take.ports) for one in placed])])
    moves = [
        _Move(one, context, merged, timeline, int(event), int(port))
        for one, context, event, port in zip(placed, contexts, first, ports[:-1], strict=True)
    ]
    played = Notes.join([move.notes(o.input_notes) for move, o in zip(moves, outcomes, strict=True)])
    notes, controls = _in_order(
        [move.notes(o.output_notes) for move, o in zip(moves, outcomes, strict=True)],
        [move.controls(o.controls) for move, o in zip(moves, outcomes, strict=True)],
    )
    written = [move.entries(o.tally.entries) for move, o in zip(moves, outcomes, strict=True)]
    for stage in path.stages()[own_stages:]:
        result = stage.apply(notes, controls, merged)
        notes, controls = result.notes, result.controls
        written.extend(result.entries)
    tally = Tally(
        sum(o.tally.arrived for o in outcomes), len(notes), Entries.join(written), sum(o.tally.strays for o in outcomes)
    )
    outcome = Outcome(_by_start(played), notes, controls, tally, merged.tracks, merged.vocabulary)
    return Whole(outcome, first, tuple(placed), timeline)


def _merged_context(placed: Sequence[Placed], contexts: Sequence[Context], path: CleaningPath) -> _Merged:
    names = tuple(dict.fromkeys(name for context in contexts for name in context.vocabulary))
    ports = tuple(port for one in placed for port in one.take.ports)
    rooms = tuple(
        port.device if context.apart else 0
        for one, context in zip(placed, contexts, strict=True)
        for port in one.take.ports
    )
    return _Merged(ports=ports, split_by=path.split.by, names=names, rooms=rooms)


class _Move:
    """Turns one take's columns into those of the merge."""

    def __init__(
        self, placed: Placed, context: Context, merged: _Merged, timeline: Timeline, first_event: int, first_port: int
    ):
        self._placed, self._timeline = placed, timeline
        self._event, self._port = first_event, first_port
        codes = [merged.code[name] for name in context.vocabulary]
        self._codes = np.array([*codes, NO_ARTICULATION], np.int16)
        index = {track.key: i for i, track in enumerate(merged.tracks)}
        self._tracks = np.array([*(index[self._key(track)] for track in context.tracks), -1], np.int16)

    def _key(self, track: PathTrack) -> str:
        """A track's key in the merge: channels are counted by port."""
        port, slash, channel = track.key.partition("/")
        return f"{int(port) + self._port}/{channel}" if slash else track.key

    def _events(self, events: np.ndarray) -> np.ndarray:
        return np.where(events == NO_EVENT, NO_EVENT, events + self._event)

    def notes(self, notes: Notes) -> Notes:
        return notes.but(
            start=self._placed.seconds(notes.start, self._timeline),
            end=self._placed.seconds(notes.end, self._timeline),
            port=notes.port + self._port,
            articulation=self._codes[notes.articulation],
            track=self._tracks[notes.track],
            origin=notes.origin + self._event,
            end_event=self._events(notes.end_event),
        )

    def controls(self, controls: Controls) -> Controls:
        return controls.but(
            at=self._placed.seconds(controls.at, self._timeline),
            port=controls.port + self._port,
            track=self._tracks[controls.track],
            origin=controls.origin + self._event,
        )

    def entries(self, entries: Entries) -> Entries:
        return entries.but(origin=entries.origin + self._event)


def _in_order(notes: list[Notes], controls: list[Controls]) -> tuple[Notes, Controls]:
    """All notes and controls in playing order: by time, at one moment take by take, within a take as it played."""
    all_notes, all_controls = Notes.join(notes), Controls.join(controls)
    part = np.concatenate([np.full(len(rows), i) for i, rows in enumerate([*notes, *controls])] or [np.zeros(0)])
    part %= max(1, len(notes))
    at = np.concatenate([all_notes.start, all_controls.at])
    order = np.lexsort((np.concatenate([all_notes.seq, all_controls.seq]), part, at))
    seq = np.empty(len(order), np.int64)
    seq[order] = np.arange(len(order))
    all_notes = all_notes.but(seq=seq[: len(all_notes)])
    all_controls = all_controls.but(seq=seq[len(all_notes) :])
    return all_notes.take(np.argsort(all_notes.seq)), all_controls.take(np.argsort(all_controls.seq))


def _by_start(notes: Notes) -> Notes:
    return notes.take(np.argsort(notes.start, kind="stable"))


def _bars_before(outcome: Outcome, timeline: Timeline) -> int:
    """Whole bars by which a file has to start before bar 1, so that nothing is cut off."""
    earliest = min(outcome.output_notes.start.min(initial=0.0), outcome.controls.at.min(initial=0.0))
    beat = float(timeline.seconds_to_beats(np.array([earliest]))[0])
    return math.ceil(max(0.0, -beat) / timeline.meter_at(1).beats - 1e-9)


def _as_one(placed: Sequence[Placed], timeline: Timeline, ppq: int, name: str, bars_before: int) -> tuple[Take, float]:
    """All takes as one, and the seconds by which everything stands later in it than in the session."""
    ports = tuple(port for one in placed for port in one.take.ports)
    tempo = timeline.to_tempo_map(ppq, bars_before)
    early = round(bars_before * timeline.meter_at(1).beats * ppq)
    shift = float(tempo.ticks_to_seconds(np.array([early]))[0])
    ticks = [one.ticks(timeline, ppq) + early for one in placed]
    events = [
        one.take.events.but(
            arrived=one.seconds(one.take.events.arrived, timeline) + shift,
            port=one.take.events.port + sum(len(before.take.ports) for before in placed[:i]),
        )
        for i, one in enumerate(placed)
    ]
    metas, end = [], 0
    for i, (one, own) in enumerate(zip(placed, ticks, strict=True)):
        first_port = sum(len(before.take.ports) for before in placed[:i])
        place = round(one.beat * ppq) + early
        for meta in one.take.metas:
            tick = place + round(meta.tick * ppq / one.take.tempo.ppq)
            metas.append(replace(meta, tick=max(0, tick), port=meta.port + first_port))
        stated = place + round(one.take.end_tick * ppq / one.take.tempo.ppq) if one.take.ticks is not None else 0
        end = max(end, stated, int(own.max(initial=0)))
    take = Take(
        "whole", name, Events.join(events), ports, tempo, ticks=np.concatenate(ticks) if ticks else None,
        metas=tuple(sorted(metas, key=lambda meta: meta.tick)), end_tick=end,
    )  # fmt: skip
    return take, shift


def _later(outcome: Outcome, seconds: float) -> Outcome:
    """An outcome with everything later: a file that starts before bar 1 counts from its own start."""
    notes, played, controls = outcome.output_notes, outcome.input_notes, outcome.controls
    return replace(
        outcome,
        input_notes=played.but(start=played.start + seconds, end=played.end + seconds),
        output_notes=notes.but(start=notes.start + seconds, end=notes.end + seconds),
        controls=controls.but(at=controls.at + seconds),
    )
