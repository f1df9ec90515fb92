"""Session files: one zip with `session.json`, the materials and what was decided about notes (docs/formats.md).

Written beside and renamed; the last good copy is kept. Names and sizes in a zip are checked before use.
"""

from __future__ import annotations

import io
import lzma
import os
import re
import struct
import zipfile
import zlib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from puresignal.core.errors import BadFileError, PureSignalError
from puresignal.core.midi.events import Take
from puresignal.core.path.heard_notes import HeardNotes
from puresignal.core.path.note_edits import NoteEdits
from puresignal.core.session import generated
from puresignal.core.session.session import Session
from puresignal.io import (
    edits_json,
    file_access,
    heard_json,
    json_file,
    limits,
    session_json,
    session_reader,
    session_sounds,
    take_file,
    xdg_folders,
)
from puresignal.io.json_fields import ENDING, is_ident, last_copy_hint
from puresignal.io.session_reader import Opened, from_json
from puresignal.translation import tr

__all__ = ["ENDING", "Entry", "Opened", "entries", "from_json", "is_ident", "parse", "read", "to_bytes", "write"]

_INSIDE = re.compile(r"session\.json|(takes|audio|verdicts|edits|heard)/[A-Za-z0-9][A-Za-z0-9_.-]{0,99}")
"""Names of what can be in a session's file."""


@dataclass(frozen=True, eq=False)
class Entry:
    """A part of a session on disk.

    of  the value that it is written from: as long as it is the same one, so are the bytes
    """

    name: str
    of: object

    def content(self) -> bytes:
        if isinstance(self.of, Take):
            return take_file.to_bytes(self.of)
        if isinstance(self.of, HeardNotes):
            return json_file.to_bytes(heard_json.to_json(self.of))
        if isinstance(self.of, NoteEdits):
            return json_file.to_bytes(edits_json.to_json(self.of))
        return json_file.to_bytes(self.of if isinstance(self.of, dict) else session_json.verdicts_json(self.of))  # type: ignore[arg-type]


def entries(session: Session, takes: Mapping[str, Take]) -> Iterator[Entry]:
    """Everything that a session is stored as. takes: the materials by ident, also of removed takes."""
    data = session_json.to_json(session, takes)
    with_verdicts = [ref for ref in session.takes if len(ref.verdicts)]
    rows: dict[str, Any] = {row["ident"]: row for row in data["takes"]}
    for ref in with_verdicts:
        rows[ref.ident]["verdicts"] = f"verdicts/{ref.ident}.json"
    with_edits = [ref for ref in session.takes if len(ref.edits) or ref.edits.strokes]
    for ref in with_edits:
        rows[ref.ident]["edits"] = f"edits/{ref.ident}.json"
    for ref in session.takes:
        if ref.heard is not None:
            rows[ref.ident]["heard"] = f"heard/{ref.ident}.json"
    # Materials first: a session on disk never speaks of what is not there.
    for ident, take in sorted(takes.items()):
        yield Entry(f"takes/{ident}.mid", take)
    for ref in with_verdicts:
        yield Entry(f"verdicts/{ref.ident}.json", ref.verdicts)
    for ref in session.takes:
        if ref.heard is not None:
            yield Entry(f"heard/{ref.ident}.json", ref.heard)
    for ref in with_edits:
        yield Entry(f"edits/{ref.ident}.json", ref.edits)
    yield Entry("session.json", data)


def to_bytes(session: Session, takes: Mapping[str, Take], sounds: Mapping[str, Path] | None = None) -> bytes:
    """The zip of a session; equal sessions give equal bytes.

    sounds  files of the recordings that go along, by the ident of their take
    Raises FileAccessError if one of them cannot be read
    """
    buffer = io.BytesIO()
    within = {ident: session_sounds.entry(ident, path) for ident, path in (sounds or {}).items()}
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        for ident, path in (sounds or {}).items():
            # Sound hardly gets smaller.
            _put(archive, within[ident], file_access.read_bytes(path), zipfile.ZIP_STORED)
        for entry in entries(session, takes):
            content = entry.content()
            if entry.name == "session.json" and within and isinstance(entry.of, dict):
                rows = [
                    {**row, "sound": {**row["sound"], "file": within[row["ident"]]}} if row["ident"] in within else row
                    for row in entry.of["takes"]
                ]
                content = json_file.to_bytes({**entry.of, "takes": rows})
            _put(archive, entry.name, content)
    return buffer.getvalue()


def write(path: Path, session: Session, takes: dict[str, Take]) -> list[str]:
    """Save a session with its recordings; the previous file is kept as `NAME.puresignal.last`.

    Returns a sentence for each recording that is not in it.
    Raises FileAccessError if the system refuses; the previous file is unharmed
    """
    sounds, problems = session_sounds.files(session)
    content = to_bytes(session, takes, sounds)
    file_access.write_bytes(path, content, keep_as=_last(Path(os.path.realpath(path))))
    return problems


def read(path: Path) -> Opened:
    """A session from a file.

    Raises FileAccessError, or BadFileError if it is not a session or is damaged
    """
    last = _last(path)
    if not path.exists() and last.exists():
        # A run of an earlier version was killed between its two renames: the last copy is the whole session.
        path = last
    return parse(file_access.read_bytes(path), path.name, xdg_folders.state() / "sounds")


def _last(path: Path) -> Path:
    """Where the previous copy of a session is kept."""
    return path.with_name(path.name + ".last")


def parse(content: bytes, name: str, sounds: Path | None = None) -> Opened:
    """A session from a zip's bytes. sounds: where to put recordings whose own file is gone; None: nowhere"""
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            opened = _Archive(archive, name).opened(sounds)
            # Notes of generators are not in the file: they follow from their recipes.
            takes = {take.ident: take for take in opened.takes}
            return replace(opened, session=generated.refreshed(opened.session, takes))
    except PureSignalError:
        raise
    except (
        zipfile.BadZipFile,
        LookupError,
        lzma.LZMAError,
        zlib.error,
        ValueError,
        OSError,
        struct.error,
        EOFError,
        NotImplementedError,
        RuntimeError,
    ) as error:
        # With a damaged directory the library reads nonsense offsets, and raises many kinds of errors.
        raise BadFileError(
            tr("This is not a Pure Signal session, or it is damaged"), name, last_copy_hint(name)
        ) from error


def _put(archive: zipfile.ZipFile, name: str, content: bytes, packed: int = zipfile.ZIP_DEFLATED) -> None:
    # A fixed date, so that saving twice gives the same bytes.
    info = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
    info.compress_type = packed
    info.external_attr = 0o644 << 16
    archive.writestr(info, content)


class _Archive:
    """Reads one zip and trusts nothing in it."""

    def __init__(self, archive: zipfile.ZipFile, name: str):
        self._archive = archive
        self._name = name
        self._entries: dict[str, zipfile.ZipInfo] = {}
        total = 0
        for info in archive.infolist():
            plain = _INSIDE.fullmatch(info.filename)
            if info.is_dir():
                continue
            if not plain or ".." in info.filename:
                raise BadFileError(
                    tr("It contains a file that no session has, {filename!r}", filename=info.filename[:80]),
                    name,
                    tr("Do not use it; ask the sender for another copy."),
                )
            total += info.file_size
            most = self._most(info.filename)
            if info.file_size > most or total > limits.SESSION_BYTES:
                raise BadFileError(
                    tr("{filename} claims to be larger than any session's file", filename=info.filename),
                    name,
                    tr("Ask for another copy."),
                )
            self._entries[info.filename] = info

    def content(self, entry: str) -> bytes:
        info = self._entries.get(entry)
        if info is None:
            raise BadFileError(tr("{entry} is missing", entry=entry), self._name, last_copy_hint(self._name))
        try:
            with self._archive.open(info) as file:
                content = file.read(self._most(entry) + 1)
        except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError, OSError) as error:
            raise BadFileError(tr("{entry} is damaged", entry=entry), self._name, last_copy_hint(self._name)) from error
        if len(content) != info.file_size:
            raise BadFileError(
                tr("{entry} is not as long as it claims", entry=entry), self._name, last_copy_hint(self._name)
            )
        return content

    @staticmethod
    def _most(entry: str) -> int:
        """Bytes that an entry may have."""
        if entry.startswith(session_sounds.FOLDER + "/"):
            return limits.AUDIO_BYTES
        return limits.JSON_BYTES if entry.endswith(".json") else limits.MIDI_BYTES

    def opened(self, sounds: Path | None) -> Opened:
        data = json_file.parse(self.content("session.json"), f"{self._name}, session.json", "session")
        opened = session_reader.from_json(data, self._name, self.content)
        if sounds is None:
            return opened
        sizes = {name: info.file_size for name, info in self._entries.items()}
        rows = session_sounds.row_of(data)
        session, problems = session_sounds.placed(opened.session, rows, sizes, self.content, sounds)
        return replace(opened, session=session, problems=(*opened.problems, *problems))
