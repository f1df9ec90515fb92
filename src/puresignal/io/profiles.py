"""Players' voice profiles: calibration, range, response and taught sounds, in a folder each; shared as one file."""

from __future__ import annotations

import io
import json
import os
import re
import shutil
import zipfile
from dataclasses import asdict, dataclass, field, fields, replace
from pathlib import Path
from typing import Any

import numpy as np

from puresignal.core.errors import BadFileError, PureSignalError
from puresignal.core.harmony import keys, scales
from puresignal.core.kit.articulations import is_articulation
from puresignal.core.touch.voice import VoiceSettings
from puresignal.io import audio_file, file_access, json_file, xdg_folders
from puresignal.translation import tr

FORMAT, VERSION = "pure-signal/voice-profile", 1
ENDING = ".voice"
MOST_BYTES, MOST_SOUNDS = 40_000_000, 64
"""Limit for the sounds of a shared profile."""
RANGES = {"low": (12, 108), "high": (13, 120), "shift": (-48, 48), "sensitivity": (0.0, 1.0),
          "response": (0.25, 4.0), "gate": (-100.0, -10.0)}  # fmt: skip


@dataclass(frozen=True)
class Profile:
    """One player.

    delay   milliseconds between a sound and its arrival, taken off what is recorded
    source  "" for JACK or the default device, the name of a device, or one of the simulated voices
    """

    name: str
    settings: VoiceSettings = field(default_factory=VoiceSettings)
    delay: float = 0.0
    source: str = ""


def folder() -> Path:
    """The folder of all profiles."""
    return xdg_folders.data() / "voices"


def folder_of(name: str) -> Path:
    """The folder of one."""
    plain = re.sub(r"[^\w-]+", "-", name).strip("-").lower()[:80] or "voice"
    return folder() / plain


def sounds_of(name: str) -> Path:
    """The folder of a profile's taught sounds: a folder for each drum, with a WAV file for each example."""
    return folder_of(name) / "sounds"


def names() -> tuple[str, ...]:
    """The names of the kept profiles."""
    try:
        found = sorted(folder().glob("*/profile.json"))
    except OSError:
        return ()
    return tuple(sorted((read_file(path).name for path in found), key=str.casefold))


def read_file(path: Path) -> Profile:
    """A profile; one that is damaged is the usual one under its folder's name."""
    try:
        return _from_json(json_file.read(path, tr("voice profile")), path.parent.name)
    except PureSignalError:
        return Profile(path.parent.name)


def read(name: str) -> Profile:
    """A profile by name; the usual one where there is none."""
    path = folder_of(name) / "profile.json"
    return replace(read_file(path), name=name) if os.path.exists(path) else Profile(name)


def write(profile: Profile) -> None:
    """Keep a profile.

    Raises FileAccessError if the system refuses
    """
    place = folder_of(profile.name)
    file_access.make_private(place)
    file_access.write_bytes(place / "profile.json", json_file.to_bytes(_to_json(profile)), private=True)


def remove(name: str) -> None:
    """Remove a profile with its sounds."""
    shutil.rmtree(folder_of(name), ignore_errors=True)


def taught(name: str) -> dict[str, int]:
    """Number of examples of each taught sound."""
    place = sounds_of(name)
    try:
        drums = sorted(one for one in place.iterdir() if one.is_dir() and is_articulation(one.name))
    except OSError:
        return {}
    return {one.name: n for one in drums if (n := sum(1 for _ in one.glob("*.wav")))}


def add_example(place: Path, drum: str, samples: np.ndarray, rate: int) -> Path:
    """Keep an example of a taught sound in a profile's folder of sounds.

    Raises FileAccessError if the system refuses
    """
    into = place / drum
    file_access.make_private(into)
    number = 1 + max((int(p.stem) for p in into.glob("*.wav") if p.stem.isdigit()), default=0)
    path = into / f"{number}.wav"
    audio_file.write_wav(path, samples, rate)
    return path


def forget(name: str, drum: str) -> None:
    """Forget the examples of a drum."""
    shutil.rmtree(sounds_of(name) / drum, ignore_errors=True)


def examples(place: Path, rate: int) -> dict[str, list[np.ndarray]]:
    """The examples in a folder of sounds, (n,) at a rate, by drum; files that cannot be read are skipped."""
    found: dict[str, list[np.ndarray]] = {}
    try:
        drums = sorted(one for one in place.iterdir() if one.is_dir() and is_articulation(one.name))
    except OSError:
        return {}
    for one in drums:
        for path in sorted(one.glob("*.wav"), key=lambda p: (len(p.stem), p.stem)):
            try:
                found.setdefault(one.name, []).append(audio_file.mono(audio_file.read(path, rate))[:, 0])
            except PureSignalError:
                continue
    return found


def share(name: str, path: Path) -> None:
    """Write a profile with its sounds as one file.

    Raises FileAccessError if the system refuses
    """
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("profile.json", json.dumps(_to_json(read(name))))
        for one in sorted(sounds_of(name).glob("*/*.wav")):
            archive.write(one, f"sounds/{one.parent.name}/{one.name}")
    file_access.write_bytes(path, out.getvalue())


def take_in(path: Path) -> Profile:
    """Add a shared profile; one of the same name is kept, and this one gets a number.

    Raises BadFileError or FileAccessError
    """
    bad = BadFileError(tr("This is no voice profile"), file_access.shown_name(path.name), tr("Ask for the file again."))
    with file_access.open_file(path) as file:
        content = file.read(MOST_BYTES + 1)
    if len(content) > MOST_BYTES:
        raise bad
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            rows = archive.infolist()
            if sum(row.file_size for row in rows) > 2 * MOST_BYTES or len(rows) > 40 * MOST_SOUNDS:
                raise bad
            profile = _from_json(json.loads(archive.read("profile.json")), path.stem)
            wanted = {row.filename: archive.read(row) for row in rows if _is_sound(row.filename)}
    except (zipfile.BadZipFile, KeyError, ValueError, UnicodeError, RuntimeError, EOFError, NotImplementedError) as why:
        raise bad from why
    used = {name.casefold() for name in names()}
    name, number = profile.name, 2
    while name.casefold() in used or folder_of(name).exists():
        name, number = f"{profile.name} {number}", number + 1
    profile = replace(profile, name=name)
    write(profile)
    for inside, data in wanted.items():
        _, drum, file_name = inside.split("/")
        file_access.make_private(sounds_of(name) / drum)
        file_access.write_bytes(sounds_of(name) / drum / file_name, data)
    return profile


def _is_sound(name: str) -> bool:
    parts = name.split("/")
    return (
        len(parts) == 3 and parts[0] == "sounds" and is_articulation(parts[1])
        and re.fullmatch(r"\d{1,4}\.wav", parts[2]) is not None
    )  # fmt: skip


def _to_json(profile: Profile) -> dict[str, Any]:
    return {
        "format": FORMAT, "version": VERSION, "name": profile.name, "delay": profile.delay, "source": profile.source,
        "settings": asdict(profile.settings),
    }  # fmt: skip


def _from_json(data: object, name: str) -> Profile:
    """A profile; what is wrong in it is left at its default.

    Raises BadFileError if it is no profile at all
    """
    if not isinstance(data, dict) or data.get("format") != FORMAT:
        raise BadFileError(tr("This is no voice profile"), name, tr("Ask for the file again."))
    given = data.get("settings")
    given = given if isinstance(given, dict) else {}
    usual, values = VoiceSettings(), {}
    for one in fields(VoiceSettings):
        value, default = given.get(one.name), getattr(usual, one.name)
        if one.name in RANGES:
            low, high = RANGES[one.name]
            well = isinstance(value, int | float) and not isinstance(value, bool) and low <= value <= high
            values[one.name] = type(default)(value) if well else default
        elif one.name == "bends":
            values[one.name] = value is True
        else:
            known = (*keys.NAMES, "") if one.name == "key" else scales.CHORDS
            values[one.name] = value if isinstance(value, str) and value in known else default
    told, delay, source = data.get("name"), data.get("delay", 0.0), data.get("source", "")
    good = isinstance(delay, int | float) and not isinstance(delay, bool) and abs(delay) <= 1000
    return Profile(
        told.strip()[:100] if isinstance(told, str) and told.strip() else name,
        VoiceSettings(**values),
        float(delay) if good else 0.0,
        source[:500] if isinstance(source, str) else "",
    )
