"""Preferences of the program: recent files, theme, window geometry. One small JSON file."""

from __future__ import annotations

import base64
import binascii
import os
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Any

from puresignal.core.errors import BadFileError
from puresignal.core.generators.recipe import RATES as RATES_OF_NOTES
from puresignal.core.harmony import keys
from puresignal.core.touch.computer_keyboard import MODES, PLAYABLE, SCALES, Keyboard
from puresignal.core.touch.hand_control import ACTIONS, CONTROL, NOTE, PROGRAM, Trigger
from puresignal.core.touch.surface import PAGES, SLIDES, WAYS, SurfaceSettings
from puresignal.io import file_access, json_file, xdg_folders
from puresignal.translation import languages, tr

MOST_RECENT = 10
MOST_CELLS = 1024


RATES, BLOCKS = (44_100, 48_000, 88_200, 96_000), (64, 128, 256, 512, 1024)


@dataclass(frozen=True)
class SoundOut:
    """The sound device: name (empty for the default), sample rate, and frames per block."""

    device: str = ""
    rate: int = 48_000
    block: int = 256


@dataclass(frozen=True)
class Preferences:
    """The preferences.

    theme     "system", "light" or "dim"
    geometry  of the window, as Qt packs it, or empty
    recent    files, newest first
    keyboard  settings of the computer keyboard
    sound     output used when there is no JACK
    shortcuts  changed ones: (name of the action, keys in portable form)
    controls  what a pad or switch does: (action, trigger)
    learn_live  whether the kit is learnt while it is played
    voice     name of the voice profile in use
    surface   how the touch surface is filled; chord_book: name of the book on it
    tells_kept  whether closing says that unsaved work is kept
    language  code of the language, empty for that of the system
    """

    theme: str = "system"
    geometry: bytes = b""
    recent: tuple[str, ...] = ()
    keyboard: Keyboard = field(default_factory=Keyboard)
    sound: SoundOut = field(default_factory=SoundOut)
    shortcuts: tuple[tuple[str, str], ...] = ()
    controls: tuple[tuple[str, Trigger], ...] = ()
    learn_live: bool = False
    voice: str = ""
    surface: SurfaceSettings = field(default_factory=SurfaceSettings)
    chord_book: str = ""
    tells_kept: bool = True
    language: str = ""


def path() -> Path:
    return xdg_folders.config() / "preferences.json"


def read() -> Preferences:
    """Read the preferences; defaults where there are none.

    Raises BadFileError if the file is damaged, FileAccessError if it is there and cannot be read
    """
    if not os.path.lexists(path()):
        return Preferences()
    data = json_file.read(path(), tr("preferences file"))
    if not isinstance(data, dict):
        raise BadFileError(
            tr("The preferences file is damaged"), path().name, tr("The usual preferences are used instead.")
        )
    return _from_json(data)


def _from_json(data: dict[str, Any]) -> Preferences:
    theme, recent, packed = data.get("theme"), data.get("recent"), data.get("geometry")
    try:
        geometry = base64.b64decode(packed, validate=True) if isinstance(packed, str) else b""
    except (binascii.Error, ValueError):
        geometry = b""
    return Preferences(
        theme if isinstance(theme, str) and theme in ("system", "light", "dim") else "system",
        geometry,
        _recent(recent),
        _keyboard(data.get("keyboard")),
        _sound(data.get("sound")),
        _shortcuts(data.get("shortcuts")),
        _controls(data.get("controls")),
        data.get("learn_live") is True,
        _name(data.get("voice")),
        _surface(data.get("surface")),
        _name(data.get("chord_book")),
        data.get("tells_kept", True) is not False,
        data["language"] if data.get("language") in languages() else "",
    )


def _name(data: object) -> str:
    return data[:200] if isinstance(data, str) else ""


SURFACE_RANGES = {"rows": (1, 8), "columns": (2, 16), "low": (0, 96), "apart": (1, 12), "under": (1, 5),
                  "strum": (-400.0, 400.0), "wide": (0, 2), "page": (0, PAGES - 1)}  # fmt: skip


def _surface(data: object) -> SurfaceSettings:
    """Settings of the touch surface; what is wrong is left at its default."""
    usual = SurfaceSettings()
    if not isinstance(data, dict):
        return usual
    values: dict[str, Any] = {}
    for name, (low, high) in SURFACE_RANGES.items():
        value, default = data.get(name), getattr(usual, name)
        well = isinstance(value, int | float) and not isinstance(value, bool) and low <= value <= high
        values[name] = type(default)(value) if well else default
    for name, known in (("way", WAYS), ("slide", SLIDES), ("key", (*keys.NAMES, "")), ("roll", (*RATES_OF_NOTES, ""))):
        values[name] = data.get(name) if data.get(name) in known else getattr(usual, name)
    return SurfaceSettings(**values, one_voice=data.get("one_voice") is True, drums=_drums(data.get("drums")))


def _drums(rows: object) -> tuple[tuple[int, int, int, str], ...]:
    """Drums of the surface's cells; rows that are none are left out."""
    found = []
    for row in rows[:MOST_CELLS] if isinstance(rows, list) else ():
        if not isinstance(row, list) or len(row) != 4 or not isinstance(row[3], str) or len(row[3]) > 60:
            continue
        if all(type(one) is int and 0 <= one < 16 for one in row[:3]):
            found.append((row[0], row[1], row[2], row[3]))
    return tuple(found)


def _controls(data: object) -> tuple[tuple[str, Trigger], ...]:
    found = []
    for row in data if isinstance(data, list) else ():
        good = isinstance(row, list) and len(row) == 2 and row[0] in ACTIONS and isinstance(row[1], dict)
        if not good:
            continue
        port, kind, channel, number = (row[1].get(name) for name in ("port", "kind", "channel", "number"))
        well = isinstance(port, str) and kind in (NOTE, CONTROL, PROGRAM)
        if well and isinstance(channel, int) and 1 <= channel <= 16 and isinstance(number, int) and 0 <= number < 128:
            found.append((row[0], Trigger(port, kind, channel, number)))
    return tuple(found)


def _shortcuts(data: object) -> tuple[tuple[str, str], ...]:
    rows = data.items() if isinstance(data, dict) else ()
    return tuple(sorted((name, keys) for name, keys in rows if isinstance(name, str) and isinstance(keys, str)))


def _sound(data: object) -> SoundOut:
    usual = SoundOut()
    if not isinstance(data, dict):
        return usual
    device, rate, block = data.get("device"), data.get("rate"), data.get("block")
    return SoundOut(
        device if isinstance(device, str) else usual.device,
        rate if isinstance(rate, int) and rate in RATES else usual.rate,
        block if isinstance(block, int) and block in BLOCKS else usual.block,
    )


def _recent(data: object) -> tuple[str, ...]:
    rows = data if isinstance(data, list) else []
    return tuple(r for r in rows if isinstance(r, str) and "\0" not in r)[:MOST_RECENT]


def _is_key(text: str) -> bool:
    return text.isascii() and text.isdigit() and len(text) < 10


def _keyboard(data: object) -> Keyboard:
    """Every valid field; the default in place of an invalid one."""
    usual = Keyboard()
    if not isinstance(data, dict):
        return usual
    kept: dict[str, Any] = {**data}
    kept.setdefault("randomness", kept.get("varied"))  # its name in version 0.1.0

    def whole(name: str, least: int, most: int) -> int:
        value = kept.get(name)
        good = isinstance(value, int) and not isinstance(value, bool) and least <= value <= most
        return int(value) if good and value is not None else int(getattr(usual, name))

    mode, scale, drums = kept.get("mode"), kept.get("scale"), kept.get("drums")
    rows = drums.items() if isinstance(drums, dict) else ()
    good = tuple(sorted((int(k), v) for k, v in rows if _is_key(k) and isinstance(v, str) and v in PLAYABLE))
    return Keyboard(
        mode if isinstance(mode, str) and mode in MODES else usual.mode, whole("octave", 0, 7), whole("root", 0, 11),
        scale if isinstance(scale, str) and scale in SCALES else usual.scale, whole("velocity", 1, 127),
        whole("randomness", 0, 40),
        good if isinstance(drums, dict) else usual.drums,
    )  # fmt: skip


def write(preferences: Preferences) -> None:
    """Write the preferences.

    Raises FileAccessError if the system refuses
    """
    place = path()
    file_access.make_private(place.parent)
    file_access.write_bytes(
        place,
        json_file.to_bytes(
            {
                "theme": preferences.theme,
                "geometry": base64.b64encode(preferences.geometry).decode("ascii"),
                "recent": list(preferences.recent),
                "sound": asdict(preferences.sound),
                "shortcuts": dict(preferences.shortcuts),
                "controls": [[name, asdict(trigger)] for name, trigger in preferences.controls],
                "learn_live": preferences.learn_live,
                "voice": preferences.voice,
                "surface": asdict(preferences.surface),
                "chord_book": preferences.chord_book,
                "tells_kept": preferences.tells_kept,
                "language": preferences.language,
                "keyboard": {
                    **asdict(preferences.keyboard),
                    "drums": {str(key): name for key, name in preferences.keyboard.drums},
                },
            }
        ),
        private=True,
    )


def with_recent(preferences: Preferences, opened: Path) -> Preferences:
    """The preferences with a file at the top of the recent ones."""
    name = str(opened.absolute())
    return replace(preferences, recent=(name, *(r for r in preferences.recent if r != name))[:MOST_RECENT])
