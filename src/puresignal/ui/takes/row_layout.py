"""Where the rows of Takes stand, and which of their notes are seen where."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from PySide6.QtCore import QRectF

from puresignal.ui.takes import row_painter
from puresignal.ui.takes.time_axis import TimeAxis
from puresignal.ui.takes.timeline_rows import Group, Picture, Row

PITCH_ROW, GAP = 18.0, 5.0
"""Height in pixels of the row of one pitch, and of the rule that stands for pitches that are not played."""
LOW, HIGH = 38.0, 84.0
"""Height of a plain row, at least and at most."""
BETWEEN = 4
"""Pixels between tracks."""
NEAR = 5
"""Pixels within which a note is pointed at."""


class PlacedRow(NamedTuple):
    """A row, its track, and where it stands in the view."""

    group: Group
    row: Row
    top: float
    height: float

    @property
    def base(self) -> float:
        """The line that its notes stand on."""
        return self.top + self.height - (2 if self.row.pitched else row_painter.FOOT + 1)

    @property
    def tall(self) -> float:
        """Height of its loudest note."""
        return (PITCH_ROW - 5) if self.row.pitched else self.height - row_painter.FOOT - 5


class Seen(NamedTuple):
    """The notes of a row that are drawn, by time."""

    start: np.ndarray
    velocity: np.ndarray
    origin: np.ndarray


class RowLayout:
    """The rows, one below the other.

    picture  what is shown; show: PLAYED, CLEAN or BOTH of row_painter.py
    first    y of the topmost row when nothing is scrolled; scrolled: pixels by which all are higher
    """

    def __init__(self) -> None:
        self.picture = Picture((), 1.0)
        self.show = row_painter.BOTH
        self.first, self.scrolled = 0, 0
        self.plain_height = LOW
        self._together: dict[int, tuple[Row, Seen]] = {}

    def show_picture(self, picture: Picture) -> None:
        self.picture = picture
        self._together = {}

    @property
    def total(self) -> float:
        """Height of all rows."""
        return sum(self.height_of(row) for row in self.picture.rows) + BETWEEN * len(self.picture.groups)

    def fit(self, room: float) -> None:
        """Make plain rows as high as the available pixels allow, within limits."""
        units = sum(not row.pitched for row in self.picture.rows)
        pitched = sum(self.height_of(row) for row in self.picture.rows if row.pitched)
        room -= BETWEEN * len(self.picture.groups) + pitched
        self.plain_height = float(np.clip(room / max(1, units), LOW, HIGH))

    def height_of(self, row: Row) -> float:
        return (PITCH_ROW + (GAP if row.gap else 0)) if row.pitched else self.plain_height

    def rows(self) -> list[PlacedRow]:
        """All rows from above, those out of view too."""
        y = float(self.first - self.scrolled)
        placed = []
        for group in self.picture.groups:
            for row in group.rows:
                height = self.height_of(row)
                placed.append(PlacedRow(group, row, y, height))
                y += height
            y += BETWEEN
        return placed

    def at(self, y: float) -> PlacedRow | None:
        """The row at a height."""
        return next((placed for placed in self.rows() if placed.top <= y < placed.top + placed.height), None)

    def seen(self, row: Row) -> Seen:
        """The notes of a row that are drawn: those that leave where they leave."""
        if self.show == row_painter.CLEAN:
            return Seen(row.clean_start, row.clean_velocity, row.clean_origin)
        if self.show == row_painter.PLAYED:
            return Seen(row.start, row.velocity, row.origin)
        known = self._together.get(id(row))
        if known is None or known[0] is not row:
            starts = np.concatenate([row.clean_start, row.start[row.gone]])
            order = np.argsort(starts, kind="stable")
            velocities = np.concatenate([row.clean_velocity, row.velocity[row.gone]])[order]
            origins = np.concatenate([row.clean_origin, row.origin[row.gone]])[order]
            known = row, Seen(starts[order], velocities, origins)
            self._together[id(row)] = known
        return known[1]

    def note_near(self, y: float, second: float, scale: float) -> int:
        """Origin of the note within a few pixels of a point, -1 for none. scale: pixels per second"""
        placed = self.at(y)
        if placed is None:
            return -1
        seen = self.seen(placed.row)
        if not len(seen.start):
            return -1
        near = int(np.searchsorted(seen.start, second))
        close = [i for i in (near - 1, near) if 0 <= i < len(seen.start)]
        best = min(close, key=lambda i: abs(float(seen.start[i]) - second))
        return int(seen.origin[best]) if abs(float(seen.start[best]) - second) * scale <= NEAR else -1

    def inside(self, box: QRectF, axis: TimeAxis) -> np.ndarray:
        """Origins of the notes that a box touches."""
        begin, end = axis.second_at(box.left()), axis.second_at(box.right())
        found = [np.zeros(0, np.int64)]
        for _, row, top, height in self.rows():
            if top < box.bottom() and top + height > box.top():
                seen = self.seen(row)
                first, last = np.searchsorted(seen.start, (begin, end))
                found.append(seen.origin[first:last])
        return np.concatenate(found)

    def boxes_of(self, selected: np.ndarray, axis: TimeAxis) -> list[QRectF]:
        """Boxes of the selected notes in view. selected: a flag for each origin"""
        begin, end = axis.seconds_in_view()
        boxes = []
        for placed in self.rows():
            seen = self.seen(placed.row)
            first, last = np.searchsorted(seen.start, (begin, end))
            here = np.flatnonzero(selected[seen.origin[first:last]]) + first
            for start, velocity in zip(seen.start[here].tolist(), seen.velocity[here].tolist(), strict=True):
                high = placed.tall if placed.row.pitched else max(4.0, velocity / 127 * placed.tall)
                boxes.append(QRectF(axis.x_of(start) - 2, placed.base - high, 5, high))
        return boxes
