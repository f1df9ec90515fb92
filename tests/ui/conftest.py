from __future__ import annotations

from dataclasses import replace

import pytest
from PySide6.QtCore import QCoreApplication, QEvent
from PySide6.QtWidgets import QApplication

from puresignal.core.session import recording
from puresignal.core.session import session as edits
from puresignal.demo import demo_session as demo
from puresignal.ui.shell.main_window import MainWindow
from puresignal.ui.state.workbench import Workbench
from puresignal.ui.widgets import theme


@pytest.fixture(scope="session", autouse=True)
def dressed(qapp: QApplication) -> None:
    """The application as the program starts it."""
    theme.load_fonts()
    theme.apply(qapp, theme.LIGHT)


@pytest.fixture(autouse=True)
def unasked(monkeypatch: pytest.MonkeyPatch) -> None:
    """Windows close without a note; a test of the note calls it itself."""
    monkeypatch.setattr(MainWindow, "tells_kept", False)


@pytest.fixture(autouse=True)
def alone(qapp: QApplication) -> None:
    """Delete windows of earlier tests: closed ones waiting for deletion would still receive events."""
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)


@pytest.fixture
def window(qtbot) -> MainWindow:
    """An empty window."""
    made = MainWindow(Workbench())
    qtbot.addWidget(made)
    made.resize(1280, 800)
    made.show()
    return made


def record_at_once(window: MainWindow) -> None:
    """Let recording begin without a count-in, and without a click: as for playing that follows no beat."""
    bench = window.workbench
    quiet = replace(bench.session.recording.click, when=recording.NEVER)
    settings = replace(bench.session.recording, start=recording.AT_ONCE, click=quiet)
    bench.do("record at once", edits.with_recording(bench.session, settings))


@pytest.fixture
def demo_window(qtbot) -> MainWindow:
    """The window on the demo session, at Takes."""
    bench = Workbench()
    bench.show_session(*demo.build())
    made = MainWindow(bench, "Takes")
    qtbot.addWidget(made)
    made.resize(1280, 800)
    made.show()
    return made
