"""Edits of single notes as plain JSON data: for each edit the notes that have it."""

from __future__ import annotations

from dataclasses import fields
from typing import Any

import numpy as np

from puresignal.core.kit.articulations import is_articulation
from puresignal.core.midi.messages import BEND, CONTROL, PRESSURE, PROGRAM
from puresignal.core.path.note_edits import NO_EDITS, PLAIN, ControlStroke, Edit, NoteEdits

RANGES = {
    "beats": (-1e6, 1e6), "seconds": (-1e6, 1e6), "up": (-127, 127), "factor": (0.0, 127.0),
    "louder": (-16129.0, 16129.0),
    "stretch": (0.0, 1e6), "longer": (-1e6, 1e6),
}  # fmt: skip
"""Numbers of an edit: from, to."""
MOST_NOTE, MOST_TEXT, MOST_POINTS = 1 << 32, 1000, 20_000


def to_json(edits: NoteEdits) -> list[dict[str, Any]]:
    """One row for each different edit, with what differs from none."""
    names = [one.name for one in fields(Edit)]
    rows: list[dict[str, Any]] = [
        {
            **{name: getattr(edit, name) for name in names if getattr(edit, name) != getattr(PLAIN, name)},
            "notes": origins.tolist(),
        }
        for edit, origins in edits.by_kind()
    ]
    rows += [
        {
            "track": one.track, "control": one.kind, "number": one.number, "begin": one.begin, "end": one.end,
            "points": [list(point) for point in one.points],
        }
        for one in edits.strokes
    ]  # fmt: skip
    return rows


def from_json(rows: object) -> NoteEdits:
    """The edits.

    Raises ValueError with the number of the row that is wrong
    """
    if not isinstance(rows, list):
        raise ValueError("edits")
    made = NO_EDITS
    for number, row in enumerate(rows):
        try:
            if isinstance(row, dict) and "control" in row:
                made = made.with_stroke(_stroke(row))
                continue
            edit, notes = _edit(row)
        except (AssertionError, KeyError, TypeError, ValueError) as error:
            raise ValueError(f"edits[{number}]") from error
        made = made.with_edit(notes, edit)
    return NoteEdits(made._columns[:2], made._columns[2], (), made.strokes) if made.rows else made


def _stroke(row: dict[str, Any]) -> ControlStroke:
    track, kind, number, points = row["track"], row["control"], row.get("number", 0), row["points"]
    assert isinstance(track, str)
    assert len(track) < MOST_TEXT
    assert kind in (CONTROL, BEND, PRESSURE, PROGRAM)
    assert type(number) is int
    assert 0 <= number < 128
    ends = [row["begin"], row["end"]]
    assert isinstance(points, list)
    assert len(points) <= MOST_POINTS
    for one in [*ends, *(value for point in points for value in point)]:
        assert isinstance(one, int | float)
        assert not isinstance(one, bool)
        assert abs(one) <= 1e7
    assert ends[0] <= ends[1]
    assert all(len(point) == 2 for point in points)
    seconds = [point[0] for point in points]
    assert seconds == sorted(seconds)
    line = tuple((float(at), float(value)) for at, value in points)
    return ControlStroke(track, kind, number, float(ends[0]), float(ends[1]), line)


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
