"""Undo and redo as a list of named steps, each with the session before and after.

Sessions share all parts that an edit leaves alone, so a step costs what it changed. What is only looked at or listened
to - the chosen take, the level, the port of a device - stays as it is whichever way the history goes.
"""

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
        """The history after an edit. An edit that changes nothing, or only what is looked at, adds no step."""
        if session == self.now:
            return self
        if as_looked_at(session, self.now) == self.now:
            return replace(self, now=session)
        last = self.past[-1] if self.past else None
        if gesture is not None and last is not None and last.gesture == gesture and not self.future:
            return History(session, (*self.past[:-1], replace(last, after=session)))
        return History(session, (*self.past, Step(name, self.now, session, gesture)))

    def undo(self) -> History:
        if not self.past:
            return self
        step = self.past[-1]
        return History(as_looked_at(step.before, self.now), self.past[:-1], (step, *self.future))

    def redo(self) -> History:
        if not self.future:
            return self
        step = self.future[0]
        return History(as_looked_at(step.after, self.now), (*self.past, step), self.future[1:])

    @property
    def undo_name(self) -> str | None:
        """Name of the step that undo would take back."""
        return self.past[-1].name if self.past else None

    @property
    def redo_name(self) -> str | None:
        return self.future[0].name if self.future else None


def as_looked_at(session: Session, now: Session) -> Session:
    """A session with what is looked at and listened to as it is now.

    The chosen take stays chosen while it is there; a step that brings or takes away takes chooses as it did before.
    """
    view = now.display
    takes = {take.ident for take in session.takes}
    if view.current not in takes or takes - {take.ident for take in now.takes}:
        view = replace(view, current=session.display.current)
    ports = {one.ident: one.port for one in now.inputs}
    inputs = tuple(replace(one, port=ports.get(one.ident, one.port)) for one in session.inputs)
    sound = replace(session.sound, level=now.sound.level)
    found = replace(session, display=view, inputs=inputs, sound=sound)
    return session if found == session else found
