"""Templates: sessions without takes, in the player's data folder, that new sessions begin with."""

from __future__ import annotations

import re
from pathlib import Path

from puresignal.core.errors import PureSignalError
from puresignal.core.session.session import Session, as_template
from puresignal.io import file_access, session_file, xdg_folders


def folder() -> Path:
    """Folder of the player's templates."""
    return xdg_folders.data() / "templates"


def kept() -> dict[str, Path]:
    """The templates by name; files that cannot be read are skipped."""
    found = {}
    try:
        paths = sorted(folder().glob(f"*{session_file.ENDING}"))
    except OSError:
        paths = []
    for path in paths:
        try:
            found[session_file.read(path).session.name] = path
        except PureSignalError:
            continue
    return dict(sorted(found.items(), key=lambda pair: pair[0].casefold()))


def keep(session: Session, name: str) -> Path:
    """Keep a session as a template, without its takes; it replaces one of the same name, and no other.

    Raises FileAccessError if the system refuses
    """
    there = kept()
    path = there.get(name) or _free_place(name)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise file_access.access_error(error, path, "write") from error
    file_access.write_bytes(path, session_file.to_bytes(as_template(session, name), {}))
    return path


def _free_place(name: str) -> Path:
    plain = re.sub(r"[^\w-]+", "-", name).strip("-").lower()[:80] or "template"
    path, number = folder() / f"{plain}{session_file.ENDING}", 1
    while path.exists():
        # Different names may look alike, and a file that is not readable may still be somebody's work.
        number += 1
        path = folder() / f"{plain}-{number}{session_file.ENDING}"
    return path


def begin(path: Path) -> Session:
    """A new, unnamed session from a template.

    Raises FileAccessError or BadFileError
    """
    return as_template(session_file.read(path).session, Session().name)


def remove(path: Path) -> None:
    """Delete a template.

    Raises FileAccessError if the system refuses
    """
    try:
        path.unlink(missing_ok=True)
    except OSError as error:
        raise file_access.access_error(error, path, "write") from error
