"""Double triggers: a false second hit that a pad sends for one stroke.

A model judges by gap, loudness and the row a hit stands in (doubles_model.py): a false hit follows soon and is
weaker, much as the others of its pad are. A grace note comes before its loud note and a roll is even, so both pass.
While playing the model decides; in a whole take, decision trees judge by what it says and what else the take
shows (doubles_evidence.py, decision_trees.py).
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from puresignal.core.midi.columns import note_keys
from puresignal.core.midi.events import Controls, Notes
from puresignal.core.path import doubles_evidence, doubles_model, live
from puresignal.core.path.context import Context, among
from puresignal.core.path.doubles_evidence import Strokes
from puresignal.core.path.doubles_model import LIKE, TAPS, Seconds, as_fast_as, fitted, likely, usual
from puresignal.core.path.doubles_trees import TREES
from puresignal.core.path.inherited_ends import InheritedEnds
from puresignal.core.path.live import LiveEvent, LiveStage
from puresignal.core.path.removal import BY_HAND, INHERITED_END, NARROWLY_KEPT, inherit
from puresignal.core.path.setting import setting
from puresignal.core.path.stage import Result
from puresignal.core.path.stage_description import Reason, Stage, Switch
from puresignal.core.path.tally import Action, NoteField, entries
from puresignal.translation import mark

DOUBTFUL = 0.2
"""Probability of a double trigger above which a hit that is kept counts as doubtful."""
BACK = 4
"""Hits of a pad that are looked back on."""
STRUCK, NO_SOFTER = 0.4, 0.85
"""Parts of a hit's velocity from which the one before it, and the one after it, make it one of a row."""
LONGEST, MOST_FAST = 0.07, 400
"""Seconds up to which strokes of a pad are fast; and how many of them are looked at."""
SEEN_MS, SEEN_RATIO = 90.0, 0.95
"""Up to how late and how loud second hits are looked at, at least, where the whole take is known."""
_HAIR = 1e-9


DOUBLE = Reason(mark("double"), mark("False second hits that a pad sent for one stroke."))


@dataclass(frozen=True)
class Doubles:
    """Removes double triggers.

    on         whether it does
    window_ms  a second hit later than this after the first is real
    ratio      a second hit with at least this fraction of the first one's velocity is real
    min_confidence  probability of a double trigger above which a hit is removed, 0..1
    learn      learn from the whole take what this kit's double triggers are like
    """

    on: bool = setting(True, mark("remove double triggers"))
    window_ms: float = setting(
        90.0, mark("A second hit later than this after the first is kept."),
        label=mark("Window"), unit="ms", high=500.0, reach=120.0,
    )  # fmt: skip
    ratio: float = setting(
        0.8, mark("A second hit with at least this fraction of the first one's velocity is kept."),
        label=mark("Softer than"), unit="%", step=0.01,
    )  # fmt: skip
    min_confidence: float = setting(
        0.7, mark("Confidence that a hit is a double trigger, above which it is removed. Higher keeps more."),
        label=mark("Minimum confidence"), unit="%", step=0.01, later=True,
    )  # fmt: skip
    learn: bool = setting(True, mark("learn from each take what its double triggers are like"), later=True)

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
            false, doubtful = self._judge(notes, key, by_pad[~drop[by_pad]], context, keep, confidence)
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
        self, notes: Notes, key: np.ndarray, order: np.ndarray, context: Context, keep: np.ndarray,
        confidence: np.ndarray,
    ) -> tuple[np.ndarray, np.ndarray]:  # fmt: skip
        """Which notes are false, and the rows of real ones that passed only narrowly. Fills in `confidence`.

        order  of the notes that are judged, by key
        """
        # Those beyond the limits tell what the others are.
        seen = (
            (max(SEEN_MS, self.window_ms), max(SEEN_RATIO, self.ratio)) if self.learn else (self.window_ms, self.ratio)
        )
        strokes, found, first = _found(notes, key, order, context, *seen)
        if self.learn:
            sure = TREES.likely(_evidence(strokes, found, first))
        else:
            # As live, where nothing later is known.
            seconds = _seconds(strokes, found, first, _before(strokes, found, first))
            sure = likely(seconds, usual(strokes.pads))
        rows = order[found]
        limits = (strokes.start[found] - strokes.start[first] < self.window_ms / 1000) & (
            strokes.loud[found] < self.ratio * strokes.loud[first]
        )
        rows, sure = rows[limits], sure[limits]
        false = (sure >= self.min_confidence) & ~keep[rows]
        confidence[rows] = np.where(false, sure, 1 - sure)
        taken = np.zeros(len(notes), bool)
        taken[rows[false]] = True
        return taken, np.sort(rows[~false & (sure > DOUBTFUL)])

    def suspects(self, notes: Notes, context: Context) -> tuple[np.ndarray, np.ndarray]:
        """The notes that may be double triggers, and what the take shows about each (`doubles_evidence`)."""
        key = note_keys(notes.port.astype(np.int32) * 17 + notes.channel, notes.note)
        order = np.argsort(key, kind="stable")
        strokes, found, first = _found(notes, key, order, context, SEEN_MS, SEEN_RATIO)
        return order[found], _evidence(strokes, found, first)

    def live(self, context: Context) -> LiveStage:
        return _LiveDoubles(self, context)


def _found(
    notes: Notes, key: np.ndarray, order: np.ndarray, context: Context, window_ms: float, ratio: float
) -> tuple[Strokes, np.ndarray, np.ndarray]:
    """All strokes, and the places among them of hits that may be false and of the louder one that each follows.

    order             of the notes, by key
    window_ms, ratio  up to how late and how loud a second hit may be false
    """
    rising = key[order]
    pad = np.concatenate([np.zeros(min(1, len(order)), np.int64), np.cumsum(rising[1:] != rising[:-1])])
    strokes = Strokes(notes.start[order], notes.velocity[order].astype(np.float64), pad)
    start, loud = strokes.start, strokes.loud
    first = np.full(len(start), -1, np.int64)
    for back in range(1, BACK + 1):
        now = np.arange(back, len(start))
        gap = start[now] - start[now - back]
        hit = (first[now] < 0) & (pad[now] == pad[now - back]) & (gap < window_ms / 1000) & (gap > _HAIR)
        hit &= loud[now] < ratio * loud[now - back]
        first[now[hit]] = now[hit] - back
    found = np.flatnonzero(first >= 0)
    found = found[context.mapped_channels[notes.channel[order[found]]]]
    return strokes, found, first[found]


def _evidence(strokes: Strokes, found: np.ndarray, first: np.ndarray) -> np.ndarray:
    """(found, figures) that the trees ask about."""
    if not len(found):
        return np.zeros((0, TREES.figures))
    row = np.maximum(_before(strokes, found, first), _after(strokes, found, first))
    seconds = _seconds(strokes, found, first, row)
    fast, taps = _played(strokes)
    # There may be hundreds of fast strokes, and they are the same in every round of the fit.
    as_fast = as_fast_as(seconds, fast)
    model = fitted(seconds, strokes.pads, fast, taps, as_fast)
    return doubles_evidence.evidence(strokes, found, first, seconds, model, as_fast)


def _seconds(strokes: Strokes, found: np.ndarray, first: np.ndarray, row: np.ndarray) -> Seconds:
    return Seconds(
        1000 * (strokes.start[found] - strokes.start[first]), np.log(strokes.loud[found] / strokes.loud[first]),
        strokes.pad[found], row,
    )  # fmt: skip


def _before(strokes: Strokes, found: np.ndarray, first: np.ndarray) -> np.ndarray:
    """1 where the hit before the first one of each lies as far from it as the second one does, else 0."""
    start, loud, pad = strokes.start, strokes.loud, strokes.pad
    before = np.maximum(first - 1, 0)
    there = (first > 0) & (pad[before] == pad[first]) & (loud[before] >= STRUCK * loud[first])
    return np.asarray(there & _even(start[first] - start[before], start[found] - start[first]), np.int64)


def _after(strokes: Strokes, found: np.ndarray, first: np.ndarray) -> np.ndarray:
    """1 where a hit that is no softer follows each as far away as the first one lies before it, else 0."""
    start, loud, pad = strokes.start, strokes.loud, strokes.pad
    after = np.minimum(found + 1, len(start) - 1)
    there = (found + 1 < len(start)) & (pad[after] == pad[found]) & (loud[after] >= NO_SOFTER * loud[found])
    return np.asarray(there & _even(start[after] - start[found], start[found] - start[first]), np.int64)


def _even(one: np.ndarray, other: np.ndarray) -> np.ndarray:
    return np.asarray(np.abs(one - other) <= LIKE * np.maximum(other, _HAIR))


def _played(strokes: Strokes) -> tuple[np.ndarray, np.ndarray]:
    """Log gaps in ms of strokes that surely were played though fast, and the share of taps of each pad."""
    start, loud, pad, pads = strokes.start, strokes.loud, strokes.pad, strokes.pads
    gap, part = np.diff(start), loud[1:] / loud[:-1]
    mine = (pad[1:] == pad[:-1]) & (gap > 0.012)
    sure = mine & (gap < 2 * LONGEST) & (part > 0.75) & (part < 1.33)
    slow = mine & (gap >= LONGEST) & (gap < 4 * LONGEST)
    soft = np.bincount(pad[1:][slow & (part < 0.65)], minlength=pads)
    taps = (soft + 6 * TAPS) / (np.bincount(pad[1:][slow], minlength=pads) + 6)
    return np.log(1000 * gap[sure])[-MOST_FAST:], np.clip(taps, 0.02, 0.6)


class _LiveDoubles(LiveStage):
    """State: the last real hit of each pad, and which note inherits the end of a removed hit that still sounds."""

    def __init__(self, settings: Doubles, context: Context):
        self._active = settings.on
        self._ratio = settings.ratio
        self._speaks = context.mapped_channels.tolist()
        self._window = settings.window_ms / 1000
        self._settings = settings
        self._recent: dict[int, deque[tuple[float, float]]] = {}
        self._model = usual(1)
        # Filled anew for each candidate: nothing is allocated for it in the port's callback.
        self._one = Seconds(np.zeros(1), np.zeros(1), np.zeros(1, np.int64), np.zeros(1, np.int64))
        self._ends = InheritedEnds()

    def feed(self, event: LiveEvent) -> list[LiveEvent]:
        if event.kind == live.ON:
            return self._on(event)
        return self._ends.off(event) if event.kind == live.OFF else [event]

    def _on(self, event: LiveEvent) -> list[LiveEvent]:
        before = self._ends.caused()
        if not self._active or not self._speaks[event.channel]:
            return [*before, event]
        key = (event.port * 17 + event.channel) * 128 + event.note
        likely = self._likely(key, event.at, float(event.velocity))
        if likely >= self._settings.min_confidence:
            self._ends.remove(event.origin, before)
            self.account(Doubles.stage, Action.REMOVED, DOUBLE, event.origin, NoteField.NONE, np.nan, np.nan, likely)
            return []
        return [*before, event]

    def _likely(self, key: int, at: float, velocity: float) -> float:
        """Probability that a hit is a double trigger; it is then one of the recent ones."""
        recent = self._recent.get(key)
        if recent is None:
            recent = self._recent[key] = deque(maxlen=BACK + 1)
        found = -1
        for back in range(1, min(BACK, len(recent)) + 1):
            gap = at - recent[-back][0]
            if gap >= self._window:
                break
            if gap > _HAIR and velocity < self._ratio * recent[-back][1]:
                found = len(recent) - back
                break
        likely = 0.0
        if found >= 0:
            start, loud = recent[found]
            row = 0
            if found > 0:
                earlier, hard = recent[found - 1]
                even = abs((start - earlier) - (at - start)) <= LIKE * max(at - start, _HAIR)
                row = int(hard >= STRUCK * loud and even)
            one = self._one
            one.gap_ms[0], one.part[0], one.row[0] = 1000 * (at - start), np.log(velocity / loud), row
            likely = float(doubles_model.likely(one, self._model)[0])
        recent.append((at, velocity))
        return likely

    def held(self) -> int:
        return sum(map(len, self._recent.values())) + len(self._ends)
