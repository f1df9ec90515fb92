"""Cleaning whole folders beside the window: first looked at, then cleaned into another folder."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, Signal

from puresignal.core.kit import note_map
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.path import settings_json
from puresignal.core.path.cleaning_path import CleaningPath
from puresignal.ui.state.job_process import JobProcess

SUMMARY = "summary.html"


@dataclass(frozen=True)
class BatchJob:
    """The files to clean, and the settings.

    source  kit that all files come from, None: recognised for each file
    target  note map of the receiver, None: notes keep their numbers
    force   whether results of the same name are replaced
    """

    inputs: tuple[Path, ...]
    path: CleaningPath
    source: NoteMap | None
    target: NoteMap | None
    force: bool = False


class BatchCleaner(QObject):
    """One job at a time.

    counted  number of files found
    told     a file: {"file", "map", "in", "out", "removed", "reasons", "notes"} or {"file", "error"}
    ended    why it failed: [what, where, remedy] or a sentence; None if it is done
    """

    counted = Signal(int)
    told = Signal(object)
    ended = Signal(object)

    def __init__(self, parent: QObject | None = None):
        super().__init__(parent)
        self._process = JobProcess("puresignal.commands.batch_process", self)
        self._process.said.connect(self._heard)
        self._process.ended.connect(self.ended)

    @property
    def busy(self) -> bool:
        return self._process.busy

    def look(self, job: BatchJob) -> None:
        """Find out what cleaning would do to each file; nothing is written."""
        self._start(job, None)

    def clean(self, job: BatchJob, folder: Path) -> None:
        """Clean the files into a folder, with a summary page of all."""
        self._start(job, folder)

    def cancel(self) -> None:
        """Stop; files that are done are kept, and none is half written."""
        self._process.cancel()

    def _start(self, job: BatchJob, folder: Path | None) -> None:
        self._process.cancel()
        self._process.start(
            {
                "inputs": [str(path) for path in job.inputs],
                "out": None if folder is None else str(folder),
                "source": None if job.source is None else note_map.to_json(job.source),
                "target": None if job.target is None else note_map.to_json(job.target),
                "settings": settings_json.to_json(job.path),
                "force": job.force,
                "summary": None if folder is None else str(folder / SUMMARY),
            }
        )

    def _heard(self, said: dict[str, Any]) -> None:
        if "files" in said:
            self.counted.emit(int(said["files"]))
        else:
            self.told.emit(said)
