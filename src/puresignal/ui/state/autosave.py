"""Stores the session in its work folder while it is edited, so that nothing is lost however the program ends."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer

from puresignal.core.errors import PureSignalError
from puresignal.io import work_folder
from puresignal.ui.state.background import Background
from puresignal.ui.state.workbench import Workbench

PAUSE_MS = 200
"""A new take is stored at once; changed settings this long after the first change that is not stored yet."""
WAIT = 10.0
"""Seconds that closing waits for a disk that takes its time."""


class Autosave(QObject):
    """Stores the workbench's session whenever it has changed, on a thread of its own."""

    def __init__(self, workbench: Workbench, parent: QObject | None = None):
        super().__init__(parent)
        self._workbench = workbench
        self._background = Background(self)
        self._folder: work_folder.WorkFolder | None = None
        self._stored_takes = 0
        self._storing = self._again = False
        self._failed = False
        self._closed = False
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(PAUSE_MS)
        self._timer.timeout.connect(self.store_soon)
        workbench.changed.connect(self._changed)
        workbench.closing.connect(self._end)

    def _changed(self) -> None:
        bench = self._workbench
        if self._closed or (not bench.unsaved and self._folder is None):
            return
        if len(bench.takes()) > self._stored_takes:
            self.store_soon()
        elif not self._timer.isActive():
            self._timer.start()

    def store_soon(self) -> None:
        """Store in the background, once more if something changes meanwhile."""
        self._timer.stop()
        if self._storing:
            self._again = True
            return
        self._storing = True
        self._background.run("store", self._job(), self._stored, self._refused)

    def store(self) -> bool:
        """Store now, and return when it is done: whether it is on disk. A disk that refuses is reported once."""
        self._timer.stop()
        self._again = False
        self._background.wait(WAIT)
        try:
            self._stored(self._job()())
        except PureSignalError as error:
            self._refused(error)
            return False
        return True

    def is_safe(self) -> bool:
        """Whether closing now loses nothing: everything is saved, or is stored for recovery."""
        return self._closed or not self._workbench.unsaved or self.store()

    def _job(self) -> Callable[[], int]:
        """Work that stores the session as it is now and returns the number of takes that it stored."""
        bench = self._workbench
        session, takes, file, unsaved = bench.session, bench.takes(), bench.file, bench.unsaved
        recovered = bench.recovered_from

        def work() -> int:
            if self._folder is None:
                self._folder = work_folder.WorkFolder()
            self._folder.store(session, takes, file, unsaved, recovered)
            return len(takes)

        return work

    def _stored(self, takes: int) -> None:
        self._stored_takes, self._failed, self._storing = takes, False, False
        self._once_more()

    def _refused(self, error: PureSignalError) -> None:
        if not self._failed:
            self._workbench.message_shown.emit(str(error), True)
        self._failed, self._storing = True, False
        self._again = False

    def _once_more(self) -> None:
        if self._again and not self._closed:
            self._again = False
            self.store_soon()

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
        self._again = False
        self._background.wait(WAIT)
        if self._workbench.unsaved:
            self.store()
        if self._folder is not None:
            if self._workbench.unsaved:
                self._folder.let_go()
            else:
                self._folder.remove()
        self._folder, self._stored_takes, self._storing = None, 0, False
