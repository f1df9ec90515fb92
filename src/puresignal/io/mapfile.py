"""Note map files, the shipped ones and the player's own."""

from __future__ import annotations

from functools import lru_cache
from importlib import resources
from pathlib import Path

from puresignal.core.errors import NoteMapError
from puresignal.core.notemap import NoteMap, check_source, from_json, to_json
from puresignal.io import files, jsonfile


@lru_cache
def shipped_ids() -> tuple[str, ...]:
    """Ids of the maps that come with the program, General MIDI first."""
    folder = resources.files("puresignal") / "maps"
    names = sorted(entry.name[:-5] for entry in folder.iterdir() if entry.name.endswith(".json"))
    return tuple(sorted(names, key=lambda name: name != "general-midi"))


@lru_cache
def shipped(ident: str) -> NoteMap:
    """A map that comes with the program.

    Raises NoteMapError when there is none of that id
    """
    if ident not in shipped_ids():
        raise NoteMapError("There is no shipped note map of this name", ident, "See 'pure-signal maps' for the names.")
    content = (resources.files("puresignal") / "maps" / f"{ident}.json").read_bytes()
    return from_json(jsonfile.parse(content, f"{ident}.json", "note map"), f"{ident}.json")


def read(path: Path) -> NoteMap:
    """A map from a file.

    Raises FileAccessError, BadFileError or NoteMapError, each naming the file
    """
    return from_json(jsonfile.read(path, "note map"), path.name)


def write(path: Path, note_map: NoteMap) -> None:
    """Raises FileAccessError when the system refuses."""
    files.write_bytes(path, jsonfile.to_bytes(to_json(note_map)))


def find(name: str) -> NoteMap:
    """A map by file name or by the id of a shipped one; an existing file wins."""
    path = Path(name)
    if path.exists() or name not in shipped_ids():
        if not path.exists() and "/" not in name and not name.endswith(".json"):
            raise NoteMapError(
                "There is no shipped note map and no file of this name", name, "See 'pure-signal maps' for the names."
            )
        return read(path)
    return shipped(name)


def find_source(name: str) -> NoteMap:
    """A map to read playing by: it must say one thing about each note."""
    note_map = find(name)
    check_source(note_map, Path(name).name)
    return note_map
