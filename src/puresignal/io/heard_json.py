"""Heard notes as plain JSON data."""

from __future__ import annotations

import base64
from typing import Any

import numpy as np

from puresignal.core.hearing.sound_outline import SoundOutline
from puresignal.core.hearing.transcribed import REMOVAL_REASONS
from puresignal.core.path.heard_notes import HeardNotes

MOST_NOTES, MOST_NAMES, MOST_TEXT = 2_000_000, 200_000, 1000
MOST_OUTLINE = 16_000_000
"""Characters of a column of the outline: ten hours and more."""
KINDS = ("melody", "drums", "hits", "chords")


def to_json(heard: HeardNotes) -> dict[str, Any]:
    """Columns, by event of the take."""
    return {
        "kind": heard.kind, "recording": heard.recording, "model": heard.model, "notes": heard.origin.tolist(),
        "confidence": heard.confidence.tolist(), "reason": heard.reason.tolist(),
        "names": [list(row) for row in heard.names], "path": heard.path,
        **({"place": heard.place.tolist()} if heard.place.any() else {}),
        **({} if heard.outline is None else {"outline": outline_to_json(heard.outline)}),
    }  # fmt: skip


def outline_to_json(outline: SoundOutline) -> dict[str, str]:
    """Level and pitch as base64 of bytes, and of little-endian 16-bit numbers."""
    columns = (("level", outline.level.astype("<u1")), ("pitch", outline.pitch.astype("<i2")))
    return {name: base64.b64encode(column.tobytes()).decode("ascii") for name, column in columns}


def outline_from_json(data: object) -> SoundOutline:
    """The inverse.

    Raises ValueError with the name of the field that is wrong
    """
    columns: dict[str, np.ndarray] = {}
    for name, kind in (("level", "<u1"), ("pitch", "<i2")):
        packed = data.get(name) if isinstance(data, dict) else None
        if not isinstance(packed, str) or len(packed) > MOST_OUTLINE:
            raise ValueError(f"heard.outline.{name}")
        try:
            columns[name] = np.frombuffer(base64.b64decode(packed, validate=True), kind)
        except ValueError as error:
            raise ValueError(f"heard.outline.{name}") from error
    return SoundOutline(columns["level"], columns["pitch"])


def from_json(data: object) -> HeardNotes:
    """The inverse.

    Raises ValueError with the name of the field that is wrong
    """
    if not isinstance(data, dict):
        raise ValueError("heard")
    for name in ("recording", "model", "path"):
        if not isinstance(data.get(name, ""), str) or len(data.get(name, "")) > MOST_TEXT * 4:
            raise ValueError(f"heard.{name}")
    if data.get("kind") not in KINDS:
        raise ValueError("heard.kind")
    columns: list[np.ndarray] = []
    for name, low, high, whole in (
        ("notes", 0, 1 << 32, True), ("confidence", 0, 1, False), ("reason", 0, len(REMOVAL_REASONS) - 1, True),
    ):  # fmt: skip
        rows = data.get(name)
        if not isinstance(rows, list) or len(rows) > MOST_NOTES:
            raise ValueError(f"heard.{name}")
        numbers = all(isinstance(v, int if whole else int | float) and not isinstance(v, bool) for v in rows)
        if not numbers or not all(low <= v <= high for v in rows):
            raise ValueError(f"heard.{name}")
        columns.append(np.array(rows, np.int64 if whole else np.float64))
    if len({len(column) for column in columns}) != 1 or not (np.diff(columns[0]) > 0).all():
        raise ValueError("heard.notes")
    names = data.get("names", [])
    if not isinstance(names, list) or len(names) > MOST_NAMES:
        raise ValueError("heard.names")
    for row in names:
        good = isinstance(row, list) and len(row) == 3 and isinstance(row[2], str) and len(row[2]) <= MOST_TEXT
        if not good or not all(isinstance(v, int | float) and not isinstance(v, bool) for v in row[:2]):
            raise ValueError("heard.names")
    told = tuple((float(a), float(b), str(c)) for a, b, c in names)
    origin, sure, reason = columns
    outline = outline_from_json(data["outline"]) if data.get("outline") is not None else None
    return HeardNotes(
        data["kind"], data.get("recording", ""), data.get("model", ""), origin, sure, reason, told, outline,
        data.get("path", ""), _places(data.get("place", []), len(origin)),
    )  # fmt: skip


def _places(rows: object, count: int) -> np.ndarray:
    if not isinstance(rows, list) or len(rows) not in (0, count):
        raise ValueError("heard.place")
    if not all(isinstance(v, int | float) and not isinstance(v, bool) and -1 <= v <= 1 for v in rows):
        raise ValueError("heard.place")
    return np.array(rows, np.float64)
