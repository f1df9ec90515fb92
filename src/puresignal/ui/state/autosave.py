"""Stores the session in its work folder while it is edited, so that nothing is lost however the program ends."""

from __future__ import annotations

from PySide6.QtCore import QObject, QTimer

from puresignal.core.errors import PureSignalError
from puresignal.io import work_folder
from puresignal.ui.state.workbench import Workbench

PAUSE_MS = 300
"""A new take is stored at once; changed settings this long after the last change."""


class Autosave(QObject):
    """Stores the workbench's session whenever it has changed."""

    def __init__(self, workbench: Workbench, parent: QObject | None = None):
        super().__init__(parent)
        self._workbench = workbench
        self._folder: work_folder.WorkFolder | None = None
        self._stored_takes = 0
        self._failed = False
        self._closed = False
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(PAUSE_MS)
        self._timer.timeout.connect(self.store)
        workbench.changed.connect(self._changed)
        workbench.closing.connect(self._end)

    def _changed(self) -> None:
        bench = self._workbench
        if self._closed or (not bench.unsaved and self._folder is None):
            return
        if len(bench.takes()) > self._stored_takes:
            self.store()
        else:
            self._timer.start()

    def store(self) -> None:
        """Store now. A disk that refuses is reported once, and retried at the next change."""
        self._timer.stop()
        bench = self._workbench
        try:
            if self._folder is None:
                self._folder = work_folder.WorkFolder()
            self._folder.store(bench.session, bench.takes(), bench.file, bench.unsaved)
            self._stored_takes = len(bench.takes())
            self._failed = False
        except PureSignalError as error:
            if not self._failed:
                bench.message_shown.emit(str(error), True)
            self._failed = True

    def close(self) -> None:
        """The program ends. Closing twice has no further effect: a window may be closed again while closing."""
        if self._closed:
            return
        self._closed = True
        self._end()
        self._workbench.let_go()

    def _end(self) -> None:
        """Stop working on this session: unsaved work stays on disk for recovery."""
        self._timer.stop()
        if self._workbench.unsaved:
            self.store()
        if self._folder is not None:
            if self._workbench.unsaved:
                self._folder.let_go()
            else:
                self._folder.remove()
        self._folder, self._stored_takes = None, 0
