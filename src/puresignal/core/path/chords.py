"""Chords: notes that begin together are strummed, turned over, moved by octaves, and graded in loudness."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from puresignal.core.midi.events import NO_EVENT, Controls, Notes
from puresignal.core.midi.tempo_map import on_arrival_grid
from puresignal.core.path.context import Context
from puresignal.core.path.live import LiveStage
from puresignal.core.path.scoped import Scoped
from puresignal.core.path.setting import Scope, setting
from puresignal.core.path.stage import Result
from puresignal.core.path.stage_description import Reason, Stage, Switch
from puresignal.core.path.tally import Action, NoteField, entries
from puresignal.core.timing.meant_together import together
from puresignal.translation import mark

STRUMMED, GRADED, REVOICED = Reason(mark("strummed")), Reason(mark("graded")), Reason(mark("revoiced"))
DRUM_CHANNEL = 10
_FOR = Scope.SESSION | Scope.TRACK | Scope.NOTES


@dataclass(frozen=True)
class Chords:
    """Shapes the chords of pitched tracks."""

    on: bool = setting(False, mark("shape chords"))
    tolerance_ms: float = setting(
        30.0,
        mark("Notes of a track that begin within this are one chord."),
        label=mark("Within"),
        unit="ms",
        high=120.0,
    )
    strum_ms: Scoped = setting(
        Scoped(0.0), mark("Time from note to note, from below; negative from above."), label=mark("Strum"), unit="ms",
        low=-100.0, high=100.0, scope=_FOR,
    )  # fmt: skip
    slope: Scoped = setting(
        Scoped(0.0), mark("By how much each note is louder than the one below it; negative softer."),
        label=mark("Loudness slope"), low=-40.0, high=40.0, scope=_FOR,
    )  # fmt: skip
    inversion: Scoped = setting(
        Scoped(0.0), mark("So many notes from below go up an octave; negative from above, down."),
        label=mark("Inversion"), low=-4.0, high=4.0, scope=_FOR,
    )  # fmt: skip
    octaves: Scoped = setting(
        Scoped(0.0), mark("Octaves by which chords are moved."), label=mark("Octaves"), low=-4.0, high=4.0, scope=_FOR
    )

    stage: ClassVar[Stage] = Stage(
        "chords", word=mark("chords"), title=mark("Shape chords"),
        tip=mark("Strums chords, turns them over, and grades their loudness."), switch=Switch(),
        reasons=(STRUMMED, GRADED, REVOICED), causal=False, on_timeline=True,
    )  # fmt: skip

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        pitched = (notes.articulation < 0) & (notes.channel != DRUM_CHANNEL)
        if not self.on or not pitched.any():
            return Result(notes, controls)
        track = np.where(pitched, notes.track.astype(np.int64), -1)
        key = track * 4096 + notes.channel.astype(np.int64) * 128 + notes.note
        group = together(notes.start, key, notes.velocity, track, self.tolerance_ms / 1000).group
        rank, size = _ranks(group, notes.note)
        chord = pitched & (size > 1)
        strum, slope, turned, octaves = (
            one.for_notes(notes, context) for one in (self.strum_ms, self.slope, self.inversion, self.octaves)
        )
        # From below, or from above where it is negative; the first note keeps its time.
        place = np.where(strum >= 0, rank, size - 1 - rank)
        late = np.where(chord, place * np.abs(strum) / 1000, 0.0)
        velocity = np.where(chord, np.clip(notes.velocity + slope * (rank - (size - 1) / 2), 1, 127), notes.velocity)
        up = np.where(turned > 0, 12 * (rank < np.round(turned)), -12 * (size - 1 - rank < np.round(-turned)))
        note = notes.note.astype(np.int64) + np.where(chord, up + 12 * np.round(octaves).astype(np.int64), 0)
        note = np.where((note < 0) | (note > 127), notes.note, note)
        start = on_arrival_grid(notes.start + late)
        end = np.where(np.isnan(notes.end), np.nan, on_arrival_grid(np.nan_to_num(np.maximum(notes.end, start + 0.01))))
        return self._result(notes, controls, start, np.where(late > 0, end, notes.end), velocity, note)

    def _result(
        self,
        notes: Notes,
        controls: Controls,
        start: np.ndarray,
        end: np.ndarray,
        velocity: np.ndarray,
        note: np.ndarray,
    ) -> Result:
        later, louder, other = start != notes.start, velocity != notes.velocity, note != notes.note
        written = tuple(
            entries(
                self.stage, Action.CHANGED, reason, notes.origin[which], field=of, branch=notes.branch[which],
                before=before[which].astype(float), after=after[which].astype(float),
            )
            for which, reason, of, before, after in (
                (later, STRUMMED, NoteField.START, notes.start, start),
                (louder, GRADED, NoteField.VELOCITY, notes.velocity, velocity),
                (other, REVOICED, NoteField.NOTE, notes.note, note),
            )
        )  # fmt: skip
        made = notes.but(
            start=start, end=end, velocity=velocity, note=note, end_event=np.where(later, NO_EVENT, notes.end_event)
        )
        return Result(made.take(np.lexsort((made.seq, made.start))), controls, written)

    def live(self, context: Context) -> LiveStage:
        return LiveStage()


def _ranks(group: np.ndarray, note: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(n,) place of each note in its group, from below, and (n,) how many the group has."""
    order = np.lexsort((note, group))
    first = np.r_[True, np.diff(group[order]) != 0]
    begin = np.flatnonzero(first)
    number = np.cumsum(first) - 1
    rank, size = np.empty(len(group), np.int64), np.empty(len(group), np.int64)
    rank[order] = np.arange(len(order)) - begin[number]
    size[order] = np.bincount(number)[number]
    return rank, size
