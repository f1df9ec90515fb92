"""Safe reading and writing of whole files: never half-written, with errors that say what to do."""

from __future__ import annotations

import contextlib
import errno
import hashlib
import os
import shutil
import stat
import tempfile
import time
from collections.abc import Iterable
from pathlib import Path
from typing import BinaryIO

from puresignal.core.errors import FileAccessError
from puresignal.io import limits
from puresignal.translation import tr

LARGEST = limits.SESSION_BYTES


def open_file(path: Path) -> BinaryIO:
    """A file, open for reading. Pipes and devices are refused: reading them may block or never end.

    Raises FileAccessError if it is missing, not a file, or not permitted
    """
    try:
        # Without O_NONBLOCK, opening a pipe that nobody writes to waits for ever.
        handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    except OSError as error:
        raise access_error(error, path, "read") from error
    except ValueError as error:
        raise FileAccessError(tr("There is no such file or folder"), str(path), tr("Check the name.")) from error
    mode = os.fstat(handle).st_mode
    if stat.S_ISREG(mode):
        return os.fdopen(handle, "rb")
    os.close(handle)
    if stat.S_ISDIR(mode):
        raise FileAccessError(tr("This is a folder, not a file"), str(path), tr("Choose a file in it."))
    raise FileAccessError(tr("This is a pipe or a device, not a file"), str(path), tr("Choose a file."))


def read_bytes(path: Path, most: int = LARGEST) -> bytes:
    """A file's content. most: bytes that it may have.

    Raises FileAccessError if it is missing, not a file, not permitted or far too large
    """
    with open_file(path) as file:
        try:
            too_large = os.fstat(file.fileno()).st_size > most
            content = b"" if too_large else file.read(most + 1)
        except OSError as error:
            raise access_error(error, path, "read") from error
    if too_large or len(content) > most:
        raise FileAccessError(
            tr("The file is larger than {n} MB", n=most >> 20), str(path), tr("Choose a MIDI, map or session file.")
        )
    return content


def check_readable(path: Path) -> None:
    """Raises FileAccessError if a file is missing, not a file, or not permitted."""
    with open_file(path) as probe:
        try:
            probe.read(1)
        except OSError as error:
            raise access_error(error, path, "read") from error


def shown_name(name: str) -> str:
    """A file name to show and to call things after: bytes that are not UTF-8 become question marks."""
    return name.encode("utf-8", "surrogateescape").decode("utf-8", "replace")


def as_file_name(name: str) -> str:
    """A name that the player gave, as part of a file's name."""
    kept = "".join("-" if c in '/\\:*?"<>|' or not c.isprintable() else c for c in name).strip(" .")
    return kept[:80] or "-"


def make_private(folder: Path) -> None:
    """Create a folder of the program's own, which only the player may look into.

    Raises FileAccessError if the system refuses
    """
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        # Folders above it are made with the usual permissions; those of the program are private too.
        for one in (folder, *folder.parents):
            if one.name == OWN_FOLDER and stat.S_IMODE(one.stat().st_mode) & 0o077:
                one.chmod(0o700)
    except OSError as error:
        raise access_error(error, folder, "write") from error


def write_bytes(
    path: Path, content: bytes | Iterable[bytes], keep_as: Path | None = None, private: bool = False, new: bool = False
) -> None:
    """Write beside the file and rename, so that it exists completely or not at all. A link stays one.

    content  all of it, or parts in turn, which need not be in memory at once
    keep_as  where to keep the previous file
    private  whether only the player may read it
    new      refuse if the file exists, also if another program has made it a moment ago
    Raises   FileAccessError if the system refuses, or if it is a pipe or a device; the previous file is unharmed
    """
    temporary = None
    try:
        real = Path(os.path.realpath(path))
        before = _mode(real)
        if before is not None and not stat.S_ISREG(before):
            if stat.S_ISDIR(before):
                raise FileAccessError(tr("This is a folder, not a file"), str(path), tr("Give a file name."))
            raise FileAccessError(tr("This is a pipe or a device, not a file"), str(path), tr("Give a file name."))
        _clear_parts(real)
        handle, temporary = tempfile.mkstemp(prefix=f"{_part_prefix(real)}{os.getpid()}-", suffix=PART, dir=real.parent)
        with os.fdopen(handle, "wb") as file:
            for part in (content,) if isinstance(content, bytes) else content:
                file.write(part)
            file.flush()
            os.fsync(file.fileno())
        if not private:
            os.chmod(temporary, stat.S_IMODE(before) & 0o777 if before is not None else _usual_rights())
        if keep_as is not None and before is not None:
            _keep(real, keep_as)
        if new:
            _put_new(temporary, real)
        else:
            os.replace(temporary, real)
        _sync_folder(real.parent)
    except OSError as error:
        if temporary is not None:
            with contextlib.suppress(OSError):
                os.unlink(temporary)
        raise access_error(error, path, "write") from error
    except ValueError as error:
        raise FileAccessError(
            tr("This cannot be the name of a file"), repr(str(path)), tr("Choose another.")
        ) from error


def _put_new(temporary: str, path: Path) -> None:
    """Give what was written its name, unless something has that name already."""
    try:
        try:
            os.link(temporary, path)
        except FileExistsError:
            raise
        except OSError:
            # Some disks have no second names: the name is taken first, and filled at once.
            os.close(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600))
            os.replace(temporary, path)
            return
    except FileExistsError:
        os.unlink(temporary)
        raise FileAccessError(
            tr("This file exists already"), str(path), tr("Give another name, or add --force.")
        ) from None
    os.unlink(temporary)


PART = ".part"
OWN_FOLDER = "pure-signal"
STALE_SECONDS = 60.0
"""A file that was being written this long ago, by a process that is gone, is a leftover of a killed run."""


def _part_prefix(path: Path) -> str:
    # A name may have 255 bytes, so what is written first cannot be called after it.
    return f".pure-signal-{hashlib.sha256(os.fsencode(path.name)).hexdigest()[:12]}-"


def _clear_parts(path: Path) -> None:
    """Delete what killed runs left behind while they wrote this file."""
    prefix = _part_prefix(path)
    for name in os.listdir(path.parent):
        if not (name.startswith(prefix) and name.endswith(PART)):
            continue
        owner = name[len(prefix) :].partition("-")[0]
        with contextlib.suppress(OSError):
            one = path.parent / name
            if time.time() - one.stat().st_mtime > STALE_SECONDS and not os.path.exists(f"/proc/{owner}"):
                one.unlink()


def _keep(path: Path, keep_as: Path) -> None:
    """Keep a file under a second name. The file itself is there at every moment."""
    handle, second = tempfile.mkstemp(prefix=f"{_part_prefix(keep_as)}{os.getpid()}-", suffix=PART, dir=keep_as.parent)
    os.close(handle)
    try:
        try:
            os.unlink(second)
            os.link(path, second)
        except OSError:
            # Some disks have no second names.
            shutil.copy2(path, second)
        os.replace(second, keep_as)
    finally:
        # Renaming does nothing where both are the same file already, after a save that failed at its last step.
        with contextlib.suppress(OSError):
            os.unlink(second)


def _mode(path: Path) -> int | None:
    try:
        return os.stat(path).st_mode
    except FileNotFoundError:
        return None


def _usual_rights() -> int:
    """mkstemp creates private files; a new file gets the usual permissions."""
    mask = os.umask(0)
    os.umask(mask)
    return 0o666 & ~mask


def _sync_folder(folder: Path) -> None:
    """Make a rename last through a power cut; some file systems cannot."""
    with contextlib.suppress(OSError):
        handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


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
