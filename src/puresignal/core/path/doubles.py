"""Double triggers: a false second hit that a pad sends for one stroke.

Told from gap and loudness against the last hit of the pad that is believed
real: a false hit comes soon after and is clearly weaker. A grace note comes
before its loud note and a roll is even, so both pass.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from puresignal.core.events import Controls, Notes
from puresignal.core.path import live
from puresignal.core.path.context import Context, among
from puresignal.core.path.live import LiveEvent, LiveStage
from puresignal.core.path.stage import Result
from puresignal.core.tally import Field, Reason, Stage, What, entries

DOUBT = 0.25
"""Part of the limit above and below it in which a decision counts as doubtful."""


@dataclass(frozen=True)
class Doubles:
    """Takes false second hits out.

    on         whether it does
    window_ms  a second hit later than this after the first is real
    ratio      a second hit of at least this part of the first one's velocity is real
    """

    on: bool = True
    window_ms: float = 35.0
    ratio: float = 0.6

    stage: ClassVar[Stage] = Stage.DOUBLES
    causal: ClassVar[bool] = True

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        drop = among(notes.origin, context.dropped_by_hand)
        keep = among(notes.origin, context.kept_by_hand)
        key = (notes.port.astype(np.int64) * 17 + notes.channel) * 128 + notes.note
        by_pad = np.argsort(key, kind="stable")
        removed = drop.copy()
        doubtful: list[int] = []
        confidence = np.ones(len(notes))
        if self.on:
            false, doubtful = self._judge(notes, key, by_pad, context, drop, keep, confidence)
            removed |= false
        notes_end, end_event, release, heirs = _inherit(notes, by_pad, key, removed)
        written = (
            entries(self.stage, What.REMOVED, Reason.PLAYER, notes.origin[drop]),
            entries(
                self.stage, What.REMOVED, Reason.DOUBLE, notes.origin[removed & ~drop],
                confidence=confidence[removed & ~drop],
            ),
            entries(self.stage, What.KEPT, Reason.DOUBTFUL, notes.origin[doubtful], confidence=confidence[doubtful]),
            entries(
                self.stage, What.CHANGED, Reason.END_OF_DOUBLE, notes.origin[heirs], field=Field.END,
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
    ) -> tuple[np.ndarray, list[int]]:
        """Which notes are false, and which real ones only just. Fills in `confidence`."""
        false = np.zeros(len(notes), bool)
        doubtful: list[int] = []
        window = self.window_ms / 1000
        start, loud = notes.start[by_pad], notes.velocity[by_pad]
        suspect = np.zeros(len(notes), bool)
        suspect[1:] = (key[by_pad][1:] == key[by_pad][:-1]) & (start[1:] - start[:-1] < window)
        suspect &= context.spoken_channels[notes.channel[by_pad]]
        # Only hits close behind another one of their pad can be false: a few in a hundred. Each is judged
        # against the last one believed real, which depends on the judgement before: a loop, but a short one.
        reference = -1
        last = -2
        for i in np.flatnonzero(suspect).tolist():
            row = int(by_pad[i])
            if i - 1 != last:
                reference = i - 1 if not drop[by_pad[i - 1]] else -1
            last = i
            if drop[row]:
                continue
            if reference < 0:
                reference = i
                continue
            sure = self.judge(start[i] - start[reference], float(loud[i]), float(loud[reference]))
            if sure < 0 and not keep[row]:
                false[row], confidence[row] = True, -sure
            else:
                reference = i
                if 0 < sure < 0.6:
                    doubtful.append(row)
                    confidence[row] = sure
        return false, doubtful

    def judge(self, gap: float, velocity: float, reference: float) -> float:
        """How sure it is that a hit is real (above 0) or false (below 0), 0.5 to 1 either way.

        gap                  seconds since the reference
        velocity, reference  1..127
        """
        if gap >= self.window_ms / 1000:
            return 1.0
        limit = self.ratio * reference
        distance = (velocity - limit) / max(limit, 1.0)
        sure = (
            min(1.0, 0.5 + abs(distance) * 0.1 / DOUBT)
            if abs(distance) < DOUBT
            else min(0.99, 0.6 + 0.4 * (abs(distance) - DOUBT) / (1 - DOUBT))
        )
        return -sure if distance < 0 else sure

    def live(self, context: Context) -> LiveStage:
        return _LiveDoubles(self, context)


def _inherit(
    notes: Notes, by_pad: np.ndarray, key: np.ndarray, removed: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """A note that a removed one had cut short takes over the removed one's end.

    Returns end, end_event, release of all notes, and the rows that inherited
    """
    end, end_event, release = notes.end.copy(), notes.end_event.copy(), notes.release.copy()
    heirs: set[int] = set()
    for i in np.flatnonzero(removed[by_pad])[::-1].tolist():
        if i == 0:
            continue
        row, before = int(by_pad[i]), int(by_pad[i - 1])
        if key[row] == key[before] and notes.end_event[before] == notes.origin[row]:
            end[before], end_event[before], release[before] = end[row], end_event[row], release[row]
            heirs.discard(row)
            if not removed[before]:
                heirs.add(before)
    return end, end_event, release, np.array(sorted(heirs), np.int64)


class _LiveDoubles(LiveStage):
    """State: the last real hit of each pad, and for a removed hit that still sounds, who takes its end."""

    def __init__(self, settings: Doubles, context: Context):
        self._settings = settings
        self._speaks = context.spoken_channels.tolist()
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
                # Whether this end holds depends on the hit that caused it, which comes next.
                self._cut = event
                return []
        return [event]

    def _on(self, event: LiveEvent) -> list[LiveEvent]:
        cut, self._cut = self._cut, None
        before = [cut] if cut is not None else []
        if not self._settings.on or not self._speaks[event.channel]:
            return [*before, event]
        key = (event.port * 17 + event.channel) * 128 + event.note
        last = self._last.get(key)
        if last is not None and event.at - last[0] < self._window:
            sure = self._settings.judge(event.at - last[0], event.velocity, last[1])
            if sure < 0:
                self._heir[event.origin] = cut.origin if cut is not None else -1
                self.account(
                    Stage.DOUBLES, What.REMOVED, Reason.DOUBLE, event.origin, Field.NONE, np.nan, np.nan, -sure
                )
                return []
        self._last[key] = (event.at, event.velocity)
        return [*before, event]

    def held(self) -> int:
        return len(self._last) + len(self._heir)
