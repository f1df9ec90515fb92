"""A disk that refuses one call, or all from one on, and a session of ten edits that is stored and saved on it."""

from __future__ import annotations

import errno
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, NamedTuple

from puresignal.core.errors import PureSignalError
from puresignal.core.session import session as edits
from puresignal.core.session.session import Session
from puresignal.demo import demo_session
from puresignal.io import session_file, work_folder

CALLS = ("write", "fsync", "replace", "link", "open", "mkdir")
WRITING = os.O_CREAT | os.O_WRONLY | os.O_RDWR
SESSION, TAKES = demo_session.build()


class Disk:
    """Refuses the call of this number, counted over everything that needs room; `lasting`: and all after it."""

    def __init__(self, number: int, lasting: bool):
        self._number, self._lasting = number, lasting
        self.count = 0
        self.refused = False

    @contextmanager
    def at_work(self) -> Iterator[None]:
        real = {name: getattr(os, name) for name in CALLS}
        fdopen = os.fdopen

        def refusing(name: str) -> Any:
            def call(*arguments: Any, **more: Any) -> Any:
                writes = name != "open" or (
                    len(arguments) > 1 and arguments[1] & (os.O_CREAT | os.O_WRONLY | os.O_RDWR)
                )
                if writes:
                    self._count()
                return real[name](*arguments, **more)

            return call

        def opened(*arguments: Any, **more: Any) -> Any:
            file = fdopen(*arguments, **more)
            if "w" in arguments[1:2]:
                self._count()
            return file

        for name in CALLS:
            setattr(os, name, refusing(name))
        os.fdopen = opened
        try:
            yield
        finally:
            for name in CALLS:
                setattr(os, name, real[name])
            os.fdopen = fdopen

    def _count(self) -> None:
        self.count += 1
        if self.count == self._number or (self._lasting and self.count > self._number):
            self.refused = True
            raise OSError(errno.ENOSPC, "No space left on device")


class Outcome(NamedTuple):
    """whole: whether the last good copy of the work and of the saved file can be read.

    told: whether an error was, or everything was written in spite of the refusal
    """

    whole: bool
    told: bool


def ten_edits(folder: Path, disk: Disk) -> Outcome:
    """Store ten edits and save every third, then look at what is on the disk."""
    session, takes = SESSION, {take.ident: take for take in TAKES}
    saved = folder / "evening.puresignal"
    session_file.write(saved, edits.with_name(session, "edit 0"), takes)
    work = work_folder.WorkFolder(folder / "work")
    work.store(edits.with_name(session, "edit 0"), takes, saved, True)
    stored = kept = 0
    told = False
    with disk.at_work():
        for number in range(1, 11):
            now = edits.with_name(session, f"edit {number}")
            try:
                work.store(now, takes, saved, True)
                stored = number
            except PureSignalError:
                told = True
            if number % 3 == 0:
                try:
                    session_file.write(saved, now, takes)
                    kept = number
                except PureSignalError:
                    told = True
    work.let_go()
    recovered = _number(work_folder.recover(work_folder.Leftover(folder / "work", "", None)).session)
    opened = _number(session_file.read(saved).session)
    parts = list(folder.rglob("*.part"))
    whole = recovered >= stored and opened >= kept and not parts
    return Outcome(whole, told or (recovered, opened) == (10, 9))


def _number(session: Session) -> int:
    return int(session.name.removeprefix("edit "))
