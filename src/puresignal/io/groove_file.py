"""Grooves that the player has kept, a JSON file each."""

from __future__ import annotations

import contextlib
import re
from pathlib import Path

from puresignal.core.errors import PureSignalError
from puresignal.core.path import groove_setting
from puresignal.core.timing.groove import Groove
from puresignal.io import file_access, json_file, xdg_folders
from puresignal.translation import tr


def folder() -> Path:
    """The folder of kept grooves."""
    return xdg_folders.data() / "grooves"


def kept() -> tuple[Groove, ...]:
    """The grooves that were kept, by name; other files are skipped."""
    try:
        paths = sorted(folder().glob("*.json"))
    except OSError:
        paths = []
    found = []
    for path in paths:
        with contextlib.suppress(PureSignalError):
            one = groove_setting.from_json(json_file.read(path, tr("groove")), tr("The file"), path.name)
            found.append(one)
    return tuple(sorted((one for one in found if one.late), key=lambda one: one.name.casefold()))


def keep(groove: Groove) -> Path:
    """Keep a groove under its name; it replaces one of the same name.

    Raises FileAccessError if the system refuses
    """
    plain = re.sub(r"[^\w-]+", "-", groove.name).strip("-").lower()[:80] or "groove"
    path = folder() / f"{plain}.json"
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise file_access.access_error(error, path, "write") from error
    file_access.write_bytes(path, json_file.to_bytes(groove_setting.to_json(groove)))
    return path
