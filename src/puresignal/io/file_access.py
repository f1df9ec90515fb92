"""Safe reading and writing of whole files: never half-written, with errors that say what to do."""

from __future__ import annotations

import contextlib
import errno
import os
import tempfile
from pathlib import Path

from puresignal.core.errors import FileAccessError
from puresignal.translation import tr

LARGEST = 512 * 1024 * 1024
"""Bytes. No MIDI file or session is larger; reading more would only fill the memory."""


def read_bytes(path: Path) -> bytes:
    """A file's content.

    Raises FileAccessError if it is missing, a folder, not permitted or far too large
    """
    try:
        if path.is_dir():
            raise FileAccessError(tr("This is a folder, not a file"), str(path), tr("Choose a file in it."))
        with path.open("rb") as file:
            content = file.read(LARGEST + 1)
    except OSError as error:
        raise access_error(error, path, "read") from error
    if len(content) > LARGEST:
        raise FileAccessError(
            tr("The file is larger than 512 MB"), str(path), tr("Choose a MIDI, map or session file.")
        )
    return content


def check_readable(path: Path) -> None:
    """Raises FileAccessError if a file is missing, a folder or not permitted."""
    try:
        if path.is_dir():
            raise FileAccessError(tr("This is a folder, not a file"), str(path), tr("Choose a file in it."))
        with path.open("rb") as probe:
            probe.read(1)
    except OSError as error:
        raise access_error(error, path, "read") from error


def write_bytes(path: Path, content: bytes, keep_as: Path | None = None) -> None:
    """Write beside the file and rename, so that it exists completely or not at all.

    keep_as  where to keep the previous file
    Raises   FileAccessError if the system refuses; the previous file is unharmed
    """
    temporary = None
    try:
        handle, temporary = tempfile.mkstemp(prefix=f".{path.name}.", suffix=".part", dir=path.parent)
        with os.fdopen(handle, "wb") as file:
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        _give_usual_rights(temporary, path)
        if keep_as is not None and path.exists():
            os.replace(path, keep_as)
        os.replace(temporary, path)
    except OSError as error:
        if temporary is not None:
            with contextlib.suppress(OSError):
                os.unlink(temporary)
        raise access_error(error, path, "write") from error


def _give_usual_rights(temporary: str, path: Path) -> None:
    try:
        mode = path.stat().st_mode & 0o777
    except OSError:
        # mkstemp creates private files; a new file gets the usual permissions.
        mask = os.umask(0)
        os.umask(mask)
        mode = 0o666 & ~mask
    os.chmod(temporary, mode)


def access_error(error: OSError, path: Path, doing: str) -> FileAccessError:
    """A system error as a FileAccessError that says what to do."""
    known = {
        errno.ENOENT: (tr("There is no such file or folder"), tr("Check the name.")),
        errno.ENOTDIR: (tr("A part of this path is a file, not a folder"), tr("Check the name.")),
        errno.EACCES: (
            tr("You have no permission to {doing} this", doing=doing),
            tr("Change its permissions or choose another place."),
        ),
        errno.EPERM: (
            tr("You have no permission to {doing} this", doing=doing),
            tr("Change its permissions or choose another place."),
        ),
        errno.EROFS: (tr("This place is read-only"), tr("Choose another place.")),
        errno.ENOSPC: (tr("The disk is full"), tr("Make room or choose another place; nothing was written.")),
        errno.EDQUOT: (tr("Your disk quota is used up"), tr("Make room or choose another place; nothing was written.")),
        errno.EISDIR: (tr("This is a folder, not a file"), tr("Give a file name.")),
        errno.ENAMETOOLONG: (tr("The name is too long"), tr("Choose a shorter one.")),
        errno.EFBIG: (
            tr("The file would be larger than this disk allows"),
            tr("Choose another place; nothing was written."),
        ),
    }
    what, remedy = known.get(
        error.errno or 0,
        (
            tr("The system could not {doing} it: {strerror}", doing=doing, strerror=error.strerror or error),
            tr("Try another place."),
        ),
    )
    return FileAccessError(what, str(path), remedy)
