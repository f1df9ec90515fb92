"""Changes in a session since it was saved: the steps between then and now."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import groupby

from puresignal.core.session.history import History, Step, as_looked_at
from puresignal.core.session.session import Session


@dataclass(frozen=True)
class Changes:
    """Steps as (name, times in a row), the oldest first.

    made    since then
    undone  made before then, and taken back since
    """

    made: tuple[tuple[str, int], ...] = ()
    undone: tuple[tuple[str, int], ...] = ()


def since(saved: Session | None, history: History) -> Changes:
    """The steps since a session was saved. saved: None if it never was, or was recovered: then all steps"""
    if saved is None:
        return Changes(_names(history.past))
    if _same(history.now, saved):
        return Changes()
    for i in range(len(history.past) - 1, -1, -1):
        if _same(history.past[i].before, saved):
            return Changes(_names(history.past[i:]))
    for i, step in enumerate(history.future):
        if _same(step.after, saved):
            return Changes((), _names(history.future[: i + 1]))
    # It was undone and then changed otherwise: what was saved is in no step any more.
    return Changes(_names(history.past))


def _same(session: Session, saved: Session) -> bool:
    return as_looked_at(session, saved) == saved


def _names(steps: tuple[Step, ...]) -> tuple[tuple[str, int], ...]:
    return tuple((name, len(list(rows))) for name, rows in groupby(step.name for step in steps))
