"""The result of a session as it is seen and heard, kept between looks so that an edit costs only what it changed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from puresignal.core.export import whole_session
from puresignal.core.export.arranged import arranged
from puresignal.core.midi.events import Take
from puresignal.core.path.cleaning_path import CleaningPath, Outcome, StageCache, in_round, run
from puresignal.core.path.context import EVENT_BITS, Context
from puresignal.core.path.memo import Memo
from puresignal.core.path.several_takes import Placed, run_together
from puresignal.core.path.verdicts import Verdict
from puresignal.core.session.playing_order import pieces
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import TakeRef
from puresignal.core.timing.session_time import Timeline


@dataclass(frozen=True, eq=False)
class SeveralTakes:
    """Takes together, in the time of their file.

    outcome      origins are events of `take`, in which those of all takes stand one after another
    refs         the takes, in that order; first: (takes,) number of each one's first event
    bars_before  bars of the file before bar 1
    """

    outcome: Outcome
    take: Take
    context: Context
    refs: tuple[TakeRef, ...]
    first: np.ndarray
    timeline: Timeline
    bars_before: int = 0

    @property
    def idents(self) -> tuple[str, ...]:
        return tuple(ref.ident for ref in self.refs)

    def verdict_of(self, origin: int) -> Verdict | None:
        """The player's decision on a note, if there is one."""
        part = int(np.searchsorted(self.first, origin, "right")) - 1
        return self.refs[part].verdicts.get(origin - int(self.first[part]))

    @property
    def shift(self) -> float:
        """Seconds of the file before bar 1."""
        if not self.bars_before:
            return 0.0
        return float(self.take.tempo.ticks_to_seconds(np.array([self.take.tempo.bar_start(self.bars_before + 1)]))[0])

    def seconds_of(self, beats: np.ndarray) -> np.ndarray:
        """Seconds of the file of (n,) beats from bar 1."""
        return np.asarray(self.timeline.beats_to_seconds(beats) + self.shift)

    def second_of(self, beat: float) -> float:
        """The second of the file of a beat from bar 1."""
        return float(self.seconds_of(np.array([beat]))[0])

    def beat_of(self, second: float) -> float:
        """The beat from bar 1 at a second of the file."""
        return float(self.timeline.seconds_to_beats(np.array([second - self.shift]))[0])

    def whose(self, origins: np.ndarray) -> dict[str, np.ndarray]:
        """The origins by the take that they are of, as events of that take."""
        part = np.searchsorted(self.first, origins, "right") - 1
        found: dict[str, np.ndarray] = {}
        for i, ident in enumerate(self.idents):
            if (part == i).any():
                own = origins[part == i] - self.first[i]
                # In playing order a take stands there several times.
                found[ident] = np.union1d(found[ident], own) if ident in found else own
        return found

    def by_number(self, origins: np.ndarray) -> np.ndarray:
        """The origins behind the numbers of their takes, rising: as they are known to settings and selections."""
        part = np.searchsorted(self.first, origins, "right") - 1
        numbers = np.array([ref.number for ref in self.refs], np.int64)
        return np.unique((numbers[part] << EVENT_BITS) + origins - self.first[part])

    def of_numbers(self, named: np.ndarray) -> np.ndarray:
        """The origins of notes that are known by the numbers of their takes; those of other takes are left out."""
        named = np.asarray(named, np.int64)
        parts = [
            first + (named[(named >> EVENT_BITS) == ref.number] & ((1 << EVENT_BITS) - 1))
            for ref, first in zip(self.refs, self.first.tolist(), strict=True)
        ]
        return np.unique(np.concatenate(parts)) if parts else np.zeros(0, np.int64)

    def orphans(self) -> np.ndarray:
        """Origins of notes that were edited by hand but do not leave: another stage or the player removed them."""
        edited = [first + ref.edits.origins for ref, first in zip(self.refs, self.first.tolist(), strict=True)]
        every = np.unique(np.concatenate(edited)) if edited else np.zeros(0, np.int64)
        return np.setdiff1d(every, self.outcome.output_notes.origin)

    def rounds_of(self, origins: np.ndarray, takes: Mapping[str, Take]) -> np.ndarray:
        """(n,) pass of a loop in which each note was played, from 1; 0 where its take has none.

        takes  materials by ident
        """
        part = np.searchsorted(self.first, origins, "right") - 1
        found = np.zeros(len(origins), np.int64)
        for i, ref in enumerate(self.refs):
            mine = np.flatnonzero(part == i)
            if ref.passes and len(mine) and ref.material in takes:
                arrived = takes[ref.material].events.arrived[origins[mine] - self.first[i]]
                found[mine] = np.maximum(np.searchsorted([one.begin for one in ref.passes], arrived, "right"), 1)
        return found

    def origins_of(self, ident: str, own: np.ndarray) -> np.ndarray:
        """The origins of a take's events; none if it is not among the takes."""
        if ident not in self.idents:
            return np.zeros(0, np.int64)
        return np.asarray(own + self.first[self.idents.index(ident)])

    def is_of(self, ident: str, origins: np.ndarray) -> np.ndarray:
        """(n,) whether these are of a take."""
        if ident not in self.idents:
            return np.zeros(len(origins), bool)
        mine = np.array([one == ident for one in self.idents])
        return np.asarray(mine[np.searchsorted(self.first, origins, "right") - 1])


def arranged_takes(session: Session, made: SeveralTakes, takes: Mapping[str, Take]) -> SeveralTakes:
    """Takes together in the order in which the session's sections are played, in the time of their file."""
    refs, timeline = made.refs, made.timeline
    last = whole_session.last_bar(made.outcome, made.take, timeline, made.bars_before)

    def of_round(number: int) -> Outcome:
        placed = [whole_session.placed_take(session, ref, takes, timeline) for ref in refs]
        path = in_round(session.path, number)
        return run_together(placed, path, timeline).for_file(session.name)[0]

    outcome, take, played, before = arranged(
        made.outcome, made.take, made.context, timeline, made.bars_before, pieces(session, last),
        of_round if whole_session.varies(session) else None,
    )  # fmt: skip
    # Each time that bars are played the takes stand there again, one behind the other.
    count = len(made.take.events)
    times = len(take.events) // max(1, count)
    first = np.concatenate([made.first + number * count for number in range(times)]) if times else made.first
    return SeveralTakes(outcome, take, made.context, refs * max(1, times), first, played, before)


class SessionResult:
    """Works out takes of a session: one alone, or several together."""

    def __init__(self) -> None:
        self._memos: dict[str, StageCache] = {}
        self._memo = Memo()
        self._placed: dict[str, tuple[object, Placed]] = {}
        self._alone: dict[str, tuple[tuple[TakeRef, Placed, CleaningPath], SeveralTakes]] = {}
        self._together: tuple[object, SeveralTakes] | None = None

    def placed(self, session: Session, ref: TakeRef, takes: Mapping[str, Take], timeline: Timeline) -> Placed:
        """A take at its place; the same value as long as nothing about it has changed."""
        memo = self._memos.setdefault(ref.ident, StageCache())
        settings = (session.target, session.destinations, session.sends, session.alternatives, session.delivery.tracks)
        played_on = session.input(ref.input) if ref.input else None
        key = (ref, takes.get(ref.material), timeline, played_on, settings)
        known = self._placed.get(ref.ident)
        if known is not None and known[0] == key:
            return known[1]
        made = whole_session.placed_take(session, ref, takes, timeline, memo)
        self._placed[ref.ident] = key, made
        return made

    def alone(
        self, session: Session, ref: TakeRef, takes: Mapping[str, Take], path: CleaningPath | None = None
    ) -> SeveralTakes:
        """A take in its own time, as it came. path: another path than the session's, whose stages are not kept."""
        timeline = whole_session.timeline_of(session, takes)
        placed = self.placed(session, ref, takes, timeline)
        if path is not None:
            placed = whole_session.placed_take(session, ref, takes, timeline)
        key = ref, placed, session.path
        known = self._alone.get(ref.ident)
        if path is None and known is not None and known[0] == key:
            return known[1]
        context = placed.context(path or session.path)
        outcome = run(placed.take, path or session.path, context, placed.cache, edits=placed.edits)
        own = Timeline.from_tempo_map(placed.take.tempo)
        made = SeveralTakes(outcome, placed.with_lyrics, context, (ref,), np.zeros(1, np.int64), own)
        if path is None:
            self._alone[ref.ident] = key, made
        return made

    def together(
        self,
        session: Session,
        refs: tuple[TakeRef, ...],
        takes: Mapping[str, Take],
        path: CleaningPath | None = None,
    ) -> SeveralTakes:
        """Takes on the session's time. path: another path than the session's, whose stages are not kept."""
        timeline = whole_session.timeline_of(session, takes)
        if path is None:
            placed = [self.placed(session, ref, takes, timeline) for ref in refs]
        else:
            placed = [whole_session.placed_take(session, ref, takes, timeline) for ref in refs]
        sounding = [i for i, one in enumerate(placed) if len(one.take.events)]
        if len(sounding) == 1 and not session.markers and whole_session.is_as_it_came(placed[sounding[0]], timeline):
            return self.alone(session, refs[sounding[0]], takes, path)
        key = refs, tuple(placed), timeline, session.path, session.name, session.markers
        if path is None and self._together is not None and self._together[0] == key:
            return self._together[1]
        whole = run_together(placed, path or session.path, timeline, self._memo if path is None else None)
        outcome, take = whole.for_file(session.name, markers=session.markers)
        counts = [len(one.take.events) for one in placed]
        first = np.concatenate([[0], np.cumsum(counts)[:-1]]).astype(np.int64) if counts else np.zeros(0, np.int64)
        made = SeveralTakes(outcome, take, whole.context, refs, first, timeline, whole.bars_before)
        if path is None:
            self._together = key, made
        return made

    def forget_others(self, idents: set[str]) -> None:
        """Forget takes that are not in the session any more."""
        self._memos = {ident: memo for ident, memo in self._memos.items() if ident in idents}
        self._alone = {ident: made for ident, made in self._alone.items() if ident in idents}
        self._placed = {ident: placed for ident, placed in self._placed.items() if ident in idents}
