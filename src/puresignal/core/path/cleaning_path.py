"""The cleaning path: its stages in order, run over a whole take or event by event."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, fields, replace
from typing import Self

import numpy as np

from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi.columns import distinct
from puresignal.core.midi.events import Controls, Events, Notes, Take, playing_order
from puresignal.core.path.chords import Chords
from puresignal.core.path.context import USUAL_WIRING, Context, PathTrack, Wiring
from puresignal.core.path.crosstalk import Crosstalk
from puresignal.core.path.doubles import Doubles
from puresignal.core.path.ends import Ends
from puresignal.core.path.hand_edits import HandEdits
from puresignal.core.path.heard import Heard
from puresignal.core.path.heard_notes import HeardNotes
from puresignal.core.path.held_to_key import HeldToKey
from puresignal.core.path.identify import Identify
from puresignal.core.path.length import Length
from puresignal.core.path.live import Account, LiveEvent, LiveStage
from puresignal.core.path.note_edits import NO_EDITS, NoteEdits
from puresignal.core.path.pair import LivePair, Paired, pair
from puresignal.core.path.probability import Probability
from puresignal.core.path.split import Split
from puresignal.core.path.stage import PathStage, Result
from puresignal.core.path.tally import Entries, Tally
from puresignal.core.path.target import Target
from puresignal.core.path.thin import Thin
from puresignal.core.path.tidy import Tidy
from puresignal.core.path.timing import Timing
from puresignal.core.path.vary import Vary
from puresignal.core.path.velocity import Velocity
from puresignal.core.path.verdicts import Verdict, Verdicts
from puresignal.core.timing.session_time import Timeline


@dataclass(frozen=True)
class CleaningPath:
    """The settings of every stage, in the order in which notes pass them; pairing comes before all of them.

    This is the list of stages: a new stage is one more field. Plain values: equal paths give equal notes.
    """

    heard: Heard = field(default_factory=Heard)
    identify: Identify = field(default_factory=Identify)
    doubles: Doubles = field(default_factory=Doubles)
    crosstalk: Crosstalk = field(default_factory=Crosstalk)
    ends: Ends = field(default_factory=Ends)
    split: Split = field(default_factory=Split)
    velocity: Velocity = field(default_factory=Velocity)
    vary: Vary = field(default_factory=Vary)
    probability: Probability = field(default_factory=Probability)
    timing: Timing = field(default_factory=Timing)
    chords: Chords = field(default_factory=Chords)
    length: Length = field(default_factory=Length)
    key: HeldToKey = field(default_factory=HeldToKey)
    edits: HandEdits = field(default_factory=HandEdits)
    target: Target = field(default_factory=Target)
    tidy: Tidy = field(default_factory=Tidy)
    thin: Thin = field(default_factory=Thin)

    def stages(self) -> tuple[PathStage, ...]:
        """The stages in order."""
        return tuple(getattr(self, one.name) for one in fields(self))

    def is_on(self, stage: PathStage) -> bool:
        """Whether a stage is switched on, or has no switch."""
        switch = stage.stage.switch
        return switch is None or getattr(stage, switch.name) == switch.on

    def switched(self, key: str, on: bool) -> Self:
        """The path with a stage, and those that follow its switch, switched on or off."""
        switch = getattr(self, key).stage.switch
        value = switch.on if on else switch.off
        changed = {name: replace(getattr(self, name), **{switch.name: value}) for name in (key, *switch.others)}
        return replace(self, **changed)

    def with_setting(self, key: str, name: str, value: object) -> Self:
        """The path with another value of one setting of a stage."""
        return replace(self, **{key: replace(getattr(self, key), **{name: value})})


def with_faults(path: CleaningPath, removed: bool) -> CleaningPath:
    """The path with fault removal on or off."""
    return replace(
        path,
        doubles=replace(path.doubles, on=removed),
        crosstalk=replace(path.crosstalk, on=removed),
        ends=replace(path.ends, repair=removed),
    )


def as_played(path: CleaningPath) -> CleaningPath:
    """The path that only maps: every hit as hard as it was played, none removed."""
    path = with_unmapped(with_faults(path, False), "keep")
    for stage in path.stages():
        if stage.stage.on_timeline and stage.stage.switch is not None:
            path = path.switched(stage.stage.key, False)
    return replace(
        path, velocity=replace(path.velocity, on=False), vary=replace(path.vary, on=False),
        thin=replace(path.thin, on=False),
    )  # fmt: skip


def in_round(path: CleaningPath, number: int) -> CleaningPath:
    """The path as it draws by chance in a later round, from 0."""
    return replace(
        path,
        vary=replace(path.vary, round=path.vary.round + number),
        probability=replace(path.probability, round=path.probability.round + number),
    )


def as_live(path: CleaningPath) -> CleaningPath:
    """The path as it runs live: the look-ahead is limited to what the player allows."""
    return replace(
        path,
        identify=replace(path.identify, splash_ms=0.0),
        crosstalk=replace(path.crosstalk, lookahead_ms=path.crosstalk.live_ms),
    )


def with_unmapped(path: CleaningPath, unmapped: str) -> CleaningPath:
    """The path with unmapped notes dropped ("drop") or passed on ("keep")."""
    return replace(
        path, identify=replace(path.identify, unmapped=unmapped), target=replace(path.target, unmapped=unmapped)
    )


@dataclass(frozen=True, eq=False)
class Outcome:
    """The result of a take.

    input_notes   notes as played, with the articulation identified for each (-1: unknown) and its track
    output_notes  notes as sent
    controls      controls as sent
    tracks        indexed by `track` of notes and controls
    vocabulary    indexed by `articulation`
    """

    input_notes: Notes
    output_notes: Notes
    controls: Controls
    tally: Tally
    tracks: tuple[PathTrack, ...]
    vocabulary: tuple[str, ...]

    def used_tracks(self) -> list[int]:
        """Indices of the tracks that hold a note, or a control that no other track can carry."""
        used = set(distinct(self.output_notes.track).tolist())
        return sorted(used)


def make_context(
    take: Take,
    source: NoteMap | None,
    target: NoteMap | None,
    path: CleaningPath,
    verdicts: Mapping[int, Verdict] | None = None,
    wiring: Wiring = USUAL_WIRING,
    heard: HeardNotes | None = None,
    number: int = 0,
) -> Context:
    """The context in which a path runs over a take."""
    decided = Verdicts.of(verdicts or {})
    apart = take.ticks is not None
    return Context(
        source, target, take.ports, take.length, path.split.by, decided, apart, take.begun, wiring, None, heard, number
    )


class StageCache:
    """The results of the last run, stage by stage, so that the next run starts at the first changed stage.

    Kept by callers that run a path repeatedly over one take while a setting is moved.
    """

    def __init__(self) -> None:
        self._take: Take | None = None
        self._paired: Paired | None = None
        self._made_of: object = None
        self._context: Context | None = None
        self._stages: list[tuple[PathStage, Result]] = []
        self._played: Notes | None = None
        # A take is seen in its own time and in the session's.
        self._timed: tuple[Context | None, dict[Timeline, Context]] = (None, {})
        # Kept by whoever lays the notes on the session's time (several_takes.py).
        self.later: object = None

    def on_timeline(self, context: Context, timeline: Timeline) -> Context:
        """A context for stages on the timeline; the one of the last run if it is still valid."""
        if self._timed[0] is not context or len(self._timed[1]) > 3:
            self._timed = context, {}
        if timeline not in self._timed[1]:
            self._timed[1][timeline] = replace(context, timeline=timeline)
        return self._timed[1][timeline]

    def context(
        self,
        take: Take,
        source: NoteMap | None,
        target: NoteMap | None,
        path: CleaningPath,
        verdicts: Mapping[int, Verdict],
        wiring: Wiring = USUAL_WIRING,
        heard: HeardNotes | None = None,
        number: int = 0,
    ) -> Context:
        """The context of the last run if it is still valid, else a new one."""
        verdicts = Verdicts.of(verdicts)
        cache_key = (id(take), source, target, path.split.by, verdicts, wiring, id(heard), number)
        if self._context is None or cache_key != self._made_of:
            self._made_of, self._stages, self._played = cache_key, [], None
            self._context = make_context(take, source, target, path, verdicts, wiring, heard, number)
        return self._context

    def paired(self, take: Take) -> Paired:
        if self._paired is None or self._take is not take:
            self._take, self._paired = take, pair(take.events)
        return self._paired

    def apply(
        self, number: int, stage: PathStage, notes: Notes, controls: Controls, context: Context, within: Context
    ) -> Result:
        """A stage's result, from the last run if this stage and all before it are unchanged.

        context  of the path; within: the same, or that of stages on the timeline
        """
        if context is not self._context:
            self._stages, self._context, self._made_of, self._played = [], context, None, None
        if number < len(self._stages) and self._stages[number][0] == stage:
            return self._stages[number][1]
        result = stage.apply(notes, controls, within)
        self._stages[number:] = [(stage, result)]
        if stage.stage == Identify.stage:
            self._played = None
        return result

    def played(self, path: CleaningPath, notes: Notes, identified: Notes, context: Context) -> Notes:
        """Input notes with their articulations and tracks."""
        if self._played is None:
            self._played = path.split.assigned(_named(notes, identified), context)
        return self._played


def run(
    take: Take, path: CleaningPath, context: Context, cache: StageCache | None = None, stages: int | None = None,
    edits: NoteEdits = NO_EDITS,
) -> Outcome:  # fmt: skip
    """Run the whole take through the path, or through its first stages, in its own time. The take is not changed.

    edits  of its notes by hand
    """
    cache = cache or StageCache()
    paired = cache.paired(take)
    notes, controls = paired.notes, paired.controls
    written: list[Entries] = []
    played, within = notes, context
    for number, stage in enumerate(with_edits(path.stages()[:stages], edits)):
        if stage.stage.on_timeline and within is context:
            within = cache.on_timeline(context, Timeline.from_tempo_map(take.tempo))
        result = cache.apply(number, stage, notes, controls, context, within)
        notes, controls = result.notes, result.controls
        written.extend(result.entries)
        if stage.stage == Identify.stage:
            played = cache.played(path, paired.notes, notes, context)
    tally = Tally(len(paired.notes), len(notes), Entries.join(written), paired.strays)
    return Outcome(played, notes, controls, tally, context.tracks, context.vocabulary)


def with_edits(stages: tuple[PathStage, ...], edits: NoteEdits) -> tuple[PathStage, ...]:
    """Stages with a take's edits in their place."""
    return tuple(HandEdits.of(edits) if isinstance(stage, HandEdits) else stage for stage in stages)


def _named(played: Notes, identified: Notes) -> Notes:
    """Input notes with the articulations identified; removed ones have none."""
    articulation, closedness = played.articulation.copy(), played.closedness.copy()
    rows = np.searchsorted(played.seq, identified.seq)
    articulation[rows], closedness[rows] = identified.articulation, identified.closedness
    return played.but(articulation=articulation, closedness=closedness)


class LivePath:
    """The same path, one message at a time.

    delay  seconds added to everything for the look-ahead
    """

    def __init__(self, path: CleaningPath, context: Context, stages: int | None = None, account: Account | None = None):
        """stages: number of stages to run, all by default."""
        crosstalk = path.crosstalk
        held_back = crosstalk.on and context.stands.any_neighbours
        self.delay = crosstalk.lookahead_ms / 1000 if held_back else 0.0
        self.pair = LivePair()
        self.stages: list[LiveStage] = [stage.live(context) for stage in path.stages()[:stages] if stage.stage.causal]
        if account is not None:
            for stage in self.stages:
                stage.account = account

    def message(self, at: float, port: int, status: int, data1: int, data2: int, event: int) -> list[LiveEvent]:
        """The events sent because a raw message came. Ends that were due earlier come first."""
        leaving = self.advance(at)
        leaving += self._through(self.pair.message(at, port, status, data1, data2, event), 0)
        return leaving

    def advance(self, now: float) -> list[LiveEvent]:
        """The events sent because time has reached `now`."""
        leaving: list[LiveEvent] = []
        for i, stage in enumerate(self.stages):
            due = stage.advance(now)
            if due:
                leaving += self._through(due, i + 1)
        return leaving

    def finish(self, end: float) -> list[LiveEvent]:
        """The events still to be sent when the take ends."""
        leaving = self.advance(end)
        for i, stage in enumerate(self.stages):
            leaving += self._through(stage.finish(end), i + 1)
        return leaving

    def held(self) -> int:
        """Size of all state."""
        return self.pair.held() + sum(stage.held() for stage in self.stages)

    def _through(self, events: list[LiveEvent], first: int) -> list[LiveEvent]:
        for stage in self.stages[first:]:
            if len(events) == 1:
                events = stage.feed(events[0])
            else:
                events = [out for event in events for out in stage.feed(event)]
            if not events:
                break
        return events


def messages(events: Events) -> Iterator[tuple[float, int, int, int, int, int]]:
    """A take's events as arguments of `LivePath.message`, in playing order."""

    order = playing_order(events)
    columns = (events.arrived, events.port, events.status, events.data1, events.data2)
    yield from zip(*(column[order].tolist() for column in columns), order.tolist(), strict=True)
