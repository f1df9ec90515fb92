"""Tidying: no two notes of one track, channel and note overlap after mapping.

A note struck again while it sounds ends there. Hits on the same note at the same moment are one sound: one note stays,
as loud as the loudest and as long as the longest. On channels that no map covers both pass as they came.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from puresignal.core.midi.columns import note_keys
from puresignal.core.midi.events import NO_EVENT, Controls, Notes
from puresignal.core.path import live
from puresignal.core.path.context import Context
from puresignal.core.path.live import LiveEvent, LiveStage
from puresignal.core.path.stage import Result
from puresignal.core.path.stage_description import Reason, Stage
from puresignal.core.path.tally import Action, Entries, NoteField, entries
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
        track = context.receivers[notes.port] * len(context.tracks) + notes.track
        key = note_keys(track * 17 + notes.channel, notes.note)
        by_key = np.argsort(key, kind="stable")
        start = notes.start[by_key]
        together = np.zeros(len(notes), bool)
        together[1:] = (key[by_key][1:] == key[by_key][:-1]) & (start[1:] == start[:-1])
        repeated = together & (notes.track[by_key] <= context.unmapped_track)
        if repeated.any():
            # What an event ended at its own start is over before the next one: live its end has been sent by then.
            lasts = (notes.end[by_key] > start) | (notes.end_event[by_key] == NO_EVENT)
            before = np.cumsum(lasts) - lasts
            repeated &= before > before[np.flatnonzero(~together)][np.cumsum(~together) - 1]
        written = []
        if repeated.any():
            notes, made = self._merged(notes, by_key, repeated)
            written.extend(made)
            same = np.zeros(len(key), bool)
            same[by_key] = repeated
            key = key[~same]
            by_key = (np.cumsum(~same) - 1)[by_key[~repeated]]
            together = together[~repeated]
        end, event = notes.end.copy(), notes.end_event.copy()
        # The next note that starts later, not one of the same moment.
        moment = np.cumsum(~together)
        after = np.searchsorted(moment, moment, side="right")
        inside = np.flatnonzero(after < len(by_key))
        here, following = by_key[inside], by_key[after[inside]]
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

    def _merged(self, notes: Notes, by_key: np.ndarray, repeated: np.ndarray) -> tuple[Notes, list[Entries]]:
        """The notes without repetitions at one moment. by_key: order by key; repeated: rows of it that go."""
        group = np.cumsum(~repeated)
        firsts = np.flatnonzero(~repeated)
        loudest = np.maximum.reduceat(notes.velocity[by_key], firsts)
        longest = np.maximum.reduceat(notes.end[by_key], firsts)
        end, event, velocity = notes.end.copy(), notes.end_event.copy(), notes.velocity.copy()
        kept = by_key[firsts]
        # The end with its event: that of the first note that is as long.
        place = np.flatnonzero(notes.end[by_key] == longest[group - 1])[::-1]
        event[kept[group[place] - 1]] = notes.end_event[by_key[place]]
        end[kept], velocity[kept] = longest, loudest
        gone = by_key[repeated]
        louder = kept[loudest > notes.velocity[kept]]
        longer = kept[longest > notes.end[kept]]
        written = [
            entries(self.stage, Action.REMOVED, SAME_MOMENT, notes.origin[gone], branch=notes.branch[gone]),
            entries(
                self.stage, Action.CHANGED, SAME_MOMENT, notes.origin[louder], field=NoteField.VELOCITY,
                branch=notes.branch[louder], before=notes.velocity[louder], after=velocity[louder],
            ),
            entries(
                self.stage, Action.CHANGED, SAME_MOMENT, notes.origin[longer], field=NoteField.END,
                branch=notes.branch[longer], before=notes.end[longer], after=end[longer],
            ),
        ]  # fmt: skip
        same = np.zeros(len(notes), bool)
        same[gone] = True
        return notes.but(end=end, end_event=event, velocity=velocity).take(~same), written

    def live(self, context: Context) -> LiveStage:
        return _LiveTidy(context.unmapped_track)


class _Sounding:
    """Notes that sound on one track, channel and note: all of it was struck at one moment.

    sent    the notes that were sent: one that stands for all, or each where no map covers the channel
    open    number of notes that have not ended
    louder  velocity of the loudest
    merged  (origin, branch) of every note that ends here
    """

    __slots__ = ("louder", "merged", "open", "sent")

    def __init__(self, first: LiveEvent):
        self.sent = [first]
        self.open = 1
        self.louder = first.velocity
        self.merged = [(first.origin, first.branch)]


class _LiveTidy(LiveStage):
    """State: what sounds, by key (track, channel and note) and by note."""

    def __init__(self, unmapped_track: int) -> None:
        self._last_mapped = unmapped_track
        self._sounding: dict[int, _Sounding] = {}
        self._of: dict[tuple[int, int], int] = {}

    def feed(self, event: LiveEvent) -> list[LiveEvent]:
        if event.kind == live.ON:
            return self._begin(event)
        if event.kind == live.OFF:
            return self._end(event)
        return [event]

    def _begin(self, event: LiveEvent) -> list[LiveEvent]:
        key = (event.track * 17 + event.channel) * 128 + event.note
        before = self._sounding.get(key)
        if before is None:
            self._sounding[key] = _Sounding(event)
            self._of[event.origin, event.branch] = key
            return [event]
        if before.sent[0].at == event.at:
            before.open += 1
            before.merged.append((event.origin, event.branch))
            self._of[event.origin, event.branch] = key
            if event.track <= self._last_mapped:
                return self._merge(before, event)
            before.sent.append(event)
            return [event]
        for one in before.merged:
            self._of.pop(one, None)
        self._sounding[key] = _Sounding(event)
        self._of[event.origin, event.branch] = key
        ends = []
        for begun in before.sent:
            self.account(Tidy.stage, Action.CHANGED, OVERLAP, begun.origin, NoteField.END, np.nan, event.at, 1.0)
            end = LiveEvent(live.OFF, event.at, begun.port, begun.channel, begun.note, 0.0, begun.origin)
            end.branch, end.track, end.end_event = begun.branch, begun.track, event.origin
            ends.append(end)
        return [*ends, event]

    def _merge(self, before: _Sounding, event: LiveEvent) -> list[LiveEvent]:
        """A hit at the moment of one that was sent: nothing more is sent, but that one may be louder."""
        first = before.sent[0]
        self.account(Tidy.stage, Action.REMOVED, SAME_MOMENT, event.origin, NoteField.NONE, np.nan, np.nan, 1.0)
        if event.velocity <= before.louder:
            return []
        self.account(
            Tidy.stage,
            Action.CHANGED,
            SAME_MOMENT,
            first.origin,
            NoteField.VELOCITY,
            before.louder,
            event.velocity,
            1.0,
        )
        before.louder = event.velocity
        louder = LiveEvent(live.LOUDER, event.at, first.port, first.channel, first.note, event.velocity, first.origin)
        louder.branch, louder.track = first.branch, first.track
        return [louder]

    def _end(self, event: LiveEvent) -> list[LiveEvent]:
        key = self._of.pop((event.origin, event.branch), -1)
        if key < 0:
            return []
        sounding = self._sounding[key]
        sounding.open -= 1
        if not sounding.open:
            del self._sounding[key]
        begun = sounding.sent[0]
        if begun.track > self._last_mapped:
            begun = next(n for n in sounding.sent if (n.origin, n.branch) == (event.origin, event.branch))
            sounding.sent.remove(begun)
        elif sounding.open:
            return []
        event.origin, event.branch = begun.origin, begun.branch
        event.track, event.channel, event.note = begun.track, begun.channel, begun.note
        return [event]

    def held(self) -> int:
        return len(self._of)
