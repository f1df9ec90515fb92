"""What the player chose about the program: recent files, theme, the window's place. One small JSON file."""

from __future__ import annotations

import base64
import binascii
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from puresignal.core.errors import PureSignalError
from puresignal.io import files, folders, jsonfile

MOST_RECENT = 10


@dataclass(frozen=True)
class Preferences:
    """theme: "system", "light" or "dim"; geometry: as Qt packs it, empty for none; recent: newest first."""

    theme: str = "system"
    geometry: bytes = b""
    recent: tuple[str, ...] = ()


def path() -> Path:
    return folders.config() / "preferences.json"


def read() -> Preferences:
    """The preferences; plain ones where there are none or they cannot be read: they are not worth an error."""
    try:
        data = jsonfile.read(path(), "preferences file")
    except PureSignalError:
        return Preferences()
    return _from_json(data if isinstance(data, dict) else {})


def _from_json(data: dict[str, Any]) -> Preferences:
    theme, recent, packed = data.get("theme"), data.get("recent"), data.get("geometry")
    try:
        geometry = base64.b64decode(packed, validate=True) if isinstance(packed, str) else b""
    except (binascii.Error, ValueError):
        geometry = b""
    return Preferences(
        theme if theme in ("system", "light", "dim") else "system",
        geometry,
        tuple(r for r in recent if isinstance(r, str))[:MOST_RECENT] if isinstance(recent, list) else (),
    )


def write(preferences: Preferences) -> None:
    """Raises FileAccessError when the system refuses."""
    place = path()
    try:
        place.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise files.access_error(error, place, "write") from error
    files.write_bytes(
        place,
        jsonfile.to_bytes(
            {
                "theme": preferences.theme,
                "geometry": base64.b64encode(preferences.geometry).decode("ascii"),
                "recent": list(preferences.recent),
            }
        ),
    )


def with_recent(preferences: Preferences, opened: Path) -> Preferences:
    """The preferences with a file at the top of the recent ones."""
    name = str(opened.absolute())
    return replace(preferences, recent=(name, *(r for r in preferences.recent if r != name))[:MOST_RECENT])
