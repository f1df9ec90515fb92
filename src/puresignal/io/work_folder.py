"""The work folder of an open session: everything is on disk as soon as it is done, and survives a crash.

An open session has a folder under the state folder, with a lock. A folder without a live lock holds unsaved work
and is offered for recovery.
"""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import os
import shutil
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

from puresignal.core.errors import FileAccessError, PureSignalError
from puresignal.core.midi.events import Take
from puresignal.core.session.session import Session
from puresignal.io import file_access, json_file, session_file, take_file, xdg_folders
from puresignal.translation import tr

_STATE = "state.json"


class Lock:
    """A lock file that the system releases when its process ends, however it ends."""

    def __init__(self, path: Path):
        self.path = path
        self._file: IO[str] | None = None

    def take(self) -> bool:
        """Try to take the lock. Returns whether we have it.

        Raises FileAccessError if the lock file cannot be created
        """
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            file = self.path.open("a+")
        except OSError as error:
            raise file_access.access_error(error, self.path, "write") from error
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            file.close()
            return False
        file.truncate(0)
        file.write(str(os.getpid()))
        file.flush()
        self._file = file
        return True

    def let_go(self) -> None:
        if self._file is not None:
            with contextlib.suppress(OSError):
                self.path.unlink()
            self._file.close()
            self._file = None


def session_lock(saved: Path) -> Lock:
    """The lock on a saved session, the same for all names of the file."""
    name = hashlib.sha256(str(saved.resolve()).encode("utf-8", "surrogateescape")).hexdigest()[:24]
    return Lock(xdg_folders.state() / "locks" / name)


@dataclass(frozen=True)
class Leftover:
    """Unsaved work of a program that has ended.

    name  of the session
    file  where it was last saved, or None
    """

    folder: Path
    name: str
    file: Path | None


class WorkFolder:
    """One open session on disk."""

    def __init__(self, folder: Path | None = None):
        self.folder = folder or xdg_folders.state() / "work" / os.urandom(8).hex()
        self._lock = Lock(self.folder / "lock")
        self._takes: set[str] = set()
        if not self._lock.take():
            raise FileAccessError(tr("Another window has this session open"), str(self.folder), tr("Close it first."))

    def store(self, session: Session, takes: dict[str, Take], file: Path | None, unsaved: bool) -> None:
        """Store the current session; each take is written once.

        Raises FileAccessError if the system refuses
        """
        try:
            (self.folder / "takes").mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise file_access.access_error(error, self.folder, "write") from error
        for ident, take in takes.items():
            if ident not in self._takes:
                file_access.write_bytes(self.folder / "takes" / f"{ident}.mid", take_file.to_bytes(take))
                self._takes.add(ident)
        content = json_file.to_bytes(session_file.to_json(session, takes))
        file_access.write_bytes(self.folder / "session.json", content)
        state = {"unsaved": unsaved, "file": None if file is None else str(file), "name": session.name}
        file_access.write_bytes(self.folder / _STATE, json_file.to_bytes(state))

    def let_go(self) -> None:
        """Stop, but leave the work on disk for recovery."""
        self._lock.let_go()

    def remove(self) -> None:
        """Stop and delete the folder: the work is saved elsewhere, or there was none."""
        self._lock.let_go()
        shutil.rmtree(self.folder, ignore_errors=True)


def leftovers() -> tuple[Leftover, ...]:
    """Unsaved work without an owner, newest first. Saved and empty folders are deleted."""
    found = []
    work = xdg_folders.state() / "work"
    if not work.is_dir():
        return ()
    for folder in sorted(work.iterdir(), key=lambda f: f.stat().st_mtime, reverse=True):
        lock = Lock(folder / "lock")
        try:
            if not folder.is_dir() or not lock.take():
                continue
        except PureSignalError:
            continue
        state = _state(folder)
        if state.get("unsaved") is True:
            saved = state.get("file")
            found.append(Leftover(folder, str(state.get("name", "")), Path(saved) if isinstance(saved, str) else None))
            lock.let_go()
        else:
            lock.let_go()
            shutil.rmtree(folder, ignore_errors=True)
    return tuple(found)


def _state(folder: Path) -> dict[str, Any]:
    try:
        data = json_file.read(folder / _STATE, tr("state file"))
    except PureSignalError:
        return {}
    return data if isinstance(data, dict) else {}


def recover(leftover: Leftover) -> session_file.Opened:
    """The session in a folder of unsaved work.

    Raises FileAccessError or BadFileError if it cannot be read
    """
    data = json_file.read(leftover.folder / "session.json", "session")

    def content(entry: str) -> bytes:
        return file_access.read_bytes(leftover.folder / entry)

    return session_file.from_json(data, leftover.name or tr("unsaved session"), content)


def discard(leftover: Leftover) -> None:
    """Delete unsaved work after it has been recovered."""
    shutil.rmtree(leftover.folder, ignore_errors=True)
