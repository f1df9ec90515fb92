"""Starts the window, the demo and the screenshots."""

from __future__ import annotations

import os
import signal
import sys
from importlib import resources
from pathlib import Path
from typing import TYPE_CHECKING

from puresignal import translation
from puresignal.core.errors import FileAccessError, PureSignalError
from puresignal.translation import tr

if TYPE_CHECKING:
    from PySide6.QtWidgets import QApplication

FIRST_MS = 400
"""Milliseconds after which the keyboard plays at the first start: the window is there first."""


def has_display() -> bool:
    """Whether a window could be shown."""
    return bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or os.environ.get("QT_QPA_PLATFORM"))


def run(paths: list[Path]) -> int:
    """Open the window with files.

    Raises FileAccessError if a file is missing or there is no display
    """
    for path in paths:
        if not path.exists():
            raise FileAccessError(tr("There is no such file or folder"), str(path), tr("Check the name."))
    app = _application()
    from puresignal.engine import kept_rings
    from puresignal.ui.shell.main_window import MainWindow
    from puresignal.ui.state.workbench import Workbench

    # Before anything looks into the journals.
    kept_rings.rescue()
    window = MainWindow(Workbench())
    problems = window.open_files(paths)
    if paths and len(problems) == len(paths):
        for problem in problems:
            print(f"pure-signal: {problem}", file=sys.stderr)
        return 1
    if not problems and window.workbench.read_only is None and not window.files.offer_leftovers():
        window.services.sitting.offer_killed()
    return _show(app, window)


def run_demo(shots: Path | None) -> int:
    """Open the demo session in a window, or render its views to a folder."""
    if shots is None and not has_display():
        shots = Path("shots")
        print(tr("There is no display to open a window on; the views are rendered to {shots}/ instead.", shots=shots))
    if shots is not None:
        from puresignal.ui.shell import screenshots as pictures

        os.environ["QT_QPA_PLATFORM"] = "offscreen"
        for path in pictures.render(_application(), shots):
            print(path)
        return 0
    app = _application()
    from puresignal.ui.shell.demo_window import demo_window

    return _show(app, demo_window())


def _application() -> object:
    """The application with its style. Qt aborts without a display, hence the check."""
    if not has_display():
        raise PureSignalError(
            tr("There is no display to open a window on"),
            "DISPLAY",
            tr("Start it on a desktop; 'pure-signal clean' needs none."),
        )
    from PySide6.QtGui import QFontDatabase, QIcon, QPixmap
    from PySide6.QtWidgets import QApplication

    from puresignal.ui.widgets import theme

    app = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(app, QApplication)
    app.setApplicationName("pure-signal")
    app.setApplicationDisplayName("Pure Signal")
    app.setDesktopFileName("pure-signal")
    icon = QPixmap()
    icon.loadFromData((resources.files("puresignal") / "ui" / "assets" / "icons" / "pure-signal.svg").read_bytes())
    app.setWindowIcon(QIcon(icon))
    _translate_toolkit(app)
    _listen_for_signals()
    theme.load_fonts()
    theme.follow_system_font(QFontDatabase.systemFont(QFontDatabase.SystemFont.GeneralFont).pointSizeF())
    theme.apply(app, theme.LIGHT)
    return app


def _translate_toolkit(app: QApplication) -> None:
    """Let the toolkit's own buttons and key names speak the language of the program."""
    from PySide6.QtCore import QLibraryInfo, QLocale, QTranslator

    code = os.environ.get(translation.HANDED_ON, translation.ENGLISH)
    QLocale.setDefault(QLocale(code) if code != translation.ENGLISH else QLocale.c())
    if code != translation.ENGLISH:
        own = QTranslator(app)
        if own.load(f"qtbase_{code}", QLibraryInfo.path(QLibraryInfo.LibraryPath.TranslationsPath)):
            app.installTranslator(own)


def _show(app: object, window: object) -> int:
    from PySide6.QtCore import QTimer, qInstallMessageHandler
    from PySide6.QtGui import QGuiApplication

    from puresignal.engine.client import release_left
    from puresignal.io import log_file
    from puresignal.ui.shell.bug_reports import BugReports
    from puresignal.ui.shell.main_window import MainWindow

    assert isinstance(window, MainWindow)
    bugs = BugReports()
    bugs.found.connect(window.told_bug)
    log_file.start(bugs.found.emit)
    qInstallMessageHandler(_log_message)
    if window.services.preferences.now.geometry:
        window.restoreGeometry(window.services.preferences.now.geometry)
    else:
        window.fit_screen()
        # The very first start: something plays before anything was chosen.
        if not window.workbench.session.takes:
            QTimer.singleShot(FIRST_MS, window, window.first_start)
    window.apply_theme()
    QGuiApplication.styleHints().colorSchemeChanged.connect(lambda _: window.apply_theme())

    release_left()
    # Python runs signal handlers only between its own instructions; a slow timer lets them through.
    tick = QTimer()
    tick.timeout.connect(lambda: None)
    tick.start(100)
    window.show()
    QTimer.singleShot(1000, window, window.make_views_when_idle)
    if _asked_to_end:
        # Nobody is there to answer or to read what it says.
        window.asks_before_closing = False
        window.close()
        return 0
    return int(app.exec())  # type: ignore[attr-defined]


def _log_message(kind: object, _: object, text: str) -> None:
    """Qt's own messages go to the log, and to the terminal as before."""
    from puresignal.io import log_file

    log_file.log.warning("Qt, %s: %s", getattr(kind, "name", kind), text)
    print(text, file=sys.stderr)


_asked_to_end: list[int] = []


def _listen_for_signals() -> None:
    """Let SIGTERM, SIGHUP and Ctrl+C close the window, which stores unsaved work for recovery."""
    from PySide6.QtWidgets import QApplication

    from puresignal.ui.shell.main_window import MainWindow

    def end(number: int, _: object) -> None:
        # A signal may come before there is a window; then starting stops where the window would be shown.
        _asked_to_end.append(number)
        shown = [widget for widget in QApplication.topLevelWidgets() if widget.isVisible()]
        for widget in shown:
            if isinstance(widget, MainWindow):
                widget.asks_before_closing = False
        # Questions first: the window waits for their answer.
        for widget in sorted(shown, key=lambda one: not one.isModal()):
            widget.close()
        QApplication.quit()

    for one in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(one, end)
