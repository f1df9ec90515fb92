"""Undo and redo as a list of named steps, each with the session before and after."""

from __future__ import annotations

from dataclasses import dataclass, replace

from puresignal.core.session.session import Session


@dataclass(frozen=True)
class Step:
    """One step. Edits with the same `gesture` (a drag, a slider) merge into one step."""

    name: str
    before: Session
    after: Session
    gesture: str | None = None


@dataclass(frozen=True)
class History:
    """The session now, and the steps that led to it."""

    now: Session
    past: tuple[Step, ...] = ()
    future: tuple[Step, ...] = ()

    def do(self, name: str, session: Session, gesture: str | None = None) -> History:
        """The history after an edit. An edit that changes nothing adds no step."""
        if session == self.now:
            return self
        last = self.past[-1] if self.past else None
        if gesture is not None and last is not None and last.gesture == gesture and not self.future:
            return History(session, (*self.past[:-1], replace(last, after=session)))
        return History(session, (*self.past, Step(name, self.now, session, gesture)))

    def undo(self) -> History:
        if not self.past:
            return self
        step = self.past[-1]
        return History(step.before, self.past[:-1], (step, *self.future))

    def redo(self) -> History:
        if not self.future:
            return self
        step = self.future[0]
        return History(step.after, (*self.past, step), self.future[1:])

    @property
    def undo_name(self) -> str | None:
        """Name of the step that undo would take back."""
        return self.past[-1].name if self.past else None

    @property
    def redo_name(self) -> str | None:
        return self.future[0].name if self.future else None
