"""Several takes as one result: each runs the path on its own, then they are laid on the session's time and merged.

What looks at more than one note of a track - cutting overlaps, one note of several at a moment, thinning - runs over
the merge. Everything before it belongs to a take alone: its map, its faults, its velocities.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi.events import NO_ARTICULATION, NO_EVENT, Controls, Events, Meta, Notes, Take
from puresignal.core.midi.messages import BEND, CONTROL, LYRIC, MARKER, PROGRAM
from puresignal.core.midi.tempo_map import on_arrival_grid
from puresignal.core.path.cleaning_path import CleaningPath, Outcome, StageCache, make_context, run, with_edits
from puresignal.core.path.context import EVENT_BITS, USUAL_WIRING, Context, PathTrack, Wiring, kit_tracks
from puresignal.core.path.heard_notes import HeardNotes
from puresignal.core.path.memo import Memo
from puresignal.core.path.note_edits import NO_EDITS, NoteEdits
from puresignal.core.path.stage import PathStage, Result
from puresignal.core.path.tally import Entries, NoteField, Tally
from puresignal.core.path.target import Target
from puresignal.core.path.verdicts import Verdict
from puresignal.core.timing.session_time import Timeline

BEATS, CLOCK = "beats", "clock"
"""Follow modes of a placed take: a later tempo change moves its notes along, or leaves their seconds as they are."""
MOST_PPQ, USUAL_PPQ = 32_767, 9_600
"""The most ticks a quarter note of a MIDI file, and what is taken where the takes' have no common multiple below it."""


EARLY = 0.125
"""Beats before a bar line from which a hit belongs to the bar that it begins, where takes are joined."""


@dataclass(frozen=True)
class Round:
    """A stretch of a take, from `begin` to `end` in its seconds, whose beginning is laid at `beat`.

    is_in    whether it is used
    track    key of the track that all its notes go to; empty: their own
    between  beats from bar 1: only what lies in between is used; None: all
    """

    begin: float
    end: float
    beat: float
    is_in: bool = True
    track: str = ""
    between: tuple[float, float] | None = None


@dataclass(frozen=True, eq=False)
class Placed:
    """A take on the session's time.

    beat     where its own beginning stands: beats from bar 1
    follows  BEATS (by its own grid) or CLOCK
    number   its own, by which notes of several takes are told apart; 0: by its place among them
    begin, end  seconds of the take; what starts outside is not used
    grid     its beats by its seconds; None: those of its tempo map
    rounds   stretches of the take, each laid somewhere else; none: it is one
    used     beats from bar 1 between which it is used, where other takes are used elsewhere; None: everywhere
    wiring   the tracks that its notes go to
    channel  1..16 for all its notes, 0 for each one's own
    edits    of its notes by hand
    heard    what the ear said of them
    lyrics   (event that starts a note, its syllable)
    rings    whether notes that sound at `end` go on to their own end
    """

    take: Take
    source: NoteMap | None = None
    target: NoteMap | None = None
    verdicts: Mapping[int, Verdict] = field(default_factory=dict)
    beat: float = 0.0
    follows: str = CLOCK
    cache: StageCache | None = None
    number: int = 0
    begin: float | None = None
    end: float | None = None
    grid: Timeline | None = None
    rounds: tuple[Round, ...] = ()
    used: tuple[tuple[float, float], ...] | None = None
    wiring: Wiring = USUAL_WIRING
    channel: int = 0
    edits: NoteEdits = NO_EDITS
    heard: HeardNotes | None = None
    rings: bool = False
    lyrics: tuple[tuple[int, str], ...] = ()
    _known: dict[int, tuple[np.ndarray, Timeline, np.ndarray | None, np.ndarray]] = field(
        default_factory=dict, init=False, repr=False
    )

    def seconds(self, own: np.ndarray, timeline: Timeline, begun: np.ndarray | None = None) -> np.ndarray:
        """Seconds from bar 1 of (n,) seconds of the take, NaN where those are, on the 20 µs grid.

        begun  (n,) seconds by which the round is chosen, for the ends of notes; None: `own`
        """
        # Most columns of a result stay the same arrays while a setting is moved.
        known = self._known.get(id(own))
        if known is not None and known[0] is own and known[1] == timeline and known[2] is begun:
            return known[3]
        if len(self._known) > 16:
            self._known.clear()
        placed = self._placed(own, timeline, own if begun is None else begun)
        self._known[id(own)] = own, timeline, begun, placed
        return placed

    @cached_property
    def with_lyrics(self) -> Take:
        """The take with the syllables of its notes; they stand in place of those that its file has at these notes."""
        if not self.lyrics:
            return self.take
        events, take = self.take.events, self.take
        ticks = take.ticks if take.ticks is not None else take.tempo.seconds_to_ticks(events.arrived)
        typed = [(int(ticks[event]), event, text) for event, text in self.lyrics if event < len(events)]
        there = {tick for tick, _, _ in typed}
        kept = [meta for meta in take.metas if meta.kind != LYRIC or meta.tick not in there]
        made = [Meta(tick, LYRIC, text.encode(), int(events.port[event]), event) for tick, event, text in typed if text]
        return replace(take, metas=tuple(sorted((*kept, *made), key=lambda meta: meta.tick)))

    def own_beats(self, own: np.ndarray) -> np.ndarray:
        """Beats from the take's beginning of (n,) seconds of the take."""
        if self.grid is not None:
            return np.asarray(self.grid.seconds_to_beats(own))
        return np.asarray(self.take.tempo.seconds_to_beats(own))

    def _placed(self, own: np.ndarray, timeline: Timeline, begun: np.ndarray) -> np.ndarray:
        safe = np.nan_to_num(own)
        beat: np.ndarray | float = self.beat
        since: np.ndarray | float = 0.0
        if self.rounds:
            which = self._round_of(begun)
            beat = np.array([one.beat for one in self.rounds])[which]
            since = np.array([one.begin for one in self.rounds])[which]
        if self.follows == BEATS:
            beats = self.own_beats(safe)
            placed = timeline.beats_to_seconds(beat + (beats - self.own_beats(np.asarray(since))))
        else:
            placed = timeline.beats_to_seconds(np.atleast_1d(np.asarray(beat, np.float64))) + (safe - since)
        return np.asarray(np.where(np.isnan(own), np.nan, on_arrival_grid(placed)))

    def _round_of(self, seconds: np.ndarray) -> np.ndarray:
        """(n,) number of the round in which a second of the take lies; the first for what lies before it."""
        begins = np.array([one.begin for one in self.rounds])
        return np.asarray(np.maximum(np.searchsorted(begins, np.nan_to_num(seconds), "right") - 1, 0))

    @property
    def is_whole(self) -> bool:
        """Whether all of the take is used."""
        is_cropped = self.begin is not None or self.end is not None
        return not (is_cropped or self.rounds or self.channel or self.used is not None)

    def uses(self, own: np.ndarray, timeline: Timeline) -> np.ndarray:
        """(n,) whether what happens at these seconds of the take is used."""
        keep = np.ones(len(own), bool)
        if self.begin is not None:
            keep &= own >= self.begin
        if self.end is not None:
            keep &= own < self.end
        placed = timeline.seconds_to_beats(self.seconds(own, timeline)) if self.rounds or self.used is not None else own
        if self.rounds:
            which = self._round_of(own)
            for number, one in enumerate(self.rounds):
                mine = which == number
                keep[mine] &= one.is_in & (own[mine] >= one.begin) & (own[mine] < one.end)
                if one.between is not None:
                    keep[mine] &= (placed[mine] >= one.between[0] - EARLY) & (placed[mine] < one.between[1] - EARLY)
        if self.used is not None:
            inside = np.zeros(len(own), bool)
            for begin, end in self.used:
                inside |= (placed >= begin - EARLY) & (placed < end - EARLY)
            keep &= inside
        return keep

    def track_of(self, own: np.ndarray, index: Mapping[str, int]) -> np.ndarray:
        """(n,) the track that all notes of a round go to, -1 where they keep their own. index: tracks by key."""
        if not any(one.track for one in self.rounds):
            return np.full(len(own), -1)
        to = np.array([index.get(one.track, -1) if one.track else -1 for one in self.rounds])
        return np.asarray(to[self._round_of(own)])

    def context(self, path: CleaningPath) -> Context:
        """The context of its path; the one of the last run where it is still valid."""
        if self.cache is not None:
            return self.cache.context(
                self.take, self.source, self.target, path, self.verdicts, self.wiring, self.heard, self.number
            )
        return make_context(
            self.take, self.source, self.target, path, self.verdicts, self.wiring, self.heard, self.number
        )

    def ticks(self, timeline: Timeline, ppq: int) -> np.ndarray:
        """(events,) ticks from bar 1: the file's own where it follows the beats, else the nearest."""
        if self.follows == BEATS and self.take.ticks is not None and self.grid is None and not self.rounds:
            own = np.asarray(self.take.ticks, np.int64)
            # Whole numbers as long as possible: a common multiple keeps every tick of a file exactly.
            scaled = (own * ppq * 2 + self.take.tempo.ppq) // (2 * self.take.tempo.ppq)
            return np.asarray(scaled + round(self.beat * ppq), np.int64)
        beats = timeline.seconds_to_beats(self.seconds(self.take.events.arrived, timeline))
        return np.asarray(np.rint(beats * ppq), np.int64)


@dataclass(frozen=True, eq=False)
class _Merged(Context):
    """The context of the merge: the articulations of all takes, the receiver of each port, and all tracks."""

    names: tuple[str, ...] = ()
    rooms: tuple[int, ...] = ()
    every: tuple[PathTrack, ...] = ()

    @cached_property
    def tracks(self) -> tuple[PathTrack, ...]:
        return self.every

    @cached_property
    def vocabulary(self) -> tuple[str, ...]:
        return self.names

    @cached_property
    def receivers(self) -> np.ndarray:
        return np.array(self.rooms or (0,), np.int64)


@dataclass(frozen=True, eq=False)
class Whole:
    """The result of all takes that are in.

    outcome  notes and controls in seconds from bar 1; an origin is that of its take behind the take's number
    numbers  (takes,) the number of each take
    """

    outcome: Outcome
    numbers: tuple[int, ...]
    placed: tuple[Placed, ...]
    timeline: Timeline
    context: Context
    memo: Memo = field(default_factory=Memo, repr=False)

    def whose(self, origin: int) -> tuple[int, int]:
        """The take, by its place in the list, and its event that an origin stands for."""
        return self.numbers.index(origin >> EVENT_BITS), origin & (1 << EVENT_BITS) - 1

    def in_a_row(self, origins: np.ndarray) -> np.ndarray:
        """(n,) the numbers of these events if those of all takes stood one after another; NO_EVENT stays."""
        counts = [len(one.take.events) for one in self.placed]
        first = np.concatenate([[0], np.cumsum(counts)[:-1]]).astype(np.int64) if counts else np.zeros(1, np.int64)
        order = np.argsort(self.numbers)
        known = np.maximum(origins, 0)
        place = np.searchsorted(np.array(self.numbers)[order], known >> EVENT_BITS)
        found = first[order][np.minimum(place, len(order) - 1)] + (known & (1 << EVENT_BITS) - 1)
        return np.asarray(np.where(origins == NO_EVENT, NO_EVENT, found))

    def for_file(
        self, name: str, ppq: int | None = None, markers: Sequence[tuple[float, str]] = ()
    ) -> tuple[Outcome, Take]:
        """All takes as one, for a file that begins with bar 1, or whole bars earlier for what sounds before it.

        ppq      ticks a quarter note, None for as many as keep every take's
        markers  (beats from bar 1, text)
        """
        ppq = ppq or common_ppq([one.take for one in self.placed])
        take, shift = self.memo.once(
            "take", self.placed, (self.timeline, ppq, name, self.bars_before, tuple(markers)),
            lambda: self._take(name, ppq, markers),
        )  # fmt: skip
        played = self.memo.once(
            "later", (self.outcome.input_notes, *self.placed), (shift, self.numbers),
            lambda: _notes_later(self.outcome.input_notes, shift, self.in_a_row),
        )  # fmt: skip
        return _later(self.outcome, shift, self.in_a_row, played), take

    def _take(self, name: str, ppq: int, markers: Sequence[tuple[float, str]]) -> tuple[Take, float]:
        """All takes as one, and the seconds by which everything stands later in it than in the session."""
        take, shift = _as_one(self.placed, self.timeline, ppq, name, self.bars_before)
        if markers:
            early = self.bars_before * self.timeline.meter_at(1).beats
            marks = [Meta(max(0, round((beat + early) * ppq)), MARKER, text.encode()) for beat, text in markers]
            metas = tuple(sorted((*take.metas, *marks), key=lambda meta: meta.tick))
            take = replace(take, metas=metas, end_tick=max(take.end_tick, *(mark.tick for mark in marks)))
        return take, shift

    @property
    def bars_before(self) -> int:
        """Whole bars by which its file begins before bar 1."""
        return _bars_before(self.outcome, self.timeline)


def common_ppq(takes: Sequence[Take]) -> int:
    """Ticks a quarter note in which no take loses a tick, as far as a file can state them."""
    ppq = math.lcm(*(take.tempo.ppq for take in takes)) if takes else USUAL_PPQ
    return ppq if ppq <= MOST_PPQ else USUAL_PPQ


def run_together(placed: Sequence[Placed], path: CleaningPath, timeline: Timeline, memo: Memo | None = None) -> Whole:
    """Run every take, lay them on the session's time, and finish what looks across them.

    memo  of the last result, where takes are worked out again and again
    """
    memo = memo or Memo()
    stages = path.stages()
    as_played = next(i for i, stage in enumerate(stages) if stage.stage.on_timeline)
    own_stages = next(i for i, stage in enumerate(stages) if stage.stage == Target.stage) + 1
    contexts = [one.context(path) for one in placed]
    given = [one.number for one in placed]
    numbers = given if all(given) and len(set(given)) == len(given) else list(range(1, len(placed) + 1))
    merged = memo.once("context", (*placed, *contexts), path.split.by, lambda: _merged_context(placed, contexts, path))
    ports = np.concatenate([[0], np.cumsum([len(one.take.ports) for one in placed])])
    moves = [
        _Move(one, context, merged, timeline, number, int(port))
        for one, context, number, port in zip(placed, contexts, numbers, ports[:-1], strict=True)
    ]
    outcomes = [
        _laid(one, stages[as_played:own_stages], run(one.take, path, context, one.cache, as_played), context, move)
        for one, context, move in zip(placed, contexts, moves, strict=True)
    ]
    played = memo.once(
        "played",
        (*placed, merged, *(o.input_notes for o in outcomes)),
        (numbers, timeline),
        lambda: _by_start(Notes.join([move.notes(o.input_notes) for move, o in zip(moves, outcomes, strict=True)])),
    )
    notes, controls = _in_order(
        [move.notes(o.output_notes) for move, o in zip(moves, outcomes, strict=True)],
        [move.controls(o.controls) for move, o in zip(moves, outcomes, strict=True)],
    )
    written = [move.entries(o.tally.entries) for move, o in zip(moves, outcomes, strict=True)]
    for stage in stages[own_stages:]:
        result = stage.apply(notes, controls, merged)
        notes, controls = result.notes, result.controls
        written.extend(result.entries)
    tally = Tally(
        sum(o.tally.arrived for o in outcomes), len(notes), Entries.join(written), sum(o.tally.strays for o in outcomes)
    )
    outcome = Outcome(played, notes, controls, tally, merged.tracks, merged.vocabulary)
    return Whole(outcome, tuple(numbers), tuple(placed), timeline, merged, memo)


def _laid(placed: Placed, stages: Sequence[PathStage], outcome: Outcome, context: Context, move: _Move) -> Outcome:
    """The used notes of a take, in the session's time, through the stages that work on it.

    The results are kept with the take, so that a moved setting costs only what lies behind it
    """
    cache, timeline = placed.cache, move.timeline
    known = cache.later if cache is not None else None
    # By what it is made of: another edit by hand costs only the edits.
    where = (
        placed.beat, placed.follows, placed.begin, placed.end, placed.grid, placed.rounds, placed.used, placed.channel,
        timeline,
    )  # fmt: skip
    key = (outcome.output_notes, outcome.controls, outcome.input_notes, placed.take, context, where)
    if not isinstance(known, _Later) or not known.is_of(key):
        used = move.used(outcome)
        notes = move.timed(used.output_notes)
        order = np.lexsort((notes.seq, notes.start))
        if not np.array_equal(order, np.arange(len(order))):
            notes = notes.take(order)
        # What was played stays the same value while only stages behind it change.
        played = known.laid.input_notes if isinstance(known, _Later) and known.is_of(key, 2) else None
        laid = replace(
            used, input_notes=move.timed(used.input_notes) if played is None else played, output_notes=notes,
            controls=move.timed_controls(used.controls),
        )  # fmt: skip
        # The same context while a setting is moved: what it has looked up of the maps stays.
        within = replace(context, timeline=timeline) if cache is None else cache.on_timeline(context, timeline)
        known = _Later(key, laid, within, [])
        if cache is not None:
            cache.later = known
    return known.run(with_edits(tuple(stages), placed.edits))


@dataclass(eq=False)
class _Later:
    """The stages on the timeline of one take, as far as their results hold."""

    key: tuple[object, ...]
    laid: Outcome
    context: Context
    results: list[tuple[PathStage, Result]]

    def is_of(self, key: tuple[object, ...], first: int = 0) -> bool:
        """Whether it was made of this; first: the part of the key from which it is compared."""
        *same, where = key[first:]
        *mine, my_place = self.key[first:]
        return all(a is b for a, b in zip(mine, same, strict=True)) and my_place == where

    def run(self, stages: Sequence[PathStage]) -> Outcome:
        notes, controls = self.laid.output_notes, self.laid.controls
        written = [self.laid.tally.entries]
        for number, stage in enumerate(stages):
            if number >= len(self.results) or self.results[number][0] != stage:
                self.results[number:] = [(stage, stage.apply(notes, controls, self.context))]
            result = self.results[number][1]
            notes, controls = result.notes, result.controls
            written.extend(result.entries)
        tally = Tally(self.laid.tally.arrived, len(notes), Entries.join(written), self.laid.tally.strays)
        return replace(self.laid, output_notes=notes, controls=controls, tally=tally)


def _merged_context(placed: Sequence[Placed], contexts: Sequence[Context], path: CleaningPath) -> _Merged:
    names = tuple(dict.fromkeys(name for context in contexts for name in context.vocabulary))
    ports = tuple(port for one in placed for port in one.take.ports)
    rooms = tuple(
        port.device if context.apart else 0
        for one, context in zip(placed, contexts, strict=True)
        for port in one.take.ports
    )
    every = _tracks(placed, contexts, path.split.by) or Context(split_by=path.split.by).tracks
    return _Merged(ports=ports, split_by=path.split.by, names=names, rooms=rooms, every=every)


def _tracks(placed: Sequence[Placed], contexts: Sequence[Context], split_by: str) -> tuple[PathTrack, ...]:
    """The tracks of all takes: kits first, in the order of drums, then unmapped notes, channels, and further tracks."""
    kits: dict[str, tuple[str, list[str]]] = {}
    for context in contexts:
        names = kits.setdefault(context.wiring.own, (context.wiring.own_title, []))[1]
        names += context.vocabulary
    rows = [
        track
        for own, (title, names) in kits.items()
        for track in kit_tracks(dict.fromkeys(names), split_by, own, title)
    ]
    rows += [context.tracks[context.unmapped_track] for context in contexts]
    ports = 0
    further: list[PathTrack] = []
    for one, context in zip(placed, contexts, strict=True):
        for track in context.tracks[context.unmapped_track + 1 :]:
            if track.port >= 0:
                rows.append(replace(track, port=track.port + ports))
            else:
                further.append(track)
        ports += len(one.take.ports)
    found: dict[str, PathTrack] = {}
    for track in (*rows, *further):
        found.setdefault(track.key, track)
    return tuple(found.values())


class _Move:
    """Turns one take's columns into those of the merge."""

    def __init__(
        self, placed: Placed, context: Context, merged: _Merged, timeline: Timeline, number: int, first_port: int
    ):
        self._placed, self.timeline = placed, timeline
        self._event, self._port = number << EVENT_BITS, first_port
        codes = [merged.code[name] for name in context.vocabulary]
        self._codes = np.array([*codes, NO_ARTICULATION], np.int16)
        index = {track.key: i for i, track in enumerate(merged.tracks)}
        self._tracks = np.array([*(index[track.key] for track in context.tracks), -1], np.int16)
        self._own_index = {track.key: i for i, track in enumerate(context.tracks)}

    def used(self, outcome: Outcome) -> Outcome:
        """The part of a take's result that is used: in its range, in its rounds, and in the bars it is chosen for."""
        placed = self._placed
        if placed.is_whole:
            return outcome
        played, notes, controls, tally = outcome.input_notes, outcome.output_notes, outcome.controls, outcome.tally
        played = played.take(placed.uses(played.start, self.timeline))
        # By the hit and not by the note: what one hit became stays together.
        notes = notes.take(np.isin(notes.origin, played.origin))
        if placed.end is not None and not placed.rings:
            notes = notes.but(end=np.minimum(notes.end, placed.end))
        if placed.rounds:
            to = placed.track_of(notes.start, self._own_index)
            notes = notes.but(track=np.where(to >= 0, to, notes.track))
        entries = tally.entries.take(np.isin(tally.entries.origin, played.origin))
        controls = _chased(controls, placed.uses(controls.at, self.timeline), placed.begin)
        return replace(
            outcome,
            input_notes=played,
            output_notes=notes,
            controls=controls,
            tally=Tally(len(played), len(notes), entries, tally.strays),
        )

    def _events(self, events: np.ndarray) -> np.ndarray:
        return np.where(events == NO_EVENT, NO_EVENT, events + self._event)

    def timed(self, notes: Notes) -> Notes:
        """Notes in the session's time."""
        return notes.but(
            start=self._placed.seconds(notes.start, self.timeline),
            end=self._placed.seconds(notes.end, self.timeline, notes.start if self._placed.rounds else None),
        )

    def timed_controls(self, controls: Controls) -> Controls:
        return controls.but(at=self._placed.seconds(controls.at, self.timeline))

    def notes(self, notes: Notes) -> Notes:
        channel = np.full(len(notes), self._placed.channel) if self._placed.channel else notes.channel
        return notes.but(
            channel=channel,
            port=notes.port + self._port,
            articulation=self._codes[notes.articulation],
            track=self._tracks[notes.track],
            origin=notes.origin + self._event,
            end_event=self._events(notes.end_event),
        )

    def controls(self, controls: Controls) -> Controls:
        channel = np.full(len(controls), self._placed.channel) if self._placed.channel else controls.channel
        return controls.but(
            channel=channel,
            port=controls.port + self._port,
            track=self._tracks[controls.track],
            origin=self._events(controls.origin),
        )

    def entries(self, entries: Entries) -> Entries:
        return entries.but(origin=entries.origin + self._event)


def _chased(controls: Controls, used: np.ndarray, begin: float | None) -> Controls:
    """The controls that are used, behind the state that they were in where a cropped take begins."""
    if begin is None or used.all():
        return controls.take(used)
    before = np.flatnonzero((controls.at < begin) & np.isin(controls.kind, (CONTROL, PROGRAM, BEND)))
    number = np.where(controls.kind == CONTROL, controls.number, 0)
    key = (controls.port.astype(np.int64) << 24) + (controls.channel.astype(np.int64) << 16)
    key += (controls.kind.astype(np.int64) << 8) + number
    last = {int(key[row]): row for row in before.tolist()}
    rows = np.array(sorted(last.values()), np.int64)
    state = controls.take(rows).but(at=np.full(len(rows), begin))
    return Controls.join([state, controls.take(used)])


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
        first_event = sum(len(before.take.events) for before in placed[:i])
        place = round(one.beat * ppq) + early
        for meta in one.with_lyrics.metas:
            tick = place + round(meta.tick * ppq / one.take.tempo.ppq)
            event = NO_EVENT if meta.event == NO_EVENT else meta.event + first_event
            metas.append(replace(meta, tick=max(0, tick), port=meta.port + first_port, event=event))
        stated = place + round(one.take.end_tick * ppq / one.take.tempo.ppq) if one.take.ticks is not None else 0
        end = max(end, stated, int(own.max(initial=0)))
    take = Take(
        "whole", name, Events.join(events), ports, tempo, ticks=np.concatenate(ticks) if ticks else None,
        metas=tuple(sorted(metas, key=lambda meta: meta.tick)), end_tick=end,
    )  # fmt: skip
    return take, shift


def _notes_later(notes: Notes, seconds: float, events: Callable[[np.ndarray], np.ndarray]) -> Notes:
    """Notes later, by the events of a file."""
    return notes.but(
        start=notes.start + seconds, end=notes.end + seconds,
        origin=events(notes.origin), end_event=events(notes.end_event),
    )  # fmt: skip


def _later(outcome: Outcome, seconds: float, events: Callable[[np.ndarray], np.ndarray], played: Notes) -> Outcome:
    """An outcome with everything later, by the events of a file: one that starts before bar 1 counts from its start."""
    notes, controls = outcome.output_notes, outcome.controls
    entries = outcome.tally.entries
    in_seconds = np.isin(entries.field, (NoteField.START, NoteField.END))
    entries = entries.but(
        before=np.where(in_seconds, entries.before + seconds, entries.before),
        after=np.where(in_seconds, entries.after + seconds, entries.after),
    )
    return replace(
        outcome,
        input_notes=played,
        output_notes=_notes_later(notes, seconds, events),
        controls=controls.but(at=controls.at + seconds, origin=events(controls.origin)),
        tally=replace(outcome.tally, entries=entries.but(origin=events(entries.origin))),
    )  # fmt: skip
