"""What the window works on: the session with its history, its takes, and what became of the current one."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from puresignal import clean
from puresignal.core import advice, survey
from puresignal.core import session as edits
from puresignal.core.deliver import FileTrack, build_song, file_tracks
from puresignal.core.errors import FileAccessError
from puresignal.core.events import Take
from puresignal.core.history import History
from puresignal.core.notemap import NoteMap
from puresignal.core.path.context import Context
from puresignal.core.path.path import Outcome, make_context, run
from puresignal.core.session import Session, TakeRef
from puresignal.core.takestore import TakeStore
from puresignal.io import files, mapfile, midiwriter, sessionfile


@dataclass(frozen=True, eq=False)
class Shown:
    """The current take with everything that views draw of it. One is made for each change."""

    ref: TakeRef
    take: Take
    context: Context
    outcome: Outcome
    arrivals: tuple[survey.Arrival, ...]
    facts: survey.Facts
    tracks: tuple[FileTrack, ...]
    warnings: tuple[str, ...]


class Workbench(QObject):
    """Holds the history; views read it and send it edits.

    changed    the session is another one; `shown` is up to date
    told       something to say to the player: (text, whether it is a problem)
    """

    changed = Signal()
    told = Signal(str, bool)

    def __init__(self, parent: QObject | None = None):
        super().__init__(parent)
        self.store = TakeStore()
        self.history = History(Session(target=mapfile.shipped("general-midi")))
        self.saved = self.history.now
        self.file: Path | None = None
        self.read_only: str | None = None
        self.shown: Shown | None = None
        self._made_of: object = None

    @property
    def session(self) -> Session:
        return self.history.now

    @property
    def unsaved(self) -> bool:
        return self.session != self.saved

    def do(self, name: str, session: Session, gesture: str | None = None) -> None:
        """An edit, under the name that undo will say."""
        self._turn_to(self.history.do(name, session, gesture))

    def undo(self) -> None:
        self._turn_to(self.history.undo())

    def redo(self) -> None:
        self._turn_to(self.history.redo())

    def add_take(self, take: Take, source: NoteMap | None, name: str) -> None:
        """A new take in the session, looked at."""
        self.store.add(take)
        self.do(name, edits.with_take(self.session, TakeRef(take.ident, take.name, source)))

    def open_midi(self, path: Path) -> None:
        """A MIDI file as a new take, read by the current take's map or General MIDI.

        Raises FileAccessError or BadFileError; the session is then as it was
        """
        take = clean.open_take(path, self.store.free_ident())
        current = self.session.take()
        source = current.source if current is not None else mapfile.shipped("general-midi")
        self.add_take(take, source, f"open {path.name}")

    def open_session(self, path: Path) -> None:
        """Another session in place of this one.

        Raises FileAccessError or BadFileError; the session is then as it was
        """
        opened = sessionfile.read(path)
        self.show_session(opened.session, opened.takes, path)
        self.read_only = opened.notice
        if opened.notice:
            self.told.emit(opened.notice, True)

    def show_session(self, session: Session, takes: tuple[Take, ...], path: Path | None = None) -> None:
        """A whole session from elsewhere."""
        self.store = TakeStore()
        for take in takes:
            self.store.add(take)
        self.file, self.saved, self.read_only = path, session, None
        self._made_of = None
        self._turn_to(History(session), anew=True)

    def save_session(self, path: Path) -> None:
        """Saves the session.

        Raises FileAccessError when the system refuses; what was there before is unharmed
        """
        if self.read_only is not None and self.file is not None and path == self.file:
            raise FileAccessError(
                "This session is of a later version and would lose what this one does not know", str(path),
                "Save under another name.",
            )  # fmt: skip
        sessionfile.write(path, self.session, {take.ident: take for take in self.store})
        self.file, self.saved, self.read_only = path, self.session, None
        self.changed.emit()

    def midi_bytes(self) -> bytes:
        """The file that the current take becomes; the same bytes that `pure-signal clean` writes."""
        if self.shown is None:
            return b""
        return midiwriter.to_bytes(build_song(self.shown.outcome, self.shown.take, dict(self.session.titles)))

    def save_midi(self, path: Path) -> None:
        """Raises FileAccessError when the system refuses."""
        files.write_bytes(path, self.midi_bytes())

    def _turn_to(self, history: History, anew: bool = False) -> None:
        if history is self.history and not anew:
            return
        self.history = history
        self._follow()
        self.changed.emit()

    def _follow(self) -> None:
        """Works out the current take again where something it is made of has changed."""
        session = self.session
        ref = session.take()
        made_of = (ref, session.target, session.path, session.titles)
        if self._made_of == made_of:
            return
        self._made_of = made_of
        self.shown = None if ref is None else self._work_out(ref, session)

    def _work_out(self, ref: TakeRef, session: Session) -> Shown:
        take = self.store[ref.ident]
        context = make_context(take, ref.source, session.target, session.path, dict(ref.verdicts))
        outcome = run(take, session.path, context)
        return Shown(
            ref=ref,
            take=take,
            context=context,
            outcome=outcome,
            arrivals=survey.arrivals(outcome, context),
            facts=survey.facts(take, outcome),
            tracks=file_tracks(outcome, dict(session.titles)),
            warnings=(*take.notices, *advice.warnings(take, outcome)),
        )
