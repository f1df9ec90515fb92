"""Note ends: chokes, notes without length, and notes without an end.

Onsets and velocities are untouched; only ends are repaired.
"""

from __future__ import annotations

import heapq
from collections import deque
from dataclasses import dataclass
from typing import ClassVar, NamedTuple

import numpy as np

from puresignal.core.midi.columns import distinct
from puresignal.core.midi.events import NO_EVENT, Controls, Notes
from puresignal.core.midi.messages import POLY_PRESSURE
from puresignal.core.path import live
from puresignal.core.path.context import Context
from puresignal.core.path.live import LiveEvent, LiveStage
from puresignal.core.path.setting import setting
from puresignal.core.path.stage import Result
from puresignal.core.path.stage_description import Reason, Stage, Switch
from puresignal.core.path.tally import Action, Entries, NoteField, entries
from puresignal.translation import mark

CHOKE_FROM = 64
"""Key pressure from which a hand is taken to hold the cymbal (docs/formats.md)."""

NO_LENGTH_BELOW = 0.001
"""Seconds. A shorter note has no length that could have been intended."""


CHOKED = Reason(mark("choked"))
NO_END = Reason(mark("no end came"))
TOO_LONG = Reason(mark("too long"))
NO_LENGTH = Reason(mark("no length"))


@dataclass(frozen=True)
class Ends:
    """Gives every note a valid end.

    repair      whether faulty ends are repaired; chokes are obeyed either way
    given_ms    length given to a note without one
    longest_ms  a drum note held longer than this is ended there
    """

    repair: bool = setting(True, mark("repair faulty note ends"))
    given_ms: float = setting(
        20.0, mark("Length given to a note without one."),
        label=mark("Default length"), unit="ms", low=1.0, high=1000.0, reach=200.0,
    )  # fmt: skip
    longest_ms: float = setting(
        5000.0, mark("a drum note still held after this is ended"), unit="ms", low=50.0, high=60_000.0
    )

    stage: ClassVar[Stage] = Stage(
        "ends",
        word=mark("ends"),
        title=mark("Repair note ends"),
        tip=mark("Gives a length to notes that have none or never end."),
        switch=Switch("repair"),
        reasons=(CHOKED, NO_END, TOO_LONG, NO_LENGTH),
    )

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        drum = context.mapped_channels[notes.channel]
        end, end_event = notes.end.copy(), notes.end_event.copy()
        written: list[Entries] = []
        cap = notes.start + self.longest_ms / 1000

        def change(rows: np.ndarray, reason: Reason, to: np.ndarray, event: np.ndarray | int = NO_EVENT) -> None:
            written.append(
                entries(
                    self.stage, Action.CHANGED, reason, notes.origin[rows], field=NoteField.END,
                    branch=notes.branch[rows], before=end[rows], after=to,
                )
            )  # fmt: skip
            end[rows], end_event[rows] = to, event

        rows, at, by = _choked(notes, controls, context, np.where(drum & self.repair, cap, np.inf))
        change(rows, CHOKED, at, by)
        rest = np.maximum(context.length, notes.start)
        if self.repair:
            held = np.isnan(end)
            rows = np.flatnonzero(drum & held)
            change(rows, NO_END, cap[rows])
            # Compared against the same sum as live, so that a long hold ends at the same moment live and afterwards.
            rows = np.flatnonzero(drum & ~held & (end > cap))
            change(rows, TOO_LONG, cap[rows])
            rows = np.flatnonzero(~drum & held)
            change(rows, NO_END, rest[rows])
            rows = np.flatnonzero(end - notes.start < NO_LENGTH_BELOW)
            change(rows, NO_LENGTH, notes.start[rows] + self.given_ms / 1000)
        else:
            rows = np.flatnonzero(np.isnan(end))
            change(rows, NO_END, rest[rows])
        return Result(notes.but(end=end, end_event=end_event), controls, tuple(written))

    def live(self, context: Context) -> LiveStage:
        return _LiveEnds(self, context)


def _cymbals(notes: Notes, context: Context) -> np.ndarray:
    """(notes,) device and cymbal as one number, -1 for a note that is not a cymbal."""
    cymbal = np.where(notes.articulation >= 0, context.cymbal[notes.articulation], -1)
    return np.where(cymbal >= 0, context.devices[notes.port] * 1000 + cymbal, -1)


def _choked(
    notes: Notes, controls: Controls, context: Context, cap: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Rows of the notes that a choke ends, the times, and the events that do it."""
    pressed = np.flatnonzero((controls.kind == POLY_PRESSURE) & (controls.value >= CHOKE_FROM))
    code = context.source_table[controls.channel[pressed], controls.number[pressed]]
    cymbal = np.where(code >= 0, context.cymbal[code], -1)
    pressed, cymbal = pressed[cymbal >= 0], cymbal[cymbal >= 0]
    lane = context.devices[controls.port[pressed]] * 1000 + cymbal
    note_lane = _cymbals(notes, context)
    rows, at, by = [], [], []
    for one in distinct(lane):
        chokes = pressed[lane == one]
        mine = np.flatnonzero(note_lane == one)
        place = np.searchsorted(controls.seq[chokes], notes.seq[mine], side="right")
        mine, place = mine[place < len(chokes)], place[place < len(chokes)]
        moment = controls.at[chokes[place]]
        # NaN, a note without an end, is not less than anything, hence the reversed comparison.
        sounding = ~(notes.end[mine] <= moment) & (moment < cap[mine])
        rows.append(mine[sounding])
        at.append(moment[sounding])
        by.append(controls.origin[chokes[place[sounding]]])
    if not rows:
        return np.zeros(0, np.int64), np.zeros(0), np.zeros(0, np.int64)
    return np.concatenate(rows), np.concatenate(at), np.concatenate(by)


class _Begun(NamedTuple):
    """State of a sounding note; its event is passed on and changed by later stages."""

    at: float
    port: int
    channel: int
    note: int
    origin: int
    articulation: int


class _LiveEnds(LiveStage):
    """State: sounding notes, and ends still to be sent."""

    def __init__(self, settings: Ends, context: Context):
        self._repair = settings.repair
        self._given = settings.given_ms / 1000
        self._longest = settings.longest_ms / 1000
        self._speaks = context.mapped_channels.tolist()
        self._cymbal = context.cymbal.tolist()
        self._table = context.source_table.tolist()
        self._devices = context.devices.tolist()
        self._sounding: dict[int, _Begun] = {}
        self._by_start: deque[_Begun] = deque()
        self._due: list[tuple[float, int, LiveEvent]] = []

    def feed(self, event: LiveEvent) -> list[LiveEvent]:
        if event.kind == live.ON:
            kept = _Begun(event.at, event.port, event.channel, event.note, event.origin, event.articulation)
            self._sounding[event.origin] = kept
            if self._repair and self._speaks[event.channel]:
                self._by_start.append(kept)
                if len(self._by_start) > 64 + 4 * len(self._sounding):
                    self._by_start = deque(n for n in self._by_start if self._sounding.get(n.origin) is n)
            return [event]
        if event.kind == live.OFF:
            begun = self._sounding.pop(event.origin, None)
            return self._ended(begun, event) if begun is not None else []
        if event.status == POLY_PRESSURE and event.velocity >= CHOKE_FROM:
            return [*self._choke(event), event]
        return [event]

    def _choke(self, event: LiveEvent) -> list[LiveEvent]:
        code = self._table[event.channel][event.note]
        cymbal = self._cymbal[code] if code >= 0 else -1
        if cymbal < 0:
            return []
        device = self._devices[event.port]
        leaving = []
        for begun in [n for n in self._sounding.values() if n.articulation >= 0]:
            if self._cymbal[begun.articulation] == cymbal and self._devices[begun.port] == device:
                del self._sounding[begun.origin]
                self.account(Ends.stage, Action.CHANGED, CHOKED, begun.origin, NoteField.END, np.nan, event.at, 1.0)
                leaving += self._ended(begun, self._end(begun, event.at, event.origin))
        return leaving

    def _ended(self, begun: _Begun, end: LiveEvent) -> list[LiveEvent]:
        if self._repair and end.at - begun.at < NO_LENGTH_BELOW:
            self.account(
                Ends.stage,
                Action.CHANGED,
                NO_LENGTH,
                begun.origin,
                NoteField.END,
                end.at,
                begun.at + self._given,
                1.0,
            )
            end.at, end.end_event = begun.at + self._given, NO_EVENT
            heapq.heappush(self._due, (end.at, end.origin, end))
            return []
        return [end]

    @staticmethod
    def _end(begun: _Begun, at: float, event: int) -> LiveEvent:
        end = LiveEvent(live.OFF, at, begun.port, begun.channel, begun.note, 0.0, begun.origin)
        end.end_event = event
        return end

    def advance(self, now: float) -> list[LiveEvent]:
        leaving = []
        while self._due and self._due[0][0] <= now:
            leaving.append(heapq.heappop(self._due)[2])
        while self._by_start and self._by_start[0].at + self._longest <= now:
            begun = self._by_start.popleft()
            if self._sounding.get(begun.origin) is begun:
                del self._sounding[begun.origin]
                cap = begun.at + self._longest
                self.account(Ends.stage, Action.CHANGED, TOO_LONG, begun.origin, NoteField.END, np.nan, cap, 1.0)
                leaving += self._ended(begun, self._end(begun, cap, NO_EVENT))
        return leaving

    def finish(self, end: float) -> list[LiveEvent]:
        leaving = self.advance(float("inf"))
        for begun in list(self._sounding.values()):
            leaving += self._ended(begun, self._end(begun, max(end, begun.at), NO_EVENT))
        self._sounding.clear()
        leaving += [event for _, _, event in sorted(self._due, key=lambda item: item[:2])]
        self._due.clear()
        return leaving

    def held(self) -> int:
        return len(self._sounding) + len(self._by_start) + len(self._due)
