"""JSON files: errors name the line, and output is readable."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

from puresignal.core.errors import BadFileError
from puresignal.io import limits
from puresignal.io.file_access import read_bytes
from puresignal.translation import tr

_HALF = re.compile(rb"\\u[dD][89a-fA-F]")
_NEITHER = re.compile("[\\ud800-\\udc7f\\udd00-\\udfff]")
"""An escape that makes a surrogate: half of a character beyond the first 65,536."""


def read(path: Path, kind: str) -> Any:
    """The data of a JSON file.

    kind    what it should be, for messages: "note map"
    Raises  FileAccessError, or BadFileError if it is not JSON
    """
    return parse(read_bytes(path), path.name, kind)


def parse(content: bytes, name: str, kind: str) -> Any:
    """The data of JSON bytes, UTF-8 with or without a byte order mark."""
    items = content.count(b",") + content.count(b"{") + content.count(b"[")
    if len(content) > limits.JSON_BYTES or items > limits.JSON_ITEMS:
        raise BadFileError(
            tr("This is larger than any {kind}", kind=kind), name, tr("Choose a {kind} file (.json).", kind=kind)
        )
    try:
        data = json.loads(content.decode("utf-8-sig"))
        # Half of a character, which an escape can make, can neither be shown nor written.
        if _HALF.search(content):
            # Those that stand for the bytes of a file name (PEP 383) stay.
            data = json.loads(_NEITHER.sub("?", json.dumps(data, ensure_ascii=False)))
        return data
    except UnicodeDecodeError as error:
        raise BadFileError(
            tr("This is not a {kind}: it is not text", kind=kind), name, tr("Choose a {kind} file (.json).", kind=kind)
        ) from error
    except json.JSONDecodeError as error:
        raise BadFileError(
            tr("This is not a {kind}: {lower}", kind=kind, lower=error.msg.lower()),
            tr("{name}, line {lineno}, column {colno}", name=name, lineno=error.lineno, colno=error.colno),
            tr("Correct the line, or choose another file."),
        ) from error
    except (RecursionError, ValueError) as error:
        # Nested a thousand levels deep, or a number of ten thousand digits.
        raise BadFileError(
            tr("This is not a {kind}: it cannot be read", kind=kind),
            name,
            tr("Choose a {kind} file (.json).", kind=kind),
        ) from error


def to_bytes(data: Any) -> bytes:
    """Readable JSON that ends with a newline."""
    try:
        return (json.dumps(data, indent=2, ensure_ascii=False) + "\n").encode("utf-8")
    except UnicodeEncodeError:
        # A file name that is not UTF-8: its bytes are kept as escapes.
        return (json.dumps(data, indent=2) + "\n").encode("ascii")
