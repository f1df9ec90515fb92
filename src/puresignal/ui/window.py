"""The window: header, inputs at the left, the chosen view, the tally at the foot."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence
from PySide6.QtWidgets import (
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

from puresignal.core import session as edits
from puresignal.core.errors import PureSignalError
from puresignal.core.events import Take
from puresignal.core.notemap import NoteMap, check_source
from puresignal.io import sessionfile
from puresignal.ui import drawing, words
from puresignal.ui.inputs import InputsView
from puresignal.ui.mapchoice import MapChoice
from puresignal.ui.model import Workbench
from puresignal.ui.notice import Notice
from puresignal.ui.outputs import OutputsView
from puresignal.ui.rail import Rail
from puresignal.ui.takes import TakesView
from puresignal.ui.tallystrip import TallyStrip

MIDI_FILTER = "MIDI files (*.mid *.midi *.smf *.kar *.rmi)"
SESSION_FILTER = "Pure Signal sessions (*.puresignal)"


class MainWindow(QMainWindow):
    """Everything the player sees. All it knows is in the workbench."""

    def __init__(self, workbench: Workbench, parent: QWidget | None = None):
        super().__init__(parent)
        self.workbench = workbench
        self.resize(1280, 800)
        self.setMinimumSize(1000, 640)
        self.setAcceptDrops(True)
        self.inputs = InputsView(workbench)
        self.takes = TakesView(workbench)
        self.outputs = OutputsView(workbench)
        self.views: dict[str, QWidget] = {"Inputs": self.inputs, "Takes": self.takes, "Outputs": self.outputs}
        self.stack = QStackedWidget()
        for view in self.views.values():
            self.stack.addWidget(view)
        self.rail = Rail(workbench)
        self.notice = Notice()
        self.strip = TallyStrip()
        self._build()
        self._build_menus()

        self.rail.open_asked.connect(self.ask_open)
        self.rail.play_asked.connect(self.inputs.drummer.play.click)
        self.inputs.drummer.played.connect(self._add_played)
        self.inputs.drummer.kit.failed.connect(lambda text: self.notice.tell(text, True))
        self.outputs.save_asked.connect(self.ask_save_midi)
        self.strip.asked.connect(self._point_at)
        workbench.changed.connect(self._refresh)
        workbench.told.connect(self.notice.tell)
        self._refresh()

    # Building

    def _build(self) -> None:
        middle = QVBoxLayout()
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(0)
        middle.addWidget(self._map_bar())
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
            "Inputs": self.tr("What has come in, and from where."),
            "Takes": self.tr("What was played beside what was made of it."),
            "Outputs": self.tr("The tracks, and the file that leaves."),
        }
        for i, name in enumerate(self.views):
            button = QPushButton(self.tr(name))
            button.setObjectName("view")
            button.setCheckable(True)
            button.setToolTip(f"{tips[name]} (Ctrl+{i + 1})")
            button.setAccessibleName(self.tr("{name} view").format(name=name))
            button.clicked.connect(lambda _=False, n=name: self.show_view(n))
            group.addButton(button)
            row.addWidget(button)
            self.view_buttons[name] = button
        self.view_buttons["Inputs"].setChecked(True)
        row.addStretch()
        self.tempo = QLabel()
        self.tempo.setObjectName("figure")
        self.tempo.setToolTip(self.tr("Tempo and meter of the take, in quarter notes a minute."))
        row.addWidget(self.tempo)
        return header

    def _map_bar(self) -> QWidget:
        bar = QWidget()
        bar.setObjectName("bar")
        bar.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(bar)
        row.setContentsMargins(20, 8, 20, 8)
        row.setSpacing(8)
        self.source = MapChoice(check_source)
        self.source.setAccessibleName(self.tr("Note map of the kit that was played"))
        self.source.setToolTip(self.tr("What the player's kit sends: which note means which drum."))
        self.source.chosen.connect(self._choose_source)
        self.target = MapChoice()
        self.target.setAccessibleName(self.tr("Note map of the receiver"))
        self.target.setToolTip(self.tr("What the receiving instrument expects: on which note each drum leaves."))
        self.target.chosen.connect(self._choose_target)
        for label, choice in ((self.tr("Kit sends"), self.source), (self.tr("Receiver expects"), self.target)):
            text = QLabel(label)
            text.setBuddy(choice)
            row.addWidget(text)
            row.addWidget(choice)
            row.addSpacing(16)
            choice.failed.connect(lambda message: self.notice.tell(message, True))
        row.addStretch()
        return bar

    def _build_menus(self) -> None:
        bar = self.menuBar()
        file = bar.addMenu(self.tr("&File"))
        self._action(file, "Open…", "Ctrl+O", self.ask_open)
        self._action(file, "Save session", "Ctrl+S", self.save_session)
        self._action(file, "Save session as…", "Ctrl+Shift+S", self.ask_save_session)
        file.addSeparator()
        self.save_midi_action = self._action(file, "Save MIDI file…", "Ctrl+E", self.ask_save_midi)
        file.addSeparator()
        self._action(file, "Quit", "Ctrl+Q", self.close)
        edit = bar.addMenu(self.tr("&Edit"))
        self.undo_action = self._action(edit, "Undo", "Ctrl+Z", self.workbench.undo)
        self.redo_action = self._action(edit, "Redo", "Ctrl+Shift+Z", self.workbench.redo)
        view = bar.addMenu(self.tr("&View"))
        for i, name in enumerate(self.views):
            self._action(view, name, f"Ctrl+{i + 1}", lambda n=name: self.show_view(n))
        view.addSeparator()
        for label, show, key in (
            ("Played", drawing.PLAYED, "F6"),
            ("Clean", drawing.CLEAN, "F7"),
            ("Both", drawing.BOTH, "F8"),
        ):
            self._action(view, label, key, lambda s=show: self._show_notes(s))
        view.addSeparator()
        self._action(view, "Next note pointed at", "F3", lambda: self._step(1))
        self._action(view, "Note pointed at before", "Shift+F3", lambda: self._step(-1))

    def _action(self, menu: QMenu, label: str, key: str, act: object) -> QAction:
        action = QAction(self.tr(label), self)
        action.setShortcut(QKeySequence(key))
        action.triggered.connect(lambda _=False: act())  # type: ignore[operator]
        menu.addAction(action)
        self.addAction(action)
        return action

    # Showing

    def show_view(self, name: str) -> None:
        self.view_buttons[name].setChecked(True)
        self.stack.setCurrentWidget(self.views[name])
        # The keys of a view work at once, and the header does not look as if it were being edited.
        first = {"Inputs": self.inputs.table, "Takes": self.takes.timeline, "Outputs": self.outputs.table}[name]
        first.setFocus()

    def _show_notes(self, show: str) -> None:
        self.show_view("Takes")
        self.takes.choose(show)

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
        self.setWindowTitle(f"{session.name}{'*' if bench.unsaved else ''} – Pure Signal")
        self.tempo.setText(
            "" if shown is None else f"{words.tempo(shown.take.tempo)}   {words.meter(shown.take.tempo)}"
        )
        self.rail.show_session()
        ref = session.take()
        self.source.setEnabled(ref is not None)
        self.source.show_map(ref.source if ref is not None else None)
        self.target.show_map(session.target)
        for view in (self.inputs, self.takes, self.outputs):
            view.show_take(shown)
        self.strip.show_tally(shown.outcome.tally if shown is not None else None)
        self.save_midi_action.setEnabled(shown is not None)
        for action, word, name in (
            (self.undo_action, self.tr("Undo"), bench.history.undo_name),
            (self.redo_action, self.tr("Redo"), bench.history.redo_name),
        ):
            action.setEnabled(name is not None)
            action.setText(word if name is None else f"{word}: {name}")

    # Doing

    def open_files(self, paths: list[Path]) -> list[str]:
        """Opens sessions and MIDI files; returns what could not be opened and why, and shows it."""
        problems = []
        for path in paths:
            try:
                if path.suffix.lower() == sessionfile.ENDING:
                    self.workbench.open_session(path)
                else:
                    self.workbench.open_midi(path)
            except PureSignalError as error:
                problems.append(str(error))
        if problems:
            self.notice.tell("\n".join(problems), True)
        elif self.workbench.read_only is None:
            self.notice.hide()
        return problems

    def ask_open(self) -> None:
        names, _ = QFileDialog.getOpenFileNames(
            self,
            self.tr("Open"),
            "",
            f"Sessions and MIDI files (*.puresignal *.mid *.midi *.smf *.kar *.rmi);;{MIDI_FILTER}",
        )
        self.open_files([Path(name) for name in names])

    def save_session(self) -> None:
        if self.workbench.file is None or self.workbench.read_only is not None:
            self.ask_save_session()
        else:
            self.save_session_to(self.workbench.file)

    def ask_save_session(self) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self, self.tr("Save session"), f"{self.workbench.session.name}{sessionfile.ENDING}", SESSION_FILTER
        )
        if name:
            path = Path(name)
            self.save_session_to(path if path.suffix else path.with_suffix(sessionfile.ENDING))

    def save_session_to(self, path: Path) -> None:
        """Saves the session, or says why not."""
        try:
            self.workbench.save_session(path)
        except PureSignalError as error:
            self.notice.tell(str(error), True)
        else:
            self.notice.tell(self.tr("Saved: {path}").format(path=path), False)

    def ask_save_midi(self) -> None:
        shown = self.workbench.shown
        if shown is None:
            return
        name, _ = QFileDialog.getSaveFileName(
            self, self.tr("Save MIDI file"), f"{shown.ref.name}, clean.mid", MIDI_FILTER
        )
        if name:
            path = Path(name)
            self.save_midi_to(path if path.suffix else path.with_suffix(".mid"))

    def save_midi_to(self, path: Path) -> None:
        """Saves the clean take, or says why not."""
        try:
            self.workbench.save_midi(path)
        except PureSignalError as error:
            self.notice.tell(str(error), True)
        else:
            self.notice.tell(self.tr("Saved: {path}").format(path=path), False)

    def _add_played(self, take: Take, kit: NoteMap) -> None:
        self.workbench.add_take(take, kit, self.tr("play a take"))

    def _choose_source(self, note_map: NoteMap) -> None:
        bench = self.workbench
        if bench.session.current is not None:
            edit = edits.with_source(bench.session, bench.session.current, note_map)
            bench.do(self.tr("choose the kit's map"), edit)

    def _choose_target(self, note_map: NoteMap) -> None:
        bench = self.workbench
        bench.do(self.tr("choose the receiver's map"), edits.with_target(bench.session, note_map))

    # Files dropped on the window

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        self.open_files([Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()])
        event.acceptProposedAction()

    def closeEvent(self, event: QCloseEvent) -> None:
        event.accept()
