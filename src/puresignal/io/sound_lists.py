"""Lists of a receiver's sounds from files: MIDNAM XML of the MIDI Manufacturers Association, or JSON of our own."""

from __future__ import annotations

import re
from pathlib import Path
from xml.etree import ElementTree
from xml.etree.ElementTree import Element

from puresignal.core.errors import BadFileError
from puresignal.core.midi import sound_names
from puresignal.core.midi.sound_names import MOST_SOUNDS, Sound, SoundNames
from puresignal.io import file_access, json_file, kept_files, xdg_folders
from puresignal.translation import tr

LARGEST = 4_000_000
"""Bytes of a MIDNAM file; those of the largest workstations have less than one million."""
BANK_COARSE, BANK_FINE = "0", "32"


def folder() -> Path:
    """The folder of kept lists."""
    return xdg_folders.data() / "sounds"


def kept() -> tuple[SoundNames, ...]:
    """The lists that were kept, by name; other files are skipped."""
    return kept_files.all_in(folder(), read)


def keep(names: SoundNames) -> Path:
    """Keep a list under its name; it replaces one of the same name.

    Raises FileAccessError if the system refuses
    """
    return kept_files.keep(folder(), names.name, json_file.to_bytes(sound_names.to_json(names)), read)


def read(path: Path) -> SoundNames:
    """A list from a file.

    Raises FileAccessError, or BadFileError that says what is wrong
    """
    content = file_access.read_bytes(path, LARGEST)
    if content.lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"{"):
        return sound_names.from_json(json_file.parse(content, path.name, tr("list of sounds")), path.name)
    return parse_midnam(content, path.name)


def parse_midnam(content: bytes, name: str) -> SoundNames:
    """A list from the XML of a MIDNAM file: all its banks, one after another.

    Raises BadFileError if it is not XML, declares entities, or names no sound
    """
    cure = tr("Choose a MIDNAM file (.midnam), or a list of sounds (.json).")
    # What expands could fill the memory; no such file needs it.
    if b"<!ENTITY" in content:
        raise BadFileError(tr("This file declares entities, which are not read"), name, cure)
    try:
        root = ElementTree.fromstring(content)
    except (ElementTree.ParseError, ValueError, LookupError) as error:
        raise BadFileError(tr("This is not a MIDNAM file: it is not XML"), name, cure) from error
    lists = {one.get("Name", ""): one for one in root.iter("PatchNameList")}
    found: list[Sound] = []
    for bank in root.iter("PatchBank"):
        number = _bank(bank.find("MIDICommands"))
        used = bank.find("UsesPatchNameList")
        inside = bank.find("PatchNameList")
        if inside is None and used is not None:
            inside = lists.get(used.get("Name", ""))
        for patch in () if inside is None else inside.iter("Patch"):
            commands = patch.find("PatchMIDICommands")
            change = None if commands is None else commands.find("ProgramChange")
            program = _number(patch.get("ProgramChange") if change is None else change.get("Number"), 127)
            own = _bank(commands)
            if program is not None and len(found) < MOST_SOUNDS:
                found.append(Sound((patch.get("Name") or "").strip()[:200], program, number if own is None else own))
    if not found:
        raise BadFileError(tr("This file names no sounds"), name, cure)
    device = " ".join(filter(None, ((root.findtext(f".//{tag}") or "").strip() for tag in ("Manufacturer", "Model"))))
    return SoundNames(device[:200] or Path(name).stem, tuple(dict.fromkeys(found)))


def _bank(commands: Element | None) -> int | None:
    """The bank that control changes choose, 0..16383."""
    if commands is None:
        return None
    values = {one.get("Control"): _number(one.get("Value"), 127) for one in commands.iter("ControlChange")}
    coarse, fine = values.get(BANK_COARSE), values.get(BANK_FINE)
    return None if coarse is None and fine is None else ((coarse or 0) << 7) + (fine or 0)


def _number(text: str | None, most: int) -> int | None:
    return int(text) if text is not None and re.fullmatch(r"\s*\d{1,5}\s*", text) and int(text) <= most else None
