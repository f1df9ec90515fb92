"""Results worked out in a process beside the window, always the newest that was asked for."""

from __future__ import annotations

from concurrent.futures import Future, ThreadPoolExecutor

from PySide6.QtCore import QObject, Signal

from puresignal.core.export.result_maker import Made, ResultMaker, Wanted
from puresignal.engine.result_client import ResultClient
from puresignal.io import log_file


class ResultWorker(QObject):
    """While one is worked out, of those that are asked for meanwhile only the last is done after it.

    Where the process does not answer, results are worked out here.

    done  a result is there: Made
    """

    done = Signal(object)
    _ready = Signal(object)

    def __init__(self, parent: QObject | None = None):
        super().__init__(parent)
        self._pool: ThreadPoolExecutor | None = None
        self._client: ResultClient | None = None
        self._maker = ResultMaker()
        self._running: Future[Made] | None = None
        self._next: Wanted | None = None
        # Emitted on the worker's thread, so Qt queues it for the window's.
        self._ready.connect(self._deliver)

    @property
    def is_busy(self) -> bool:
        return self._running is not None

    @property
    def client(self) -> ResultClient | None:
        return self._client

    def ask(self, wanted: Wanted) -> None:
        """Work out a result; `done` tells it."""
        self._next = wanted
        if self._running is None:
            self._start()

    def now(self, wanted: Wanted) -> Made:
        """Work out a result and wait for it."""
        self.finish()
        return self._submit(wanted).result()

    def _start(self) -> None:
        wanted, self._next = self._next, None
        if wanted is not None:
            self._running = self._submit(wanted)
            self._running.add_done_callback(self._tell)

    def _submit(self, wanted: Wanted) -> Future[Made]:
        if self._pool is None:
            self._pool = ThreadPoolExecutor(1, "results")
        if self._client is None:
            self._client = ResultClient()
        return self._pool.submit(self._made, self._client, wanted)

    def _made(self, client: ResultClient, wanted: Wanted) -> Made:
        made = client.made(wanted) if client.works else None
        return self._maker.made(wanted) if made is None else made

    def _tell(self, future: Future[Made]) -> None:
        try:
            self._ready.emit(future)
        except RuntimeError:
            # A window that is gone by now wants no answer.
            return

    def _deliver(self, future: Future[Made]) -> None:
        if future is not self._running:
            return
        self._running = None
        self._start()
        error = future.exception()
        if error is not None:
            log_file.log.error("beside the window", exc_info=error)
            raise error
        self.done.emit(future.result())

    def finish(self) -> None:
        """Wait for what is being worked out, and deliver nothing of it."""
        running, self._running, self._next = self._running, None, None
        if running is not None:
            running.exception()

    def settle(self) -> Made | None:
        """Wait for the newest result, and take it; None if nothing is under way."""
        running, wanted = self._running, self._next
        self.finish()
        if wanted is not None:
            return self._submit(wanted).result()
        return None if running is None else running.result()

    def close(self) -> None:
        """End the process. Nothing more is worked out."""
        self.finish()
        if self._client is not None:
            self._client.close()
            self._client = None
        if self._pool is not None:
            self._pool.shutdown(wait=False, cancel_futures=True)
            self._pool = None
