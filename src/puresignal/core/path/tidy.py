"""Tidying: no two notes of one track, channel and note overlap after mapping.

A note struck again while it sounds ends there. Two hits on the same note at the same moment are one sound:
the first stays.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from puresignal.core.midi.columns import note_keys
from puresignal.core.midi.events import Controls, Notes
from puresignal.core.path import live
from puresignal.core.path.context import Context
from puresignal.core.path.live import LiveEvent, LiveStage
from puresignal.core.path.stage import Result
from puresignal.core.path.stage_description import Reason, Stage
from puresignal.core.path.tally import Action, NoteField, entries
from puresignal.translation import mark

OVERLAP = Reason(mark("struck again"))
SAME_MOMENT = Reason(mark("same moment"), mark("Hits on the same note at the same moment."))


@dataclass(frozen=True)
class Tidy:
    """Without settings: the output must be playable by any receiver."""

    stage: ClassVar[Stage] = Stage(
        "tidy",
        word=mark("overlaps"),
        title=mark("End overlaps"),
        tip=mark("A note struck again while it sounds ends there."),
        reasons=(OVERLAP, SAME_MOMENT),
    )

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        key = note_keys(notes.track.astype(np.int32) * 17 + notes.channel, notes.note)
        by_key = np.argsort(key, kind="stable")
        start = notes.start[by_key]
        repeated = np.zeros(len(notes), bool)
        repeated[1:] = (key[by_key][1:] == key[by_key][:-1]) & (start[1:] == start[:-1])
        same = np.zeros(len(notes), bool)
        same[by_key] = repeated
        written = [entries(self.stage, Action.REMOVED, SAME_MOMENT, notes.origin[same], branch=notes.branch[same])]
        if same.any():
            by_key = by_key[~repeated]
            by_key = np.cumsum(~same)[by_key] - 1
            notes, key = notes.take(~same), key[~same]
        end, event = notes.end.copy(), notes.end_event.copy()
        here, following = by_key[:-1], by_key[1:]
        cut = (key[here] == key[following]) & (end[here] > notes.start[following])
        here, following = here[cut], following[cut]
        written.append(
            entries(
                self.stage, Action.CHANGED, OVERLAP, notes.origin[here], field=NoteField.END,
                branch=notes.branch[here], before=end[here], after=notes.start[following],
            )
        )  # fmt: skip
        # Cut here, so the end is where the next note starts, also in its own ticks.
        end[here], event[here] = notes.start[following], notes.origin[following]
        return Result(notes.but(end=end, end_event=event), controls, tuple(written))

    def live(self, context: Context) -> LiveStage:
        return _LiveTidy()


class _LiveTidy(LiveStage):
    """State: sounding notes, and when each track, channel and note was last struck."""

    def __init__(self) -> None:
        self._sounding: dict[int, LiveEvent] = {}
        self._of: dict[tuple[int, int], int] = {}
        self._last: dict[int, float] = {}

    def feed(self, event: LiveEvent) -> list[LiveEvent]:
        if event.kind == live.ON:
            key = (event.track * 17 + event.channel) * 128 + event.note
            if self._last.get(key) == event.at:
                self.account(Tidy.stage, Action.REMOVED, SAME_MOMENT, event.origin, NoteField.NONE, np.nan, np.nan, 1.0)
                return []
            before = self._sounding.get(key)
            self._last[key] = event.at
            self._sounding[key] = event
            self._of[event.origin, event.branch] = key
            if before is None:
                return [event]
            del self._of[before.origin, before.branch]
            self.account(Tidy.stage, Action.CHANGED, OVERLAP, before.origin, NoteField.END, np.nan, event.at, 1.0)
            end = LiveEvent(live.OFF, event.at, before.port, before.channel, before.note, 0.0, before.origin)
            end.branch, end.track, end.end_event = before.branch, before.track, event.origin
            return [end, event]
        if event.kind == live.OFF:
            key = self._of.pop((event.origin, event.branch), -1)
            if key < 0:
                return []
            begun = self._sounding.pop(key)
            event.track, event.channel, event.note = begun.track, begun.channel, begun.note
        return [event]

    def held(self) -> int:
        return len(self._sounding) + len(self._last)
