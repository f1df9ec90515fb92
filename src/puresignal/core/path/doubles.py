"""Double triggers: a false second hit that a pad sends for one stroke.

Judged by gap and loudness against the pad's last hit believed real: a false hit follows soon and is clearly
weaker. A grace note comes before its loud note and a roll is even, so both pass.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from puresignal.core.midi.columns import distinct, note_keys
from puresignal.core.midi.events import Controls, Notes
from puresignal.core.path import live
from puresignal.core.path.context import Context, among
from puresignal.core.path.live import LiveEvent, LiveStage
from puresignal.core.path.removal import BY_HAND, INHERITED_END, NARROWLY_KEPT, inherit
from puresignal.core.path.setting import setting
from puresignal.core.path.stage import Result
from puresignal.core.path.stage_description import Reason, Stage, Switch
from puresignal.core.path.tally import Action, NoteField, entries
from puresignal.translation import mark

DOUBT = 0.25
"""Fraction of the limit, above and below it, in which a decision counts as doubtful."""


DOUBLE = Reason(mark("double"), mark("False second hits that a pad sent for one stroke."))


@dataclass(frozen=True)
class Doubles:
    """Removes double triggers.

    on         whether it does
    window_ms  a second hit later than this after the first is real
    ratio      a second hit with at least this fraction of the first one's velocity is real
    """

    on: bool = setting(True, mark("remove double triggers"))
    window_ms: float = setting(
        35.0, mark("A second hit later than this after the first is kept."),
        label=mark("Window"), unit="ms", high=500.0, reach=120.0,
    )  # fmt: skip
    ratio: float = setting(
        0.6, mark("A second hit with at least this fraction of the first one's velocity is kept."),
        label=mark("Softer than"), unit="%", step=0.01,
    )  # fmt: skip

    stage: ClassVar[Stage] = Stage(
        "doubles",
        word=mark("double triggers"),
        title=mark("Remove double triggers"),
        tip=mark("Removes the weak second hit that a pad sends for one stroke."),
        switch=Switch(),
        reasons=(DOUBLE, BY_HAND, NARROWLY_KEPT, INHERITED_END),
    )

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        drop = among(notes.origin, context.dropped_by_hand)
        keep = among(notes.origin, context.kept_by_hand)
        key = note_keys(notes.port.astype(np.int32) * 17 + notes.channel, notes.note)
        by_pad = np.argsort(key, kind="stable")
        removed = drop.copy()
        doubtful = np.zeros(0, np.int64)
        confidence = np.ones(len(notes))
        if self.on:
            false, doubtful = self._judge(notes, key, by_pad, context, drop, keep, confidence)
            removed |= false
        notes_end, end_event, release, heirs = inherit(notes, by_pad, key, removed)
        written = (
            entries(self.stage, Action.REMOVED, BY_HAND, notes.origin[drop]),
            entries(
                self.stage, Action.REMOVED, DOUBLE, notes.origin[removed & ~drop],
                confidence=confidence[removed & ~drop],
            ),
            entries(self.stage, Action.KEPT, NARROWLY_KEPT, notes.origin[doubtful], confidence=confidence[doubtful]),
            entries(
                self.stage, Action.CHANGED, INHERITED_END, notes.origin[heirs], field=NoteField.END,
                before=notes.end[heirs], after=notes_end[heirs],
            ),
        )  # fmt: skip
        notes = notes.but(end=notes_end, end_event=end_event, release=release).take(~removed)
        return Result(notes, controls, written)

    def _judge(
        self,
        notes: Notes,
        key: np.ndarray,
        by_pad: np.ndarray,
        context: Context,
        drop: np.ndarray,
        keep: np.ndarray,
        confidence: np.ndarray,
    ) -> tuple[np.ndarray, np.ndarray]:
        """Which notes are false, and the rows of real ones that passed only narrowly. Fills in `confidence`."""
        window = self.window_ms / 1000
        start, loud = notes.start[by_pad], notes.velocity[by_pad].astype(np.float64)
        close = np.zeros(len(notes), bool)
        close[1:] = (key[by_pad][1:] == key[by_pad][:-1]) & (start[1:] - start[:-1] < window)
        close &= context.mapped_channels[notes.channel[by_pad]]
        suspects = np.flatnonzero(close)
        near = distinct(np.concatenate([suspects, suspects - 1]))
        at = dict(zip(near.tolist(), start[near].tolist(), strict=True))
        limit = dict(zip(near.tolist(), (self.ratio * loud[near]).tolist(), strict=True))
        loudness = loud[suspects].tolist()
        dropped, kept = drop[by_pad[near]], keep[by_pad[suspects]].tolist()
        gone = set(near[dropped].tolist())
        # Only hits close behind another of their pad can be false: a few in a hundred. Each is judged against the
        # last one believed real, which depends on the judgement before: a loop, but a short one.
        reference, last = -1, -2
        against = np.full(len(suspects), -1, np.int64)
        false = np.zeros(len(suspects), bool)
        for k, i in enumerate(suspects.tolist()):
            if i - 1 != last:
                reference = -1 if i - 1 in gone else i - 1
            last = i
            if i in gone:
                continue
            if reference < 0:
                reference = i
                continue
            against[k] = reference
            if at[i] - at[reference] < window and loudness[k] < limit[reference] and not kept[k]:
                false[k] = True
            else:
                reference = i
        judged = np.flatnonzero(against >= 0)
        judged_confidence = self._sure(
            start[suspects[judged]] - start[against[judged]], loud[suspects[judged]], loud[against[judged]]
        )
        rows = by_pad[suspects[judged]]
        confidence[rows] = judged_confidence
        taken = np.zeros(len(notes), bool)
        taken[by_pad[suspects[false]]] = True
        return taken, np.sort(rows[~false[judged] & (judged_confidence < 0.6)])

    def _sure(self, gap: np.ndarray, velocity: np.ndarray, reference: np.ndarray) -> np.ndarray:
        """Confidence of each judgement, 0.5 to 1, by the distance of the hit's loudness from the limit."""
        limit = np.maximum(self.ratio * reference, 1e-9)
        distance = np.abs(velocity - self.ratio * reference) / np.maximum(limit, 1.0)
        near = 0.5 + distance * 0.1 / DOUBT
        far = np.minimum(0.99, 0.6 + 0.4 * (distance - DOUBT) / (1 - DOUBT))
        return np.where(gap >= self.window_ms / 1000, 1.0, np.where(distance < DOUBT, near, far))

    def live(self, context: Context) -> LiveStage:
        return _LiveDoubles(self, context)


class _LiveDoubles(LiveStage):
    """State: the last real hit of each pad, and which note inherits the end of a removed hit that still sounds."""

    def __init__(self, settings: Doubles, context: Context):
        self._active = settings.on
        self._ratio = settings.ratio
        self._speaks = context.mapped_channels.tolist()
        self._window = settings.window_ms / 1000
        self._last: dict[int, tuple[float, float]] = {}
        self._cut: LiveEvent | None = None
        self._heir: dict[int, int] = {}

    def feed(self, event: LiveEvent) -> list[LiveEvent]:
        if event.kind == live.ON:
            return self._on(event)
        if event.kind == live.OFF:
            if event.origin in self._heir:
                heir = self._heir.pop(event.origin)
                if heir < 0:
                    return []
                event.origin = heir
            if event.by >= 0:
                # Whether this end holds depends on the hit that caused it, which comes next. Of several notes that one
                # hit ends, the last may inherit its end.
                before, self._cut = self._cut, event
                return [before] if before is not None else []
        return [event]

    def _on(self, event: LiveEvent) -> list[LiveEvent]:
        cut, self._cut = self._cut, None
        before = [cut] if cut is not None else []
        if not self._active or not self._speaks[event.channel]:
            return [*before, event]
        key = (event.port * 17 + event.channel) * 128 + event.note
        last = self._last.get(key)
        if last is not None and event.at - last[0] < self._window and event.velocity < self._ratio * last[1]:
            self._heir[event.origin] = cut.origin if cut is not None else -1
            self.account(Doubles.stage, Action.REMOVED, DOUBLE, event.origin, NoteField.NONE, np.nan, np.nan, 1.0)
            return []
        self._last[key] = (event.at, event.velocity)
        return [*before, event]

    def held(self) -> int:
        return len(self._last) + len(self._heir)
