"""The state of the window: the session with its history, its takes, and the result of the current one."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, Signal

from puresignal.commands import clean
from puresignal.core.analysis import take_overview, warnings
from puresignal.core.errors import FileAccessError
from puresignal.core.export import left_out, whole_session
from puresignal.core.export.song_builder import Clip, FileTrack, build_song, file_tracks
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi.events import Take
from puresignal.core.path.cleaning_path import Outcome, StageCache, make_context, run
from puresignal.core.path.context import Context
from puresignal.core.session import session as edits
from puresignal.core.session import take_edits
from puresignal.core.session.backing_track import Backing
from puresignal.core.session.history import History, as_looked_at
from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import IMPORTED, TakeRef
from puresignal.core.session.take_store import TakeStore
from puresignal.core.session.track_settings import Delivery
from puresignal.io import audio_file, file_access, midi_writer, note_map_file, ports, session_file, work_folder
from puresignal.translation import tr


@dataclass(frozen=True, eq=False)
class Shown:
    """The current take with everything that views show of it. A new one is made for each change.

    Parts that only some views need are computed on first use.
    """

    ref: TakeRef
    take: Take
    context: Context
    outcome: Outcome
    delivery: Delivery

    @cached_property
    def arrivals(self) -> tuple[take_overview.Arrival, ...]:
        return take_overview.arrivals(self.outcome, self.context)

    @cached_property
    def facts(self) -> take_overview.Facts:
        return take_overview.facts(self.take, self.outcome)

    @cached_property
    def tracks(self) -> tuple[FileTrack, ...]:
        return file_tracks(self.outcome, self.delivery)

    @cached_property
    def warnings(self) -> tuple[str, ...]:
        return (
            *self.take.notices,
            *left_out.left_out(self.take, self.outcome),
            *warnings.warnings(self.take, self.outcome),
        )

    @cached_property
    def row_of_origin(self) -> np.ndarray:
        """(events,) row of each input note by origin, -1 for an event that does not start a note."""
        rows = np.full(len(self.take.events), -1, np.int64)
        rows[self.outcome.input_notes.origin] = np.arange(len(self.outcome.input_notes))
        return rows


class Workbench(QObject):
    """Holds the history; views read it and send it edits.

    closing        another session is about to replace this one
    changed        the session changed; `shown` is up to date
    message_shown  a message for the player: (text, whether it is a problem)

    own            the current take of the session with its result
    recorded       idents of the takes that were recorded in this window
    """

    closing = Signal()
    changed = Signal()
    message_shown = Signal(str, bool)

    def __init__(self, parent: QObject | None = None):
        super().__init__(parent)
        self.store = TakeStore()
        general = note_map_file.shipped("general-midi")
        self.history = History(Session(target=general, inputs=(LiveInput(source=general, output=ports.SOUND),)))
        self.saved: Session | None = self.history.now
        # Name of the work folder that this session was recovered from.
        self.recovered_from = ""
        self.file: Path | None = None
        self.read_only: str | None = None
        self.own: Shown | None = None
        self._previewed: Shown | None = None
        self.recorded: frozenset[str] = frozenset()
        self._made_of: object = None
        self._memo = StageCache()
        self._lock: work_folder.Lock | None = None

    @property
    def session(self) -> Session:
        return self.history.now

    @property
    def shown(self) -> Shown | None:
        """What the views show: a take that is being recorded, else the session's own."""
        return self._previewed or self.own

    @property
    def unsaved(self) -> bool:
        # What is only looked at is nothing that could be lost.
        return self.saved is None or as_looked_at(self.session, self.saved) != self.saved

    def do(self, name: str, session: Session, gesture: str | None = None) -> None:
        """Do an edit, under the name that undo will show."""
        self._turn_to(self.history.do(name, session, gesture))

    def preview(self, take: Take, source: NoteMap | None) -> None:
        """Show a take that is still being played and is in no session or history."""
        self._previewed = self.work_out_apart(take, source)
        self.changed.emit()

    def work_out_apart(self, take: Take, source: NoteMap | None) -> Shown:
        """The result of a take that is in no session, with the session's settings."""
        session = self.session
        context = make_context(take, source, session.target, session.path)
        outcome = run(take, session.path, context)
        return Shown(TakeRef(take.ident, take.name, source), take, context, outcome, session.delivery)

    def end_preview(self) -> None:
        """Show the session's own take again."""
        self._previewed = None
        self.changed.emit()

    def undo(self) -> None:
        self._turn_to(self.history.undo())

    def redo(self) -> None:
        self._turn_to(self.history.redo())

    def add_take(self, take: Take, source: NoteMap | None, name: str) -> None:
        """Add a take to the session and show it."""
        self.store.add(take)
        self.do(name, edits.with_take(self.session, self.ref_for(take, source)))

    def add_takes(self, takes: list[tuple[Take, LiveInput]], name: str) -> None:
        """Add takes that were recorded together, each with its input, as one step; the last is shown."""
        session = self.session
        self._previewed = None
        self.recorded |= {take.ident for take, _ in takes}
        for take, played_on in takes:
            self.store.add(take)
            session = edits.with_take(session, self.ref_for(take, played_on.source, played_on))
        self.do(name, session)

    def open_midi(self, path: Path) -> None:
        """Open a MIDI file as a new take, with the map that explains it best.

        The current take's map is kept if none explains the file better.
        Raises FileAccessError or BadFileError; the session is then unchanged
        """
        take = clean.open_take(path, self.store.free_ident())
        self.add_take(take, self.likely_map(take), tr("open {name}").format(name=file_access.shown_name(path.name)))

    def likely_map(self, take: Take) -> NoteMap:
        """The map that explains a take best; the current take's if none does better."""
        current = self.session.take()
        now = (
            current.source
            if current is not None and current.source is not None
            else note_map_file.shipped("general-midi")
        )
        return clean.likely_map(take, now)

    def set_backing(self, path: Path | None) -> None:
        """Use another backing track, or none; level and offset stay.

        Raises FileAccessError or BadFileError
        """
        before = self.session.backing
        if path is not None:
            audio_file.facts(path)
        backing = None if path is None else replace(before, path=str(path)) if before else Backing(str(path))
        self.do(tr("choose backing track"), edits.with_backing(self.session, backing))

    def set_font(self, path: Path | None) -> None:
        """Use another SoundFont, or none."""
        sound = replace(self.session.sound, font="" if path is None else str(path))
        self.do(tr("choose SoundFont"), edits.with_sound(self.session, sound))

    def open_session(self, path: Path) -> None:
        """Replace this session by another.

        Raises FileAccessError or BadFileError; the session is then unchanged
        """
        opened = session_file.read(path)
        lock = work_folder.session_lock(path)
        notice = opened.notice
        if not self._holds(lock) and not lock.take():
            notice = tr(
                "{name} is open in another window. You can look at it here; save under another name to keep changes."
            ).format(name=file_access.shown_name(path.name))
        self.show_session(opened.session, opened.takes, path)
        if notice is None:
            self._hold(lock)
        else:
            lock.let_go()
        self.read_only = notice
        if notice:
            self.message_shown.emit(notice, True)

    def recover(self, leftover: work_folder.Leftover) -> None:
        """Replace this session by recovered work, which is still unsaved.

        Raises FileAccessError or BadFileError; the session is then unchanged
        """
        opened = work_folder.recover(leftover)
        self.show_session(opened.session, opened.takes, leftover.file)
        self.saved = None
        self.recovered_from = leftover.folder.name
        if leftover.file is not None:
            lock = work_folder.session_lock(leftover.file)
            if lock.take():
                self._hold(lock)
            else:
                self.file = None
        self.changed.emit()

    def show_session(self, session: Session, takes: tuple[Take, ...], path: Path | None = None) -> None:
        """Show a whole session from elsewhere."""
        self.closing.emit()
        self.let_go()
        self.store, self.recorded, self._previewed = TakeStore(), frozenset(), None
        for take in takes:
            self.store.add(take)
        self.file, self.saved, self.read_only = path, session, None
        self.recovered_from = ""
        self._made_of = None
        self._memo = StageCache()
        self._turn_to(History(session), anew=True)

    def save_session(self, path: Path) -> None:
        """Save the session.

        Raises FileAccessError if the system refuses; the previous file is unharmed
        """
        if self.read_only is not None and self.file is not None and path == self.file:
            raise FileAccessError(tr("This session is read-only here"), str(path), tr("Save under another name."))
        if self.session.name == Session().name:
            self.do(tr("rename session"), edits.with_name(self.session, file_access.shown_name(path.stem)))
        lock = work_folder.session_lock(path)
        if not self._holds(lock) and not lock.take():
            raise FileAccessError(tr("Another window has this session open"), str(path), tr("Save under another name."))
        try:
            session_file.write(path, self.session, self.takes())
        except FileAccessError:
            if not self._holds(lock):
                lock.let_go()
            raise
        if not self._holds(lock):
            self._hold(lock)
        self.file, self.saved, self.read_only = path, self.session, None
        self.changed.emit()

    def takes(self) -> dict[str, Take]:
        """All takes by ident, including those hidden by undo."""
        return self.store.by_ident

    def removed_takes(self) -> list[Take]:
        """The takes that are not in the session any more."""
        used = {ref.material for ref in self.session.takes}
        return [take for take in self.store if take.ident not in used]

    def put_back(self, ident: str) -> None:
        """Add a removed take to the session again and show it."""
        take = self.store[ident]
        self.do(tr("put back a take"), edits.with_take(self.session, self.ref_for(take, self.likely_map(take))))

    def delete_removed_takes(self) -> None:
        """Delete the takes that are not in the session, for good; undo then begins here, since it could need them."""
        self.store.keep_only({ref.material for ref in self.session.takes})
        self.saved = None
        self._turn_to(History(self.session))

    def let_go(self) -> None:
        """Release the session's file."""
        if self._lock is not None:
            self._lock.let_go()
            self._lock = None

    def _hold(self, lock: work_folder.Lock) -> None:
        self.let_go()
        self._lock = lock

    def _holds(self, lock: work_folder.Lock) -> bool:
        return self._lock is not None and self._lock.path == lock.path

    def midi_job(self) -> Callable[[], int]:
        """Work that builds the MIDI file of the current take as it is now, and returns its size in bytes."""
        own, delivery = self.own, self.session.delivery

        def work() -> int:
            if own is None:
                return 0
            return len(midi_writer.to_bytes(build_song(own.outcome, own.take, delivery), delivery.with_tempo))

        return work

    def midi_bytes(self, clip: Clip | None = None) -> bytes:
        """The MIDI file of the current take; the same bytes that `pure-signal clean` writes."""
        if self.own is None:
            return b""
        song = build_song(self.own.outcome, self.own.take, self.session.delivery, clip)
        return midi_writer.to_bytes(song, self.session.delivery.with_tempo)

    def save_midi(self, path: Path) -> None:
        """Save the MIDI file.

        Raises FileAccessError if the system refuses
        """
        file_access.write_bytes(path, self.midi_bytes())

    def save_summary(self, path: Path) -> None:
        """Save the summary page of the current take.

        Raises FileAccessError if the system refuses
        """
        from puresignal.core.export import summary_html

        shown = self.own
        if shown is not None:
            told = warnings.warnings(shown.take, shown.outcome)
            part = summary_html.section(shown.take, shown.context, shown.outcome, told)
            file_access.write_bytes(path, summary_html.page([part]).encode())

    def _turn_to(self, history: History, anew: bool = False) -> None:
        if history is self.history and not anew:
            return
        self.history = history
        self._follow()
        self.changed.emit()

    def _follow(self) -> None:
        """Process the current take again if something it depends on has changed."""
        session = self.session
        ref = session.take()
        cache_key = (ref, session.target, session.path, session.delivery)
        if self._made_of == cache_key:
            return
        self._made_of = cache_key
        self.own = None if ref is None else self._work_out(ref, session)

    def _work_out(self, ref: TakeRef, session: Session) -> Shown:
        takes = self.store.by_ident
        placed = whole_session.placed_take(session, ref, takes, whole_session.timeline_of(session, takes), self._memo)
        context = placed.context(session.path)
        return Shown(ref, placed.take, context, run(placed.take, session.path, context, self._memo), session.delivery)

    def ref_for(self, take: Take, source: NoteMap | None, played_on: LiveInput | None = None) -> TakeRef:
        """A take of the session that uses a material of its own. played_on: the input that it was played on."""
        ref = TakeRef(self._free(take.ident), take.name, source, material=take.ident)
        if take.original is not None:
            return replace(ref, kind=IMPORTED)
        if played_on is not None:
            own, channels = played_on.tracks, f"{played_on.ident}:"
            ref = replace(ref, input=played_on.ident, own=own, channels=channels)
        return ref

    def _free(self, ident: str) -> str:
        used = {ref.ident for ref in self.session.takes}
        return take_edits.free_ident(ident, used) if ident in used else ident
