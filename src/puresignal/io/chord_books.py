"""Chord books that the player has kept, a JSON file each."""

from __future__ import annotations

import contextlib
import re
from pathlib import Path

from puresignal.core.errors import PureSignalError
from puresignal.core.harmony import chord_book
from puresignal.core.harmony.chord_book import ChordBook
from puresignal.io import file_access, json_file, xdg_folders
from puresignal.translation import tr


def folder() -> Path:
    """The folder of kept books."""
    return xdg_folders.data() / "chords"


def path_of(name: str) -> Path:
    plain = re.sub(r"[^\w-]+", "-", name).strip("-").lower()[:80] or "chords"
    return folder() / f"{plain}.json"


def read_file(path: Path) -> ChordBook:
    """A book from a file. Raises BadFileError or FileAccessError"""
    return chord_book.from_json(json_file.read(path, tr("chord book")), path.name)


def kept() -> tuple[ChordBook, ...]:
    """The books that were kept, by name; other files are skipped."""
    try:
        paths = sorted(folder().glob("*.json"))
    except OSError:
        paths = []
    found = []
    for path in paths:
        with contextlib.suppress(PureSignalError):
            found.append(read_file(path))
    return tuple(sorted(found, key=lambda one: one.name.casefold()))


def keep(book: ChordBook) -> Path:
    """Keep a book under its name; it replaces one of the same name.

    Raises FileAccessError if the system refuses
    """
    path = path_of(book.name)
    file_access.make_private(path.parent)
    write_file(book, path)
    return path


def write_file(book: ChordBook, path: Path) -> None:
    """Write a book anywhere, to share it. Raises FileAccessError"""
    file_access.write_bytes(path, json_file.to_bytes(chord_book.to_json(book)))
