"""Notes dragged by the pointer: how far, to which row, and how they look on the way."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from puresignal.ui.takes.timeline_rows import Row

FARTHER = 4.0
"""Pixels from which a press is a drag."""
MOST_GHOSTS = 2000


@dataclass(frozen=True)
class Moved:
    """The end of a drag.

    seconds       later
    articulation  of the row that the note under the pointer was dragged to; empty: none of the kit, or its own
    up            semitones up
    copies        whether copies are made, and the notes themselves stay
    """

    seconds: float
    articulation: str
    up: int
    copies: bool


class NoteDrag:
    """A drag of the selected notes, begun on one of them."""

    def __init__(self, at: QPointF, row: Row, start: float, copies: bool):
        """start: seconds of the note under the pointer; row: where it is."""
        self._at, self._row, self._start, self._copies = at, row, start, copies
        self.is_on = False
        self.seconds = 0.0
        self.down = 0.0
        self._to: Row | None = None

    def move(self, at: QPointF, scale: float, to: Row | None, lines: np.ndarray, snaps: bool) -> None:
        """The pointer has moved.

        scale  pixels a second
        to     the row under the pointer
        lines  (k,) seconds of the lines that the note can be dropped on, rising
        """
        off = at - self._at
        self.is_on = self.is_on or abs(off.x()) + abs(off.y()) >= FARTHER
        seconds = off.x() / scale
        # Dragged to another row, a note keeps its time unless it is clearly moved sideways.
        if abs(off.x()) < FARTHER:
            seconds = 0.0
        elif snaps and len(lines):
            wanted = self._start + seconds
            place = int(np.clip(np.searchsorted(lines, wanted), 1, len(lines) - 1)) if len(lines) > 1 else 0
            near = lines[max(0, place - 1) : place + 1]
            seconds = float(near[np.argmin(np.abs(near - wanted))]) - self._start
        self.seconds = max(seconds, -self._start)
        self._to = to
        self.down = off.y() if to is not None and to is not self._row else 0.0

    def moved(self) -> Moved | None:
        """The edit that the drag amounts to; None for no change."""
        if not self.is_on:
            return None
        articulation, up = "", 0
        to, own = self._to, self._row
        if to is not None and to is not own:
            if to.articulation is not None and own.articulation is not None:
                articulation = to.articulation
            elif to.pitched and own.pitched and pitch_of(to) is not None and pitch_of(own) is not None:
                up = pitch_of(to) - pitch_of(own)  # type: ignore[operator]
        if not (self.seconds or articulation or up):
            return None
        return Moved(self.seconds, articulation, up, self._copies)

    def paint(self, painter: QPainter, boxes: list[QRectF], scale: float, ink: QColor) -> None:
        """Outlines where the notes would go. boxes: the notes as they are."""
        painter.setPen(QPen(ink, 1.4))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        by = QPointF(self.seconds * scale, self.down)
        painter.drawRects([box.translated(by) for box in boxes[:MOST_GHOSTS]])


def pitch_of(row: Row) -> int | None:
    """The note of a row of one pitch."""
    notes = row.clean_note if len(row.clean_note) else row.note
    return int(notes[0]) if row.pitched and len(notes) else None
