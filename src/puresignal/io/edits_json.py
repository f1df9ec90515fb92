"""Edits of single notes as plain JSON data: for each edit the notes that have it."""

from __future__ import annotations

from dataclasses import fields
from typing import Any

import numpy as np

from puresignal.core.kit.articulations import is_articulation
from puresignal.core.path.note_edits import NO_EDITS, PLAIN, Edit, NoteEdits

RANGES = {
    "beats": (-1e6, 1e6), "seconds": (-1e6, 1e6), "up": (-127, 127), "factor": (0.0, 127.0),
    "louder": (-16129.0, 16129.0),
    "stretch": (0.0, 1e6), "longer": (-1e6, 1e6),
}  # fmt: skip
"""Numbers of an edit: from, to."""
MOST_NOTE, MOST_TEXT = 1 << 32, 1000


def to_json(edits: NoteEdits) -> list[dict[str, Any]]:
    """One row for each different edit, with what differs from none."""
    names = [one.name for one in fields(Edit)]
    return [
        {
            **{name: getattr(edit, name) for name in names if getattr(edit, name) != getattr(PLAIN, name)},
            "notes": origins.tolist(),
        }
        for edit, origins in edits.by_kind()
    ]


def from_json(rows: object) -> NoteEdits:
    """The edits.

    Raises ValueError with the number of the row that is wrong
    """
    if not isinstance(rows, list):
        raise ValueError("edits")
    made = NO_EDITS
    for number, row in enumerate(rows):
        try:
            edit, notes = _edit(row)
        except (AssertionError, KeyError) as error:
            raise ValueError(f"edits[{number}]") from error
        made = made.with_edit(notes, edit)
    return NoteEdits(made._columns[:2], made._columns[2]) if made.rows else made


def _edit(row: object) -> tuple[Edit, np.ndarray]:
    assert isinstance(row, dict)
    values: dict[str, Any] = {}
    for key, value in row.items():
        if key == "notes":
            continue
        if key in RANGES:
            low, high = RANGES[key]
            assert isinstance(value, int | float)
            assert not isinstance(value, bool)
            assert low <= value <= high
            assert key != "up" or isinstance(value, int)
            values[key] = value if key == "up" else float(value)
        else:
            assert key in ("articulation", "track")
            assert isinstance(value, str)
            assert len(value) < MOST_TEXT
            assert key == "track" or is_articulation(value)
            values[key] = value
    notes = row["notes"]
    assert isinstance(notes, list)
    assert all(isinstance(n, int) and not isinstance(n, bool) and 0 <= n < MOST_NOTE for n in notes)
    return Edit(**values), np.array(notes, np.int64)
