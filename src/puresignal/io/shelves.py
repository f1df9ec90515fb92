"""Everything that the player keeps by name, in one form: what there is, renamed, shared, taken in, deleted."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from puresignal.core.errors import FileAccessError
from puresignal.core.session.session import Session
from puresignal.io import (
    chord_books,
    file_access,
    groove_file,
    kept_files,
    note_map_file,
    sound_lists,
    templates,
)
from puresignal.translation import mark, tr

Used = Callable[[Session, Any], bool]


@dataclass(frozen=True)
class Item:
    """One thing that is kept: its name, its file, and itself."""

    name: str
    path: Path
    value: Any


@dataclass(frozen=True)
class Shelf:
    """One kind of things.

    title   for the player; marked for translation
    folder  where they are
    ending  of their files
    read    a thing from a file; raises FileAccessError, BadFileError or another PureSignalError
    keep    keeps a thing under its name; raises FileAccessError
    used    whether a session uses it
    """

    title: str
    folder: Callable[[], Path]
    ending: str
    read: Callable[[Path], Any]
    keep: Callable[[Any], Path]
    used: Used

    def items(self) -> list[Item]:
        """The files on this shelf by name; files of another kind are left alone."""
        found = kept_files.found_in(self.folder(), self.read, self.ending)
        return [Item(one.name, path, one) for path, one in found]

    def rename(self, item: Item, name: str) -> Item:
        """Give a thing another name.

        Raises FileAccessError if another has it, or the system refuses
        """
        name = name.strip()
        if not name or name == item.name:
            return item
        if any(one.name.casefold() == name.casefold() for one in self.items() if one.path != item.path):
            raise FileAccessError(tr("Another one has this name"), name, tr("Choose another name."))
        value = replace(item.value, name=name)
        path = self.keep(value)
        if path != item.path:
            self.remove(item)
        return Item(name, path, value)

    def remove(self, item: Item) -> None:
        """Delete a thing. Raises FileAccessError if the system refuses"""
        try:
            item.path.unlink()
        except OSError as error:
            raise file_access.access_error(error, item.path, "delete") from error

    def share(self, item: Item, path: Path) -> None:
        """Write a thing to a file anywhere. Raises FileAccessError"""
        file_access.write_bytes(path, file_access.read_bytes(item.path, MOST_BYTES))

    def take_in(self, path: Path) -> Item:
        """Keep what a file holds; one of its name stays, and this one gets a number.

        Raises a PureSignalError that says what is wrong with the file
        """
        value, there = self.read(path), {one.name.casefold() for one in self.items()}
        name, number = value.name, 2
        while name.casefold() in there:
            name, number = f"{value.name} {number}", number + 1
        value = replace(value, name=name)
        return Item(name, self.keep(value), value)


MOST_BYTES = 64 << 20


def _uses_map(session: Session, value: Any) -> bool:
    maps = [session.target, *(one.source for one in session.inputs), *(one.source for one in session.takes)]
    maps += [one.target for one in session.destinations]
    return any(one is not None and one.name == value.name for one in maps)


SHELVES = (
    Shelf(mark("Note maps"), note_map_file.own_folder, ".json", note_map_file.read, note_map_file.keep, _uses_map),
    Shelf(
        mark("Grooves"), groove_file.folder, ".json", groove_file.read, groove_file.keep,
        lambda session, value: session.path.timing.groove.name == value.name,
    ),
    Shelf(
        mark("Chord books"), chord_books.folder, ".json", chord_books.read_file, chord_books.keep,
        lambda session, value: any(f'"{value.name}"' in ref.recipe for ref in session.takes),
    ),
    Shelf(
        mark("Lists of sounds"), sound_lists.folder, ".json", sound_lists.read, sound_lists.keep,
        lambda session, value: any(
            one.sounds is not None and one.sounds.name == value.name for one in session.destinations
        ),
    ),
    Shelf(
        mark("Templates"), templates.folder, ".puresignal", templates.read, lambda one: templates.keep(one, one.name),
        lambda session, value: False,
    ),
)  # fmt: skip
