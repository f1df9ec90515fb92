"""Thinning: reduces a flood of controller messages to as many as can be heard.

A moving controller sends its first value at once, then its newest at most every few milliseconds, and always
its last; a waiting value is sent before the next note on its channel. Switches, banks and programs always pass.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from puresignal.core.midi.columns import distinct
from puresignal.core.midi.events import Controls, Notes
from puresignal.core.midi.messages import CONTROL, POLY_PRESSURE, PROGRAM
from puresignal.core.path import live
from puresignal.core.path.context import Context
from puresignal.core.path.live import LiveEvent, LiveStage
from puresignal.core.path.setting import setting
from puresignal.core.path.stage import Result
from puresignal.core.path.stage_description import Stage, Switch
from puresignal.translation import mark

ALWAYS = frozenset((0, 32, 6, 38, *range(64, 70), 88, *range(96, 102), *range(120, 128)))
"""Controllers of which every message counts (MIDI 1.0: banks, data entry, switches, parameter numbers, modes)."""


@dataclass(frozen=True)
class Thin:
    """on: whether floods are thinned; every_ms: least time between messages of one controller."""

    on: bool = setting(False, mark("when a controller floods, send one message every `thin.every_ms`"))
    every_ms: float = setting(
        5.0, mark("Least time between messages of one controller."),
        label=mark("Interval"), unit="ms", low=1.0, high=50.0,
    )  # fmt: skip

    stage: ClassVar[Stage] = Stage(
        "thin",
        word=mark("thinned"),
        title=mark("Thin controllers"),
        tip=mark("Reduces floods of controller messages to as many as can be heard; the last one always stays."),
        switch=Switch(),
        # Notes pass it untouched, so a figure would say nothing.
        counted=None,
    )

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        if not self.on or not len(controls):
            return Result(notes, controls)
        keep, at = _thinned(controls, notes, self.every_ms / 1000)
        left = controls.but(at=at).take(keep)
        return Result(notes, left.take(np.lexsort((left.seq, left.at))))

    def live(self, context: Context) -> LiveStage:
        return _LiveThin(self.every_ms / 1000) if self.on else LiveStage()


def passes_always(kind: int, number: int) -> bool:
    """Whether a message must never be removed."""
    return kind == PROGRAM or (kind == CONTROL and number in ALWAYS)


def _thinned(controls: Controls, notes: Notes, every: float) -> tuple[np.ndarray, np.ndarray]:
    """(controls,) which are kept, and when they are sent."""
    keep, at = np.ones(len(controls), bool), controls.at.copy()
    lane = (controls.track.astype(np.int64) * 17 + controls.channel) << 16
    own = np.where((controls.kind == CONTROL) | (controls.kind == POLY_PRESSURE), controls.number, 0)
    key = lane + controls.kind.astype(np.int64) * 256 + own
    always = np.array(
        [passes_always(k, n) for k, n in zip(controls.kind.tolist(), controls.number.tolist(), strict=True)]
    )
    struck = {int(c): notes.seq[notes.channel == c] for c in distinct(controls.channel)}
    for one in distinct(key[~always]):
        rows = np.flatnonzero((key == one) & ~always)
        seqs = struck[int(controls.channel[rows[0]])]
        # Number of notes started on the channel: where that changes, a waiting value is sent before the note.
        begun = np.searchsorted(seqs, controls.seq[rows]).tolist()
        starts = notes.start[np.searchsorted(notes.seq, seqs)] if len(seqs) else np.zeros(0)
        sent, waiting = -np.inf, -1
        for i, row in enumerate(rows.tolist()):
            now = float(controls.at[row])
            if waiting >= 0:
                due = sent + every
                # A waiting value is sent when its time has come or a note starts, whichever is sooner.
                note = float(starts[begun[i - 1]]) if begun[i] != begun[i - 1] else np.inf
                if min(due, note) <= now:
                    sent = at[waiting] = min(due, note)
                    waiting = -1
                else:
                    keep[waiting] = False
                    waiting = -1
            if now - sent >= every:
                sent = now
            else:
                waiting = row
        if waiting >= 0:
            after = begun[-1]
            note = float(starts[after]) if after < len(starts) else np.inf
            at[waiting] = min(sent + every, note)
    return keep, at


class _LiveThin(LiveStage):
    """State: for each moving controller, when it was last sent and the value that waits."""

    def __init__(self, every: float):
        self._every = every
        self._sent: dict[int, float] = {}
        self._waiting: dict[int, LiveEvent] = {}

    def feed(self, event: LiveEvent) -> list[LiveEvent]:
        if event.kind == live.ON and self._waiting:
            due = [k for k, w in self._waiting.items() if w.channel == event.channel]
            return [*(self._release(k, event.at) for k in due), event]
        if event.kind != live.CONTROL or passes_always(event.status, event.note):
            return [event]
        own = event.note if event.status in (CONTROL, POLY_PRESSURE) else 0
        key = ((event.track * 17 + event.channel) << 16) + event.status * 256 + own
        if event.at - self._sent.get(key, -np.inf) >= self._every:
            self._waiting.pop(key, None)
            self._sent[key] = event.at
            return [event]
        self._waiting[key] = event
        return []

    def _release(self, key: int, at: float) -> LiveEvent:
        event = self._waiting.pop(key)
        event.at = self._sent[key] = at
        return event

    def advance(self, now: float) -> list[LiveEvent]:
        due = sorted((self._sent[k] + self._every, k) for k in self._waiting if self._sent[k] + self._every <= now)
        return [self._release(key, at) for at, key in due]

    def finish(self, end: float) -> list[LiveEvent]:
        return [self._release(key, self._sent[key] + self._every) for key in list(self._waiting)]

    def held(self) -> int:
        return len(self._waiting) + len(self._sent)
