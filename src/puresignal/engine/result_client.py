"""The process that works out results, as the window holds it."""

from __future__ import annotations

import contextlib
import os
import socket
import subprocess
import threading
from multiprocessing.connection import Connection

from puresignal.core.export.result_maker import Made, Wanted
from puresignal.engine.helper_process import HelperProcess
from puresignal.engine.mirror import Mirror
from puresignal.engine.result_process import names
from puresignal.io.log_file import log

MODULE = "puresignal.engine.result_process"


class ResultClient:
    """Starts the process at once. Calls come from one thread at a time.

    works  whether it answers; once it has not, it is not asked again
    """

    def __init__(self) -> None:
        ours, theirs = socket.socketpair()
        self.works = True
        self._lock = threading.Lock()
        number = theirs.detach()
        asked, answered = (os.memfd_create(name) for name in ("asked", "answered"))  # not shown
        self._mirror = Mirror(Connection(ours.detach()), 0, (asked, answered))
        given = (number, answered, asked)
        self._process = HelperProcess(MODULE, tuple(map(str, given)), given, to_close=(number,))
        self._tell(names())

    def _tell(self, value: object) -> None:
        try:
            self._mirror.send(value)
        except OSError:
            self._give_up()

    def _give_up(self) -> None:
        log.warning("results are worked out in the window: their process has ended")
        self.works = False

    def made(self, wanted: Wanted) -> Made | None:
        """The results of a session; None if the process is gone or could not."""
        with self._lock:
            self._tell(wanted)
            if not self.works:
                return None
            try:
                made: Made | None = self._mirror.receive()
            except (EOFError, OSError):
                self._give_up()
                return None
            return made

    @property
    def pid(self) -> int:
        return self._process.pid

    def close(self) -> None:
        """End the process."""
        self.works = False
        self._mirror.close()
        self._process.kill()
        with contextlib.suppress(subprocess.TimeoutExpired):
            self._process.wait(2)
