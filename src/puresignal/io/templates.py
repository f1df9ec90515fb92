"""Templates: sessions without takes, in the player's data folder, that new sessions begin with."""

from __future__ import annotations

from pathlib import Path

from puresignal.core.session.session import Session, as_template
from puresignal.io import file_access, kept_files, session_file, xdg_folders


def folder() -> Path:
    """Folder of the player's templates."""
    return xdg_folders.data() / "templates"


def kept() -> dict[str, Path]:
    """The templates by name; files that cannot be read are skipped."""
    return {one.name: path for path, one in kept_files.found_in(folder(), read, session_file.ENDING)}


def keep(session: Session, name: str) -> Path:
    """Keep a session as a template, without its takes; it replaces one of the same name, and no other.

    Raises FileAccessError if the system refuses
    """
    content = session_file.to_bytes(as_template(session, name), {})
    return kept_files.keep(folder(), name, content, read, session_file.ENDING)


def read(path: Path) -> Session:
    """The session that a template is. Raises FileAccessError or BadFileError"""
    return session_file.read(path).session


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
