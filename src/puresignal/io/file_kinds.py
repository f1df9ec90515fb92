"""The kinds of file the program reads, recognised by content and otherwise by ending."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

from puresignal.core.errors import FileAccessError
from puresignal.io import file_access

HEAD = 4096
"""Bytes from the start of a file that are enough to recognise it."""


@dataclass(frozen=True)
class FileKind:
    """A kind of file.

    name     word for it in the code
    endings  in lower case, the usual one first
    content  matches the start of such a file
    """

    name: str
    endings: tuple[str, ...]
    content: re.Pattern[bytes]

    @property
    def pattern(self) -> str:
        """Its endings as file dialogs take them: `*.mid *.midi`."""
        return " ".join(f"*{ending}" for ending in self.endings)


def _starts(*forms: bytes) -> re.Pattern[bytes]:
    return re.compile(b"|".join(forms), re.DOTALL)


SESSION = FileKind("session", (".puresignal",), _starts(rb"PK\x03\x04"))
MIDI = FileKind("midi", (".mid", ".midi", ".smf", ".kar", ".rmi"), _starts(rb"MThd", rb"RIFF....RMID"))
AUDIO = FileKind(
    "audio", (".wav", ".flac", ".ogg", ".oga", ".mp3", ".aif", ".aiff", ".opus", ".w64", ".au"),
    _starts(rb"RIFF....WAVE", rb"fLaC", rb"OggS", rb"FORM....AIF[FC]", rb"riff\x2e\x91\xcf\x11", rb"\.snd", rb"ID3"),
)  # fmt: skip
SOUNDFONT = FileKind("soundfont", (".sf2", ".sf3"), _starts(rb"RIFF....sfbk"))
NOTE_MAP = FileKind("note-map", (".json",), _starts(rb'\s*\{.*"pure-signal/note-map"'))

FILM = FileKind(
    "film", (".mp4", ".m4a", ".m4v", ".mov", ".mkv", ".webm", ".avi", ".aac", ".wma", ".wmv", ".3gp", ".ape"),
    _starts(rb"....ftyp", rb"\x1a\x45\xdf\xa3", rb"RIFF....AVI ", rb"\x30\x26\xb2\x75\x8e\x66\xcf\x11", rb"MAC "),
)  # fmt: skip
"""Films, and sound that is not read: recognised, so that it can be said what is."""

KINDS = (SESSION, MIDI, AUDIO, SOUNDFONT, NOTE_MAP, FILM)


def kind_of(path: Path) -> FileKind | None:
    """The kind of a file; None if neither its content nor its ending is known, or it cannot be read."""
    try:
        with file_access.open_file(path) as file:
            head = file.read(HEAD)
    except (FileAccessError, OSError):
        head = b""
    for kind in KINDS:
        if kind.content.match(head):
            return kind
    return by_ending(path)


def by_ending(path: Path) -> FileKind | None:
    """The kind of file that has this ending."""
    return next((kind for kind in KINDS if path.suffix.lower() in kind.endings), None)
