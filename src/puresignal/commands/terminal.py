"""Printing for commands. A name from outside may hold escape sequences, which a terminal would obey."""

from __future__ import annotations

import os
import sys
from typing import TextIO


def printable(text: str) -> str:
    """A text on one line, with everything that is not a visible character as an escape."""
    if text.isprintable():
        return text
    return "".join(c if c.isprintable() else _escape(c) for c in text)


def _escape(character: str) -> str:
    code = ord(character)
    if 0xDC80 <= code <= 0xDCFF:
        # A byte of a file name that is not UTF-8.
        return f"\\x{code - 0xDC00:02x}"
    return character.encode("unicode_escape").decode("ascii")


def say(text: str, file: TextIO | None = None, flush: bool = False) -> None:
    """Print one line to standard output, or to another stream."""
    print(printable(text), file=sys.stdout if file is None else file, flush=flush)


def prepare() -> None:
    """Make printing safe: a closed stream is replaced by nothing, and a character that it lacks by an escape."""
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: SIM115 - open until the end
        elif hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")
