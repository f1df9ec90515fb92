"""Generated takes: their notes follow from their recipe, and from the notes of the take that they listen to."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from puresignal.core.errors import BadFileError
from puresignal.core.generators import making
from puresignal.core.generators.made_notes import MadeNotes
from puresignal.core.generators.recipe import Recipe, from_text, to_text
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi import messages
from puresignal.core.midi.events import Take
from puresignal.core.session import session as edits
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import DRAWN, GENERATED, SOUND, DrawnNote, TakeRef
from puresignal.core.timing.session_time import Timeline

Memo = dict[str, tuple[object, tuple[DrawnNote, ...]]]
"""By ident of a generated take: all that its notes follow from, and the notes."""


def refreshed(session: Session, takes: Mapping[str, Take], memo: Memo | None = None) -> Session:
    """The session with the notes of all generated takes as their recipes say. Recipes that listen to themselves, or to
    a take that is gone, make nothing.

    takes  materials by ident; memo: what is known from the last time, changed here
    """
    if not any(ref.kind == GENERATED for ref in session.takes):
        return session
    memo = {} if memo is None else memo
    timeline = session.timeline or Timeline()
    done: dict[str, TakeRef] = {}

    def of(ident: str, above: frozenset[str]) -> TakeRef | None:
        if ident in done:
            return done[ident]
        ref = session.take(ident)
        if ref is None or ref.kind != GENERATED:
            return ref
        if ident in above:
            return None
        try:
            recipe = from_text(ref.recipe, ref.name)
        except BadFileError:
            done[ident] = replace(ref, drawn=())
            return done[ident]
        source = of(recipe.source, above | {ident}) if recipe.source else None
        beats_a_bar = timeline.meter_at(timeline.beats_to_bar(max(0.0, ref.beat))[0]).beats
        told = (
            recipe, beats_a_bar, session.key, ref.beat,
            None if source is None else (source.drawn, source.material, source.beat, source.begin, source.end,
                                         source.follows, source.grid, timeline),
        )  # fmt: skip
        known = memo.get(ident)
        if known is None or known[0] != told:
            heard = None if source is None else _notes_of(source, takes, timeline, ref.beat)
            found = making.made(recipe, beats_a_bar, session.key or "", heard)
            memo[ident] = known = (told, _drawn(found))
        done[ident] = ref if ref.drawn == known[1] else replace(ref, drawn=known[1])
        return done[ident]

    for ref in session.takes:
        if ref.kind == GENERATED:
            of(ref.ident, frozenset())
    if all(done.get(ref.ident, ref) is ref for ref in session.takes):
        return session
    return replace(session, takes=tuple(done.get(ref.ident, ref) for ref in session.takes))


def _drawn(notes: MadeNotes) -> tuple[DrawnNote, ...]:
    columns = (notes.beat, notes.long, notes.note, notes.velocity, notes.channel)
    rows = zip(*(column.tolist() for column in columns), strict=True)
    return tuple(DrawnNote(i, *row) for i, row in enumerate(rows, 1))


def _notes_of(ref: TakeRef, takes: Mapping[str, Take], timeline: Timeline, beat: float) -> MadeNotes | None:
    """The notes of a take in beats from another beat on."""
    if ref.kind in (GENERATED, DRAWN):
        rows = np.array([(n.beat + ref.beat - beat, n.beats, n.note, n.velocity) for n in ref.drawn]).reshape(-1, 4)
        keep = rows[:, 0] + rows[:, 1] > 1e-9
        rows = rows[keep]
        # What sounds when it begins counts from there.
        early = np.minimum(rows[:, 0], 0.0)
        return MadeNotes.of(rows[:, 0] - early, rows[:, 1] + early, rows[:, 2], rows[:, 3])
    take = takes.get(ref.material)
    if take is None or ref.kind == SOUND:
        return None
    at, end, note, velocity = _pairs(take)
    inside = np.ones(len(at), bool)
    if ref.begin is not None:
        inside &= at >= ref.begin
    if ref.end is not None:
        inside &= at < ref.end
    at, end, note, velocity = at[inside], end[inside], note[inside], velocity[inside]
    if ref.follows_beats:
        grid = ref.grid or Timeline.from_tempo_map(take.tempo)
        begins, ends = (grid.seconds_to_beats(v) + ref.beat for v in (at, end))
    else:
        zero = float(timeline.beats_to_seconds(np.array([ref.beat]))[0])
        begins, ends = (timeline.seconds_to_beats(v + zero) for v in (at, end))
    found = MadeNotes.of(begins - beat, np.maximum(ends - begins, 1e-3), note, velocity)
    return found.take(found.beat > -1e-6)


def _pairs(take: Take) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Beginnings, ends, notes and velocities of a take's notes, in its seconds."""
    events = take.events
    held: dict[tuple[int, int], int] = {}
    rows: list[list[float]] = []
    for at, status, data1, data2 in zip(
        events.arrived.tolist(), events.status.tolist(), events.data1.tolist(), events.data2.tolist(), strict=True
    ):
        key = status & messages.CHANNEL, data1
        if status & messages.KIND == messages.NOTE_ON and data2:
            held[key] = len(rows)
            rows.append([at, take.length, data1, data2])
        elif status & messages.KIND in (messages.NOTE_OFF, messages.NOTE_ON) and key in held:
            rows[held.pop(key)][1] = at
    table = np.array(rows, float).reshape(-1, 4)
    return table[:, 0], table[:, 1], table[:, 2].astype(np.int64), table[:, 3]


def with_generator(session: Session, recipe: Recipe, name: str, beat: float, kit: NoteMap | None) -> Session:
    """With a new generated take; kit: the map of its drums, for a drum pattern."""
    used = {one.ident for one in session.takes}
    ident = next(f"made{n}" for n in range(1, 100_000) if f"made{n}" not in used)
    ref = TakeRef(ident, name, kit, beat=beat, kind=GENERATED, recipe=to_text(recipe))
    return edits.with_take(session, ref)


def with_recipe(session: Session, ident: str, recipe: Recipe) -> Session:
    """With another recipe for a generated take."""
    return edits.with_changed(session, ident, recipe=to_text(recipe))


def kept(session: Session, ident: str) -> Session:
    """A generated take as drawn notes, which no recipe changes any more."""
    return edits.with_changed(session, ident, kind=DRAWN, recipe="")


def sources(session: Session, ident: str) -> list[TakeRef]:
    """The takes that a generator can listen to without hearing itself."""
    behind = {ident}
    grown = True
    while grown:
        more = {
            ref.ident for ref in session.takes
            if ref.kind == GENERATED and ref.ident not in behind and (_source(ref) or None) in behind
        }  # fmt: skip
        behind |= more
        grown = bool(more)
    return [ref for ref in session.takes if ref.ident not in behind and ref.kind != SOUND]


def _source(ref: TakeRef) -> str:
    try:
        return from_text(ref.recipe, ref.name).source
    except BadFileError:
        return ""
