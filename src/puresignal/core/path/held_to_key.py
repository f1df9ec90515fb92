"""Key: the notes of pitched tracks are held to a key with the least movement; drums keep theirs."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from puresignal.core.harmony import key_estimation, keys
from puresignal.core.midi.events import Controls, Notes
from puresignal.core.path.context import Context
from puresignal.core.path.live import LiveStage
from puresignal.core.path.scoped import Scoped
from puresignal.core.path.setting import Scope, setting
from puresignal.core.path.stage import Result
from puresignal.core.path.stage_description import Reason, Stage, Switch
from puresignal.core.path.tally import Action, NoteField, entries
from puresignal.translation import mark

HELD = Reason(mark("held to the key"), mark("Notes moved to the nearest one of the key."))
AUTO = "auto"
DRUM_CHANNEL = 10


@dataclass(frozen=True)
class HeldToKey:
    """Holds pitched notes to a key."""

    on: bool = setting(False, mark("hold notes to a key"))
    key: str = setting(
        AUTO, mark("The key; auto takes the likeliest that moves few notes."), label=mark("Key"),
        choices=(AUTO, *keys.NAMES),
    )  # fmt: skip
    tracks: Scoped = setting(
        Scoped(1.0), mark("1 for tracks that are held to the key, 0 for those that keep their notes."),
        high=1.0, scope=Scope.SESSION | Scope.TRACK | Scope.NOTES,
    )  # fmt: skip

    stage: ClassVar[Stage] = Stage(
        "key", word=mark("key"), title=mark("Hold to a key"),
        tip=mark("Moves notes of pitched tracks that are outside the key to the nearest one inside."),
        switch=Switch(), reasons=(HELD,), causal=False, on_timeline=True,
    )  # fmt: skip

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        if not self.on:
            return Result(notes, controls)
        pitched = (notes.articulation < 0) & (notes.channel != DRUM_CHANNEL)
        pitched &= self.tracks.for_notes(notes, context) >= 0.5
        if not pitched.any():
            return Result(notes, controls)
        key = self.key if self.key != AUTO else chosen(notes, pitched)
        note = notes.note.astype(np.int64)
        for track in np.unique(notes.track[pitched]).tolist():
            rows = np.flatnonzero(pitched & (notes.track == track))
            # The notes of a chord one after another, from below: each line keeps its shape.
            rows = rows[np.lexsort((notes.note[rows], notes.start[rows]))]
            note[rows] = np.clip(key_estimation.snapped(notes.note[rows].astype(float), key), 0, 127)
        moved = note != notes.note
        written = entries(
            self.stage, Action.CHANGED, HELD, notes.origin[moved], field=NoteField.NOTE, branch=notes.branch[moved],
            before=notes.note[moved].astype(float), after=note[moved].astype(float),
        )  # fmt: skip
        return Result(notes.but(note=note), controls, (written,))

    def live(self, context: Context) -> LiveStage:
        return LiveStage()


def ranked(notes: Notes, most: int = 4) -> tuple[tuple[str, int], ...]:
    """The likeliest keys of the pitched notes, likeliest first, each with how many notes it would move."""
    pitched = (notes.articulation < 0) & (notes.channel != DRUM_CHANNEL)
    if not pitched.any():
        return ()
    long = np.nan_to_num(notes.end - notes.start, nan=0.5)[pitched]
    found = key_estimation.fits(notes.note[pitched].astype(float), np.maximum(long, 0.05), most)
    return tuple((keys.named(*key_estimation.parse(fit.key)), fit.moved) for fit in found)


def chosen(notes: Notes, pitched: np.ndarray) -> str:
    """The key that notes are in: likely, and few of them would move."""
    long = np.nan_to_num(notes.end - notes.start, nan=0.5)[pitched]
    return key_estimation.best(key_estimation.fits(notes.note[pitched].astype(float), np.maximum(long, 0.05))).key
