"""Work on a thread beside the window's, delivered back to it when done."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any

from PySide6.QtCore import QObject, Signal

from puresignal.core.errors import PureSignalError
from puresignal.io import log_file


class Background(QObject):
    """Does one piece of work after another. The work must not touch widgets; session, takes and results are values.

    Of pieces with one key only the newest is delivered: an older answer would be out of date.
    """

    _done = Signal(object)

    def __init__(self, parent: QObject | None = None):
        super().__init__(parent)
        self._pool = ThreadPoolExecutor(1, "background")
        self._newest: dict[str, Future[Any]] = {}
        self._then: dict[Future[Any], tuple[str, Callable[[Any], None], Callable[[PureSignalError], None] | None]] = {}
        # Emitted on the worker's thread, so Qt queues it for the window's.
        self._done.connect(self._deliver)

    def run(
        self,
        key: str,
        work: Callable[[], Any],
        then: Callable[[Any], None],
        refused: Callable[[PureSignalError], None] | None = None,
    ) -> None:
        """Do work, then call `then` with its result, or `refused` with the error that the player can act on."""
        future = self._pool.submit(work)
        self._newest[key], self._then[future] = future, (key, then, refused)
        future.add_done_callback(self._tell)

    def _tell(self, future: Future[Any]) -> None:
        # A window that is gone by now wants no answer.
        with contextlib.suppress(RuntimeError):
            self._done.emit(future)

    def wait(self, seconds: float) -> bool:
        """Wait until everything is done, and deliver it. Returns whether it was done in time."""
        from concurrent.futures import wait

        pending = tuple(self._then)
        done, late = wait(pending, seconds)
        for future in done:
            self._deliver(future)
        return not late

    def close(self) -> None:
        """Deliver nothing more."""
        self._then.clear()
        self._pool.shutdown(wait=False, cancel_futures=True)

    def _deliver(self, future: Future[Any]) -> None:
        key, then, refused = self._then.pop(future, ("", None, None))
        if then is None or self._newest.get(key) is not future:
            return
        error = future.exception()
        if error is None:
            then(future.result())
        elif isinstance(error, PureSignalError) and refused is not None:
            refused(error)
        else:
            log_file.log.error("in the background", exc_info=error)
            raise error
