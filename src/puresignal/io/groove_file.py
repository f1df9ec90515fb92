"""Grooves that the player has kept, a JSON file each."""

from __future__ import annotations

from pathlib import Path

from puresignal.core.path import groove_setting
from puresignal.core.timing.groove import Groove
from puresignal.io import json_file, kept_files, xdg_folders
from puresignal.translation import tr


def folder() -> Path:
    """The folder of kept grooves."""
    return xdg_folders.data() / "grooves"


def read(path: Path) -> Groove:
    """A groove from a file. Raises FileAccessError, BadFileError or SettingsError"""
    return groove_setting.from_json(json_file.read(path, tr("groove")), tr("The file"), path.name)


def kept() -> tuple[Groove, ...]:
    """The grooves that were kept, by name; other files are skipped."""
    return tuple(one for one in kept_files.all_in(folder(), read) if one.late)


def keep(groove: Groove) -> Path:
    """Keep a groove under its name; it replaces one of the same name.

    Raises FileAccessError if the system refuses
    """
    return kept_files.keep(folder(), groove.name, json_file.to_bytes(groove_setting.to_json(groove)), read)
