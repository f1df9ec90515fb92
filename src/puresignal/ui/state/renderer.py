"""Rendering to audio files beside the window, with progress; cancelled, nothing is left half written."""

from __future__ import annotations

import contextlib
import json
import os
import tempfile
import time
from dataclasses import asdict
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from puresignal.commands import rendering
from puresignal.commands.rendering import Part, RenderJob
from puresignal.core.errors import PureSignalError
from puresignal.engine.helper_process import HelperProcess
from puresignal.io import file_access, session_file, xdg_folders
from puresignal.translation import tr
from puresignal.ui.state.workbench import Workbench

LOOK_MS = 60
END_WITHIN = 2.0


class Renderer(QObject):
    """One job at a time.

    progressed  (0..1, name of the file); finished: all is written; failed: why it is not
    """

    progressed = Signal(float, str)
    finished = Signal()
    failed = Signal(str)

    def __init__(self, workbench: Workbench, parent: QObject | None = None):
        super().__init__(parent)
        self._workbench = workbench
        self._process: HelperProcess | None = None
        self._to = self._out = -1
        self._rest = b""
        self._session: Path | None = None
        # What was written: (name, seconds, peak in dB, warnings).
        self.done: list[dict[str, Any]] = []
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self._look)

    @property
    def busy(self) -> bool:
        return self._process is not None

    def names(self, job: RenderJob) -> list[str]:
        """The names of the files that a job makes; empty if there is nothing to render."""
        return [name for _, name in self._parts(job)]

    def _parts(self, job: RenderJob) -> list[tuple[Part, str]]:
        bench = self._workbench
        try:
            found = rendering.parts(bench.session, bench.takes(), job)
        except PureSignalError:
            return []
        return list(zip(found, rendering.names(bench.session, found, job), strict=True))

    def start(self, job: RenderJob, folder: Path, force: bool) -> None:
        """Render into a folder.

        Raises FileAccessError if the session cannot be handed over
        """
        if self.busy:
            return
        bench = self._workbench
        xdg_folders.state().mkdir(parents=True, exist_ok=True, mode=0o700)
        number, name = tempfile.mkstemp(".puresignal", "render-", xdg_folders.state())
        os.close(number)
        self._session = Path(name)
        self._session.unlink()
        # Without the bytes of its recordings, which are read where they are.
        file_access.write_bytes(self._session, session_file.to_bytes(bench.session, bench.takes()), private=True)
        theirs, self._to = os.pipe()
        self._out, answers = os.pipe()
        os.set_blocking(self._out, False)
        self._process = HelperProcess("puresignal.commands.render_process", (), (), theirs, answers)
        asked = {"session": str(self._session), "folder": str(folder), "job": asdict(job), "force": force}
        os.write(self._to, json.dumps(asked).encode() + b"\n")
        self.done, self._rest = [], b""
        self._timer.start()
        self.progressed.emit(0.0, "")

    def cancel(self) -> None:
        """Stop; the file that is being written is taken away."""
        self._end()

    def _end(self) -> None:
        process, self._process = self._process, None
        if process is None:
            return
        self._timer.stop()
        os.close(self._to)
        process.end_by(time.monotonic() + END_WITHIN)
        os.close(self._out)
        if self._session is not None:
            self._session.unlink(missing_ok=True)

    def _look(self) -> None:
        if self._process is None:
            return
        with contextlib.suppress(BlockingIOError):
            while more := os.read(self._out, 1 << 16):
                self._rest += more
        *lines, self._rest = self._rest.split(b"\n")
        for line in lines:
            said = json.loads(line)
            if "progress" in said:
                self.progressed.emit(float(said["progress"]), str(said["file"]))
            elif "done" in said:
                self.done.append(said)
            elif "error" in said:
                self._end()
                what, where, remedy = (*said["error"], "", "")[:3]
                self.failed.emit(str(PureSignalError(what, where, remedy)) if remedy else f"{what} ({where})")
                return
            elif said.get("ended"):
                self._end()
                self.finished.emit()
                return
        if self._process.poll() is not None and not lines:
            self._end()
            self.failed.emit(tr("Rendering ended before it was done. The log says why; please report it."))
