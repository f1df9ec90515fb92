"""Note map files: the shipped ones and the player's own."""

from __future__ import annotations

import contextlib
import re
from functools import lru_cache
from importlib import resources
from pathlib import Path

from puresignal.core.errors import NoteMapError, PureSignalError
from puresignal.core.kit.note_map import NoteMap, check_source, from_json, to_json
from puresignal.io import file_access, json_file, xdg_folders
from puresignal.translation import tr


@lru_cache
def shipped_ids() -> tuple[str, ...]:
    """Ids of the shipped maps, General MIDI first."""
    folder = resources.files("puresignal") / "maps"
    names = sorted(entry.name[:-5] for entry in folder.iterdir() if entry.name.endswith(".json"))
    return tuple(sorted(names, key=lambda name: name != "general-midi"))


@lru_cache
def shipped(ident: str) -> NoteMap:
    """A shipped map.

    Raises NoteMapError if there is none with this id
    """
    if ident not in shipped_ids():
        raise NoteMapError(
            tr("There is no shipped note map of this name"), ident, tr("See 'pure-signal maps' for the names.")
        )
    content = (resources.files("puresignal") / "maps" / f"{ident}.json").read_bytes()
    return from_json(json_file.parse(content, f"{ident}.json", tr("note map")), f"{ident}.json")


def read(path: Path) -> NoteMap:
    """A map from a file.

    Raises FileAccessError, BadFileError or NoteMapError, each naming the file
    """
    return from_json(json_file.read(path, tr("note map")), path.name)


def write(path: Path, note_map: NoteMap) -> None:
    """Write a map to a file.

    Raises FileAccessError if the system refuses
    """
    file_access.write_bytes(path, json_file.to_bytes(to_json(note_map)))


def own_folder() -> Path:
    """Folder of the player's own maps."""
    return xdg_folders.data() / "maps"


def own() -> tuple[NoteMap, ...]:
    """The player's own maps by name; other files are skipped."""
    found = []
    try:
        paths = sorted(own_folder().glob("*.json"))
    except OSError:
        # A folder that may not be read has no maps for us.
        paths = []
    for path in paths:
        with contextlib.suppress(PureSignalError):
            found.append(read(path))
    return tuple(sorted(found, key=lambda m: m.name.casefold()))


def keep(note_map: NoteMap) -> Path:
    """Save a map among the player's own; it replaces one of the same name, and no other.

    Raises FileAccessError if the system refuses
    """
    path = _place_of(note_map.name)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise file_access.access_error(error, path, "write") from error
    write(path, note_map)
    return path


def _place_of(name: str) -> Path:
    """The file for a map of a name: the one that has it, else a new one, since different names may look alike."""
    plain = re.sub(r"[^\w-]+", "-", name).strip("-").lower()[:80] or "map"
    for number in range(1, 1000):
        path = own_folder() / (f"{plain}.json" if number == 1 else f"{plain}-{number}.json")
        try:
            if not path.exists() or read(path).name == name:
                return path
        except PureSignalError:
            # A file that is not readable may still be somebody's work.
            continue
    return own_folder() / f"{plain}.json"


def find(name: str) -> NoteMap:
    """A map by file name, by the id of a shipped one, or by the name of a kept one; an existing file wins."""
    path = Path(name)
    if path.exists():
        return read(path)
    if name in shipped_ids():
        return shipped(name)
    kept = {one.name.casefold(): one for one in own()}
    if name.casefold() in kept:
        return kept[name.casefold()]
    if "/" in name or name.endswith(".json"):
        return read(path)
    import difflib

    known = {one.casefold(): one for one in (*shipped_ids(), *(one.name for one in own()))}
    meant = difflib.get_close_matches(name.casefold(), known, 1)
    raise NoteMapError(
        tr("There is no note map and no file with this name"),
        name,
        tr("Did you mean “{meant}”?", meant=known[meant[0]]) if meant else tr("See 'pure-signal maps' for the names."),
    )


def find_source(name: str) -> NoteMap:
    """A map to identify notes with: it must give each note one meaning."""
    note_map = find(name)
    check_source(note_map, Path(name).name)
    return note_map
