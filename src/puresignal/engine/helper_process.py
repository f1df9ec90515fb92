"""A process of the program, started on a thread: even starting one can hold up a window for tens of milliseconds."""

from __future__ import annotations

import contextlib
import os
import subprocess
import sys
import threading
import time

from puresignal.io.log_file import log

NOT_STARTED = 127
"""Exit code of a process that the system refused to start."""


class HelperProcess:
    """A module that runs as a process of its own. What it reads may be written before it has started.

    Its exit code is NOT_STARTED if the system refused to start it; the reason is logged.
    """

    def __init__(
        self,
        module: str,
        arguments: tuple[str, ...],
        given: tuple[int, ...],
        stdin: int | None = None,
        stdout: int | None = None,
        to_close: tuple[int, ...] = (),
        after: threading.Thread | None = None,
    ):
        """given: descriptors it inherits; to_close: those closed here once it has them; after: what must end first."""
        self._process: subprocess.Popen[bytes] | None = None
        command = [sys.executable, "-m", module, *arguments]
        to_close = (*to_close, *(fd for fd in (stdin, stdout) if fd is not None))

        def start() -> None:
            if after is not None:
                after.join()
            try:
                # Ctrl+C in the terminal is handled by the program; its helpers end when their pipes close.
                self._process = subprocess.Popen(
                    command, stdin=stdin, stdout=stdout, pass_fds=given, start_new_session=True
                )
            except OSError:
                log.exception("%s could not be started", module)
            finally:
                for one in to_close:
                    os.close(one)

        self._starting = threading.Thread(target=start, name=f"starting {module}")
        self._starting.start()

    @property
    def pid(self) -> int:
        self._starting.join()
        return self._process.pid if self._process is not None else -1

    def poll(self) -> int | None:
        """Its exit code, or None while it is running or starting."""
        if self._starting.is_alive():
            return None
        return self._process.poll() if self._process is not None else NOT_STARTED

    def wait(self, seconds: float | None = None) -> int:
        """Its exit code, once it has ended.

        Raises subprocess.TimeoutExpired
        """
        deadline = None if seconds is None else time.monotonic() + seconds
        self._starting.join(seconds)
        if self._starting.is_alive():
            raise subprocess.TimeoutExpired(self._starting.name, seconds or 0.0)
        if self._process is None:
            return NOT_STARTED
        return self._process.wait(None if deadline is None else max(0.0, deadline - time.monotonic()))

    def kill(self) -> None:
        self._starting.join()
        if self._process is not None:
            with contextlib.suppress(OSError):
                self._process.kill()

    def end_by(self, deadline: float) -> int:
        """Wait for it after it was told to end; kill it at the deadline (monotonic). Returns its exit code."""
        try:
            return self.wait(max(0.05, deadline - time.monotonic()))
        except subprocess.TimeoutExpired:
            self.kill()
            return self.wait()
