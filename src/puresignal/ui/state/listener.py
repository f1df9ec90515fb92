"""Listening to recordings: the ear runs beside the window, and what it heard becomes a take."""

from __future__ import annotations

import contextlib
import json
import os
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from puresignal.core.errors import PureSignalError
from puresignal.core.session import heard_take
from puresignal.core.session import session as edits
from puresignal.core.session.take_ref import PLAYED, TakeRef
from puresignal.engine.helper_process import HelperProcess
from puresignal.io import file_access, heard_json, note_map_file
from puresignal.translation import count_tr, mark, tr
from puresignal.ui.state.workbench import Workbench

LOOK_MS = 60
GUESS = "?"
"""The kind that asks what is in a recording."""
KINDS = (
    ("melody", mark("A melody")), ("drums", mark("A drum loop")), ("chords", mark("Chords")),
    ("hits", mark("Taught sounds…")),
)  # fmt: skip
"""Kinds of listening."""
NAMES = {"melody": mark("melody"), "drums": mark("drums"), "chords": mark("chords"), "hits": mark("taught sounds")}


Row = Sequence[float]
"""Start, end, channel, note, velocity, confidence, reason and place of a heard note (see heard_take.made)."""


@dataclass
class _Job:
    path: Path
    kind: str
    beat: float
    process: HelperProcess
    to: int
    out: int
    then: Callable[[list[Row]], None] | None = None
    rest: bytes = b""
    ident: str = ""


class Listener(QObject):
    """One recording at a time; further ones wait.

    progressed  (what is listened to, 0..1), or ("", 1.0) when it is over
    told        what to say to the player: (text, whether it is a problem)
    proposed    what a recording probably contains: (path, kind, probability)
    """

    progressed = Signal(str, float)
    told = Signal(str, bool)
    proposed = Signal(object, str, float)

    def __init__(self, workbench: Workbench, parent: QObject | None = None):
        super().__init__(parent)
        self._workbench = workbench
        self._job: _Job | None = None
        self._waiting: list[tuple[Path, str, float, str | None, Callable[[list[Row]], None] | None]] = []
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self._look)
        workbench.closing.connect(self.cancel)

    @property
    def busy(self) -> bool:
        return self._job is not None

    def hear(self, path: Path, kind: str, beat: float = 0.0, examples: str | None = None) -> None:
        """Listen to a recording whose beginning stands at a beat from bar 1."""
        self._waiting = [one for one in self._waiting if one[1] != GUESS]
        self._waiting.append((path, kind, beat, examples, None))
        if self._job is not None and self._job.kind == GUESS:
            self._end()
        else:
            self._begin()

    def propose(self, path: Path) -> None:
        """Find out what a recording probably contains, without a word."""
        self._waiting.append((path, GUESS, 0.0, None, None))
        self._begin()

    def settle(self, path: Path, kind: str, examples: str | None, then: Callable[[list[Row]], None]) -> None:
        """Hear a recording once more, for its rows alone; what is wrong with it is not told."""
        self._waiting.append((path, kind, 0.0, examples, then))
        self._begin()

    def cancel(self) -> None:
        """Hear no more."""
        self._waiting.clear()
        self._end()

    def _begin(self) -> None:
        if self._job is not None or not self._waiting:
            return
        path, kind, beat, examples, then = self._waiting.pop(0)
        theirs, to = os.pipe()
        out, answers = os.pipe()
        os.set_blocking(out, False)
        process = HelperProcess("puresignal.commands.ear", (), (), theirs, answers)
        wanted = {"path": str(path), "kind": kind, "examples": examples}
        os.write(to, json.dumps(wanted).encode() + b"\n")
        self._job = _Job(path, kind, beat, process, to, out, then)
        self._timer.start()
        if kind != GUESS:
            self.progressed.emit(self._title(path), 0.0)

    @staticmethod
    def _title(path: Path) -> str:
        return tr("Listening to {name}", name=file_access.shown_name(path.name))

    def _end(self) -> None:
        job, self._job = self._job, None
        self._timer.stop()
        if job is not None:
            os.close(job.to)
            job.process.end_by(time.monotonic() + 0.5)
            os.close(job.out)
            if job.kind != GUESS:
                self.progressed.emit("", 1.0)
        self._begin()

    def _look(self) -> None:
        job = self._job
        if job is None:
            return
        with contextlib.suppress(BlockingIOError):
            while True:
                more = os.read(job.out, 1 << 16)
                if not more:
                    break
                job.rest += more
        *lines, job.rest = job.rest.split(b"\n")
        for line in lines:
            if self._take_in(job, json.loads(line)):
                self._end()
                return
        if job.process.poll() is not None and not lines:
            self.told.emit(tr("The ear ended before it was done. The log says why; please report it."), True)
            self._end()

    def _take_in(self, job: _Job, said: dict[str, Any]) -> bool:
        """Do what the ear said asks for. Returns whether that was all."""
        if "progress" in said:
            self.progressed.emit(self._title(job.path), float(said["progress"]))
            return False
        if job.kind == GUESS:
            # What is wrong with the file is said when its notes are asked for.
            if said.get("kinds"):
                kind, sure = said["kinds"][0]
                self.proposed.emit(job.path, kind, float(sure))
            return True
        if job.then is not None:
            if "rows" in said:
                job.then(said["rows"])
            return "beginning" not in said
        if "beginning" in said:
            if said["beginning"]["rows"]:
                self._add(job, said["beginning"])
            return False
        if "error" in said:
            what, where, remedy = (*said["error"], "", "")[:3]
            self.told.emit(str(PureSignalError(what, where, remedy)) if remedy else f"{what} ({where})", True)
            return True
        if said["rows"]:
            self._add(job, said)
            name = file_access.shown_name(job.path.stem)
            text = count_tr("{n} note heard in {name}.", "{n} notes heard in {name}.", len(said["rows"]), name=name)
            self.told.emit("\n".join([text, *said["warnings"]]), False)
        else:
            self.told.emit("\n".join(said["warnings"]) or tr("No notes were found in this recording."), True)
        return True

    def _add(self, job: _Job, said: dict[str, Any]) -> None:
        """Add the notes as a take, or put them in the place of those of the beginning, which were there before."""
        bench = self._workbench
        name = file_access.shown_name(job.path.stem)
        ident = bench.store.free_ident()
        title = tr("{name}, {kind}", name=name, kind=tr(NAMES[job.kind]))
        outline = heard_json.outline_from_json(said["outline"]) if said.get("outline") else None
        take, heard = heard_take.made(
            ident, title, job.kind, job.path.name, said["rows"], said["names"], outline, str(job.path)
        )
        source = note_map_file.shipped("general-midi") if job.kind in ("drums", "hits") else None
        bench.store.add(take)
        before = bench.session.take(job.ident) if job.ident else None
        if before is not None:
            session = heard_take.heard_further(bench.session, before, bench.store[before.material], take, heard)
            bench.do(tr("hear {name}", name=name), session, f"hear {job.ident}")  # not shown
            return
        if job.ident:
            # It was taken back meanwhile.
            return
        job.ident = ident
        ref = TakeRef(ident, title, source, beat=job.beat, kind=PLAYED, heard=heard)
        session = edits.with_take(bench.session, ref)
        if not source:
            # A melody has a track of its own, with the recording's name.
            made = session.take(ident)
            assert made is not None
            session = edits.with_changed(session, ident, own="", channels=made.channels or f"{made.number}.")
        bench.do(tr("hear {name}", name=name), session, f"hear {ident}")  # not shown

    def close(self) -> None:
        self._waiting.clear()
        self._end()
