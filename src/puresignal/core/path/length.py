"""Length: notes of one length, at least so long, up to the next one, or one at a time."""

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
from puresignal.translation import mark

LONGER, SHORTER = Reason(mark("longer")), Reason(mark("shorter"))
CHORD_SECONDS = 0.03
"""Seconds within which notes begin together: none of them ends the other."""
SHORTEST = 0.001
_FOR = Scope.SESSION | Scope.TRACK | Scope.ARTICULATION | Scope.NOTES


@dataclass(frozen=True)
class Length:
    """How long notes sound."""

    on: bool = setting(False, mark("set how long notes sound"))
    fixed_ms: Scoped = setting(
        Scoped(0.0), mark("Every note as long as this; 0: as played."), label=mark("Fixed"), unit="ms", high=10_000.0,
        reach=1000.0, step=5.0, scope=_FOR,
    )  # fmt: skip
    least_ms: Scoped = setting(
        Scoped(0.0), mark("No note is shorter than this."), label=mark("Minimum"), unit="ms", high=10_000.0,
        reach=500.0, step=5.0, scope=_FOR,
    )  # fmt: skip
    legato: Scoped = setting(
        Scoped(0.0), mark("How much of the way to the next note of their track notes are held."), label=mark("Legato"),
        unit="%", step=0.01, scope=_FOR,
    )  # fmt: skip
    voices: Scoped = setting(
        Scoped(0.0), mark("1: an instrument of one voice, where each note ends the one before; 0: as played."),
        label=mark("One voice"), high=1.0, scope=_FOR,
    )  # fmt: skip
    gap_ms: Scoped = setting(
        Scoped(0.0), mark("Silence before the next note where legato or one voice ends a note there."),
        label=mark("Gap"), unit="ms", high=500.0, reach=100.0, scope=_FOR,
    )  # fmt: skip

    stage: ClassVar[Stage] = Stage(
        "length", word=mark("length"), title=mark("Set lengths"), tip=mark("Sets how long notes sound."),
        switch=Switch(), reasons=(LONGER, SHORTER), causal=False, on_timeline=True,
    )  # fmt: skip

    def apply(self, notes: Notes, controls: Controls, context: Context) -> Result:
        if not self.on or not len(notes):
            return Result(notes, controls)
        fixed, least, legato, voices, gap = (
            one.for_notes(notes, context)
            for one in (self.fixed_ms, self.least_ms, self.legato, self.voices, self.gap_ms)
        )
        following = _following(notes)
        until = np.where(np.isfinite(following), following - gap / 1000, np.inf)
        end = np.where(fixed > 0, notes.start + fixed / 1000, notes.end)
        held = np.isfinite(until) & ~np.isnan(end) & (legato > 0)
        end = np.where(held, end + legato * (np.where(held, until, 0.0) - np.nan_to_num(end)), end)
        end = np.where(least > 0, np.fmax(end, notes.start + least / 1000), end)
        end = np.where((voices >= 0.5) & np.isfinite(until), np.fmin(end, until), end)
        lasts = np.isnan(end) | (end >= notes.start + SHORTEST)
        end = np.where(lasts, end, np.maximum(notes.start + SHORTEST, np.minimum(notes.end, notes.start + SHORTEST)))
        end = np.where(np.isnan(end), np.nan, on_arrival_grid(np.nan_to_num(end)))
        before = np.nan_to_num(notes.end, nan=np.inf)
        after = np.nan_to_num(end, nan=np.inf)
        changed = after != before
        written = entries(
            self.stage, Action.CHANGED, np.where(after[changed] > before[changed], int(LONGER), int(SHORTER)),
            notes.origin[changed], field=NoteField.END, branch=notes.branch[changed], before=notes.end[changed],
            after=end[changed],
        )  # fmt: skip
        made = notes.but(end=end, end_event=np.where(changed, NO_EVENT, notes.end_event))
        return Result(made, controls, (written,))

    def live(self, context: Context) -> LiveStage:
        return LiveStage()


def _following(notes: Notes) -> np.ndarray:
    """(n,) when the next note after each one's chord begins on its track, or on its drum; inf for the last."""
    known = notes.articulation >= 0
    voice = np.where(known, 10_000 + notes.articulation.astype(np.int64), notes.track.astype(np.int64))
    voice = voice * 32 + notes.port
    _, voice = np.unique(voice, return_inverse=True)
    # One rising line of all voices, one behind the other, farther apart than any of them is long.
    begin = float(notes.start.min(initial=0.0))
    apart = float(notes.start.max(initial=0.0)) - begin + 1.0
    at = voice * apart + notes.start - begin
    order = np.argsort(at, kind="stable")
    line = at[order]
    place = np.searchsorted(line, line + CHORD_SECONDS, "right")
    inside = np.minimum(place, len(line) - 1)
    same = (place < len(line)) & (voice[order][inside] == voice[order])
    found = np.where(same, notes.start[order][inside], np.inf)
    result = np.empty(len(order))
    result[order] = found
    return result
