"""Passes unexpected errors of any thread to the window's own."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal


class BugReports(QObject):
    """found  the last line of an unexpected error; delivered on the window's thread"""

    found = Signal(str)
