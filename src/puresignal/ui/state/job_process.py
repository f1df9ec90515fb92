"""A process that does one job beside the window: the job is a line of JSON to it, and its answers are lines of JSON."""

from __future__ import annotations

import contextlib
import json
import os
import time
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from puresignal.engine.helper_process import HelperProcess
from puresignal.translation import tr

LOOK_MS = 60
END_WITHIN = 2.0


class JobProcess(QObject):
    """One job at a time; the process ends by itself when it is cancelled or the program ends.

    said   an answer
    ended  why it failed: [what, where, remedy] or a sentence; None if it is done
    """

    said = Signal(object)
    ended = Signal(object)

    def __init__(self, module: str, parent: QObject | None = None):
        super().__init__(parent)
        self._module = module
        self._process: HelperProcess | None = None
        self._to = self._out = -1
        self._rest = b""
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self._look)

    @property
    def busy(self) -> bool:
        return self._process is not None

    def start(self, job: dict[str, Any]) -> None:
        """Begin a job, unless one is being done."""
        if self.busy:
            return
        theirs, self._to = os.pipe()
        self._out, answers = os.pipe()
        os.set_blocking(self._out, False)
        self._rest = b""
        self._process = HelperProcess(self._module, (), (), theirs, answers)
        with contextlib.suppress(BrokenPipeError):
            os.write(self._to, json.dumps(job).encode() + b"\n")
        self._timer.start()

    def cancel(self) -> None:
        """End the process; nothing more is said of the job."""
        process, self._process = self._process, None
        if process is None:
            return
        self._timer.stop()
        os.close(self._to)
        process.end_by(time.monotonic() + END_WITHIN)
        os.close(self._out)

    def _look(self) -> None:
        if self._process is None:
            return
        with contextlib.suppress(BlockingIOError):
            while more := os.read(self._out, 1 << 16):
                self._rest += more
        *lines, self._rest = self._rest.split(b"\n")
        for line in lines:
            answer = json.loads(line)
            if "error" in answer and "file" not in answer:
                self.cancel()
                self.ended.emit(answer["error"])
                return
            if answer.get("ended"):
                self.cancel()
                self.ended.emit(None)
                return
            self.said.emit(answer)
            if self._process is None:
                return
        if self._process.poll() is not None and not lines:
            self.cancel()
            self.ended.emit(tr("It ended before it was done. The log says why; please report it."))
