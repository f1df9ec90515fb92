"""Folders in which the player keeps things by name, a file each: grooves, chord books, lists of sounds."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Callable
from pathlib import Path
from typing import Protocol, TypeVar

from puresignal.core.errors import PureSignalError
from puresignal.io import file_access


class Named(Protocol):
    """Anything with a name."""

    @property
    def name(self) -> str: ...


Kept = TypeVar("Kept", bound=Named)


def found_in(folder: Path, read: Callable[[Path], Kept], ending: str = ".json") -> list[tuple[Path, Kept]]:
    """The files of a folder and what is in them, by name; those of something else, or damaged, are skipped."""
    found = []
    try:
        paths = sorted(folder.glob(f"*{ending}"))
    except OSError:
        # A folder that may not be read has nothing for us.
        paths = []
    for path in paths:
        with contextlib.suppress(PureSignalError):
            found.append((path, read(path)))
    return sorted(found, key=lambda pair: pair[1].name.casefold())


def all_in(folder: Path, read: Callable[[Path], Kept], ending: str = ".json") -> tuple[Kept, ...]:
    """Everything that the files of a folder hold, by name."""
    return tuple(one for _, one in found_in(folder, read, ending))


def keep(folder: Path, name: str, content: bytes, read: Callable[[Path], Kept], ending: str = ".json") -> Path:
    """Keep something under a name; it replaces what has this very name, and nothing else.

    Raises FileAccessError if the system refuses
    """
    path = place_of(folder, name, read, ending)
    file_access.make_private(folder)
    file_access.write_bytes(path, content)
    return path


def place_of(folder: Path, name: str, read: Callable[[Path], Kept], ending: str = ".json") -> Path:
    """The file of a name: the one that has it, else a new one, since different names may look alike as files."""
    for there, one in found_in(folder, read, ending):
        if one.name == name:
            return there
    plain = re.sub(r"[^\w-]+", "-", name).strip("-").lower()[:80] or "unnamed"
    path, number = folder / f"{plain}{ending}", 1
    while path.exists():
        number += 1
        path = folder / f"{plain}-{number}{ending}"
    return path
