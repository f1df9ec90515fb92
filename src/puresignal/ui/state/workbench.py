"""The state of the window: the session with its history, its takes, and the result of the current one."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from puresignal.commands import clean
from puresignal.core.analysis import warnings
from puresignal.core.errors import FileAccessError
from puresignal.core.export import whole_session
from puresignal.core.export.result_maker import Made, ResultMaker, Wanted, differ_in_notes_alone
from puresignal.core.export.session_result import SessionResult, SeveralTakes
from puresignal.core.export.song_builder import Clip, build_song
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi.events import Take
from puresignal.core.path.cleaning_path import CleaningPath, Outcome, in_round, make_context, run
from puresignal.core.path.several_takes import Placed
from puresignal.core.session import alternative_edits, generated, playing_order, take_edits, tempo_edits
from puresignal.core.session import session as edits
from puresignal.core.session.backing_track import Backing
from puresignal.core.session.history import History, as_looked_at
from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import IMPORTED, SOUND, TakeRef
from puresignal.core.session.take_store import TakeStore
from puresignal.core.session.track_settings import Delivery
from puresignal.core.timing.session_time import Timeline
from puresignal.io import audio_file, file_access, midi_writer, note_map_file, ports, session_file, work_folder
from puresignal.translation import tr
from puresignal.ui.state.result_worker import ResultWorker
from puresignal.ui.state.shown import Shown

BESIDE_FROM = 20_000
"""Notes from which a result is worked out beside the window: fewer take less time than a picture on the screen."""


class Workbench(QObject):
    """Holds the history; views read it and send it edits.

    closing        another session is about to replace this one
    opened         another session has replaced it
    changed        the session changed; `shown` is up to date
    message_shown  a message for the player: (text, whether it is a problem)

    own            the chosen take with its result, in its own time
    whole          the takes that are in with their result, on the session's time; None if none is
    recorded       idents of the takes that were recorded in this window
    """

    closing = Signal()
    opened = Signal()
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
        self.whole: Shown | None = None
        self._heard: Shown | None = None
        # What generated takes are made of, and their notes.
        self._made_notes: generated.Memo = {}
        self._open: tuple[tuple[Take, TakeRef], ...] = ()
        self.recorded: frozenset[str] = frozenset()
        self._made_of: object = None
        self.beside_from = BESIDE_FROM
        # What the window asks for takes apart from the result is kept apart from what is worked out beside it.
        self._places, self._rounds = SessionResult(), SessionResult()
        self._maker = ResultMaker()
        self._last_wanted: Wanted | None = None
        self._worker = ResultWorker(self)
        self._worker.done.connect(self._worked)
        self._lock: work_folder.Lock | None = None

    @property
    def session(self) -> Session:
        return self.history.now

    @property
    def shown(self) -> Shown | None:
        """The take that the views show: the chosen one, or one that is being recorded where there is none."""
        return self.own

    @property
    def is_alone(self) -> bool:
        """Whether only the chosen take is seen in Takes and heard: as asked, or because it is not in the result."""
        ref = self.session.take()
        return ref is not None and (self.session.display.alone or not ref.is_in)

    def placed(self, ref: TakeRef) -> tuple[Placed, Timeline]:
        """A take at its place, and the session's tempo and meters."""
        timeline = self.timeline
        return self._places.placed(self.session, ref, self.store.by_ident, timeline), timeline

    @property
    def timeline(self) -> Timeline:
        """The session's tempo and meters."""
        return whole_session.timeline_of(self.session, self.store.by_ident)

    @property
    def heard(self) -> Shown | None:
        """The content of playback: the chosen take alone, or all that are in."""
        return self._heard

    @property
    def seen(self) -> Shown | None:
        """The content of Takes and Outputs: what is heard, with what is being recorded."""
        return self._heard

    @property
    def written(self) -> Shown | None:
        """The content of the file: all takes that are in, and what is being recorded."""
        return self.whole

    @property
    def unsaved(self) -> bool:
        # What is only looked at is nothing that could be lost.
        return self.saved is None or as_looked_at(self.session, self.saved) != self.saved

    def do(self, name: str, session: Session, gesture: str | None = None) -> None:
        """Do an edit, under the name that undo will show."""
        session = generated.refreshed(session, self.store.by_ident, self._made_notes)
        self._turn_to(self.history.do(name, session, gesture))

    @property
    def is_recording(self) -> bool:
        """Whether a take is being recorded."""
        return bool(self._open)

    @property
    def open_refs(self) -> tuple[TakeRef, ...]:
        """The takes that are being recorded."""
        return tuple(ref for _, ref in self._open)

    def show_open(self, takes: Sequence[tuple[Take, TakeRef]]) -> None:
        """Show takes that are being recorded, which are in no history yet, in their places among the others."""
        number = self.session.numbers
        self._open = tuple(
            (take, replace(ref, number=number + 1 + i, is_open=True, channels=ref.channels or f"{number + 1 + i}."))
            for i, (take, ref) in enumerate(takes)
        )
        self._follow()
        self.changed.emit()

    def work_out_apart(self, take: Take, source: NoteMap | None) -> Shown:
        """The result of a take that is in no session, with the session's settings."""
        session = self.session
        context = make_context(take, source, session.target, session.path)
        outcome = run(take, session.path, context)
        return Shown(TakeRef(take.ident, take.name, source), take, context, outcome, session.delivery)

    def undo(self) -> None:
        self._turn_to(self.history.undo())

    def redo(self) -> None:
        self._turn_to(self.history.redo())

    def add_take(self, take: Take, source: NoteMap | None, name: str, beat: float = 0.0) -> None:
        """Add a take to the session and show it. beat: where its beginning stands, from bar 1."""
        self.store.add(take)
        ref = replace(self.ref_for(take, source), beat=beat)
        self._do_instead(name, edits.with_take(self.session, ref), (ref.ident,))

    def _do_instead(self, name: str, session: Session, added: tuple[str, ...]) -> None:
        """Add takes, and say which others they stand in place of."""
        after = self._with_instead(session, added)
        out = [one.name for one, now in zip(session.takes, after.takes, strict=True) if one.is_in and not now.is_in]
        self.do(name, after)
        if out:
            text = tr("{takes} went out: the new take plays the same tracks. Tick the card to bring it back.")
            self.message_shown.emit(text.format(takes=", ".join(out)), False)

    def _with_instead(self, session: Session, added: tuple[str, ...]) -> Session:
        """A session in which new takes stand instead of those that play the same tracks at the same time."""
        takes = self.store.by_ident
        timeline = whole_session.timeline_of(session, takes)
        spans, drums = {}, {}
        for ref in session.takes:
            if ref.kind != SOUND and ref.is_in:
                placed = self._places.placed(session, ref, takes, timeline)
                spans[ref.ident] = take_edits.span(placed, timeline)
                drums[ref.ident] = take_edits.plays_kit(placed)
        return take_edits.instead(session, added, spans, drums)

    def add_recorded(
        self, made: Sequence[tuple[Take, TakeRef]], name: str, instead: bool = False, attempts: Sequence[str] = ()
    ) -> None:
        """Add takes that were recorded together as one step; the last is chosen.

        instead   they stand in place of those that play the same tracks at the same time
        attempts  takes of the same thing that went before; each new one is chosen among those of its input
        """
        session, self._open = self.session, ()
        if session.timeline is None and made:
            session = edits.with_timeline(session, self.timeline)
        self.recorded |= {take.ident for take, _ in made}
        for take, ref in made:
            self.store.add(take)
            session = edits.with_take(session, ref)
        for _, ref in made:
            before = [one.ident for one in session.takes if one.ident in attempts and one.input == ref.input]
            if before:
                for one in before:
                    session = edits.with_changed(session, one, is_in=True)
                session = alternative_edits.grouped(session, (*before, ref.ident), ref.name)
                group = alternative_edits.group_of(session, ref.ident)
                assert group is not None
                first = self.timeline.beats_to_bar(ref.beat)[0]
                session = alternative_edits.chosen(session, group, first, None, ref.ident)
        if instead:
            self._do_instead(name, session, tuple(ref.ident for _, ref in made))
        else:
            self.do(name, session)

    def open_midi(self, path: Path, beat: float = 0.0) -> None:
        """Open a MIDI file as a new take, with the map that explains it best, at a beat from bar 1.

        The current take's map is kept if none explains the file better.
        Raises FileAccessError or BadFileError; the session is then unchanged
        """
        take = clean.open_take(path, self.store.free_ident())
        self.add_take(
            take, self.likely_map(take), tr("open {name}").format(name=file_access.shown_name(path.name)), beat
        )

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

    def add_recording(self, path: Path, beat: float = 0.0) -> None:
        """Add a recording that plays along, beginning at a beat from bar 1.

        Raises FileAccessError or BadFileError
        """
        audio_file.facts(path)
        self.do(tr("add recording"), edits.with_sound_take(self.session, Backing(str(path)), beat))

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
        self.store, self.recorded, self._open = TakeStore(), frozenset(), ()
        for take in takes:
            self.store.add(take)
        self.file, self.saved, self.read_only = path, session, None
        self.recovered_from = ""
        self._made_of = None
        self._worker.finish()
        self._places, self._rounds, self._maker, self._last_wanted = (
            SessionResult(),
            SessionResult(),
            ResultMaker(),
            None,
        )
        session = generated.refreshed(session, self.store.by_ident, self._made_notes)
        self.saved = session if self.saved is not None else None
        self._turn_to(History(session), anew=True)
        self.opened.emit()

    def save_session(self, path: Path) -> list[str]:
        """Save the session. Returns a sentence for each recording that is not in its file.

        Raises FileAccessError if the system refuses; the previous file is unharmed
        """
        work, saved, failed = self.saving(path)
        try:
            left_out = work()
        except FileAccessError:
            failed()
            raise
        saved()
        return left_out

    def saving(self, path: Path) -> tuple[Callable[[], list[str]], Callable[[], None], Callable[[], None]]:
        """Saving the session as it is now in parts: the work, which may be done on another thread, and what is to be
        done here once it has succeeded, and once it has raised FileAccessError.

        Raises FileAccessError if it cannot be begun
        """
        if self.read_only is not None and self.file is not None and path == self.file:
            raise FileAccessError(tr("This session is read-only here"), str(path), tr("Save under another name."))
        if self.session.name == Session().name:
            self.do(tr("rename session"), edits.with_name(self.session, file_access.shown_name(path.stem)))
        lock = work_folder.session_lock(path)
        if not self._holds(lock) and not lock.take():
            raise FileAccessError(tr("Another window has this session open"), str(path), tr("Save under another name."))
        session, takes = self.session, dict(self.takes())

        def work() -> list[str]:
            return session_file.write(path, session, takes)

        def saved() -> None:
            if not self._holds(lock):
                self._hold(lock)
            self.file, self.saved, self.read_only = path, session, None
            self.changed.emit()

        def failed() -> None:
            if not self._holds(lock):
                lock.let_go()

        return work, saved, failed

    @property
    def sound_bytes(self) -> int:
        """Bytes of the recordings that are written with the session."""
        total = 0
        for ref in self.session.takes:
            if ref.kind == SOUND and ref.sound is not None:
                with contextlib.suppress(OSError):
                    total += Path(ref.sound.path).stat().st_size
        return total

    def save_copy(self, path: Path) -> list[str]:
        """Write the session to another file and stay with its own. Returns a sentence for each recording left out.

        Raises FileAccessError if the system refuses, or it is the file of a session that is open
        """
        lock = work_folder.session_lock(path)
        if self._holds(lock) or not lock.take():
            raise FileAccessError(tr("This session is open"), str(path), tr("Give the copy another name."))
        try:
            return session_file.write(path, self.session, self.takes())
        finally:
            lock.let_go()

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
        ref = self.ref_for(take, self.likely_map(take))
        self._do_instead(tr("put back a take"), edits.with_take(self.session, ref), (ref.ident,))

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

    def bent(self, ref: TakeRef) -> list[list[float]] | None:
        """Where a recording that follows the beats runs faster or slower: seconds after its beginning, and its own
        seconds there. None: it keeps its speed."""
        if ref.sound is None or ref.grid is None or not ref.follows_beats:
            return None
        placed, timeline = self.placed(ref)
        return tempo_edits.bend(placed, timeline, audio_file.seconds_of(Path(ref.sound.path)))

    def midi_job(self) -> Callable[[], int]:
        """Work that builds the MIDI file of the takes that are in, and returns its size in bytes."""
        self.settle()
        whole, delivery = self.whole, self._delivery()

        def work() -> int:
            if whole is None:
                return 0
            song = build_song(whole.outcome, whole.take, delivery)
            return len(midi_writer.to_bytes(song, delivery.with_tempo, delivery.running, delivery.zero_ends))

        return work

    def _delivery(self) -> Delivery:
        """The settings of the result's tracks, as files have them."""
        tracks = () if self.whole is None else self.whole.outcome.tracks
        return whole_session.delivery_of(self.session, [track.key for track in tracks])

    def midi_bytes(self, clip: Clip | None = None) -> bytes:
        """The MIDI file of the takes that are in; the same bytes that `pure-signal export` writes."""
        self.settle()
        if self.whole is None or self.whole.several is None:
            return b""
        delivery, whole = self._delivery(), self.whole.several
        if clip is None:
            whole = self._maker.in_order(self.session, self.store.by_ident, whole)
        song = build_song(whole.outcome, whole.take, delivery, clip)
        song = whole_session.with_session_key(song, self.session)
        return midi_writer.to_bytes(song, delivery.with_tempo, delivery.running, delivery.zero_ends)

    def save_midi(self, path: Path) -> None:
        """Save the MIDI file.

        Raises FileAccessError if the system refuses
        """
        file_access.write_bytes(path, self.midi_bytes())

    def save_sections(self, folder: Path) -> list[Path]:
        """Save a MIDI file of each section. Returns their paths.

        Raises FileAccessError if one is there already, or the system refuses; none is written over
        """
        session, takes = self.session, self.store.by_ident
        paths: dict[Path, str] = {}
        for one in playing_order.by_bar(session):
            name = file_access.as_file_name(f"{session.name} {one.name}")
            path = folder / f"{name}.mid"
            if path in paths:
                raise FileAccessError(tr("Two sections have one name"), one.name, tr("Rename one of them in Takes."))
            if path.exists():
                raise FileAccessError(tr("This file exists already"), str(path), tr("Choose another folder."))
            paths[path] = one.ident
        form = session.delivery
        for path, ident in paths.items():
            song = whole_session.song_of(session, whole_session.result(session, takes, None, [(ident, 1)]))
            content = midi_writer.to_bytes(song, form.with_tempo, form.running, form.zero_ends)
            file_access.write_bytes(path, content)
        return list(paths)

    def save_summary(self, path: Path) -> None:
        """Save the summary page of the takes that are in.

        Raises FileAccessError if the system refuses
        """
        from puresignal.core.export import summary_html

        self.settle()
        shown = self.whole
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
        """Work out again what has changed: at once, or for many notes on a thread beside the window's."""
        session, takes = self.session, self.store.by_ident
        if self._open and session.timeline is None:
            # What is being recorded has the session's tempo, and does not set it.
            session = edits.with_timeline(session, self.timeline)
        for take, ref in self._open:
            takes[ref.material] = take
            session = replace(session, takes=(*session.takes, ref))
        settings = (session.target, session.path, session.delivery, session.timeline, session.inputs)
        looked = (session.display.current, session.display.alone, session.display.in_order)
        wired = (session.destinations, session.sends, session.alternatives, looked, session.sections, session.order,
                 session.markers)  # fmt: skip
        cache_key = (session.takes, settings, wired, tuple(id(take) for take, _ in self._open))
        if self._made_of == cache_key:
            return
        self._made_of = cache_key
        open_ones = tuple(ref for _, ref in self._open)
        wanted = Wanted(session, dict(takes), open_ones, self.is_alone)
        before, self._last_wanted = self._last_wanted, wanted
        many = sum(len(take.events) for take in takes.values()) >= 2 * self.beside_from
        if not many or self._open:
            # What is being recorded grows by a few notes at a time.
            self._worker.finish()
            self._take_in(self._maker.made(wanted))
        elif before is not None and differ_in_notes_alone(before.session, session):
            self._worker.ask(wanted)
        else:
            self._take_in(self._worker.now(wanted))

    @property
    def is_behind(self) -> bool:
        """Whether what is shown is not yet the result of the session as it is."""
        return self._worker.is_busy

    def end_work(self) -> None:
        """End what works out results beside the window."""
        self._worker.close()

    def settle(self) -> None:
        """Wait until the result is that of the session as it is."""
        made = self._worker.settle()
        if made is not None:
            self._take_in(made)
            self.changed.emit()

    def _worked(self, made: Made) -> None:
        """A result that was worked out beside the window."""
        self._take_in(made)
        self.changed.emit()

    def _take_in(self, made: Made) -> None:
        """Show a result; what is the same stays the same value."""
        delivery, before = self.session.delivery, self.own
        self.own = self.whole = self._heard = None
        if made.own is not None:
            ref, several = made.own
            same = before is not None and before.several is several and before.delivery is delivery
            self.own = before if same and before is not None and before.ref == ref else self._shown(ref, several)
        if made.whole is not None:
            self.whole = self._of(*made.whole)
        if made.heard is not None:
            same_as_whole = self.whole is not None and self.whole.several is made.heard[1]
            self._heard = self.whole if same_as_whole else self._of(*made.heard)

    def _of(self, ref: TakeRef, made: SeveralTakes) -> Shown:
        """A result of takes together, which may be that of the chosen one alone."""
        own = self.own
        if own is not None and own.several is not None and made.outcome is own.several.outcome and ref == own.ref:
            return own
        return self._shown(ref, made)

    def _shown(self, ref: TakeRef, made: SeveralTakes) -> Shown:
        return Shown(ref, made.take, made.context, made.outcome, self.session.delivery, made)

    def worked_out(self, path: CleaningPath) -> Outcome | None:
        """The result that is heard, made by another path."""
        heard = self._heard
        if heard is None or heard.several is None:
            return None
        session = self.session
        refs = tuple(ref for ref in session.takes if ref.ident in heard.several.idents)
        if heard.is_several:
            return self._places.together(session, refs, self.store.by_ident, path).outcome
        return self._places.alone(session, refs[0], self.store.by_ident, path).outcome

    def in_round(self, number: int) -> Outcome | None:
        """The result that is heard as it is drawn by chance in a later round of a loop, from 0; None for no such."""
        heard, session = self._heard, self.session
        if heard is None or heard.several is None or not whole_session.varies(session) or not number:
            return None if heard is None else heard.outcome
        drawn = edits.with_path(session, in_round(session.path, number))
        refs = tuple(ref for ref in session.takes if ref.ident in heard.several.idents)
        if heard.is_several:
            return self._rounds.together(drawn, refs, self.store.by_ident).outcome
        return self._rounds.alone(drawn, refs[0], self.store.by_ident).outcome

    def ref_for(self, take: Take, source: NoteMap | None, played_on: LiveInput | None = None) -> TakeRef:
        """A take of the session that uses a material of its own. played_on: the input that it was played on."""
        ref = TakeRef(self._free(take.ident), take.name, source, material=take.ident)
        if take.original is not None:
            return replace(ref, kind=IMPORTED)
        if take.ports and take.ports[0].name.endswith(ports.SIMULATED_SUFFIX):
            # The simulated drummer plays to a tempo, and says so.
            return replace(ref, grid=Timeline.from_tempo_map(take.tempo))
        if played_on is not None:
            own, channels = played_on.tracks, f"{played_on.ident}:"
            ref = replace(ref, input=played_on.ident, own=own, channels=channels)
        return ref

    def _free(self, ident: str) -> str:
        used = {ref.ident for ref in self.session.takes}
        return take_edits.free_ident(ident, used) if ident in used else ident
