"""The main window: header, sidebar, the current view, transport and tally."""

from __future__ import annotations

import logging
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, cast

from PySide6.QtCore import QSize, Qt, QTimer
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QGuiApplication, QResizeEvent
from PySide6.QtWidgets import QApplication, QHBoxLayout, QMainWindow, QStackedWidget, QVBoxLayout, QWidget

from puresignal.core.path import note_selection
from puresignal.core.session import session as edits
from puresignal.core.touch.computer_keyboard import own_map
from puresignal.io import ports
from puresignal.translation import tr
from puresignal.ui.inputs.live_cards import LiveCards
from puresignal.ui.shell.file_actions import FileActions
from puresignal.ui.shell.header import Header
from puresignal.ui.shell.input_sidebar import WIDTH, InputSidebar
from puresignal.ui.shell.map_bar import MapBar
from puresignal.ui.shell.menus import Menus
from puresignal.ui.shell.message_bar import MessageBar
from puresignal.ui.shell.record_display import RecordDisplay
from puresignal.ui.shell.shortcuts import ControlsFirst, Shortcuts
from puresignal.ui.shell.sitting_strip import SittingStrip
from puresignal.ui.shell.tally_bar import TallyBar
from puresignal.ui.shell.transport_bar import TransportBar
from puresignal.ui.shell.views import VIEWS
from puresignal.ui.state import services
from puresignal.ui.state.autosave import Autosave
from puresignal.ui.state.shown import Shown
from puresignal.ui.state.view import View
from puresignal.ui.state.workbench import Workbench
from puresignal.ui.widgets import theme

if TYPE_CHECKING:
    from puresignal.ui.inputs.inputs_view import InputsView
    from puresignal.ui.mapping.mapping_view import MappingView
    from puresignal.ui.outputs.batch_dialog import BatchDialog
    from puresignal.ui.outputs.outputs_view import OutputsView
    from puresignal.ui.shell.changes_dialog import ChangesDialog
    from puresignal.ui.shell.guide_dialog import GuideDialog
    from puresignal.ui.shell.preferences_dialog import PreferencesDialog
    from puresignal.ui.shell.shelves_dialog import ShelvesDialog
    from puresignal.ui.takes.takes_view import TakesView
    from puresignal.ui.velocity.velocity_view import VelocityView

IDLE_MS = 250
"""Milliseconds between views that are made ahead."""
LOW_BELOW = 680
"""Pixels of the window's height below which the sitting strip is thinner."""
TITLE_BAR = 38
"""Pixels that a desktop's title bar may take."""


class ViewStack(QStackedWidget):
    """Needs only as much room as the view that is shown."""

    def minimumSizeHint(self) -> QSize:
        current = self.currentWidget()
        return current.minimumSizeHint() if current is not None else super().minimumSizeHint()


class MainWindow(QMainWindow):
    """The main window. All its state is in the services; a view is made when it is first shown."""

    COMPACT_BELOW = 1180
    """Width in pixels below which side columns are narrower."""

    def __init__(self, workbench: Workbench, first_view: str = "Inputs", parent: QWidget | None = None):
        super().__init__(parent)
        self.workbench = workbench
        self.keeper = Autosave(workbench, self)
        self.services = services.start(workbench, self)
        self.live_session, self.playback = self.services.live_session, self.services.playback
        self.resize(1280, 800)
        self.setMinimumSize(1000, 614 - TITLE_BAR)
        self.setAcceptDrops(True)
        self.files = FileActions(self.services, self.keeper, self)
        self.views: dict[str, View] = {}
        self._record_settings: QWidget | None = None
        self._sync: QWidget | None = None
        self._batch: BatchDialog | None = None
        self._changes: ChangesDialog | None = None
        self._guide: GuideDialog | None = None
        self._stale: set[str] = set()
        self._shown: Shown | None = None
        self._preferences_dialog: PreferencesDialog | None = None
        self._shelves_dialog: ShelvesDialog | None = None
        self.stack = ViewStack()
        self.header = Header(VIEWS, self.services)
        self.rail = InputSidebar(self.services, LiveCards(self.services))
        self.rail.hear_requested.connect(lambda path, kind: self.files.hear(Path(path), kind))
        self.maps = MapBar(workbench)
        self.source, self.target = self.maps.source, self.maps.target
        self.notice = MessageBar()
        self.strip = TallyBar()
        self.sitting = SittingStrip(self.services.sitting, self._choose_take)
        self.transport = TransportBar(self.services)
        self.display = RecordDisplay(self.services)
        self._lay_out()
        self.shortcuts = Shortcuts(self, self.services.preferences)
        self.menus = Menus(self, self.shortcuts)
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        self._controls_first = ControlsFirst(app, self)
        self._connect()
        self.show_view(first_view)
        self._refresh()

    def _lay_out(self) -> None:
        middle = QVBoxLayout()
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(0)
        middle.addWidget(self.display)
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
        column.addWidget(self.header)
        column.addWidget(self.notice)
        column.addLayout(across, 1)
        column.addWidget(self.sitting)
        column.addWidget(self.transport)
        column.addWidget(self.strip)
        centre = QWidget()
        centre.setLayout(column)
        self.setCentralWidget(centre)

    def _connect(self) -> None:
        requests, notices = self.services.requests, self.services.notices
        requests.view_requested.connect(self.show_view)
        requests.hits_requested.connect(self._show_hits)
        requests.mapping_requested.connect(self._look_at_map)
        requests.files_dropped.connect(self.files.open_files)
        requests.save_midi_requested.connect(self.files.ask_save_midi)
        requests.maps_changed.connect(self._follow_maps)
        notices.told.connect(self.notice.tell)
        notices.offered.connect(self.notice.offer)
        notices.cleared.connect(self.notice.hide)
        self.header.view_chosen.connect(self.show_view)
        self.rail.open_requested.connect(self.files.ask_open)
        self.rail.drummer_requested.connect(lambda: self.inputs.play_take())
        self.rail.live.clicked.connect(self._look_at_input)
        self.transport.keys_switched.connect(self.switch_keys)
        self.transport.settings_requested.connect(self.show_record_settings)
        self.transport.sync_requested.connect(self.show_sync)
        self.services.sitting.kept.connect(self._offer_beats)
        self.services.capture.click_drowned.connect(self._offer_click)
        self.display.enlarged.connect(self._enlarge)
        self.strip.figure_pressed.connect(self._point_at)
        self.workbench.changed.connect(self._refresh)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.rail.setFixedWidth(190 if self._compact else WIDTH)
        self.header.set_compact(self._compact)
        self.sitting.set_low(self.height() < LOW_BELOW)
        for view in self.views.values():
            view.set_compact(self._compact)

    def fit_screen(self) -> None:
        """Take the usual size, or as much of the screen as there is below a title bar."""
        room = self.screen().availableGeometry()
        self.resize(min(1280, room.width()), min(800, room.height()) - TITLE_BAR)

    @property
    def _compact(self) -> bool:
        return self.width() < self.COMPACT_BELOW

    # Views

    @property
    def view_names(self) -> tuple[str, ...]:
        """The names of the views, in order."""
        return tuple(view.name for view in VIEWS)

    def view(self, name: str) -> View:
        """A view by its name; made now if it has not been shown before."""
        if name not in self.views:
            made = next(view for view in VIEWS if view.name == name).make(self.services)
            made.set_compact(self._compact)
            self.views[name] = made
            self.stack.addWidget(made)
            if name == "Takes":  # not shown
                self._put_face_below()
            made.show_take(self._for(made))
        return self.views[name]

    def _put_face_below(self) -> None:
        """Below the rows of Takes the chosen input can be played."""
        from puresignal.ui.inputs.face_below import FaceBelow

        face = FaceBelow(self.services)
        self.takes.put_below(face)
        self.takes.face_shown.connect(lambda on: face.listen() if on else None)

    def make_views_when_idle(self) -> None:
        """Make the views that were not shown yet one by one, so that the first click on their buttons is quick too."""
        left = [name for name in self.view_names if name not in self.views]
        if left and self.isVisible():
            self.view(left[0])
            QTimer.singleShot(IDLE_MS, self, self.make_views_when_idle)

    @property
    def inputs(self) -> InputsView:
        return cast("InputsView", self.view("Inputs"))

    @property
    def mapping(self) -> MappingView:
        return cast("MappingView", self.view("Mapping"))

    @property
    def velocity(self) -> VelocityView:
        return cast("VelocityView", self.view("Velocity"))

    @property
    def takes(self) -> TakesView:
        return cast("TakesView", self.view("Takes"))

    @property
    def outputs(self) -> OutputsView:
        return cast("OutputsView", self.view("Outputs"))

    def show_view(self, name: str) -> None:
        """Turn to a view."""
        self.header.choose(name)
        view = self.view(name)
        self.stack.setCurrentWidget(view)
        self._follow_maps()
        self._refresh_view()
        # The view's own keys work at once, and the header does not look as if it were being edited.
        view.first_focus().setFocus()

    def _follow_maps(self) -> None:
        """The map bar shows the maps of what the current view shows."""
        view = self.stack.currentWidget()
        if isinstance(view, View):
            self.maps.look_at(view.maps_shown())
            # The two maps are chosen where they are worked on, and nowhere else.
            self.maps.setVisible(view.shows_maps)

    def _look_at_map(self, number: int) -> None:
        self.show_view("Mapping")
        self.mapping.look_at(number)

    def _offer_click(self) -> None:
        def louder() -> None:
            bench = self.workbench
            settings = bench.session.recording
            click = replace(settings.click, level=min(12.0, settings.click.level + 6.0))
            bench.do(tr("louder click"), edits.with_recording(bench.session, replace(settings, click=click)))

        self.services.notices.offer(
            tr("What is played drowns the click."), tr("Louder click"), tr("Plays the click 6 dB louder."), louder
        )

    def _offer_beats(self) -> None:
        def find() -> None:
            self.show_view("Takes")
            self.takes.show_beats(True)

        self.services.notices.offer(
            tr("Kept as it was played: the transport did not run, so it has no beats yet."), tr("Find its beats"),
            tr("Shows the take with the beats found in it, to be used as the session's tempo or straightened."), find,
        )  # fmt: skip

    def _choose_take(self, ident: str) -> None:
        bench = self.workbench
        bench.do(tr("choose take"), edits.with_current(bench.session, ident))

    def _look_at_input(self, number: int) -> None:
        self.services.chosen_input.choose(number)
        self.show_view("Inputs")

    def _show_hits(self, origins: object) -> None:
        """Select hits of the chosen take in Takes, alone or among the others."""
        seen, own = self.workbench.seen, self.workbench.own
        if seen is not None and own is not None and seen.several is not None:
            origins = seen.several.origins_of(own.ref.ident, origins)  # type: ignore[arg-type]
        self.show_view("Takes")
        self.takes.show_hits(origins)  # type: ignore[arg-type]

    def _point_at(self, what: int, reason: int) -> None:
        if (what, reason) != (-1, -1):
            self.show_view("Takes")
        self.takes.point_at(what, reason)

    def first_start(self) -> None:
        """The computer keyboard plays before anything was chosen, which is nothing that would have to be saved."""
        bench = self.workbench
        untouched = not bench.unsaved
        self.switch_keys(True)
        if untouched:
            bench.saved = bench.session
            self._refresh()

    def switch_keys(self, on: bool) -> None:
        """Switch the computer keyboard between playing and typing."""
        if on:
            self.live_session.listen_to(ports.COMPUTER_KEYBOARD, own_map())
            on = self.live_session.listening
        self.services.keyboard.switch(on)
        self.transport.keys.setChecked(on)

    # Showing the session

    def _refresh(self) -> None:
        bench, session, shown = self.workbench, self.workbench.session, self.workbench.seen
        if bench.is_behind and self._shown is shown:
            # Only what was set; all else when its result is there.
            self.menus.show_session()
            view = self.stack.currentWidget()
            assert isinstance(view, View)
            view.show_settings()
            return
        self._shown = shown
        self.setWindowTitle(f"{session.name}{'*' if bench.unsaved else ''} – Pure Signal")  # not shown
        self.header.show_session(session.name)
        self.rail.show_session()
        self.maps.show_session()
        self._stale = set(self.views)
        self._refresh_view()
        unmapped = 0
        if shown is None:
            self.strip.show_tally(None)
        else:
            tally = shown.outcome.tally
            self.strip.show_tally(tally, len(note_selection.doubtful(shown.outcome)))
            unmapped = sum(count for why, count in tally.removed().items() if why in note_selection.UNMAPPED)
        self.header.mark_mapping(unmapped)
        self.menus.show_session()

    def _refresh_view(self) -> None:
        """Update only the visible view at once; the others when they are shown."""
        for name in tuple(self._stale):
            if self.views[name] is self.stack.currentWidget():
                self._stale.discard(name)
                self.views[name].show_take(self._for(self.views[name]))

    def _for(self, view: View) -> Shown | None:
        if view.shows_file:
            return self.workbench.written
        return self.workbench.seen if view.shows_all else self.workbench.shown

    # The program itself

    def open_files(self, paths: list[Path]) -> list[str]:
        """Open sessions and MIDI files. Returns, and shows, what could not be opened and why."""
        return self.files.open_files(paths)

    def choose_theme(self, name: str) -> None:
        """ "system", "light" or "dim"."""
        self.menus.themes[name].setChecked(True)
        self.services.preferences.change(theme=name)
        self.apply_theme()

    def apply_theme(self) -> None:
        """Apply the chosen theme, or the system's."""
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        name = self.services.preferences.now.theme
        if name == "system":
            dark = QGuiApplication.styleHints().colorScheme() == Qt.ColorScheme.Dark
            name = "dim" if dark else "light"
        if theme.current().name != name:
            theme.apply(app, theme.THEMES[name])
            self.services.phone.show_face()
            for widget in self.findChildren(QWidget):
                # Some versions of the binding take the update of a list for that of one of its items.
                QWidget.update(widget)

    def _enlarge(self, on: bool) -> None:
        """The large display fills the view, or is one line above it."""
        self.stack.setVisible(not on)
        if on:
            self.maps.hide()
        else:
            self._follow_maps()

    def show_record_settings(self) -> None:
        from puresignal.ui.shell.record_settings import RecordSettings

        if self._record_settings is None:
            self._record_settings = RecordSettings(self.services, self)
        self._record_settings.show()
        self._record_settings.raise_()
        self._record_settings.activateWindow()

    def show_changes(self) -> None:
        """Show what has changed since the session was saved."""
        from puresignal.ui.shell.changes_dialog import ChangesDialog

        if self._changes is None:
            self._changes = ChangesDialog(self.workbench, self.files.save_session, self)
        self._changes.show_changes()
        self._changes.show()
        self._changes.raise_()

    def show_batch(self) -> None:
        from puresignal.ui.outputs.batch_dialog import BatchDialog

        if self._batch is None:
            self._batch = BatchDialog(self.services, self)
        self._batch.show_maps()
        self._batch.show()
        self._batch.raise_()
        self._batch.activateWindow()

    def show_shelves(self) -> None:
        """Show everything that is kept by name."""
        from puresignal.ui.shell.shelves_dialog import ShelvesDialog

        if self._shelves_dialog is None:
            self._shelves_dialog = ShelvesDialog(self.workbench, self)
        self._shelves_dialog.show_shelf()
        self._shelves_dialog.show()
        self._shelves_dialog.raise_()
        self._shelves_dialog.activateWindow()

    def show_preferences(self) -> None:
        """Show the preferences of the program."""
        from puresignal.ui.shell.preferences_dialog import PreferencesDialog

        if self._preferences_dialog is None:
            dialog = PreferencesDialog(self.services, self)
            dialog.theme_chosen.connect(self.choose_theme)
            dialog.keys_requested.connect(self.show_keys)
            dialog.recording_requested.connect(self.show_record_settings)
            self._preferences_dialog = dialog
        self._preferences_dialog.show_preferences()
        self._preferences_dialog.show()
        self._preferences_dialog.raise_()
        self._preferences_dialog.activateWindow()

    def show_sync(self) -> None:
        from puresignal.ui.shell.sync_dialog import SyncDialog

        if self._sync is None:
            self._sync = SyncDialog(self.services, self)
        self._sync.show()
        self._sync.raise_()
        self._sync.activateWindow()

    def show_guide(self) -> None:
        from puresignal.ui.shell.guide_dialog import GuideDialog

        if self._guide is None:
            self._guide = GuideDialog(self)
        shown = self.stack.currentWidget()
        self._guide.show_page(next((name for name, view in self.views.items() if view is shown), "").lower())
        self._guide.show()
        self._guide.raise_()
        self._guide.activateWindow()

    def show_keys(self) -> None:
        from puresignal.ui.shell.help_dialogs import ShortcutsDialog

        self._keys_dialog = ShortcutsDialog(self.shortcuts, self)
        self._keys_dialog.show()

    def show_about(self) -> None:
        from puresignal.ui.shell.help_dialogs import AboutDialog

        self._about = AboutDialog(self)
        self._about.show()

    def copy_report(self) -> None:
        """Copy a report for a helper to the clipboard."""
        from puresignal.ui.shell.help_dialogs import findings, report

        def copy(machine: str) -> None:
            QGuiApplication.clipboard().setText(report(machine))
            text = tr("A report with versions, what this machine offers and the log was copied to the clipboard.")
            self.notice.tell(text, False)

        self.services.background.run("report", findings, copy)

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
        if event.source() is not None or not event.mimeData().hasUrls():
            return
        if any(self.files.opens(Path(url.toLocalFile())) for url in event.mimeData().urls() if url.isLocalFile()):
            event.acceptProposedAction()
        else:
            self.notice.tell(self.files.why_refused(event.mimeData().urls()[0].fileName()), True)

    def dropEvent(self, event: QDropEvent) -> None:
        self.open_files([Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()])
        event.acceptProposedAction()

    asks_before_closing = tells_kept = True
    """False while the system ends the program: there is nobody to ask."""

    def closeEvent(self, event: QCloseEvent) -> None:
        self.files.finish_saving()
        # The system may end the program while it asks.
        if self.asks_before_closing and not self.files.may_close() and self.asks_before_closing:
            event.ignore()
            return
        if self.asks_before_closing and self.tells_kept:
            self.files.tell_kept()
        # A helper that hangs or has died must keep nothing from being stored.
        ends: tuple[Callable[[], None], ...] = (
            self.services.keyboard.stop,
            self.services.phone.switch_off,
            self.playback.stop,
            self.live_session.close,
            self.services.port_watch.close,
            self.services.listener.close,
        )
        for end in ends:
            try:
                end()
            except Exception:
                logging.getLogger("puresignal").exception("while closing")
        self.services.background.close()
        self.workbench.end_work()
        self.keeper.close()
        self.services.preferences.change(geometry=bytes(self.saveGeometry().data()))
        event.accept()
