"""Recordings in a session's file: their own bytes on the way out, and a file to read from on the way in.

A session remembers where a recording was found. Where it still lies there, that file is used; else its bytes from the
session are put into the state folder once, named by their content.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

from puresignal.core.errors import PureSignalError
from puresignal.core.session.session import Session
from puresignal.core.session.take_ref import SOUND, TakeRef
from puresignal.io import file_access, limits
from puresignal.translation import tr

FOLDER = "audio"
NAME = re.compile(r"audio/[A-Za-z0-9][A-Za-z0-9_.-]{0,99}")


def files(session: Session) -> tuple[dict[str, Path], list[str]]:
    """The recordings that go along, by the ident of their take, and a sentence for each that does not."""
    found: dict[str, Path] = {}
    problems, room = [], limits.AUDIO_BYTES
    for ref in session.takes:
        if ref.kind != SOUND or ref.sound is None:
            continue
        path = Path(ref.sound.path)
        try:
            size = path.stat().st_size if path.is_file() else -1
        except OSError:
            size = -1
        if size < 0:
            problems.append(tr("{name} is not in the session: its file is not there any more.", name=ref.name))
        elif size > room:
            problems.append(tr("{name} is too large to be in the session; keep its file beside it.", name=ref.name))
        else:
            found[ref.ident], room = path, room - size
    return found, problems


def entry(ident: str, path: Path) -> str:
    """The name of a recording in a session's file."""
    ending = re.sub(r"[^a-z0-9]", "", path.suffix.lower())[:8]
    return f"{FOLDER}/{ident}.{ending or 'bin'}"


def placed(
    session: Session, rows: Mapping[str, str], sizes: Mapping[str, int], content: Callable[[str], bytes], folder: Path
) -> tuple[Session, list[str]]:  # fmt: skip
    """The session with paths that can be read here, and a sentence for each recording that cannot.

    rows     entry of the recording of each take, by ident
    sizes    bytes of each entry; content: an entry's bytes
    folder   where to put recordings whose file is gone
    """
    moved: dict[str, str] = {}
    takes: list[TakeRef] = []
    problems: list[str] = []
    for ref in session.takes:
        name = rows.get(ref.ident)
        if ref.kind == SOUND and ref.sound is not None and name is not None and name in sizes:
            try:
                path = _here(Path(ref.sound.path), name, sizes[name], content, folder)
            except PureSignalError as error:
                problems.append(str(error))
            else:
                moved[ref.sound.path] = str(path)
                ref = replace(ref, sound=replace(ref.sound, path=str(path)))
        takes.append(ref)
    for i, ref in enumerate(takes):
        if ref.heard is not None and moved.get(ref.heard.path, ref.heard.path) != ref.heard.path:
            takes[i] = replace(ref, heard=replace(ref.heard, path=moved[ref.heard.path]))
    return replace(session, takes=tuple(takes)), problems


def _here(path: Path, name: str, size: int, content: Callable[[str], bytes], folder: Path) -> Path:
    try:
        if path.is_file() and path.stat().st_size == size:
            return path
    except (OSError, ValueError):
        pass
    found = content(name)
    plain = re.sub(r"[^\w .,()-]", "_", path.name).strip(". ")[-80:] or name.rpartition("/")[2]
    goal = folder / hashlib.sha256(found).hexdigest()[:24] / plain
    if not (goal.is_file() and goal.stat().st_size == size):
        file_access.make_private(goal.parent)
        file_access.write_bytes(goal, found, private=True)
    return goal


def row_of(data: Any) -> dict[str, str]:
    """Entries of the recordings, by ident of their take, from a session's description."""
    found: dict[str, str] = {}
    rows = data.get("takes") if isinstance(data, dict) else None
    for row in rows if isinstance(rows, list) else ():
        sound = row.get("sound") if isinstance(row, dict) else None
        name = sound.get("file") if isinstance(sound, dict) else None
        if isinstance(name, str) and NAME.fullmatch(name) and isinstance(row.get("ident"), str):
            found[row["ident"]] = name
    return found
