"""Crosstalk: a hit shakes another pad, through a stand or the floor, which sends a weak note that nobody played.

A note is a candidate if a much louder one of another drum is close to it in time, before or after. A model weighs its
loudness against that hit and against its own pad's hits, and the gap (crosstalk_model.py); between stands it takes
more to believe it. While playing the model decides; in a whole take that is learnt from, decision trees judge by what
it says and what else the take shows (crosstalk_evidence.py, decision_trees.py). Real hits stay: ghost notes beside hard
hits, unisons of two hands, soft strokes on a pad that is often played softly.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from puresignal.core.midi.columns import note_keys, numbered
from puresignal.core.midi.events import Controls, Notes
from puresignal.core.path import crosstalk_evidence, live, settings_values
from puresignal.core.path.context import Context, among
from puresignal.core.path.crosstalk_evidence import Hits, Suspects
from puresignal.core.path.crosstalk_model import (
    ACROSS_AT_MS,
    ACROSS_SPREAD_MS,
    LEVELS,
    SHAKEN_AT_MS,
    SHAKEN_SPREAD_MS,
    SHARE_FIRST,
    SOFTER,
    USUAL_SHARE,
    USUAL_SPREAD,
    KitModel,
    fit,
    hands_spread,
    level_of,
    log_occurred,
    log_shaken,
    log_struck,
    smoothed,
    usual_alone,
    varies_as_hands,
)
from puresignal.core.path.crosstalk_trees import TREES
from puresignal.core.path.inherited_ends import InheritedEnds
from puresignal.core.path.live import LiveEvent, LiveStage
from puresignal.core.path.removal import INHERITED_END, NARROWLY_KEPT, inherit
from puresignal.core.path.setting import Codec, setting
from puresignal.core.path.stage import Result
from puresignal.core.path.stage_description import Reason, Stage, Switch
from puresignal.core.path.tally import Action, NoteField, entries
from puresignal.translation import mark

DOUBTFUL = 0.2
"""Crosstalk probability from which a note that stays counts as doubtful."""
LONE_MS = 25.0
"""A hit with nothing louder within this time stands alone."""
FADES, ELSEWHERE = 0.012, 0.4
"""Weighting of several hits that may have shaken a pad: one counts less by its distance in time, in seconds to a
third, and if it is on another stand."""
_HAIR = 1e-9


NOTHING_LEARNT = KitModel()
SHAKEN = Reason(mark("crosstalk"), mark("Notes of pads that a hard hit beside them has shaken."))


@dataclass(frozen=True)
class Crosstalk:
    """Removes crosstalk.

    on              whether it does
    after_ms        a note later than this after the loud hit is real
    before_ms       how long before the loud hit a neighbour may already send
    ratio           a note with at least this fraction of the loud hit's velocity is real
    min_confidence  crosstalk probability above which a note is removed, 0..1
    lookahead_ms    how far ahead of a note to look; files look as far as it helps
    live_ms         the same while playing live, where everything is delayed by it
    learn           learn from the whole take before judging it
    kit_model       what was learnt earlier, for live playing and for takes that are not learnt from
    """

    on: bool = setting(True, mark("remove crosstalk between pads"))
    after_ms: float = setting(28.0, mark("how long after the loud hit a crosstalk note may lie"), unit="ms", high=30.0)
    before_ms: float = setting(6.0, mark("how long before the loud hit a crosstalk note may lie"), unit="ms", high=20.0)
    ratio: float = setting(0.65, mark("a note with at least this part of the loud one's velocity was played"), unit="%")
    min_confidence: float = setting(
        0.5, mark("Confidence that a note is crosstalk, above which it is removed. Higher keeps more."),
        label=mark("Minimum confidence"), unit="%", step=0.01,
    )  # fmt: skip
    lookahead_ms: float = setting(8.0, mark("how far files look ahead, where it costs nothing"), unit="ms", high=8.0)
    live_ms: float = setting(
        0.0,
        mark(
            "Delays live output by this time, so that notes a shaken pad sends before the hit can be removed too. "
            "Takes always look ahead."
        ),
        label=mark("Live look-ahead"), unit="ms", high=8.0,
    )  # fmt: skip
    learn: bool = setting(True, mark("learn the kit's pads from each take before deciding"))
    kit_model: KitModel = setting(
        NOTHING_LEARNT,
        mark("the kit model learnt before, for playing live (written by the window)"),
        codec=Codec(settings_values.kit_model, settings_values.kit_model_json, settings_values.KIT_MODEL_SCHEMA),
    )

    stage: ClassVar[Stage] = Stage(
        "crosstalk",
        word=mark("crosstalk"),
        title=mark("Remove crosstalk"),
        tip=mark("Removes the weak note of a pad that a hard hit beside it has shaken."),
        switch=Switch(),
        reasons=(SHAKEN, NARROWLY_KEPT, INHERITED_END),
    )

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        removed = np.zeros(len(notes), bool)
        likely = np.zeros(len(notes))
        judged = np.zeros(0, np.int64)
        if self.on and context.stands.any_neighbours and len(notes):
            if self.learn:
                judged, evidence = self.suspects(notes, context)
                likely[judged] = TREES.likely(evidence)
            else:
                found = self._candidates(notes, context)
                judged = found.row
                likely[judged] = _Tables(self.kit_model, context).likely(found)
            removed = (likely >= self.min_confidence) & ~among(notes.origin, context.kept_by_hand)
        doubtful = judged[(likely[judged] > DOUBTFUL) & (likely[judged] < self.min_confidence)]
        if not removed.any():
            kept = entries(
                self.stage, Action.KEPT, NARROWLY_KEPT, notes.origin[doubtful], confidence=1 - likely[doubtful]
            )
            return Result(notes, controls, (kept,))
        key = note_keys(notes.port.astype(np.int32) * 17 + notes.channel, notes.note)
        by_pad = np.argsort(key, kind="stable")
        end, end_event, release, heirs = inherit(notes, by_pad, key, removed)
        written = (
            entries(
                self.stage, Action.REMOVED, SHAKEN, notes.origin[removed], confidence=likely[removed]
            ),
            entries(self.stage, Action.KEPT, NARROWLY_KEPT, notes.origin[doubtful], confidence=1 - likely[doubtful]),
            entries(
                self.stage, Action.CHANGED, INHERITED_END, notes.origin[heirs], field=NoteField.END,
                before=notes.end[heirs], after=end[heirs],
            ),
        )  # fmt: skip
        notes = notes.but(end=end, end_event=end_event, release=release).take(~removed)
        return Result(notes, controls, written)

    def suspects(self, notes: Notes, context: Context) -> tuple[np.ndarray, np.ndarray]:
        """The notes that may be crosstalk, and what the take shows about each (`crosstalk_evidence`)."""
        found = every = candidates(notes, context, self.after_ms / 1000, self.before_ms / 1000, self.ratio)
        if self.lookahead_ms < self.before_ms:
            found = self._candidates(notes, context)
        if not len(found.row):
            return found.row, np.zeros((0, TREES.figures))
        tables = _Tables(_learnt(notes, context, self, every), context)
        pad = context.stands.pad[notes.channel, notes.note]
        hits = Hits(notes.start, notes.velocity.astype(np.float64), pad)
        return found.row, crosstalk_evidence.evidence(hits, tables.suspects(found))

    def _candidates(self, notes: Notes, context: Context) -> Candidates:
        before = min(self.before_ms, self.lookahead_ms) / 1000 if self.lookahead_ms > 0 else -1.0
        return candidates(notes, context, self.after_ms / 1000, before, self.ratio)

    def live(self, context: Context) -> LiveStage:
        return _LiveCrosstalk(self, context)


@dataclass(frozen=True, eq=False)
class Candidates:
    """Notes that may be crosstalk, each with the loudest hit that may have caused it.

    row            of the note; by, shaken: numbers of the two pads; velocity, louder: of the two
    gap            seconds from the loud hit to the note
    """

    row: np.ndarray
    by: np.ndarray
    shaken: np.ndarray
    velocity: np.ndarray
    louder: np.ndarray
    gap: np.ndarray


def candidates(notes: Notes, context: Context, after: float, before: float, ratio: float) -> Candidates:
    """All candidates of a take in order of time. With a negative `before` only earlier hits may be the cause."""
    stands = context.stands
    pad = stands.pad[notes.channel, notes.note]
    pad = np.where(pad >= 0, pad, len(stands.group) - 1)
    stand = np.where(stands.group[pad] >= 0, stands.group[pad], -1 - pad)
    lane = np.where(pad < len(stands.group) - 1, context.devices[notes.port], -1)
    inside = np.flatnonzero(lane >= 0)
    order = inside[np.lexsort((notes.seq[inside], notes.start[inside], lane[inside]))]
    start, velocity = notes.start[order], notes.velocity[order].astype(np.float64)
    lanes, drum, pads, stand = lane[order], stands.drum[pad[order]], pad[order], stand[order]
    best = np.zeros(len(order))
    by = np.full(len(order), -1, np.int64)
    reach = max(after, before)
    for step in range(1, len(order)):
        gap = start[step:] - start[:-step]
        first = np.flatnonzero((gap <= reach + _HAIR) & (lanes[step:] == lanes[:-step]))
        if not len(first):
            break
        second, gap = first + step, gap[first]
        apart = drum[first] != drum[second]
        # Among equally likely ones the earliest counts, as it does live.
        for victims, louds, most in ((second, first, after), (first, second, before)):
            hit = np.flatnonzero(apart & (gap <= most + _HAIR) & (velocity[victims] < ratio * velocity[louds]))
            victim, loud = victims[hit], louds[hit]
            force = velocity[loud] * np.exp(-gap[hit] / FADES) * np.where(stand[victim] == stand[loud], 1.0, ELSEWHERE)
            more = (force > best[victim]) | ((force == best[victim]) & (loud < by[victim]))
            best[victim[more]], by[victim[more]] = force[more], loud[more]
    found = np.flatnonzero(by >= 0)
    source = by[found]
    return Candidates(
        order[found], pads[source], pads[found], velocity[found], velocity[source], start[found] - start[source]
    )


def learn(notes: Notes, context: Context, settings: Crosstalk) -> KitModel:
    """Learn a kit model from a whole take."""
    stands = context.stands
    if not len(notes) or not stands.any_neighbours:
        return KitModel()
    found = candidates(notes, context, settings.after_ms / 1000, settings.before_ms / 1000, settings.ratio)
    return _learnt(notes, context, settings, found)


def _learnt(notes: Notes, context: Context, settings: Crosstalk, found: Candidates) -> KitModel:
    """As learn(), where the candidates are known."""
    stands = context.stands
    wide = candidates(notes, context, LONE_MS / 1000, LONE_MS / 1000, 1.0)
    pad = stands.pad[notes.channel, notes.note]
    lone = np.ones(len(notes), bool)
    lone[wide.row] = False
    lone &= pad >= 0
    counts = np.zeros((len(stands.names), LEVELS))
    np.add.at(counts, (pad[lone], level_of(notes.velocity[lone])), 1)
    size = len(stands.names)
    used, pair = numbered(found.by * size + found.shaken)
    if not len(used):
        return KitModel(_alone(stands.names, counts))
    share, level = np.log(found.velocity / found.louder), level_of(found.velocity)
    across = ~_one_stand(stands.group)[used // size, used % size]
    hands_ms = hands_spread(1000 * wide.gap[wide.velocity >= settings.ratio * wide.louder])
    columns, soft = fit(
        pair, len(used), share, 1000 * found.gap, found.shaken, level, counts, usual_alone(stands.ghosts), across,
        found.velocity, max(1.0, float(notes.velocity.min())), hands_ms,
        used % size, _occurred(found, pair, used // size, pad, notes.velocity), _by_hands(found, pair, pad, notes),
    )  # fmt: skip
    # How softly a pad is played is seen from these, too.
    played = soft[pair]
    np.add.at(counts, (found.shaken[played], level[played]), 1)
    rounded = np.round(np.stack(columns, axis=1), 4).tolist()
    shakes = tuple(
        (stands.names[u // size], stands.names[u % size], mean, spread, part, at, about)
        for u, (mean, spread, part, at, about) in zip(used.tolist(), rounded, strict=True)
    )
    return KitModel(_alone(stands.names, counts), shakes, round(hands_ms, 2))


def _occurred(found: Candidates, pair: np.ndarray, by: np.ndarray, pad: np.ndarray, velocity: np.ndarray) -> np.ndarray:
    """(pairs,) what it says for crosstalk that hits of a pad were often followed by a candidate.

    pair, by       the pair of each candidate, and the pad that shakes, of each pair
    pad, velocity  of all hits
    """
    candidates, hits = np.ones(len(by)), np.ones(len(by))
    by_pair = np.argsort(pair, kind="stable")
    louder = np.split(found.louder[by_pair], np.cumsum(np.bincount(pair, minlength=len(by)))[:-1])
    strokes = {number: np.sort(velocity[pad == number]) for number in set(by.tolist())}
    for number, (shaking, mine) in enumerate(zip(by.tolist(), louder, strict=True)):
        enough = np.quantile(mine, QUIETER)
        hits[number] = len(strokes[shaking]) - np.searchsorted(strokes[shaking], enough)
        candidates[number] = min(hits[number], np.count_nonzero(mine >= enough))
    return log_occurred(candidates, hits)


def _by_hands(found: Candidates, pair: np.ndarray, pad: np.ndarray, notes: Notes) -> np.ndarray:
    """(pairs,) whether the time between the notes of a pair varies as it does between two hands, and no other pad that
    sounds with most of them may have shaken them.

    pair  the pair of each candidate; pad: of all notes
    """
    order = np.argsort(pair, kind="stable")
    rows = np.split(order, np.cumsum(np.bincount(pair))[:-1])
    out = np.zeros(len(rows), bool)
    starts: dict[int, np.ndarray] = {}
    for number, mine in enumerate(rows):
        if not varies_as_hands(1000 * found.gap[mine]):
            continue
        if not starts:
            starts = {each: notes.start[pad == each] for each in np.unique(pad[pad >= 0]).tolist()}
        at, shaken = notes.start[found.row[mine]], int(found.shaken[mine[0]])
        out[number] = all(
            len(gap) < MOST_OF * len(mine) or varies_as_hands(gap)
            for other, struck in starts.items()
            if other != shaken
            for gap in [_nearest_ms(at, struck)]
        )
    return out


def _nearest_ms(at: np.ndarray, struck: np.ndarray) -> np.ndarray:
    """Milliseconds from the nearest of some strokes, of those of `at` that have one near. struck: rising"""
    after = np.clip(np.searchsorted(struck, at), 1, len(struck) - 1) if len(struck) > 1 else np.zeros(len(at), int)
    before = np.maximum(0, after - 1)
    gap = np.where(at - struck[before] < struck[after] - at, at - struck[before], at - struck[after])
    return np.asarray(1000 * gap[np.abs(gap) < LONE_MS / 1000])


def _one_stand(group: np.ndarray) -> np.ndarray:
    """(pads, pads) whether two pads are on one stand. group: as in Stands"""
    group = group[:-1] if len(group) > 1 else group
    return np.asarray((group[:, None] == group[None, :]) & (group[:, None] >= 0))


def _alone(
    names: tuple[tuple[int, int], ...], counts: np.ndarray
) -> tuple[tuple[tuple[int, int], tuple[float, ...]], ...]:
    return tuple(
        (name, tuple(round(float(c), 3) for c in row))
        for name, row in zip(names, counts.tolist(), strict=True)
        if any(row)
    )


MOST_OF = 0.6
"""Part of a pair's candidates that another pad must sound with to be taken for what shakes them."""
QUIETER = 0.25
"""Part of a pair's candidates whose hits may be too soft to shake each time."""
CAUTION = 2.6
"""Log odds that speak for a note beforehand. Players do many things that no model of them knows, and these look like
crosstalk more often than the densities say: so much makes the confidence a chance (bench/faults.py --curve)."""
UNKNOWN = 0.02
"""Share of candidates from stand to stand that are crosstalk, where nothing was learnt: that takes a take."""


class _Tables:
    """A kit model as arrays by pad number."""

    def __init__(self, kit_model: KitModel, context: Context):
        names = {name: i for i, name in enumerate(context.stands.names)}
        size = max(1, len(names))
        counts = np.zeros((size, LEVELS))
        for name, row in kit_model.alone:
            if name in names:
                counts[names[name]] = row
        self.hands_ms = kit_model.hands_ms
        self.alone = smoothed(counts, usual_alone(context.stands.ghosts) if names else usual_alone(np.zeros(1)))
        self.mean = np.full((size, size), USUAL_SHARE)
        self.spread = np.full((size, size), USUAL_SPREAD)
        self.ghosts = context.stands.ghosts if names else np.zeros(1)
        self.same = same = _one_stand(context.stands.group) if names else np.zeros((size, size), bool)
        self.part = np.where(same, SHARE_FIRST, UNKNOWN)
        self.at = np.where(same, SHAKEN_AT_MS, ACROSS_AT_MS)
        self.about = np.where(same, SHAKEN_SPREAD_MS, ACROSS_SPREAD_MS)
        for by, shaken, mean, spread, part, at_ms, about in kit_model.shakes:
            if by in names and shaken in names:
                at = names[by], names[shaken]
                self.mean[at], self.spread[at], self.part[at] = mean, spread, part
                self.at[at], self.about[at] = at_ms, about

    def likely(self, found: Candidates) -> np.ndarray:
        """Probability of each candidate to be crosstalk, 0..1."""
        part = self.part[found.by, found.shaken]
        shaken, struck = self._densities(found)
        odds = np.log(part) - np.log1p(-part) + shaken - struck - CAUTION
        return np.asarray(1 / (1 + np.exp(-np.clip(odds, -30, 30))))

    def suspects(self, found: Candidates) -> Suspects:
        """What the model says of each candidate."""
        at = found.by, found.shaken
        shaken, struck = self._densities(found)
        return Suspects(
            found.row, *at, found.louder, 1000 * found.gap, self.likely(found), shaken, struck, self._alone(found),
            self.part[at], self.mean[at], self.spread[at], self.at[at], self.about[at], self.same[at],
            self.ghosts[found.shaken], self.hands_ms,
        )  # fmt: skip

    def _alone(self, found: Candidates) -> np.ndarray:
        return np.asarray(self.alone[found.shaken, level_of(found.velocity)])

    def _densities(self, found: Candidates) -> tuple[np.ndarray, np.ndarray]:
        """Log densities of each candidate as crosstalk and as a stroke."""
        at, gap_ms = (found.by, found.shaken), 1000 * found.gap
        share = np.log(found.velocity / found.louder)
        shaken = log_shaken(share, gap_ms, self.mean[at], self.spread[at], self.at[at], self.about[at], SOFTER)
        return shaken, log_struck(self._alone(found), gap_ms, self.hands_ms)


class _LiveCrosstalk(LiveStage):
    """State: notes held back for the look-ahead, recent hits, and the notes that inherit a removed one's end."""

    def __init__(self, settings: Crosstalk, context: Context):
        self._settings = settings
        self._active = settings.on and context.stands.any_neighbours
        self._ahead = settings.lookahead_ms / 1000
        self._before = min(settings.before_ms, settings.lookahead_ms) / 1000
        self._after = settings.after_ms / 1000
        stands = context.stands
        self._pad = stands.pad.tolist()
        self._group, self._drum = stands.group.tolist(), stands.drum.tolist()
        self._devices = context.devices.tolist()
        self._tables = _Tables(settings.kit_model, context)
        self._held: deque[LiveEvent] = deque()
        self._recent: deque[tuple[float, int, int, float]] = deque()
        self._ends = InheritedEnds()
        # Filled anew for each candidate: nothing is allocated for it in the port's callback.
        whole, real = np.zeros(1, np.int64), np.zeros(1)
        self._one = Candidates(whole, whole.copy(), whole.copy(), real, real.copy(), real.copy())

    def feed(self, event: LiveEvent) -> list[LiveEvent]:
        if not self._active:
            return [event]
        if self._ahead <= 0:
            return self._release(event)
        if event.kind == live.ON:
            self._note(event)
        self._held.append(event)
        return []

    def advance(self, now: float) -> list[LiveEvent]:
        leaving: list[LiveEvent] = []
        held, ahead = self._held, self._ahead
        # A hit at the very end of the look-ahead still counts, so a note waits until that has passed.
        while held and held[0].at + ahead + _HAIR < now:
            leaving += self._release(held.popleft())
        return leaving

    def finish(self, end: float) -> list[LiveEvent]:
        leaving: list[LiveEvent] = []
        while self._held:
            leaving += self._release(self._held.popleft())
        return leaving + self._ends.caused()

    def _note(self, event: LiveEvent) -> None:
        """Remember a hit as one that may shake others."""
        pad = self._pad[event.channel][event.note]
        recent = self._recent
        while recent and recent[0][0] < event.at - self._after - 2 * self._ahead - 0.01:
            recent.popleft()
        if pad >= 0:
            recent.append((event.at, self._devices[event.port], pad, event.velocity))

    def _release(self, event: LiveEvent) -> list[LiveEvent]:
        if event.kind == live.ON:
            return self._on(event)
        return self._ends.off(event) if event.kind == live.OFF else [event]

    def _on(self, event: LiveEvent) -> list[LiveEvent]:
        before = self._ends.caused()
        likely = self._likely(event)
        if self._ahead <= 0:
            self._note(event)
        if likely >= self._settings.min_confidence:
            self._ends.remove(event.origin, before)
            self.account(Crosstalk.stage, Action.REMOVED, SHAKEN, event.origin, NoteField.NONE, np.nan, np.nan, likely)
            return []
        return [*before, event]

    def _likely(self, event: LiveEvent) -> float:
        pad = self._pad[event.channel][event.note]
        if pad < 0:
            return 0.0
        device, group, drum = self._devices[event.port], self._group[pad], self._drum[pad]
        best, found, louder = 0.0, None, 0.0
        for at, where, other, velocity in self._recent:
            gap = event.at - at
            near = -self._before - _HAIR <= gap <= self._after + _HAIR
            if not near or where != device or self._drum[other] == drum:
                continue
            same = pad == other or (group >= 0 and self._group[other] == group)
            force = velocity * float(np.exp(-abs(gap) / FADES)) * (1.0 if same else ELSEWHERE)
            if force > best and event.velocity < self._settings.ratio * velocity:
                best, found, louder = force, (other, gap), velocity
        if found is None:
            return 0.0
        one = self._one
        one.by[0], one.shaken[0], one.velocity[0], one.louder[0], one.gap[0] = (
            found[0],
            pad,
            event.velocity,
            louder,
            found[1],
        )
        return float(self._tables.likely(one)[0])

    def held(self) -> int:
        return len(self._held) + len(self._recent) + len(self._ends)
