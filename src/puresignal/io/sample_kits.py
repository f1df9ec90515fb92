"""Kits of the player's own recordings: folders of audio files that are named after what they are."""

from __future__ import annotations

import shutil
from pathlib import Path

from puresignal.core.errors import BadFileError, FileAccessError, PureSignalError
from puresignal.core.kit.articulations import drum_of
from puresignal.core.sound.sampled_kit import SampledKit, Stroke, named
from puresignal.io import audio_file, file_access, file_kinds, xdg_folders
from puresignal.translation import tr

MOST_FILES = 2000
LARGEST = 64 << 20
"""Bytes of one file: a stroke of minutes is none."""


def folder() -> Path:
    """The folder of the player's kits."""
    return xdg_folders.data() / "kits"


def names() -> list[str]:
    """The kits that were kept."""
    try:
        return sorted((one.name for one in folder().iterdir() if one.is_dir()), key=str.casefold)
    except OSError:
        return []


def add(source: Path) -> tuple[str, list[str]]:
    """Keep the recordings of a folder as a kit named after it. Returns its name, and the files that were left out.

    Raises FileAccessError, or BadFileError if no file is named after a drum
    """
    try:
        inside = sorted(path for path in source.iterdir() if path.is_file())
    except OSError as error:
        raise file_access.access_error(error, source, "read") from error
    strokes = {path: named(path.stem) for path in inside if file_kinds.by_ending(path) is file_kinds.AUDIO}
    good = [path for path, stroke in strokes.items() if stroke is not None and path.stat().st_size <= LARGEST]
    if not good:
        raise BadFileError(
            tr("No recording in this folder is named after a drum"), source.name,
            tr("Name them kick.wav, snare.wav, snare.rim v2.wav, hat.open.wav …"),
        )  # fmt: skip
    if len(good) > MOST_FILES:
        raise BadFileError(tr("This folder has more than {n} recordings", n=MOST_FILES), source.name, tr("Split it."))
    taken = set(names())
    plain = file_access.as_file_name(file_access.shown_name(source.name))
    name = next(one for one in (plain, *(f"{plain} {n}" for n in range(2, 10_000))) if one not in taken)
    into = folder() / name
    left_out = [path.name for path in inside if path not in good]
    try:
        file_access.make_private(into)
        for path in good:
            try:
                audio_file.facts(path)
            except PureSignalError:
                left_out.append(path.name)
                continue
            shutil.copyfile(path, into / path.name)
        if not any(into.iterdir()):
            raise BadFileError(tr("No recording in this folder can be read"), source.name, tr("Choose another folder."))
    except (OSError, PureSignalError) as error:
        shutil.rmtree(into, ignore_errors=True)
        if isinstance(error, OSError):
            raise file_access.access_error(error, into, "write") from error
        raise
    return name, sorted(left_out)


def stamp(name: str) -> int:
    """A number that is another one after a kit's recordings have changed; 0 for kits that are not kept."""
    try:
        return (folder() / file_access.as_file_name(name)).stat().st_mtime_ns
    except (OSError, ValueError):
        return 0


def with_sample(kit: str, drum: str, path: Path) -> str:
    """Let a recording be a drum of a kept kit, else of a new one. Returns the kit's name.

    What it stands in place of is kept in the kit's folder "before".

    kit     the kit now; one of ours is not changed, and a new one has its drums but for this one
    drum    an articulation, or a drum, which then has this for all its articulations
    Raises  FileAccessError, BadFileError
    """
    audio_file.facts(path)
    if path.stat().st_size > LARGEST:
        raise BadFileError(tr("This recording is too long for one stroke"), path.name, tr("Cut the stroke out of it."))
    name = kit if kit in names() else ""
    if not name:
        taken = set(names())
        name = next(free for n in range(1, 10_000) if (free := tr("My kit {n}", n=n)) not in taken)
    into = folder() / file_access.as_file_name(name)
    try:
        file_access.make_private(into)
        there = [(one, named(one.stem)) for one in into.iterdir() if one.is_file()]
        for one, stroke in there:
            if stroke is not None and drum in (stroke.articulation, drum_of(stroke.articulation)):
                file_access.make_private(into / "before")
                one.replace(into / "before" / one.name)
        fresh = into / f".{drum}.part"
        shutil.copyfile(path, fresh)
        fresh.replace(into / f"{drum}{path.suffix.lower()}")
    except OSError as error:
        raise file_access.access_error(error, into, "write") from error
    return name


def load(name: str, rate: int) -> SampledKit:
    """A kept kit at a sample rate; recordings that cannot be read are skipped.

    Raises FileAccessError if there is no such kit
    """
    place = folder() / file_access.as_file_name(name)
    if not place.is_dir():
        raise FileAccessError(tr("This kit is not here any more"), name, tr("Choose another kit in Outputs, Sound."))
    strokes: dict[Stroke, object] = {}
    for path in sorted(place.iterdir()):
        stroke = named(path.stem)
        if stroke is not None and file_kinds.by_ending(path) is file_kinds.AUDIO:
            try:
                strokes[stroke] = audio_file.mono(audio_file.read(path, rate))[:, 0]
            except PureSignalError:
                continue
    return SampledKit(name, strokes)  # type: ignore[arg-type]


def remove(name: str) -> None:
    """Delete a kept kit."""
    shutil.rmtree(folder() / file_access.as_file_name(name), ignore_errors=True)
