"""Editing notes: of played and imported takes by edits laid over them, of drawn ones in what was drawn."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, fields, is_dataclass, replace
from typing import Any

import numpy as np

from puresignal.core.path.cleaning_path import CleaningPath
from puresignal.core.path.context import EVENT_BITS
from puresignal.core.path.note_edits import Edit, set_length
from puresignal.core.path.scoped import Scoped
from puresignal.core.path.several_takes import BEATS
from puresignal.core.path.verdicts import Verdict
from puresignal.core.session import session as edits
from puresignal.core.session.materials import numbers_of_drawn
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import DRAWN, DrawnNote, TakeRef

SHORTEST_BEATS = 1 / 128


def with_edit(session: Session, whose: Mapping[str, np.ndarray], edit: Edit | None) -> Session:
    """Notes with an edit on top of what was done to them, or without all of theirs (None).

    whose  (n,) origins by the ident of their take, as events of it
    """
    for ident, origins in whose.items():
        ref = session.take(ident)
        if ref is None:
            continue
        if ref.kind == DRAWN and edit is not None:
            session = _with_all_drawn(session, ref, _redrawn(ref, origins, edit))
        elif ref.kind != DRAWN:
            session = edits.with_changed(session, ident, edits=ref.edits.with_edit(origins, edit))
    return session


def erased(session: Session, whose: Mapping[str, np.ndarray]) -> Session:
    """Without notes: drawn ones are gone, all others are decided to be removed, and can be put back."""
    for ident, origins in whose.items():
        ref = session.take(ident)
        if ref is not None and ref.kind == DRAWN:
            gone = set(numbers_of_drawn(ref)[origins].tolist())
            kept = tuple(one for one in ref.drawn if one.number not in gone)
            session = _with_all_drawn(session, ref, kept)
        elif ref is not None:
            session = edits.with_verdicts(session, ident, origins, Verdict(keep=False))
    return session


def with_drawn(session: Session, like: TakeRef | None, notes: Sequence[DrawnNote], name: str) -> Session:
    """With drawn notes, in the drawn take that goes with another: of its kit, on its tracks. One is made if need be.

    like   the take whose tracks the notes go to, None for tracks of their own
    notes  by beats from bar 1; their numbers are given anew
    name   of a drawn take that is made
    """
    if not notes:
        return session
    found = next((one for one in session.takes if one.kind == DRAWN and one.is_in and _is_like(one, like)), None)
    if found is None:
        used = {one.ident for one in session.takes}
        ident = next(f"drawn{n}" for n in range(1, 100_000) if f"drawn{n}" not in used)
        current = session.current
        session = edits.with_take(session, TakeRef(ident, name, kind=DRAWN, follows=BEATS))
        if like is not None:
            tracks = {"own": like.own, "channels": like.channels}
            session = edits.with_changed(session, ident, source=like.source, input=like.input, **tracks)
        # What the player looks at stays.
        session = edits.with_current(session, current) if current else session
        found = session.take(ident)
        assert found is not None
    number = max((one.number for one in found.drawn), default=0)
    added = tuple(replace(one, number=number + i, beat=one.beat - found.beat) for i, one in enumerate(notes, 1))
    return _with_all_drawn(session, found, (*found.drawn, *added))


@dataclass(frozen=True)
class Sounding:
    """A note as it leaves: the take and event it came from, quarter notes from bar 1, and how its kit would send it."""

    ident: str
    origin: int
    begin: float
    end: float
    note: int
    channel: int
    velocity: float
    track: int


def split(session: Session, notes: Sequence[Sounding], beat: float, name: str) -> Session:
    """With notes in two: each that sounds at a beat from bar 1 is parted there, all others in their middle.

    name  of a drawn take that is made for the second parts
    """
    for one in notes:
        inside = one.begin + SHORTEST_BEATS < beat < one.end - SHORTEST_BEATS
        at = beat if inside else (one.begin + one.end) / 2
        if at - one.begin < SHORTEST_BEATS or one.end - at < SHORTEST_BEATS:
            continue
        session = with_edit(session, {one.ident: np.array([one.origin])}, set_length(at - one.begin))
        rest = DrawnNote(0, at, one.end - at, one.note, one.velocity, one.channel)
        session = with_drawn(session, session.take(one.ident), [rest], name)
    return session


def joined(session: Session, notes: Sequence[Sounding]) -> Session:
    """With notes made one: those of one pitch on one track, or where no two are of one pitch, all of a track. The first
    sounds on to the end of the last."""
    by_pitch: dict[tuple[int, int], list[Sounding]] = {}
    for one in sorted(notes, key=lambda one: one.begin):
        by_pitch.setdefault((one.track, one.note), []).append(one)
    groups = [group for group in by_pitch.values() if len(group) > 1]
    if not groups:
        by_track: dict[int, list[Sounding]] = {}
        for one in sorted(notes, key=lambda one: one.begin):
            by_track.setdefault(one.track, []).append(one)
        groups = [group for group in by_track.values() if len(group) > 1]
    for first, *others in groups:
        # Before the numbers of drawn notes move.
        for ident in {one.ident for one in others}:
            gone = np.array([one.origin for one in others if one.ident == ident])
            if ident == first.ident and session.take(ident).kind == DRAWN:  # type: ignore[union-attr]
                continue
            session = erased(session, {ident: np.sort(gone)})
        end = max(one.end for one in (first, *others))
        session = with_edit(session, {first.ident: np.array([first.origin])}, set_length(end - first.begin))
        own = [one.origin for one in others if one.ident == first.ident]
        if own and session.take(first.ident).kind == DRAWN:  # type: ignore[union-attr]
            session = erased(session, {first.ident: np.sort(np.array(own))})
    return session


def _is_like(one: TakeRef, like: TakeRef | None) -> bool:
    if like is None or one.ident == like.ident:
        return True
    return (one.source, one.own, one.channels) == (like.source, like.own, like.channels)


def _with_all_drawn(session: Session, ref: TakeRef, drawn: tuple[DrawnNote, ...]) -> Session:
    """A drawn take with other notes. Selections and settings count by its events: they follow their notes."""
    before, after = numbers_of_drawn(ref), numbers_of_drawn(replace(ref, drawn=drawn))
    found, first = np.unique(after, return_index=True)
    place = dict(zip(found.tolist(), first.tolist(), strict=True))

    def moved(known: int) -> int | None:
        if known >> EVENT_BITS != ref.number:
            return known
        new = place.get(int(before[known & (1 << EVENT_BITS) - 1]))
        return None if new is None else ref.number << EVENT_BITS | new

    kept = tuple(
        replace(one, notes=tuple(sorted(new for new in map(moved, one.notes) if new is not None)))
        for one in session.selections
    )
    session = replace(session, selections=kept, path=_with_moved_notes(session.path, moved))
    return edits.with_changed(session, ref.ident, drawn=drawn)


def _with_moved_notes(path: CleaningPath, moved: Callable[[int], int | None]) -> CleaningPath:
    """A path whose settings for chosen notes follow them."""
    changed: dict[str, Any] = {}
    for one in fields(path):
        stage = getattr(path, one.name)
        scoped = {
            part.name: value.with_moved_notes(moved)
            for part in (fields(stage) if is_dataclass(stage) else ())
            if isinstance(value := getattr(stage, part.name), Scoped) and value.notes
        }
        if scoped:
            changed[one.name] = replace(stage, **scoped)
    return replace(path, **changed) if changed else path


def _redrawn(ref: TakeRef, origins: np.ndarray, edit: Edit) -> tuple[DrawnNote, ...]:
    """Drawn notes after an edit of some. Seconds are taken for beats at 120 BPM: nudges are small."""
    chosen = set(numbers_of_drawn(ref)[origins].tolist())
    note_of = {}
    if edit.articulation and ref.source is not None:
        note_of = {pad.articulation: pad.note for pad in ref.source.pads}
    return tuple(
        replace(
            one,
            beat=one.beat + edit.beats + 2.0 * edit.seconds,
            beats=max(SHORTEST_BEATS, one.beats * edit.stretch + edit.longer),
            note=min(127, max(0, note_of.get(edit.articulation, one.note) + edit.up)),
            velocity=min(127.0, max(1.0, one.velocity * edit.factor + edit.louder)),
        )
        if one.number in chosen
        else one
        for one in ref.drawn
    )
