"""Opening and saving: the dialogs, what is written where, recent files and unsaved work."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, Qt
from PySide6.QtGui import QCursor
from PySide6.QtWidgets import QCheckBox, QFileDialog, QInputDialog, QMenu, QMessageBox, QWidget

from puresignal.commands import clean
from puresignal.core.errors import BadFileError, PureSignalError
from puresignal.core.kit.note_map import check_source
from puresignal.core.session import session as edits
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import SOUND
from puresignal.core.timing.session_time import Timeline
from puresignal.io import file_access, file_kinds, note_map_file, preferences, session_file, templates, work_folder
from puresignal.translation import mark, tr
from puresignal.ui.state.autosave import Autosave
from puresignal.ui.state.listener import KINDS
from puresignal.ui.state.services import Services
from puresignal.ui.widgets import text_format
from puresignal.ui.widgets.plain_text import plain_tip

MIDI_FILTER = mark("MIDI files (*.mid *.midi *.smf *.kar *.rmi)")
SESSION_FILTER = mark("Pure Signal sessions (*.puresignal)")


KINDS_SAID = {"melody": mark("a melody"), "drums": mark("drums"), "chords": mark("chords")}
SURE = 0.6
"""Probability from which a kind is proposed."""
_OPENED_AS_TAKES = (file_kinds.SESSION, file_kinds.MIDI)


AT_ONCE_BYTES = 8 << 20
"""Bytes of sound up to which a session is written at once: faster than a picture on the screen."""
SAVED_WITHIN = 300.0
"""Seconds for which closing waits for a session that is being written."""


class FileActions(QObject):
    """Actions of the File menu; every refusal is shown and leaves the session as it was."""

    def __init__(self, services: Services, keeper: Autosave, window: QWidget):
        super().__init__(window)
        self._sitting = services.sitting
        self._bench, self._notices, self._preferences = services.workbench, services.notices, services.preferences
        self._keeper, self._window = keeper, window
        self._listener = services.listener
        self._listener.proposed.connect(self._offer_kind)
        services.microphone.left_behind.connect(self._offer_sound)
        self._background, self.is_saving = services.background, False
        self._tempo_offered = False

    def new_session(self) -> None:
        """Start an empty session; unsaved work of the present one stays available under Unsaved work."""
        now = self._bench.session
        self._bench.show_session(Session(target=now.target, inputs=now.inputs), ())

    # Templates

    def fill_templates(self, menu: QMenu) -> None:
        """List what a new session can begin with in a menu, and what deletes one."""
        menu.clear()
        found = templates.kept()
        for name, path in found.items():
            menu.addAction(name).triggered.connect(lambda _=False, p=path, n=name: self.begin_with(p, n))
        if not found:
            menu.addAction(tr("none yet: save one from a session that is set up")).setEnabled(False)
            return
        menu.addSeparator()
        delete = menu.addMenu(tr("Delete"))
        for name, path in found.items():
            delete.addAction(name).triggered.connect(lambda _=False, p=path, n=name: self.delete_template(p, n))

    def begin_with(self, path: Path, name: str) -> None:
        """Start a new session with a template; unsaved work of the present one stays under Unsaved work."""
        try:
            session = templates.begin(path)
        except PureSignalError as error:
            self._notices.tell(str(error), True)
            return
        self._bench.show_session(session, ())
        self._notices.tell(tr("A new session, set up as in {name}.", name=name), False)

    def ask_save_template(self) -> None:
        name, chosen = QInputDialog.getText(
            self._window, tr("Save as template"), tr("Name of the template"), text=self._bench.session.name
        )
        if chosen and name.strip():
            self.save_template(name.strip())

    def save_template(self, name: str) -> None:
        """Keep the set-up of this session, or say why not."""
        try:
            templates.keep(self._bench.session, name)
        except PureSignalError as error:
            self._notices.tell(str(error), True)
        else:
            self._notices.tell(tr("Saved as the template {name}, without its takes.", name=name), False)

    def delete_template(self, path: Path, name: str) -> None:
        """Delete a template, which can be undone from the notice."""
        try:
            session = session_file.read(path).session
            templates.remove(path)
        except PureSignalError as error:
            self._notices.tell(str(error), True)
            return
        self._notices.offer(
            tr("The template {name} is deleted.", name=name), tr("Put it back"), tr("Saves it again."),
            lambda: self._put_template_back(session, name),
        )  # fmt: skip

    def _put_template_back(self, session: Session, name: str) -> None:
        try:
            templates.keep(session, name)
        except PureSignalError as error:
            self._notices.tell(str(error), True)

    # Opening

    def open_files(self, paths: list[Path], beat: float = 0.0) -> list[str]:
        """Open sessions and MIDI files. Returns, and shows, what could not be opened and why.

        beat  where takes of MIDI files begin, from bar 1
        """
        problems = []
        for path in paths:
            try:
                self._open(path, beat)
                self._remember(path)
            except PureSignalError as error:
                problems.append(str(error))
        if problems:
            self._notices.tell("\n".join(problems), True)
        elif self._tempo_offered:
            self._tempo_offered = False
        elif paths and self._bench.read_only is None and file_kinds.kind_of(paths[-1]) in _OPENED_AS_TAKES:
            self._notices.clear()
        return problems

    @staticmethod
    def opens(path: Path) -> bool:
        """Whether a file or folder is of a kind that can be opened."""
        # Anything else, such as a pipe, could keep whoever reads it waiting for ever.
        return path.is_dir() or (path.is_file() and file_kinds.kind_of(path) is not None)

    @staticmethod
    def why_refused(name: str) -> str:
        """Why a dropped file is refused."""
        return tr(
            "{name} is of no kind that can be opened here: MIDI files, sessions, recordings, note maps and SoundFonts "
            "can, and folders of MIDI files.",
            name=name,
        )

    def _open(self, path: Path, beat: float = 0.0) -> None:
        """Open a file as what it is; a folder stands for its MIDI files."""
        bench, kind = self._bench, file_kinds.kind_of(path)
        if path.is_dir():
            for inside in clean.inputs([path], path / "-"):
                bench.open_midi(inside, beat)
        elif kind is file_kinds.SESSION:
            bench.open_session(path)
        elif kind is file_kinds.AUDIO:
            bench.add_recording(path, beat)
            self._notices.offer(
                tr("{name} plays along. Its notes can be heard, too.", name=path.name),
                tr("Hear its notes…"),
                tr("Choose what is in it: a melody, a drum loop, chords, or sounds that you teach."),
                lambda: self.ask_kind(path),
            )
            self._listener.propose(path)
        elif kind is file_kinds.FILM:
            raise BadFileError(
                tr("Films and this kind of sound are not read"),
                file_access.shown_name(path.name),
                tr("Save its sound as WAV, FLAC, OGG, MP3 or AIFF, and open that."),
            )
        elif kind is file_kinds.NOTE_MAP:
            self._use_map(path)
        elif kind is file_kinds.SOUNDFONT:
            bench.set_font(path)
            self._notices.tell(tr("{name} is the SoundFont now. It is in Outputs.", name=path.name), False)
        else:
            before = bench.timeline
            bench.open_midi(path, beat)
            self._offer_tempo(before)

    def _offer_kind(self, path: Path, kind: str, sure: float) -> None:
        """Offer what a recording probably contains, unless it is gone or heard already."""
        bench = self._bench
        known = any(one.sound is not None and one.sound.path == str(path) for one in bench.session.takes)
        heard = any(one.heard is not None and one.heard.path == str(path) for one in bench.session.takes)
        if not known or heard or sure < SURE:
            return
        self._notices.offer(
            tr(
                "{name} plays along. It sounds like {kind} ({sure:.0%}); the menu of its card has the other kinds.",
                name=path.name, kind=tr(KINDS_SAID[kind]), sure=sure,
            ),
            tr("Hear its notes"),
            tr("Hears them as {kind}.", kind=tr(KINDS_SAID[kind])),
            lambda: self.hear(path, kind),
        )  # fmt: skip

    def _offer_sound(self, path: Path) -> None:
        """Offer the sound of a recording that was cut off."""
        self._notices.offer(
            tr("A recording of the microphone was cut off. Its sound is kept: {name}.", name=path.name),
            tr("Open it"),
            tr("Adds the sound to this session."),
            lambda: self._tell_nothing(self.open_files([path])),
        )

    @staticmethod
    def _tell_nothing(_: list[str]) -> None:
        """Ignore the list: it was shown already."""

    def ask_kind(self, path: Path) -> None:
        """Ask what a recording contains, and hear it."""
        self.kinds_menu(path, self._window).popup(QCursor.pos())

    def kinds_menu(self, path: Path, parent: QWidget) -> QMenu:
        """The kinds of notes that a recording can be heard for."""
        menu = QMenu(parent)
        for kind, label in KINDS:
            menu.addAction(tr(label)).triggered.connect(lambda _=False, k=kind: self.hear(path, k))
        return menu

    def hear(self, path: Path, kind: str) -> None:
        """Hear the notes of a recording, which then are a take where it stands."""
        examples = None
        if kind == "hits":
            examples = QFileDialog.getExistingDirectory(
                self._window, tr("Folder with an example of each sound: kick.wav, snare.wav …")
            )
            if not examples:
                return
        sounds = [one for one in self._bench.session.takes if one.kind == SOUND and one.sound is not None]
        sound = next((one for one in sounds if one.sound is not None and one.sound.path == str(path)), None)
        self._listener.hear(path, kind, 0.0 if sound is None else sound.beat, examples)

    def _offer_tempo(self, before: Timeline) -> None:
        """Offer a file's tempo and meters to the session, where other takes keep it at its own."""
        bench = self._bench
        if bench.own is None or bench.own.take.original is None or bench.own.several is None:
            return
        theirs = bench.own.several.timeline
        now, found = before.bpm_at(0.0), theirs.bpm_at(0.0)
        same = abs(now - found) < 0.01 and before.meter_at(1) == theirs.meter_at(1) and len(theirs.tempos) == 1
        if same or bench.timeline == theirs:
            return
        meter = theirs.meter_at(1)
        said = f"{text_format.bpm(found)}, {meter.numerator}/{meter.denominator}"
        text = tr(
            "This file is at {theirs}; the session stays at {ours}, and the take follows its beats.",
            theirs=said, ours=text_format.bpm(now),
        )  # fmt: skip
        self._tempo_offered = True
        self._notices.offer(
            text,
            tr("Use its tempo"),
            tr("Gives the session the tempo and meters of this file."),
            lambda: bench.do(tr("use tempo of a file"), edits.with_timeline(bench.session, theirs)),
        )

    def _use_map(self, path: Path) -> None:
        """Use a note map as the source map of the take, or, where it cannot be one, as the target map."""
        bench, note_map = self._bench, note_map_file.read(path)
        try:
            check_source(note_map, path.name)
        except PureSignalError:
            is_source = False
        else:
            is_source = bench.session.current is not None
        if is_source:
            assert bench.session.current is not None
            bench.do(tr("choose source map"), edits.with_source(bench.session, bench.session.current, note_map))
            text = tr("{name} is the source map of this take now.", name=note_map.name)
        else:
            bench.do(tr("choose target map"), edits.with_target(bench.session, note_map))
            text = tr("{name} is the target map now.", name=note_map.name)
        self._notices.tell(text, False)

    def ask_open(self) -> None:
        kinds = [kind for kind in file_kinds.KINDS if kind is not file_kinds.FILM]
        rows = [tr("All that can be opened ({pattern})", pattern=" ".join(kind.pattern for kind in kinds))]
        rows += [tr(SESSION_FILTER), tr(MIDI_FILTER)]
        rows += [tr("Recordings ({pattern})", pattern=file_kinds.AUDIO.pattern)]
        names, _ = QFileDialog.getOpenFileNames(self._window, tr("Open"), "", ";;".join(rows))
        self.open_files([Path(name) for name in names])

    # Saving

    def save_session(self) -> None:
        if self._bench.file is None or self._bench.read_only is not None:
            self.ask_save_session()
        else:
            self.save_session_to(self._bench.file)

    def ask_save_session(self) -> None:
        name = f"{self._bench.session.name}{session_file.ENDING}"
        self._ask(tr("Save session"), name, tr(SESSION_FILTER), session_file.ENDING, self.save_session_to)

    def save_session_to(self, path: Path) -> None:
        """Save the session, or say why not. With many bytes of sound it is written beside the window."""
        if self._bench.sound_bytes < AT_ONCE_BYTES:
            if self._saved(path, self._bench.save_session):
                self._keeper.store()
                self._remember(path)
            return
        if self.is_saving:
            self._notices.tell(tr("It is being saved already."), False)
            return
        try:
            work, saved, failed = self._bench.saving(path)
        except PureSignalError as error:
            self._notices.tell(str(error), True)
            return
        self.is_saving = True
        self._notices.tell(tr("Saving {path}…", path=path), False)

        def done(left_out: list[str]) -> None:
            self.is_saving = False
            saved()
            self._notices.tell("\n".join([tr("Saved: {path}").format(path=path), *left_out]), bool(left_out))
            self._keeper.store()
            self._remember(path)

        def refused(error: PureSignalError) -> None:
            self.is_saving = False
            failed()
            self._notices.tell(str(error), True)

        self._background.run("save", work, done, refused)  # not shown

    def finish_saving(self) -> None:
        """Wait for a session that is being written; what is closed now is in its file."""
        if self.is_saving:
            self._background.wait(SAVED_WITHIN)

    def ask_save_copy(self) -> None:
        name = tr("{name}, copy", name=self._bench.session.name) + session_file.ENDING
        self._ask(tr("Save a copy"), name, tr(SESSION_FILTER), session_file.ENDING, self.save_copy_to)

    def save_copy_to(self, path: Path) -> None:
        """Save a copy, while the session stays the file it is, or say why not."""
        self._saved(path, self._bench.save_copy)

    def ask_save_midi(self) -> None:
        own = self._bench.whole
        if own is not None:
            self._ask(tr("Save MIDI file"), f"{own.ref.name}, clean.mid", tr(MIDI_FILTER), ".mid", self.save_midi_to)

    def ask_save_sections(self) -> None:
        """Ask for the folder that gets a file of each section."""
        if not self._bench.session.sections:
            self._notices.tell(tr("There are no sections yet: select bars on the ruler in Takes and make one."), True)
            return
        chosen = QFileDialog.getExistingDirectory(self._window, tr("Folder for a MIDI file of each section"))
        if chosen:
            self.save_sections_to(Path(chosen))

    def save_sections_to(self, folder: Path) -> None:
        """Write a file of each section, or say why not; files that are there stay."""
        try:
            written = self._bench.save_sections(folder)
        except PureSignalError as error:
            self._notices.tell(str(error), True)
            return
        text = tr("Saved in {folder}: {names}", folder=folder, names=", ".join(path.name for path in written))
        self._notices.tell(text, False)

    def save_midi_to(self, path: Path) -> None:
        """Save the clean take, or say why not."""
        self._saved(path, self._bench.save_midi)

    def ask_save_summary(self) -> None:
        own = self._bench.whole
        if own is not None:
            name, pages = f"{own.ref.name}, summary.html", tr("Web pages (*.html)")
            self._ask(tr("Save summary"), name, pages, ".html", self.save_summary_to)

    def save_summary_to(self, path: Path) -> None:
        """Save the summary page, or say why not."""
        self._saved(path, self._bench.save_summary)

    def _ask(self, title: str, name: str, kinds: str, ending: str, save: Callable[[Path], None]) -> None:
        chosen, _ = QFileDialog.getSaveFileName(self._window, title, name, kinds)
        if chosen:
            path = Path(chosen)
            save(path if path.suffix else path.with_suffix(ending))

    def _saved(self, path: Path, save: Callable[[Path], list[str] | None]) -> bool:
        try:
            left_out = save(path) or []
        except PureSignalError as error:
            self._notices.tell(str(error), True)
            return False
        self._notices.tell("\n".join([tr("Saved: {path}").format(path=path), *left_out]), bool(left_out))
        return True

    # Recent files, unsaved work

    def _remember(self, path: Path) -> None:
        self._preferences.use(preferences.with_recent(self._preferences.now, path))

    def fill_recent(self, menu: QMenu) -> None:
        """List the recent files in a menu."""
        menu.clear()
        for name in self._preferences.now.recent:
            action = menu.addAction(Path(name).name)
            action.setToolTip(plain_tip(name))
            action.setEnabled(Path(name).exists())
            action.triggered.connect(lambda _=False, p=Path(name): self.open_files([p]))
        if not self._preferences.now.recent:
            menu.addAction(tr("none yet")).setEnabled(False)

    def fill_removed(self, menu: QMenu) -> None:
        """List the takes that were removed from the session in a menu."""
        menu.clear()
        removed = self._bench.removed_takes()
        for take in removed:
            action = menu.addAction(tr("Put back: {name}").format(name=take.name))
            action.triggered.connect(lambda _=False, ident=take.ident: self._bench.put_back(ident))
        if removed:
            menu.addSeparator()
            menu.addAction(tr("Delete them for good…")).triggered.connect(self.ask_delete_removed)
        else:
            menu.addAction(tr("none")).setEnabled(False)

    def ask_delete_removed(self) -> None:
        """Delete removed takes after a question; this cannot be undone."""
        names = "\n".join(take.name for take in self._bench.removed_takes())
        question = tr("Delete these takes for good? This cannot be undone.\n\n{names}", names=names)
        box = QMessageBox(QMessageBox.Icon.Question, tr("Removed takes"), question, parent=self._window)
        box.setTextFormat(Qt.TextFormat.PlainText)
        delete = box.addButton(tr("Delete"), QMessageBox.ButtonRole.DestructiveRole)
        box.addButton(QMessageBox.StandardButton.Cancel)
        box.exec()
        if box.clickedButton() is delete:
            self._bench.delete_removed_takes()

    def fill_leftovers(self, menu: QMenu) -> None:
        """List unsaved work in a menu."""
        menu.clear()
        found = work_folder.leftovers()
        for leftover in found:
            action = menu.addAction(leftover.name or tr("Untitled"))
            action.triggered.connect(lambda _=False, one=leftover: self.recover(one))
        if not found:
            menu.addAction(tr("none")).setEnabled(False)

    def offer_leftovers(self) -> bool:
        """Offer earlier unsaved work. Returns whether there is any."""
        found = work_folder.leftovers()
        if found:
            text = tr("Unsaved work on “{name}” is still here.").format(name=found[0].name or tr("Untitled"))
            if len(found) > 1:
                text += tr(" There is more under File, Unsaved work.")
            tip = tr("Continues where it stopped. It also stays under File, Unsaved work.")
            self._notices.offer(text, tr("Open it"), tip, lambda: self.recover(found[0]))
        return bool(found)

    def recover(self, leftover: work_folder.Leftover) -> None:
        """Continue with unsaved work."""
        try:
            self._bench.recover(leftover)
        except PureSignalError as error:
            self._notices.tell(str(error), True)
        else:
            # The only copy stays until its successor is on disk.
            if self._keeper.store():
                work_folder.discard(leftover)
            # A recording that was cut off belongs into the work that was open then.
            self._sitting.offer_killed()

    def tell_kept(self) -> None:
        """Say that what was not saved is kept, unless the player knows."""
        if not self._bench.unsaved or not self._preferences.now.tells_kept or not self._bench.session.takes:
            return
        text = tr("“{name}” has work that is not saved in its file. It is kept on this computer, and offered when the "
                  "program starts again and under File, Unsaved work.")  # fmt: skip
        box = QMessageBox(QMessageBox.Icon.Information, tr("Kept"), text.format(name=self._bench.session.name),
                          parent=self._window)  # fmt: skip
        box.setTextFormat(Qt.TextFormat.PlainText)
        save = box.addButton(tr("Save…"), QMessageBox.ButtonRole.ActionRole)
        close = box.addButton(tr("Close"), QMessageBox.ButtonRole.AcceptRole)
        box.setDefaultButton(close)
        again = QCheckBox(tr("do not say this again"))
        box.setCheckBox(again)
        box.exec()
        if again.isChecked():
            self._preferences.change(tells_kept=False)
        if box.clickedButton() is save:
            self.save_session()
            self.finish_saving()

    def may_close(self) -> bool:
        """Whether the window may close: nothing would be lost, or the player gives it up."""
        while not self._keeper.is_safe():
            question = tr(
                "This session could not be stored: make room on the disk, or save it elsewhere. "
                "Closing now loses what was not saved."
            )
            box = QMessageBox(QMessageBox.Icon.Warning, tr("Not stored"), question, parent=self._window)
            box.setTextFormat(Qt.TextFormat.PlainText)
            elsewhere = box.addButton(tr("Save elsewhere…"), QMessageBox.ButtonRole.AcceptRole)
            close = box.addButton(tr("Close and lose it"), QMessageBox.ButtonRole.DestructiveRole)
            box.addButton(tr("Stay"), QMessageBox.ButtonRole.RejectRole)
            box.exec()
            if box.clickedButton() is close:
                return True
            if box.clickedButton() is not elsewhere:
                return False
            self.ask_save_session()
        return True
