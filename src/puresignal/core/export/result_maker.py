"""The results that the window shows of a session, made from values alone, so that a process beside it can make them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from puresignal.core.export.session_result import SessionResult, SeveralTakes, arranged_takes
from puresignal.core.midi.events import Take
from puresignal.core.session import playing_order
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import SOUND, TakeRef

Part = tuple[TakeRef, SeveralTakes]
"""A result, with the take of it that stands out."""


@dataclass(frozen=True, eq=False)
class Wanted:
    """A request for results.

    session    with the takes that are being recorded
    takes      materials by ident
    open_ones  the takes that are being recorded
    is_alone   whether the chosen take alone is heard
    """

    session: Session
    takes: Mapping[str, Take]
    open_ones: tuple[TakeRef, ...] = ()
    is_alone: bool = False


@dataclass(frozen=True, eq=False)
class Made:
    """The results.

    own    of the chosen take, in its own time
    whole  of the takes that are in
    heard  what is heard: all that are in, in playing order where that is looked at, or the chosen take alone
    """

    own: Part | None = None
    whole: Part | None = None
    heard: Part | None = None


class ResultMaker:
    """Makes one result after the other and keeps what later ones can use. Not for two threads at a time."""

    def __init__(self) -> None:
        self._results = SessionResult()
        self._ordered: tuple[object, SeveralTakes] | None = None

    def made(self, wanted: Wanted) -> Made:
        """The results of a session."""
        session, takes = wanted.session, wanted.takes
        self._results.forget_others({ref.ident for ref in session.takes})
        current = session.take() or (wanted.open_ones[-1] if wanted.open_ones else None)
        own = None if current is None else (current, self._results.alone(session, current, takes))
        those_in = tuple(one for one in session.takes if one.is_in)
        whole = heard = None
        notes = [one for one in those_in if one.kind != SOUND]
        if notes:
            first = current if current is not None and current.is_in else notes[0]
            whole = heard = first, self._results.together(session, those_in, takes)
        if whole is not None and session.display.in_order and not wanted.open_ones:
            heard = whole[0], self.in_order(session, takes, whole[1])
        if current is not None and wanted.is_alone:
            others = tuple(one for one in wanted.open_ones if one.ident != current.ident)
            heard = current, self._results.together(session, (current, *others), takes)
        return Made(own, whole, heard)

    def in_order(self, session: Session, takes: Mapping[str, Take], whole: SeveralTakes) -> SeveralTakes:
        """The result in playing order; the same value as long as nothing of it changes."""
        if playing_order.is_plain(session):
            return whole
        key = whole.outcome, session.sections, session.order
        if self._ordered is None or self._ordered[0] != key:
            self._ordered = key, arranged_takes(session, whole, takes)
        return self._ordered[1]


def differ_in_notes_alone(one: Session, other: Session) -> bool:
    """Whether two sessions have the same takes in the same places, so that what is shown of one fits the other.

    Settings of the path, decisions and edits of notes, and syllables may differ
    """
    if len(one.takes) != len(other.takes):
        return False
    for mine, theirs in zip(one.takes, other.takes, strict=True):
        if mine is not theirs:
            own = {"verdicts": theirs.verdicts, "edits": theirs.edits, "lyrics": theirs.lyrics}
            if replace(mine, **own) != theirs:  # type: ignore[arg-type]
                return False
    return replace(one, takes=other.takes, path=other.path) == other
