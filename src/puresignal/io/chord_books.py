"""Chord books that the player has kept, a JSON file each."""

from __future__ import annotations

from pathlib import Path

from puresignal.core.harmony import chord_book
from puresignal.core.harmony.chord_book import ChordBook
from puresignal.io import file_access, json_file, kept_files, xdg_folders
from puresignal.translation import tr


def folder() -> Path:
    """The folder of kept books."""
    return xdg_folders.data() / "chords"


def read_file(path: Path) -> ChordBook:
    """A book from a file. Raises BadFileError or FileAccessError"""
    return chord_book.from_json(json_file.read(path, tr("chord book")), path.name)


def kept() -> tuple[ChordBook, ...]:
    """The books that were kept, by name; other files are skipped."""
    return kept_files.all_in(folder(), read_file)


def keep(book: ChordBook) -> Path:
    """Keep a book under its name; it replaces one of the same name.

    Raises FileAccessError if the system refuses
    """
    return kept_files.keep(folder(), book.name, json_file.to_bytes(chord_book.to_json(book)), read_file)


def write_file(book: ChordBook, path: Path) -> None:
    """Write a book anywhere, to share it. Raises FileAccessError"""
    file_access.write_bytes(path, json_file.to_bytes(chord_book.to_json(book)))
