"""Selections under a name: a sentence, which goes on choosing, or the notes that were chosen once."""

from __future__ import annotations

from dataclasses import replace

from puresignal.core.session.arrangement import NamedSelection
from puresignal.core.session.session import Session


def find(session: Session, name: str) -> NamedSelection | None:
    """A selection by its name, or None."""
    return next((one for one in session.selections if one.name == name), None)


def named(session: Session, like: str) -> str:
    """A name that no selection has: this one, or this one with a number."""
    taken = {one.name for one in session.selections}
    return like if like not in taken else next(f"{like} {n}" for n in range(2, 10_000) if f"{like} {n}" not in taken)


def with_selection(session: Session, one: NamedSelection) -> Session:
    """With a selection, in place of another of its name."""
    if find(session, one.name) is None:
        return replace(session, selections=(*session.selections, one))
    return replace(session, selections=tuple(one if s.name == one.name else s for s in session.selections))


def without_selection(session: Session, name: str) -> Session:
    """Without a selection; settings that were made for it keep their notes."""
    return replace(session, selections=tuple(one for one in session.selections if one.name != name))
