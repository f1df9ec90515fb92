"""Timing: notes are pulled to the lines of a grid, or away from them as players are.

Not causal: where a note belongs is told by what comes after it too. What was meant together moves together: chords,
grace notes with their stroke, rolls as a whole. A note that could belong to two lines is pointed out.
"""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from typing import ClassVar

import numpy as np

from puresignal.core.kit.articulations import drum_of
from puresignal.core.midi.events import NO_EVENT, Controls, Notes
from puresignal.core.midi.tempo_map import on_arrival_grid
from puresignal.core.path import groove_setting
from puresignal.core.path.context import Context, among
from puresignal.core.path.live import LiveStage
from puresignal.core.path.scoped import Scoped
from puresignal.core.path.setting import Codec, Scope, setting
from puresignal.core.path.stage import Result
from puresignal.core.path.stage_description import Reason, Stage, Switch
from puresignal.core.path.tally import Action, NoteField, entries
from puresignal.core.path.velocity_curve import draw
from puresignal.core.timing import grids
from puresignal.core.timing.groove import NONE, Groove
from puresignal.core.timing.meant_together import Together, together
from puresignal.core.timing.quantise import SURE, Bars, Pulled, pull
from puresignal.core.timing.session_time import Timeline
from puresignal.translation import mark

QUANTISED = Reason(mark("quantised"), mark("Notes pulled to a line of the grid."))
LOOSENED = Reason(mark("loosened"))
GROOVED = Reason(mark("by the groove"))
BETWEEN = Reason(mark("between two lines"), mark("Notes that could belong to either of two lines."))
AUTO = "auto"
STARTS, ENDS, BOTH = "starts", "ends", "both"
CLOSE, KEEP = "close", "keep"
DRUM_CHANNEL = 10
CARRIED = 0.7
"""How much of one stroke's looseness the next one of the same limb has too: players drift, they do not jump."""
DRIFT = np.sqrt(1 - CARRIED**2) * CARRIED ** np.arange(80)
"""The weights of a limb's strokes before this one; those farther back are below 1e-12."""
AUTO_ENDS = grids.Grid(16)
"""The grid of ends where that of the starts is found bar by bar."""


@dataclass(frozen=True)
class Timing:
    """Pulls notes to a grid."""

    on: bool = setting(False, mark("pull notes to a grid"))
    grid: str = setting(
        AUTO, mark("Note value of the lines; auto takes for each bar what explains it best."), label=mark("Grid"),
        choices=(AUTO, *grids.NAMES),
    )  # fmt: skip
    strength: Scoped = setting(
        Scoped(1.0), mark("How much of the way to their line notes are pulled."), label=mark("Strength"), unit="%",
        high=1.0, step=0.01, scope=Scope.SESSION | Scope.TRACK | Scope.ARTICULATION | Scope.NOTES,
    )  # fmt: skip
    swing: float = setting(
        0.5,
        mark("Where the second of each pair comes: 50 % even, 67 % like triplets. At 50 % auto keeps what it finds."),
        label=mark("Swing"), unit="%", low=grids.LEAST_SWING, high=grids.MOST_SWING, step=0.01,
    )  # fmt: skip
    swung: str = setting(
        "1/8", mark("Which notes are swung."), label=mark("Swing of"), choices=tuple(f"1/{v}" for v in grids.SWINGS)
    )
    within_ms: float = setting(
        0.0, mark("Notes this near to their line stay as they were played."), label=mark("Leave within"), unit="ms",
        high=100.0,
    )  # fmt: skip
    beyond_ms: float = setting(
        500.0, mark("Notes farther from their line than this stay as they were played."), label=mark("Leave beyond"),
        unit="ms", high=500.0,
    )  # fmt: skip
    what: str = setting(STARTS, mark("What is pulled."), label=mark("Pull"), choices=(STARTS, ENDS, BOTH))
    chords: str = setting(
        CLOSE, mark("Whether the notes of a chord come to one moment, or keep their spread."),
        label=mark("Chord spread"), choices=(CLOSE, KEEP),
    )  # fmt: skip
    tolerance_ms: float = setting(
        30.0, mark("Notes that begin within this are one chord."), label=mark("Chord within"), unit="ms", high=120.0
    )
    groove: Groove = setting(
        NONE, mark("how early or late, and how loud, each place of a bar is; laid over the grid"),
        codec=Codec(groove_setting.from_json, groove_setting.to_json, groove_setting.SCHEMA),
    )  # fmt: skip
    groove_time: float = setting(
        1.0, mark("How much of the groove's timing notes get."), label=mark("Groove: timing"), unit="%", step=0.01
    )
    groove_velocity: float = setting(
        0.0, mark("How much of the groove's loudness notes get."), label=mark("Groove: velocity"), unit="%", step=0.01
    )
    loose_ms: float = setting(
        0.0,
        mark("Moves notes off their place as a player would, drifting from stroke to stroke; the same every time."),
        label=mark("Looseness"), unit="ms", high=40.0,
    )  # fmt: skip
    seed: int = setting(1, mark("seed of the looseness; the same numbers give the same times"), high=2**31)

    stage: ClassVar[Stage] = Stage(
        "timing", word=mark("timing"), title=mark("Quantise"), tip=mark("Pulls notes to the lines of a grid."),
        switch=Switch(), reasons=(QUANTISED, LOOSENED, GROOVED, BETWEEN), causal=False, on_timeline=True,
    )  # fmt: skip

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        if not self.on or not len(notes):
            return Result(notes, controls)
        timeline = context.timeline or Timeline()
        pulled = self.pulled(notes, context)
        line = np.where(among(notes.origin, context.on_other_line) & ~np.isnan(pulled.other), pulled.other, pulled.line)
        target = timeline.beats_to_seconds(line)
        strength = self.strength.for_notes(notes, context)
        way = target - notes.start
        far = np.abs(way)
        chosen = (far * 1000 >= self.within_ms) & (far * 1000 <= self.beyond_ms) & (strength > 0)
        moved = np.where(chosen, strength * way, 0.0)
        if self.chords == KEEP:
            moved = _together(moved, self._key(notes, context), notes, self.tolerance_ms / 1000)
        start, end = notes.start, notes.end
        if self.what != ENDS:
            start, end = start + moved, end + moved
        velocity = notes.velocity
        if self.groove.late:
            by, factor = self._groove(line, context)
            # Notes that keep their distance follow what they go with; those that are not pulled keep their own time.
            by = np.where(chosen, by * strength, 0.0)
            start, end = start + by, end + by
            velocity = np.where(chosen, np.clip(np.rint(velocity * factor), 1, 127), velocity).astype(np.float32)
        reason = np.full(len(notes), int(QUANTISED))
        if self.loose_ms > 0:
            off = self._loose(notes, context)
            reason = np.where(np.abs(start - notes.start) < 1e-9, int(LOOSENED), reason)
            start, end = start + off, end + off
        start = on_arrival_grid(np.maximum(start, np.minimum(notes.start, 0.0)))
        if self.what != STARTS:
            end = self._ends(end, start, strength, timeline)
        end = np.where(np.isnan(notes.end), np.nan, on_arrival_grid(np.maximum(np.nan_to_num(end), start)))
        made = self._result(notes, controls, start, end, reason, pulled, timeline)
        return made if velocity is notes.velocity else self._louder(made, notes, velocity)

    def pulled(self, notes: Notes, context: Context) -> Pulled:
        """Where notes belong; worked out once for the notes of a context, since most settings do not change it."""
        key = (self.grid, self.tolerance_ms, self.swing, self.swung)
        of = (notes.start, notes.note, notes.articulation, notes.track)
        known: _Known | None = context.memo.get("pulled")
        if known is not None and not known.is_of(key, of):
            known = None
        if known is not None and known.velocity is notes.velocity:
            return known.found
        timeline = context.timeline or Timeline()
        keys, pitched = self._key(notes, context)
        meant = together(notes.start, keys, notes.velocity, pitched, self.tolerance_ms / 1000)
        if known is not None and _alike(meant, known.meant):
            # Other velocities, but the same notes go together.
            context.memo["pulled"] = replace(known, velocity=notes.velocity)
            return known.found
        grid = None if self.grid == AUTO else grids.grid_of(self.grid)
        # Two ways to hit one drum may share a moment; one way may not.
        ways = np.where(notes.articulation >= 0, keys * 64 + notes.articulation, keys * 64)
        found = pull(timeline.seconds_to_beats(notes.start), timeline, ways, meant, grid, self._swing)
        if grid is None and self.swing != grids.LEAST_SWING:
            found = found.swung(self._swing, Bars.of(timeline, found.line))
        context.memo["pulled"] = _Known(key, of, notes.velocity, meant, found)
        return found

    @property
    def _swing(self) -> grids.Swing:
        return grids.Swing(self.swing, int(self.swung.removeprefix("1/")))

    @staticmethod
    def _key(notes: Notes, context: Context) -> tuple[np.ndarray, np.ndarray]:
        """(n,) number of the drum or note of each, and (n,) of the pitched track it is of, -1 for drums."""
        drums = [drum_of(name) for name in context.vocabulary]
        names = list(dict.fromkeys(drums))
        of_drum = np.array([*(names.index(drum) for drum in drums), 0])
        known = notes.articulation >= 0
        by_note = 1000 + notes.track.astype(np.int64) * 2048 + notes.channel.astype(np.int64) * 128 + notes.note
        key = np.where(known, of_drum[notes.articulation] + 1_000_000 * (1 + notes.port.astype(np.int64)), by_note)
        pitched = np.where(known | (notes.channel == DRUM_CHANNEL), -1, notes.track.astype(np.int64))
        return key, pitched

    def _groove(self, line: np.ndarray, context: Context) -> tuple[np.ndarray, np.ndarray]:
        """(n,) seconds by which the groove is late at each line, and (n,) its factor on the velocity."""
        timeline = context.timeline or Timeline()
        bars = Bars.of(timeline, line)
        place = self.groove.places(line - bars.begin[bars.bar(line)])
        late = np.array(self.groove.late)[place] / 1000 * self.groove_time
        factor = 1 + self.groove_velocity * (np.array(self.groove.louder)[place] - 1)
        return late, factor

    def _louder(self, made: Result, notes: Notes, velocity: np.ndarray) -> Result:
        """A result with other velocities. notes: before it, in the order of the velocities."""
        changed = velocity != notes.velocity
        told = entries(
            self.stage, Action.CHANGED, GROOVED, notes.origin[changed], field=NoteField.VELOCITY,
            branch=notes.branch[changed], before=notes.velocity[changed].astype(float),
            after=velocity[changed].astype(float),
        )  # fmt: skip
        place = np.argsort(np.argsort(made.notes.seq))
        by_seq = velocity[np.argsort(notes.seq)]
        return Result(made.notes.but(velocity=by_seq[place]), made.controls, (*made.entries, told))

    def _loose(self, notes: Notes, context: Context) -> np.ndarray:
        """(n,) seconds off, correlated from stroke to stroke of each drum or track."""
        keys, pitched = self._key(notes, context)
        limb = np.where(pitched >= 0, pitched, keys)
        # The sum of a few even draws is near enough to a normal one.
        drawn = sum(draw(self.seed + i, notes.origin, 0) for i in range(3))
        off = np.zeros(len(notes))
        for one in np.unique(limb).tolist():
            mine = np.flatnonzero(limb == one)
            off[mine] = np.convolve(np.asarray(drawn)[mine], DRIFT)[: len(mine)]
        return off * self.loose_ms / 1000

    def _ends(self, end: np.ndarray, start: np.ndarray, strength: np.ndarray, timeline: Timeline) -> np.ndarray:
        """(n,) seconds of the ends, pulled to the nearest line that is not before a short note has sounded."""
        grid = AUTO_ENDS if self.grid == AUTO else grids.grid_of(self.grid)
        beats = timeline.seconds_to_beats(np.nan_to_num(end))
        bars = Bars.of(timeline, beats)
        begin = bars.begin[bars.bar(beats)]
        line = begin + grids.nearest(beats - begin, grid, self._swing)
        least = timeline.seconds_to_beats(start) + grid.step / 2
        line = np.where(line < least, line + grid.step, line)
        return np.asarray(end + strength * (timeline.beats_to_seconds(line) - end))

    def _result(
        self, notes: Notes, controls: Controls, start: np.ndarray, end: np.ndarray, reason: np.ndarray, pulled: Pulled,
        timeline: Timeline,
    ) -> Result:  # fmt: skip
        by_start = np.abs(start - notes.start) > 1e-9
        by_end = ~by_start & (np.abs(np.nan_to_num(end - notes.end)) > 1e-9)
        unsure = (pulled.sure < SURE) & ~np.isnan(pulled.other)
        written = (
            entries(
                self.stage, Action.CHANGED, reason[by_start], notes.origin[by_start], field=NoteField.START,
                branch=notes.branch[by_start], before=notes.start[by_start], after=start[by_start],
                confidence=pulled.sure[by_start].astype(np.float32),
            ),
            entries(
                self.stage, Action.CHANGED, QUANTISED, notes.origin[by_end], field=NoteField.END,
                branch=notes.branch[by_end], before=notes.end[by_end], after=end[by_end],
            ),
            entries(
                self.stage, Action.KEPT, BETWEEN, notes.origin[unsure], field=NoteField.START,
                branch=notes.branch[unsure], before=timeline.beats_to_seconds(pulled.line[unsure]),
                after=timeline.beats_to_seconds(np.nan_to_num(pulled.other[unsure])),
                confidence=pulled.sure[unsure].astype(np.float32),
            ),
        )  # fmt: skip
        event = np.where(by_start | by_end, NO_EVENT, notes.end_event)
        order = np.lexsort((notes.seq, start))
        made = notes.but(start=start, end=end, end_event=event)
        if not np.array_equal(order, np.arange(len(order))):
            made = made.take(order)
        return Result(made, _carried(controls, notes, start), written)

    def live(self, context: Context) -> LiveStage:
        return LiveStage()


@dataclass(frozen=True, eq=False)
class _Known:
    """Where notes belonged the last time, and what that hung on."""

    key: tuple[object, ...]
    of: tuple[np.ndarray, ...]
    velocity: np.ndarray
    meant: Together
    found: Pulled

    def is_of(self, key: tuple[object, ...], of: tuple[np.ndarray, ...]) -> bool:
        return self.key == key and all(a is b for a, b in zip(self.of, of, strict=True))


def _alike(one: Together, other: Together) -> bool:
    """Whether the same notes go together."""
    return all(np.array_equal(getattr(one, f.name), getattr(other, f.name)) for f in fields(one))


def _together(moved: np.ndarray, keys: tuple[np.ndarray, np.ndarray], notes: Notes, tolerance: float) -> np.ndarray:
    """(n,) the move of each chord's notes: that of their mean, so that their spread stays."""
    meant = together(notes.start, keys[0], notes.velocity, keys[1], tolerance)
    _, group = np.unique(meant.group, return_inverse=True)
    size = np.bincount(group)
    mean = np.bincount(group, weights=moved) / size
    return np.asarray(mean[group])


def _carried(controls: Controls, notes: Notes, start: np.ndarray) -> Controls:
    """Controllers, bends and pressure moved with the notes of their track, never past one of them."""
    if not len(controls):
        return controls
    at = controls.at.copy()
    for track in np.unique(controls.track).tolist():
        mine = controls.track == track
        rows = np.flatnonzero(notes.track == track)
        if not len(rows):
            continue
        before, place = np.unique(notes.start[rows], return_index=True)
        after = np.maximum.accumulate(start[rows][place])
        at[mine] = controls.at[mine] + np.interp(controls.at[mine], before, after - before)
    at = on_arrival_grid(at)
    order = np.lexsort((controls.seq, at))
    return controls.but(at=at).take(order)
