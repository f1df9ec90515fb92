"""Rendering to audio files beside the window, with progress; cancelled, nothing is left half written."""

from __future__ import annotations

import os
import tempfile
from dataclasses import asdict
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, Signal

from puresignal.commands import rendering
from puresignal.commands.rendering import Part, RenderJob
from puresignal.core.errors import PureSignalError
from puresignal.io import file_access, session_file, xdg_folders
from puresignal.ui.state.job_process import JobProcess
from puresignal.ui.state.workbench import Workbench


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
        self._process = JobProcess("puresignal.commands.render_process", self)
        self._process.said.connect(self._heard)
        self._process.ended.connect(self._ended)
        self._session: Path | None = None
        # What was written: (name, seconds, peak in dB, warnings).
        self.done: list[dict[str, Any]] = []

    @property
    def busy(self) -> bool:
        return self._process.busy

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
        self.done = []
        asked = {"session": str(self._session), "folder": str(folder), "job": asdict(job), "force": force}
        self._process.start(asked)
        self.progressed.emit(0.0, "")

    def cancel(self) -> None:
        """Stop; the file that is being written is taken away."""
        self._process.cancel()
        self._tidy()

    def _tidy(self) -> None:
        if self._session is not None:
            self._session.unlink(missing_ok=True)

    def _heard(self, said: dict[str, Any]) -> None:
        if "progress" in said:
            self.progressed.emit(float(said["progress"]), str(said["file"]))
        elif "done" in said:
            self.done.append(said)

    def _ended(self, why: object) -> None:
        self._tidy()
        if why is None:
            self.finished.emit()
        elif isinstance(why, str):
            self.failed.emit(why)
        else:
            what, where, remedy = (*why, "", "")[:3]  # type: ignore[misc]
            self.failed.emit(str(PureSignalError(what, where, remedy)) if remedy else f"{what} ({where})")
