"""Length: notes of one length, at least so long, up to the next one, or one at a time, gliding from one to the next."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from puresignal.core.midi.events import NO_EVENT, Controls, Notes
from puresignal.core.midi.messages import BEND
from puresignal.core.midi.tempo_map import on_arrival_grid
from puresignal.core.path.context import Context
from puresignal.core.path.glide import bends
from puresignal.core.path.live import LiveStage
from puresignal.core.path.scoped import Scoped
from puresignal.core.path.setting import Scope, setting
from puresignal.core.path.stage import Result
from puresignal.core.path.stage_description import Reason, Stage, Switch
from puresignal.core.path.tally import Action, Entries, NoteField, entries
from puresignal.translation import mark

LONGER, SHORTER = Reason(mark("longer")), Reason(mark("shorter"))
GLIDES = Reason(mark("glides"), mark("Notes that slide from the one before them, by bend."))
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

    glide_ms: Scoped = setting(
        Scoped(0.0), mark("Time in which a note of one voice slides from the one before, where they are tied."),
        label=mark("Glide"), unit="ms", high=1000.0, reach=300.0, scope=_FOR, later=True,
    )  # fmt: skip
    bend_range: Scoped = setting(
        Scoped(2.0), mark("Semitones that a whole bend is at the receiver; wider steps begin their glide there."),
        label=mark("Bend range"), low=1.0, high=48.0, reach=24.0, scope=_FOR, later=True,
    )  # fmt: skip

    stage: ClassVar[Stage] = Stage(
        "length", word=mark("length"), title=mark("Set lengths"), tip=mark("Sets how long notes sound."),
        switch=Switch(), reasons=(LONGER, SHORTER, GLIDES), causal=False, on_timeline=True,
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
        controls, glided = self._glides(notes, controls, context, (voices >= 0.5) & (notes.articulation < 0), following)
        return Result(made, controls, (written, glided))

    def _glides(
        self, notes: Notes, controls: Controls, context: Context, single: np.ndarray, following: np.ndarray
    ) -> tuple[Controls, Entries]:
        """Controls with the bends of notes that glide from one that was held until they began.

        single     (n,) notes of instruments of one voice
        following  (n,) seconds at which the next note of the voice begins
        """
        glide = self.glide_ms.for_notes(notes, context)
        if not (single & (glide > 0)).any():
            return controls, Entries.empty()
        voice = notes.track.astype(np.int64) * 32 + notes.port
        order = np.lexsort((notes.seq, notes.start, voice))
        order = order[single[order]]
        now, last = order[1:], order[:-1]
        held = np.nan_to_num(notes.end[last], nan=np.inf) >= notes.start[now] - CHORD_SECONDS
        tied = (voice[now] == voice[last]) & held & (notes.start[now] > notes.start[last])
        tied &= (glide[now] > 0) & (notes.note[now] != notes.note[last])
        rows, origin = now[tied], notes.note[last[tied]]
        others = np.setdiff1d(order[glide[order] > 0], rows)
        made = bends(
            notes, rows, origin, following[rows], glide[rows] / 1000,
            self.bend_range.for_notes(notes, context)[rows], others,
        )  # fmt: skip
        # What the player bent while a note glides would fight with it.
        bent = (controls.kind == BEND) & np.isin(controls.track, np.unique(notes.track[rows]))
        joined = Controls.join([controls.take(~bent), made])
        written = entries(
            self.stage, Action.CHANGED, GLIDES, notes.origin[rows], field=NoteField.NONE, branch=notes.branch[rows],
        )  # fmt: skip
        return joined.take(np.argsort(joined.at, kind="stable")), written

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
