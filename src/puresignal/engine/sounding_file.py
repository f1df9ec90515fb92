"""The file with the table of sounding notes: if the whole program is killed, its next start ends what sounds.

A file is in use while anybody holds its lock; the router inherits it, so it is free only when all have ended.
"""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import tempfile
import time
from pathlib import Path

from puresignal.engine import unused_file
from puresignal.engine.sounding_notes import KEYS, OUTPUTS, SILENCE, SOUNDING_SIZE
from puresignal.io import xdg_folders
from puresignal.io.log_file import log

PREFIX = "sounding-"
KEPT_SECONDS = 24 * 3600
"""After a day nobody hears the note any more: the receiver was switched off or silenced by hand."""
HEADER = 1 << 16
"""Bytes after the table: the names of the outputs, as JSON."""


def folder() -> Path:
    """Where the files are: in memory where the system has a place for that."""
    runtime = os.environ.get("XDG_RUNTIME_DIR", "")
    return Path(runtime) / xdg_folders.NAME if runtime.startswith("/") else xdg_folders.state() / "sounding"


def make() -> tuple[int, Path | None]:
    """A new table: (descriptor, path). Without a writable folder it is in memory only, and the path None."""
    try:
        folder().mkdir(mode=0o700, parents=True, exist_ok=True)
        descriptor, name = tempfile.mkstemp(prefix=f"{PREFIX}{os.getpid()}-", dir=folder())
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        os.posix_fallocate(descriptor, 0, SOUNDING_SIZE + HEADER)
        return descriptor, Path(name)
    except OSError:
        log.exception("no table of sounding notes in %s", folder())
    descriptor = os.memfd_create("pure-signal sounding")
    os.ftruncate(descriptor, SOUNDING_SIZE + HEADER)
    return descriptor, None


def write_outputs(descriptor: int, outputs: tuple[str, ...]) -> None:
    """Note the outputs' names; what sounds at one that stays moves to its new number, the rest is forgotten."""
    before = read_outputs(descriptor)
    if before == outputs:
        return
    table = os.pread(descriptor, SOUNDING_SIZE, 0)
    rows = {name: table[i * KEYS : (i + 1) * KEYS] for i, name in enumerate(before[:OUTPUTS])}
    moved = b"".join(rows.get(name, bytes(KEYS)) for name in outputs[:OUTPUTS])
    content = json.dumps(outputs).encode()[: HEADER - 1]
    os.pwrite(descriptor, moved.ljust(SOUNDING_SIZE, b"\0") + content.ljust(HEADER, b"\0"), 0)


def read_outputs(descriptor: int) -> tuple[str, ...]:
    """The names of the outputs; empty if they cannot be read."""
    try:
        found = json.loads(os.pread(descriptor, HEADER, SOUNDING_SIZE).rstrip(b"\0") or b"[]")
    except ValueError:
        return ()
    return tuple(found) if isinstance(found, list) and all(isinstance(name, str) for name in found) else ()


def is_silent(descriptor: int) -> bool:
    return os.pread(descriptor, SOUNDING_SIZE, 0) == SILENCE


def close(descriptor: int, path: Path | None) -> None:
    """Let go of a table; its file stays if something could not be ended."""
    with contextlib.suppress(OSError):
        if path is not None and is_silent(descriptor):
            path.unlink()
    os.close(descriptor)


def leftovers() -> list[Path]:
    """Tables of programs that were killed. Those too old to matter are deleted."""
    found = []
    with contextlib.suppress(OSError):
        for path in folder().glob(f"{PREFIX}*"):
            descriptor = take(path)
            if descriptor is None:
                if not _owner_lives(path):
                    # Its router is still ending, or was killed only just now.
                    found.append(path)
                continue
            if is_silent(descriptor) or time.time() - path.stat().st_mtime > KEPT_SECONDS:
                path.unlink(missing_ok=True)
            else:
                found.append(path)
            os.close(descriptor)
    return found


def _owner_lives(path: Path) -> bool:
    owner = path.name.removeprefix(PREFIX).partition("-")[0]
    try:
        return Path(f"/proc/{owner}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


def take(path: Path) -> int | None:
    """The descriptor of a table that nobody uses, now locked; None if somebody does or it is no table."""
    return unused_file.take(path, SOUNDING_SIZE + HEADER)
