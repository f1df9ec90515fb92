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
import time
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

from puresignal.core.errors import FileAccessError, PureSignalError
from puresignal.core.midi.events import Take
from puresignal.core.session.session import Session, with_take
from puresignal.core.session.take_ref import TakeRef
from puresignal.io import file_access, json_file, session_file, take_file, xdg_folders
from puresignal.translation import tr

_RECOVERED = "recovered_from"
_STATE, SESSION = "state.json", "session.json"


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
            file_access.make_private(self.path.parent)
            file = open(self.path, "a+", opener=_private)  # noqa: SIM115 - held until the lock is let go
        except OSError as error:
            raise file_access.access_error(error, self.path, "write") from error
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            file.close()
            return False
        self._file = file
        # The number is for people; a full disk, which has no room for it, does not keep the lock from holding.
        with contextlib.suppress(OSError):
            file.truncate(0)
            file.write(str(os.getpid()))
            file.flush()
        return True

    def let_go(self) -> None:
        if self._file is not None:
            with contextlib.suppress(OSError):
                self.path.unlink()
            with contextlib.suppress(OSError):
                self._file.close()
            self._file = None


def _private(name: str, flags: int) -> int:
    return os.open(name, flags, 0o600)


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
        self._stored: dict[str, object] = {}
        self._told = b""
        if not self._lock.take():
            raise FileAccessError(tr("Another window has this session open"), str(self.folder), tr("Close it first."))

    def store(
        self, session: Session, takes: dict[str, Take], file: Path | None, unsaved: bool, recovered: str = ""
    ) -> None:
        """Store the current session: each take once, and of the rest what has changed.

        recovered  name of the folder that this work was recovered from, which is superseded once this is on disk
        Raises FileAccessError if the system refuses
        """
        for name in ("takes", "verdicts", "edits", "heard"):
            file_access.make_private(self.folder / name)
        state: dict[str, Any] = {
            "unsaved": unsaved,
            "file": None if file is None else str(file),
            "name": session.name,
            "names": {ref.ident: ref.name for ref in session.takes},
        }
        if recovered:
            state[_RECOVERED] = recovered
        if not self._stored and not (self.folder / _STATE).exists():
            # First of all, so that a run that is killed in its first store leaves its name.
            file_access.write_bytes(self.folder / _STATE, json_file.to_bytes({**state, "unsaved": True}), private=True)
        for entry in session_file.entries(session, takes):
            if self._stored.get(entry.name) is not entry.of:
                file_access.write_bytes(self.folder / entry.name, entry.content(), private=True)
                self._stored[entry.name] = entry.of
        told = json_file.to_bytes(state)
        if told != self._told:
            file_access.write_bytes(self.folder / _STATE, told, private=True)
            self._told = told

    def let_go(self) -> None:
        """Stop, but leave the work on disk for recovery."""
        self._lock.let_go()

    def remove(self) -> None:
        """Stop and delete the folder: the work is saved elsewhere, or there was none."""
        self._lock.let_go()
        shutil.rmtree(self.folder, ignore_errors=True)


def leftovers() -> tuple[Leftover, ...]:
    """Unsaved work without an owner, newest first. Folders that say that their work was saved are deleted.

    A folder whose state is missing or damaged is offered if it has anything in it: nothing unreadable is deleted.
    """
    found = []
    work = xdg_folders.state() / "work"
    folders = _newest_first(work)
    superseded = _superseded(folders)
    for folder in folders:
        lock = Lock(folder / "lock")
        try:
            if not folder.is_dir() or not lock.take():
                continue
        except PureSignalError:
            continue
        state = _state(folder)
        if state is None and _has_work(folder):
            found.append(Leftover(folder, "", None))
            lock.let_go()
        elif state is not None and folder.name in superseded:
            lock.let_go()
            shutil.rmtree(folder, ignore_errors=True)
        elif state is not None and state.get("unsaved") is not False and _has_work(folder):
            saved, name = state.get("file"), state.get("name")
            file = Path(saved) if isinstance(saved, str) and "\0" not in saved else None
            found.append(Leftover(folder, name if isinstance(name, str) else "", file))
            lock.let_go()
        else:
            lock.let_go()
            shutil.rmtree(folder, ignore_errors=True)
    return tuple(found)


def _superseded(folders: list[Path]) -> set[str]:
    """Names of folders that another one has all of: a run that is killed while it recovers leaves two."""
    found = set()
    by_name = {folder.name: folder for folder in folders}
    for folder in folders:
        source = by_name.get(str((_state(folder) or {}).get(_RECOVERED)))
        if source is None or source == folder:
            continue
        if (folder / SESSION).exists():
            found.add(source.name)
        elif _takes_in(folder) <= _takes_in(source):
            found.add(folder.name)
    return found


def _takes_in(folder: Path) -> set[str]:
    return {path.name for path in (folder / "takes").glob("*.mid")}


def _newest_first(work: Path) -> list[Path]:
    def when(folder: Path) -> float:
        # The folder's own time changes with every look at its lock.
        for name in (SESSION, _STATE):
            with contextlib.suppress(OSError):
                return (folder / name).stat().st_mtime
        return 0.0

    try:
        return sorted(work.iterdir(), key=when, reverse=True)
    except OSError:
        return []


def _has_work(folder: Path) -> bool:
    return (folder / SESSION).exists() or bool(_takes_in(folder))


def _state(folder: Path) -> dict[str, Any] | None:
    """The state that a folder states; None if that is missing or damaged."""
    try:
        data = json_file.read(folder / _STATE, tr("state file"))
    except PureSignalError:
        return None
    return data if isinstance(data, dict) else None


def recover(leftover: Leftover) -> session_file.Opened:
    """The session in a folder of unsaved work; its takes alone if the session itself cannot be read.

    Raises FileAccessError or BadFileError if nothing in it can be read
    """

    def content(entry: str) -> bytes:
        return file_access.read_bytes(leftover.folder / entry)

    name = leftover.name or tr("unsaved session")
    try:
        return session_file.from_json(json_file.read(leftover.folder / SESSION, "session"), name, content)
    except PureSignalError:
        opened = _without_session(leftover, name)
        if opened is None:
            raise
        return opened


def _without_session(leftover: Leftover, name: str) -> session_file.Opened | None:
    """Everything that can be recovered without the session: its saved file, and all takes that can be read; or None.

    That is how a run leaves its folder that was killed in its first store.
    """
    session, takes = Session(name=name), dict[str, Take]()
    names = (_state(leftover.folder) or {}).get("names")
    if leftover.file is not None:
        with contextlib.suppress(PureSignalError):
            opened = session_file.read(leftover.file)
            session, takes = opened.session, {take.ident: take for take in opened.takes}
    for path in sorted((leftover.folder / "takes").glob("*.mid")):
        if session_file.is_ident(path.stem) and path.stem not in takes:
            with contextlib.suppress(PureSignalError):
                called = names.get(path.stem) if isinstance(names, dict) else None
                called = called if isinstance(called, str) else path.stem
                take = take_file.from_bytes(file_access.read_bytes(path), path.stem, called)
                takes[take.ident] = take
                session = with_take(session, TakeRef(take.ident, take.name))
    return session_file.Opened(session, tuple(takes.values())) if takes else None


def discard(leftover: Leftover) -> None:
    """Let go of work that was recovered and is stored again. What could not be read stays, under `aside`."""
    if _state(leftover.folder) is None or not _is_whole(leftover.folder):
        set_aside(leftover.folder)
    else:
        shutil.rmtree(leftover.folder, ignore_errors=True)


def _is_whole(folder: Path) -> bool:
    try:
        json_file.read(folder / SESSION, "session")
        return not recover(Leftover(folder, "", None)).problems
    except PureSignalError:
        return False


def set_aside(path: Path) -> Path | None:
    """Move something unreadable of the program's own out of the way. Returns its new place, None if that failed."""
    aside = xdg_folders.state() / "aside"
    target = aside / f"{path.name}-{int(time.time())}-{os.urandom(2).hex()}"
    try:
        file_access.make_private(aside)
        shutil.move(path, target)
    except (OSError, PureSignalError):
        return None
    return target
