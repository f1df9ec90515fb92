"""The menus of the window."""

from __future__ import annotations

from functools import partial
from typing import Protocol

from PySide6.QtGui import QAction, QActionGroup, QKeySequence, QShortcut
from PySide6.QtWidgets import QMenu, QMenuBar

from puresignal.core.session import session as edits
from puresignal.translation import mark, tr
from puresignal.ui.shell.file_actions import FileActions
from puresignal.ui.shell.header import Header
from puresignal.ui.shell.record_display import RecordDisplay
from puresignal.ui.shell.shortcuts import Shortcuts
from puresignal.ui.shell.views import VIEWS
from puresignal.ui.state.services import Services
from puresignal.ui.state.view import View


class MenuOwner(Protocol):
    """The interface of the window for its menus."""

    files: FileActions
    services: Services
    header: Header
    display: RecordDisplay

    @property
    def view_names(self) -> tuple[str, ...]: ...
    def menuBar(self) -> QMenuBar: ...
    def close(self) -> bool: ...
    def view(self, name: str) -> View: ...
    def show_view(self, name: str) -> None: ...
    def switch_keys(self, on: bool) -> None: ...
    def choose_theme(self, name: str) -> None: ...
    def show_record_settings(self) -> None: ...
    def show_sync(self) -> None: ...
    def show_batch(self) -> None: ...
    def show_changes(self) -> None: ...
    def show_preferences(self) -> None: ...
    def show_shelves(self) -> None: ...
    def show_guide(self) -> None: ...
    def show_keys(self) -> None: ...
    def show_about(self) -> None: ...
    def copy_report(self) -> None: ...


class Menus:
    """Builds the menu bar of a window, with what each view offers."""

    def __init__(self, window: MenuOwner, shortcuts: Shortcuts):
        self._window, self._shortcuts = window, shortcuts
        files, services, bar = window.files, window.services, window.menuBar()
        playback, bench = services.playback, services.workbench

        file = bar.addMenu(tr("&File"))
        self._add(file, mark("New session"), "Ctrl+N", files.new_session)
        self.templates = file.addMenu(tr("New from template"))
        self.templates.aboutToShow.connect(lambda: files.fill_templates(self.templates))
        self._add(file, mark("Open…"), "Ctrl+O", files.ask_open)
        self.recent = file.addMenu(tr("Recent files"))
        self.recent.aboutToShow.connect(lambda: files.fill_recent(self.recent))
        self.leftovers = file.addMenu(tr("Unsaved work"))
        self.leftovers.aboutToShow.connect(lambda: files.fill_leftovers(self.leftovers))
        file.addSeparator()
        self._add(file, mark("Save session"), "Ctrl+S", files.save_session)
        self._add(file, mark("Save session as…"), "Ctrl+Shift+S", files.ask_save_session)
        self._add(file, mark("Save a copy…"), "", files.ask_save_copy)
        self._add(file, mark("Save as template…"), "", files.ask_save_template)
        self._add(file, mark("Changes since saving…"), "", window.show_changes)
        file.addSeparator()
        self.needs_take = [
            self._add(file, mark("Save MIDI file…"), "Ctrl+E", files.ask_save_midi),
            self._add(file, mark("Save a MIDI file of each section…"), "", files.ask_save_sections),
            self._add(file, mark("Save summary…"), "Ctrl+P", files.ask_save_summary),
            *self._offered(file, "File"),
        ]
        self._add(file, mark("Clean a folder…"), "Ctrl+Shift+B", window.show_batch)
        file.addSeparator()
        self._add(file, mark("Panic: end all notes"), "Ctrl+.", services.live_session.panic)
        self._add(file, mark("Quit"), "Ctrl+Q", window.close)

        edit = bar.addMenu(tr("&Edit"))
        self.undo = self._add(edit, mark("Undo"), "Ctrl+Z", bench.undo)
        self.redo = self._add(edit, mark("Redo"), "Ctrl+Shift+Z", bench.redo)

        edit.addSeparator()
        self.removed = edit.addMenu(tr("Removed takes"))
        self.removed.aboutToShow.connect(lambda: files.fill_removed(self.removed))
        edit.addSeparator()
        self._add(edit, mark("What is kept…"), "Ctrl+Alt+K", window.show_shelves)
        self._add(edit, mark("Preferences…"), "Ctrl+,", window.show_preferences)

        play = bar.addMenu(tr("&Play"))
        self._add(play, mark("Play / stop"), "Space", playback.toggle)
        capture = services.capture
        self._add(play, mark("Record / stop recording"), "R", capture.toggle)
        self._add(play, mark("Again from there"), "Shift+R", capture.again)
        for key, act in (("F12", capture.toggle), ("Shift+F12", capture.again)):
            # Where the computer keyboard plays, R is a drum.
            QShortcut(QKeySequence(key), window.menuBar().window()).activated.connect(act)
        self._add(play, mark("Undo pass"), "Backspace", self._undo_pass)
        self._add(play, mark("Recording and click…"), "Ctrl+Shift+R", window.show_record_settings)
        self._add(play, mark("Sync with other programs…"), "Ctrl+Shift+Y", window.show_sync)
        self._add(play, mark("Large display"), "F11", lambda: window.display.set_large(not window.display.large))
        play.addSeparator()
        self._add(play, mark("Go to start"), "Ctrl+Home", lambda: playback.go(0.0))
        self._add(play, mark("Loop"), "L", lambda: playback.set_looping(not playback.looping))
        self._add(play, mark("Hear played / clean"), "H", playback.switch_version)
        self._add(play, mark("Settings A / B"), "B", playback.compare_settings)
        self._add(play, mark("Previous take"), "T", playback.compare_takes)
        self._add(play, mark("Next pass alone"), "Shift+T", services.take_actions.compare_passes)
        self._add(
            play, mark("Play the computer keyboard"), "Ctrl+K", lambda: window.switch_keys(not services.keyboard.on)
        )

        self._speed_menu(play.addMenu(tr("Speed")))
        self._add(play, mark("Tap the tempo"), "Ctrl+T", lambda: window.header.time.tap_now())
        self._take_menu(bar.addMenu(tr("&Take")))

        view = bar.addMenu(tr("&View"))
        for i, name in enumerate(window.view_names):
            self._add(view, name, f"Ctrl+{i + 1}", partial(window.show_view, name))
        view.addSeparator()
        self._offered(view, "")
        view.addSeparator()
        self._offered(view, "notes")
        view.addSeparator()
        self._add(view, mark("Show hidden tracks"), "", self._show_hidden)
        view.addSeparator()
        self._theme_menu(view.addMenu(tr("Theme")))

        help_menu = bar.addMenu(tr("&Help"))
        self._add(help_menu, mark("User guide"), "F1", window.show_guide)
        self._add(help_menu, mark("Shortcuts"), "Ctrl+F1", window.show_keys)
        self._add(help_menu, mark("Copy report"), "", window.copy_report)
        self._add(help_menu, mark("About Pure Signal"), "", window.show_about)

    def _show_hidden(self) -> None:
        bench = self._window.services.workbench
        shown = edits.without_hidden_tracks(bench.session)
        if shown is bench.session or shown == bench.session:
            bench.message_shown.emit(tr("No track is hidden."), False)
        else:
            bench.do(tr("show tracks"), shown)

    def _add(self, menu: QMenu, label: str, key: str, act: object) -> QAction:
        action = self._shortcuts.add(label, key, act)  # type: ignore[arg-type]
        menu.addAction(action)
        return action

    def _offered(self, menu: QMenu, group: str) -> list[QAction]:
        """Add what the views offer in one group."""
        window = self._window

        def act(view: str, method: str) -> None:
            getattr(window.view(view), method)()

        def show_and_act(view: str, method: str) -> None:
            window.show_view(view)
            act(view, method)

        found = []
        for view in VIEWS:
            for one in view.actions:
                if one.group == group:
                    # What is done with a file needs no look at the view.
                    way = act if group == "File" else show_and_act
                    found.append(self._add(menu, one.label, one.key, partial(way, view.name, one.method)))
        return found

    def _take_menu(self, menu: QMenu) -> None:
        """Actions on the chosen take."""
        takes = self._window.services.take_actions

        def switch() -> None:
            ref = takes.ref()
            if ref is not None:
                takes.switch(not ref.is_in)

        self._offered(menu, "Take")
        self._add(menu, mark("In the result"), "I", switch)
        menu.addSeparator()
        self._add(menu, mark("A beat earlier"), "Alt+Left", lambda: takes.move(-1.0))
        self._add(menu, mark("A beat later"), "Alt+Right", lambda: takes.move(1.0))
        self._add(menu, mark("A bar earlier"), "Alt+Shift+Left", lambda: takes.move_by_bars(-1))
        self._add(menu, mark("A bar later"), "Alt+Shift+Right", lambda: takes.move_by_bars(1))
        menu.addSeparator()
        self._add(menu, mark("Duplicate take"), "Ctrl+D", takes.duplicate)
        self._add(menu, mark("Crop to the selected range"), "Ctrl+Shift+X", self._crop)
        self._add(menu, mark("Use the whole take"), "", takes.uncrop)
        menu.addSeparator()
        self._add(menu, mark("Remove take"), "", takes.remove)

    def _undo_pass(self) -> None:
        services = self._window.services
        if not services.capture.undo_pass():
            services.notices.tell(tr("There is no pass to undo: a loop has to run, and something played in it."), True)

    def _crop(self) -> None:
        services = self._window.services
        if not services.take_actions.crop_to_range():
            services.notices.tell(
                tr("Drag over the bar numbers in Takes first: the take is cropped to that range."), True
            )

    def _speed_menu(self, menu: QMenu) -> None:
        playback, group = self._window.services.playback, QActionGroup(menu)
        for percent in (50, 60, 70, 80, 90, 100, 110):
            action = menu.addAction(f"{percent} %")
            action.setCheckable(True)
            action.setChecked(percent == 100)
            action.triggered.connect(lambda _=False, p=percent: playback.set_speed(p / 100))
            group.addAction(action)

    def _theme_menu(self, menu: QMenu) -> None:
        window = self._window
        group = QActionGroup(menu)
        self.themes: dict[str, QAction] = {}
        for name, label in (("system", mark("As the system")), ("light", mark("Light")), ("dim", mark("Dim"))):
            action = QAction(tr(label), menu)
            action.setCheckable(True)
            action.setChecked(window.services.preferences.now.theme == name)
            action.triggered.connect(lambda _=False, n=name: window.choose_theme(n))
            group.addAction(action)
            menu.addAction(action)
            self.themes[name] = action

    def show_session(self) -> None:
        """Show what can be undone, redone and saved."""
        bench = self._window.services.workbench
        for action in self.needs_take:
            action.setEnabled(bench.whole is not None)
        for action, word, name in (
            (self.undo, tr("Undo"), bench.history.undo_name),
            (self.redo, tr("Redo"), bench.history.redo_name),
        ):
            action.setEnabled(name is not None)
            action.setText(word if name is None else f"{word}: {name}")
