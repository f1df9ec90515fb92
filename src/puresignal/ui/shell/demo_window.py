"""A window on the demo session."""

from __future__ import annotations

from puresignal.demo import demo_session
from puresignal.ui.shell.main_window import MainWindow
from puresignal.ui.state.workbench import Workbench


def demo_window() -> MainWindow:
    """A new window that shows the demo session in Takes."""
    workbench = Workbench()
    workbench.show_session(*demo_session.trio())
    return MainWindow(workbench, "Takes")
