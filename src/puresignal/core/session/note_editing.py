"""Editing notes: of played and imported takes by edits laid over them, of drawn ones in what was drawn."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from puresignal.core.path.note_edits import Edit
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
            session = edits.with_changed(session, ident, drawn=_redrawn(ref, origins, edit))
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
            session = edits.with_changed(session, ident, drawn=kept)
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
    return edits.with_changed(session, found.ident, drawn=(*found.drawn, *added))


def _is_like(one: TakeRef, like: TakeRef | None) -> bool:
    if like is None or one.ident == like.ident:
        return True
    return (one.source, one.own, one.channels) == (like.source, like.own, like.channels)


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
