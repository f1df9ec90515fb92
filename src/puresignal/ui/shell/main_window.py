"""The main window: header, sidebar, the current view, transport and tally."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import (
    QAction,
    QActionGroup,
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QGuiApplication,
    QKeySequence,
    QResizeEvent,
)
from PySide6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QMenu,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from puresignal.core.errors import BadFileError, PureSignalError
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi.events import Take
from puresignal.core.path import note_selection
from puresignal.core.touch.computer_keyboard import PLAYABLE, Keyboard, own_map
from puresignal.io import file_kinds, ports, preferences, session_file, work_folder
from puresignal.io.preferences import SoundOut
from puresignal.translation import mark, tr
from puresignal.ui.inputs.inputs_view import InputsView
from puresignal.ui.inputs.keyboard_player import KeyboardPlayer
from puresignal.ui.inputs.live_cards import LiveCards
from puresignal.ui.mapping.mapping_view import MappingView
from puresignal.ui.outputs.outputs_view import OutputsView
from puresignal.ui.shell.diagnosis import Diagnosis
from puresignal.ui.shell.input_sidebar import WIDTH, InputSidebar
from puresignal.ui.shell.map_bar import MapBar
from puresignal.ui.shell.message_bar import MessageBar
from puresignal.ui.shell.tally_bar import TallyBar
from puresignal.ui.shell.transport_bar import TransportBar
from puresignal.ui.state.autosave import Autosave
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.state.playback import CLEAN, PLAYED, Playback
from puresignal.ui.state.workbench import Workbench
from puresignal.ui.takes import row_painter
from puresignal.ui.takes.takes_view import TakesView
from puresignal.ui.velocity.velocity_view import VelocityView
from puresignal.ui.widgets import text_format, theme

SHORT_MS = 90
"""Milliseconds that a hit on a pad beside a row is held."""
MIDI_FILTER = mark("MIDI files (*.mid *.midi *.smf *.kar *.rmi)")
SESSION_FILTER = mark("Pure Signal sessions (*.puresignal)")


class MainWindow(QMainWindow):
    """The main window. All its state is in the workbench."""

    def __init__(self, workbench: Workbench, parent: QWidget | None = None):
        super().__init__(parent)
        self.workbench = workbench
        self.keeper = Autosave(workbench, self)
        self.preferences = preferences.read()
        self.resize(1280, 800)
        self.setMinimumSize(1000, 640)
        self.setAcceptDrops(True)
        self.listener = LiveSession(workbench, self)
        self.player = KeyboardPlayer(self.listener, self.preferences.keyboard, self)
        self.inputs = InputsView(workbench, self.listener, self.player)
        self.mapping = MappingView(workbench, self.listener)
        self.velocity = VelocityView(workbench, self.listener)
        self.takes = TakesView(workbench)
        self.outputs = OutputsView(workbench)
        self.views: dict[str, QWidget] = {
            "Inputs": self.inputs, "Mapping": self.mapping, "Velocity": self.velocity, "Takes": self.takes,
            "Outputs": self.outputs,
        }  # fmt: skip
        self._stale: set[str] = set(self.views)
        self.stack = QStackedWidget()
        for view in self.views.values():
            self.stack.addWidget(view)
        self.rail = InputSidebar(workbench, LiveCards(workbench, self.listener))
        self.maps = MapBar(workbench)
        self.source, self.target = self.maps.source, self.maps.target
        self.notice = MessageBar()
        self.strip = TallyBar()
        self.playback = Playback(workbench, self.listener, self)
        self.transport = TransportBar(workbench, self.listener, self.playback)
        self._build()
        self._build_menus()

        self.rail.open_requested.connect(self.ask_open)
        self.rail.drummer_requested.connect(self.inputs.drummer.play.click)
        self.inputs.drummer.take_played.connect(self._add_played)
        self.inputs.drummer.kit.failed.connect(lambda text: self.notice.tell(text, True))
        self.questions = Diagnosis(workbench, self.listener, self.inputs, self.notice, self.show_view)
        self.rail.live.clicked.connect(lambda _: self.show_view("Inputs"))
        self.outputs.save_requested.connect(self.ask_save_midi)
        self.mapping.notes_requested.connect(self._show_hits)
        self.mapping.source_changed.connect(lambda _: self._follow_maps())
        self.takes.range_selected.connect(self.outputs.set_stretch)
        self.takes.range_selected.connect(self.playback.set_span)
        self.takes.audition_requested.connect(self.playback.hear)
        self.takes.path.suggestion_made.connect(self.notice.offer)
        self.velocity.suggestion_made.connect(self.notice.offer)
        self.inputs.keys.settings_changed.connect(self._set_keyboard)
        self.transport.keys_switched.connect(self.switch_keys)
        self.listener.sound_state_changed.connect(self.outputs.sound.show_problem)
        self.listener.sound_out = self.preferences.sound
        self.outputs.sound.show_out(self.preferences.sound)
        self.outputs.sound.sound_out_changed.connect(self._set_sound_out)
        self.transport.monitoring_requested.connect(
            lambda: self.notice.tell("\n".join(self.transport.monitoring()), False)
        )
        self.takes.timeline.pad_played.connect(self._strike)
        self.takes.timeline.seek_requested.connect(self.playback.go)
        self.playback.moved.connect(self._move_line)
        self.strip.figure_pressed.connect(self._point_at)
        workbench.changed.connect(self._refresh)
        workbench.message_shown.connect(self.notice.tell)
        self._refresh()

    COMPACT_BELOW = 1180
    """Width in pixels below which side columns are narrower."""

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        compact = self.width() < self.COMPACT_BELOW
        self.rail.setFixedWidth(190 if compact else WIDTH)
        self.name.setMinimumWidth(160 if compact else 206)
        self.takes.set_compact(compact)
        self.mapping.side.setFixedWidth(250 if compact else 286)
        self.inputs.set_compact(compact)
        self.outputs.set_compact(compact)

    # Building

    def _build(self) -> None:
        middle = QVBoxLayout()
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(0)
        middle.addWidget(self.maps)
        middle.addWidget(self.stack, 1)
        across = QHBoxLayout()
        across.setContentsMargins(0, 0, 0, 0)
        across.setSpacing(0)
        across.addWidget(self.rail)
        across.addLayout(middle, 1)
        column = QVBoxLayout()
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self._header())
        column.addWidget(self.notice)
        column.addLayout(across, 1)
        column.addWidget(self.transport)
        column.addWidget(self.strip)
        centre = QWidget()
        centre.setLayout(column)
        self.setCentralWidget(centre)

    def _header(self) -> QWidget:
        header = QWidget()
        header.setObjectName("header")
        header.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(header)
        row.setContentsMargins(16, 0, 18, 0)
        row.setSpacing(2)
        self.name = QLabel()
        self.name.setObjectName("sessionName")
        self.name.setMinimumWidth(206)
        row.addWidget(self.name)
        self.view_buttons: dict[str, QPushButton] = {}
        group = QButtonGroup(self)
        tips = {
            "Inputs": tr("What arrives, and from where."),
            "Mapping": tr("What arrives, what it means, and what leaves."),
            "Velocity": tr("How hard hits arrive, and how hard they leave."),
            "Takes": tr("What was played, and what was made of it."),
            "Outputs": tr("Tracks, files and clips."),
        }
        for i, name in enumerate(self.views):
            button = QPushButton(tr(name))
            button.setObjectName("view")
            button.setCheckable(True)
            button.setToolTip(f"{tips[name]} (Ctrl+{i + 1})")  # not shown
            button.setAccessibleName(tr("{name} view").format(name=tr(name)))
            button.clicked.connect(lambda _=False, n=name: self.show_view(n))
            group.addButton(button)
            row.addWidget(button)
            self.view_buttons[name] = button
        self.view_buttons["Inputs"].setChecked(True)
        row.addStretch()
        self.tempo = QLabel()
        self.tempo.setObjectName("figure")
        self.tempo.setToolTip(tr("Tempo and meter of the take, in quarter notes per minute."))
        row.addWidget(self.tempo)
        return header

    def _build_menus(self) -> None:
        bar = self.menuBar()
        file = bar.addMenu(tr("&File"))
        self._action(file, mark("New session"), "Ctrl+N", self.new_session)
        self._action(file, mark("Open…"), "Ctrl+O", self.ask_open)
        self.recent_menu = file.addMenu(tr("Recent files"))
        self.recent_menu.aboutToShow.connect(self._fill_recent)
        self.leftover_menu = file.addMenu(tr("Unsaved work"))
        self.leftover_menu.aboutToShow.connect(self._fill_leftovers)
        file.addSeparator()
        self._action(file, mark("Save session"), "Ctrl+S", self.save_session)
        self._action(file, mark("Save session as…"), "Ctrl+Shift+S", self.ask_save_session)
        file.addSeparator()
        self.save_midi_action = self._action(file, mark("Save MIDI file…"), "Ctrl+E", self.ask_save_midi)
        self.summary_action = self._action(file, mark("Save summary…"), "Ctrl+P", self.ask_save_summary)
        self.copy_action = self._action(file, mark("Copy clip as file"), "Ctrl+Shift+C", self.outputs.copy)
        file.addSeparator()
        self._action(file, mark("Panic: end all notes"), "Ctrl+.", self.listener.panic)
        self._action(file, mark("Quit"), "Ctrl+Q", self.close)
        play = bar.addMenu(tr("&Play"))
        self._action(play, mark("Play / stop"), "Space", self.playback.toggle)
        self._action(play, mark("Go to start"), "Ctrl+Home", lambda: self.playback.go(0.0))
        self._action(play, mark("Loop"), "L", lambda: self.playback.set_looping(not self.playback.looping))
        self._action(play, mark("Hear played / clean"), "H", self._switch_version)
        self._action(play, mark("Settings A / B"), "B", self.playback.compare_settings)
        self._action(play, mark("Previous take"), "T", self.playback.compare_takes)
        self._action(play, mark("Play the computer keyboard"), "Ctrl+K", lambda: self.switch_keys(not self.player.on))
        edit = bar.addMenu(tr("&Edit"))
        self.undo_action = self._action(edit, mark("Undo"), "Ctrl+Z", self.workbench.undo)
        self.redo_action = self._action(edit, mark("Redo"), "Ctrl+Shift+Z", self.workbench.redo)
        view = bar.addMenu(tr("&View"))
        for i, name in enumerate(self.views):
            self._action(view, name, f"Ctrl+{i + 1}", partial(self.show_view, name))
        view.addSeparator()
        for label, show, key in (
            (mark("Played"), row_painter.PLAYED, "F6"),
            (mark("Clean"), row_painter.CLEAN, "F7"),
            (mark("Both"), row_painter.BOTH, "F8"),
        ):
            self._action(view, label, key, partial(self._show_notes, show))
        self._action(view, mark("Path and selected note"), "F9", lambda: self.takes.fold.toggle())
        view.addSeparator()
        self._action(view, mark("Next selected note"), "F3", lambda: self._step(1))
        self._action(view, mark("Previous selected note"), "Shift+F3", lambda: self._step(-1))
        view.addSeparator()
        self._theme_menu(view.addMenu(tr("Theme")))
        help_menu = bar.addMenu(tr("&Help"))
        self._action(help_menu, mark("User guide"), "F1", self.show_guide)
        self._action(help_menu, mark("Shortcuts"), "Ctrl+F1", self.show_keys)
        self._action(help_menu, mark("Copy report"), "", self.copy_report)

    def _theme_menu(self, menu: QMenu) -> None:
        group = QActionGroup(self)
        self.theme_actions: dict[str, QAction] = {}
        for name, label in (("system", mark("As the system")), ("light", mark("System")), ("dim", mark("Dim"))):
            action = QAction(tr(label), self)
            action.setCheckable(True)
            action.setChecked(self.preferences.theme == name)
            action.triggered.connect(lambda _=False, n=name: self.choose_theme(n))
            group.addAction(action)
            menu.addAction(action)
            self.theme_actions[name] = action

    def _action(self, menu: QMenu, label: str, key: str, act: Callable[[], object]) -> QAction:
        action = QAction(tr(label), self)
        action.setShortcut(QKeySequence(key))
        action.triggered.connect(lambda _=False: act())
        menu.addAction(action)
        self.addAction(action)
        return action

    # Showing

    def show_view(self, name: str) -> None:
        self.view_buttons[name].setChecked(True)
        self.stack.setCurrentWidget(self.views[name])
        self._follow_maps()
        self._refresh_view()
        # The view's own keys work at once, and the header does not look as if it were being edited.
        {
            "Inputs": self.inputs.table, "Mapping": self.mapping.ribbons, "Velocity": self.velocity.on,
            "Takes": self.takes.timeline, "Outputs": self.outputs.table,
        }[name].setFocus()  # fmt: skip

    def _follow_maps(self) -> None:
        """In Mapping the map bar follows what is shown there; elsewhere the take."""
        here = self.stack.currentWidget() is self.mapping
        self.maps.look_at(self.mapping.live if here else -1)

    def _show_notes(self, show: str) -> None:
        self.show_view("Takes")
        self.takes.choose(show)

    def switch_keys(self, on: bool) -> None:
        """Switch the computer keyboard between playing and typing."""
        if on:
            self.inputs.listen_to(ports.COMPUTER_KEYBOARD, own_map())
            on = self.listener.listening
        self.player.switch(on)
        self.transport.keys.setChecked(on)

    def _strike(self, articulation: str, velocity: int) -> None:
        """Play the pad beside a row in Takes, like one on the pad sheet."""
        if articulation in PLAYABLE:
            self.inputs.listen_to(ports.SCREEN_PADS, own_map())
            self.inputs.pads.strike(articulation, velocity, SHORT_MS)

    def _set_sound_out(self, out: SoundOut) -> None:
        self.listener.set_sound_out(out)
        self._prefer(replace(self.preferences, sound=out))

    def _set_keyboard(self, keyboard: Keyboard) -> None:
        self.player.set_keyboard(keyboard)
        self._prefer(replace(self.preferences, keyboard=keyboard))

    def _switch_version(self) -> None:
        self.playback.set_version(PLAYED if self.playback.version == CLEAN else CLEAN)

    def _move_line(self, seconds: float) -> None:
        """Move the position line in Takes; during playback it is kept in view."""
        self.takes.timeline.set_line(seconds, self.playback.playing)

    def _show_hits(self, origins: object) -> None:
        self.show_view("Takes")
        self.takes.show_hits(origins)  # type: ignore[arg-type]

    def _step(self, direction: int) -> None:
        self.show_view("Takes")
        self.takes.step(direction)

    def _point_at(self, what: int, reason: int) -> None:
        if (what, reason) != (-1, -1):
            self.show_view("Takes")
        self.takes.point_at(what, reason)

    def _refresh(self) -> None:
        bench, session = self.workbench, self.workbench.session
        shown = bench.shown
        self.name.setText(session.name)
        self.setWindowTitle(f"{session.name}{'*' if bench.unsaved else ''} – Pure Signal")  # not shown
        self.tempo.setText(
            "" if shown is None else f"{text_format.tempo(shown.take.tempo)}   {text_format.meter(shown.take.tempo)}"
        )
        self.rail.show_session()
        self.maps.show_session()
        self._stale = set(self.views)
        self._refresh_view()
        if shown is None:
            self.strip.show_tally(None)
        else:
            self.strip.show_tally(shown.outcome.tally, len(note_selection.doubtful(shown.outcome)))
        self._mark_views()
        self.save_midi_action.setEnabled(shown is not None)
        self.summary_action.setEnabled(shown is not None)
        self.copy_action.setEnabled(shown is not None)
        for action, word, name in (
            (self.undo_action, tr("Undo"), bench.history.undo_name),
            (self.redo_action, tr("Redo"), bench.history.redo_name),
        ):
            action.setEnabled(name is not None)
            action.setText(word if name is None else f"{word}: {name}")

    def _mark_views(self) -> None:
        """Mark the Mapping tab with the number of unmapped hits."""
        shown = self.workbench.shown
        unmapped = 0
        if shown is not None:
            removed = shown.outcome.tally.removed()
            unmapped = sum(count for reason, count in removed.items() if reason in note_selection.UNMAPPED)
        label = tr("Mapping")
        self.view_buttons["Mapping"].setText(
            f"{label}  \N{BULLET} {text_format.count(unmapped)}" if unmapped else label
        )

    def _refresh_view(self) -> None:
        """Update only the visible view at once; the others when they are shown."""
        for name, view in self.views.items():
            if view is self.stack.currentWidget() and name in self._stale:
                self._stale.discard(name)
                view.show_take(self.workbench.shown)  # type: ignore[attr-defined]

    # Opening and saving

    def new_session(self) -> None:
        """Start an empty session; unsaved work of the present one stays available under Unsaved work."""
        from puresignal.core.session.session import Session

        self.workbench.show_session(
            Session(target=self.workbench.session.target, inputs=self.workbench.session.inputs), ()
        )

    def open_files(self, paths: list[Path]) -> list[str]:
        """Open sessions and MIDI files. Returns, and shows, what could not be opened and why."""
        problems = []
        for path in paths:
            try:
                self._open(path)
                self._remember(path)
            except PureSignalError as error:
                problems.append(str(error))
        if problems:
            self.notice.tell("\n".join(problems), True)
        elif paths and self.workbench.read_only is None:
            self.notice.hide()
        return problems

    def _open(self, path: Path) -> None:
        kind = file_kinds.kind_of(path)
        if kind is file_kinds.SESSION:
            self.workbench.open_session(path)
        elif kind is file_kinds.AUDIO:
            raise BadFileError(
                tr("This is a recording, not a MIDI file"), path.name,
                tr("Add it in Outputs under Backing track, or turn it into notes with pure-signal transcribe."),
            )  # fmt: skip
        elif kind is file_kinds.NOTE_MAP:
            raise BadFileError(
                tr("This is a note map"), path.name, tr("Open it under Source map or Target map, From a file…")
            )
        elif kind is file_kinds.SOUNDFONT:
            raise BadFileError(tr("This is a SoundFont"), path.name, tr("Open it in Outputs under SoundFont…"))
        else:
            self.workbench.open_midi(path)

    def ask_open(self) -> None:
        every = tr(
            "Sessions and MIDI files ({pattern})",
            pattern=f"{file_kinds.SESSION.pattern} {file_kinds.MIDI.pattern}",
        )
        names, _ = QFileDialog.getOpenFileNames(self, tr("Open"), "", f"{every};;{MIDI_FILTER}")
        self.open_files([Path(name) for name in names])

    def save_session(self) -> None:
        if self.workbench.file is None or self.workbench.read_only is not None:
            self.ask_save_session()
        else:
            self.save_session_to(self.workbench.file)

    def ask_save_session(self) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self, tr("Save session"), f"{self.workbench.session.name}{session_file.ENDING}", SESSION_FILTER
        )
        if name:
            path = Path(name)
            self.save_session_to(path if path.suffix else path.with_suffix(session_file.ENDING))

    def save_session_to(self, path: Path) -> None:
        """Save the session, or say why not."""
        try:
            self.workbench.save_session(path)
        except PureSignalError as error:
            self.notice.tell(str(error), True)
        else:
            self.keeper.store()
            self._remember(path)
            self.notice.tell(tr("Saved: {path}").format(path=path), False)

    def ask_save_midi(self) -> None:
        shown = self.workbench.shown
        if shown is None:
            return
        name, _ = QFileDialog.getSaveFileName(self, tr("Save MIDI file"), f"{shown.ref.name}, clean.mid", MIDI_FILTER)
        if name:
            path = Path(name)
            self.save_midi_to(path if path.suffix else path.with_suffix(".mid"))

    def save_midi_to(self, path: Path) -> None:
        """Save the clean take, or say why not."""
        try:
            self.workbench.save_midi(path)
        except PureSignalError as error:
            self.notice.tell(str(error), True)
        else:
            self.notice.tell(tr("Saved: {path}").format(path=path), False)

    def ask_save_summary(self) -> None:
        shown = self.workbench.shown
        if shown is None:
            return
        name, _ = QFileDialog.getSaveFileName(
            self, tr("Save summary"), f"{shown.ref.name}, summary.html", tr("Web pages (*.html)")
        )
        if name:
            path = Path(name)
            self.save_summary_to(path if path.suffix else path.with_suffix(".html"))

    def save_summary_to(self, path: Path) -> None:
        """Save the summary page, or say why not."""
        try:
            self.workbench.save_summary(path)
        except PureSignalError as error:
            self.notice.tell(str(error), True)
        else:
            self.notice.tell(tr("Saved: {path}").format(path=path), False)

    def _add_played(self, take: Take, kit: NoteMap) -> None:
        self.workbench.add_take(take, kit, tr("play a take"))

    # Recent files, unsaved work

    def _remember(self, path: Path) -> None:
        self._prefer(preferences.with_recent(self.preferences, path))

    def _prefer(self, chosen: preferences.Preferences) -> None:
        self.preferences = chosen
        try:
            preferences.write(chosen)
        except PureSignalError as error:
            self.notice.tell(str(error), True)

    def _fill_recent(self) -> None:
        self.recent_menu.clear()
        for name in self.preferences.recent:
            action = self.recent_menu.addAction(Path(name).name)
            action.setToolTip(name)
            action.setEnabled(Path(name).exists())
            action.triggered.connect(lambda _=False, p=Path(name): self.open_files([p]))
        if not self.preferences.recent:
            self.recent_menu.addAction(tr("none yet")).setEnabled(False)

    def _fill_leftovers(self) -> None:
        self.leftover_menu.clear()
        found = work_folder.leftovers()
        for leftover in found:
            action = self.leftover_menu.addAction(leftover.name or tr("Untitled"))
            action.triggered.connect(lambda _=False, one=leftover: self.recover(one))
        if not found:
            self.leftover_menu.addAction(tr("none")).setEnabled(False)

    def offer_leftovers(self) -> None:
        """Offer earlier unsaved work, if there is any."""
        found = work_folder.leftovers()
        if found:
            text = tr("Unsaved work on “{name}” is still here.").format(name=found[0].name or tr("Untitled"))
            if len(found) > 1:
                text += tr(" There is more under File, Unsaved work.")
            tip = tr("Continues where it stopped. It also stays under File, Unsaved work.")
            self.notice.offer(text, tr("Open it"), tip, lambda: self.recover(found[0]))

    def recover(self, leftover: work_folder.Leftover) -> None:
        """Continue with unsaved work."""
        try:
            self.workbench.recover(leftover)
        except PureSignalError as error:
            self.notice.tell(str(error), True)
        else:
            self.keeper.store()
            work_folder.discard(leftover)

    # The program itself

    def choose_theme(self, name: str) -> None:
        """ "system", "light" or "dim"."""
        self.theme_actions[name].setChecked(True)
        self._prefer(replace(self.preferences, theme=name))
        self.apply_theme()

    def apply_theme(self) -> None:
        """Apply the chosen theme, or the system's."""
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        name = self.preferences.theme
        if name == "system":
            dark = QGuiApplication.styleHints().colorScheme() == Qt.ColorScheme.Dark
            name = "dim" if dark else "light"
        if theme.current().name != name:
            theme.apply(app, theme.THEMES[name])
            for widget in self.findChildren(QWidget):
                widget.update()

    def show_guide(self) -> None:
        from puresignal.ui.shell.help_dialogs import GuideDialog

        self._guide = GuideDialog(self)
        self._guide.show()

    def show_keys(self) -> None:
        from puresignal.ui.shell.help_dialogs import ShortcutsDialog

        self._keys_dialog = ShortcutsDialog(self.actions(), self)
        self._keys_dialog.show()

    def copy_report(self) -> None:
        """Copy a report for a helper to the clipboard."""
        from puresignal.ui.shell.help_dialogs import report

        QGuiApplication.clipboard().setText(report())
        self.notice.tell(tr("A report with versions and the last lines of the log was copied to the clipboard."), False)

    def told_bug(self, text: str) -> None:
        """Report an unexpected error; nothing is lost by it."""
        self.keeper.store()
        self.notice.offer(
            tr("Unexpected error: {text}. Your work is stored.").format(text=text),
            tr("Copy report"),
            tr("Copies versions and the log, for sending to somebody who helps."),
            self.copy_report,
        )

    # Files dropped on the window

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls() and event.source() is None:
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        self.open_files([Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()])
        event.acceptProposedAction()

    def closeEvent(self, event: QCloseEvent) -> None:
        self.player.switch(False)
        self.playback.stop()
        self.listener.close()
        self.keeper.close()
        self._prefer(replace(self.preferences, geometry=bytes(self.saveGeometry().data())))
        event.accept()
