"""The beats of the chosen take over its notes: bar lines with numbers, solid where sure and broken where not."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QFont, QPainter, QPen

from puresignal.translation import tr
from puresignal.ui.state.take_tempo import BeatLines
from puresignal.ui.takes.bar_ruler import HANDLES, NUMBERS_APART, RULER
from puresignal.ui.widgets import theme

HOLD = 6.0
"""Pixels on either side of a line at which it can be taken hold of."""
WEAK = 0.3
"""How sure a beat is below which its line is broken."""
BEATS_APART = 7.0
"""Pixels between beats below which only bar lines are drawn."""


class BeatPainter:
    """Paints the lines, and tells which is at a point."""

    def __init__(self) -> None:
        self.lines: BeatLines | None = None
        self.held = -1

    def _places(self, left: float, begin: float, scale: float, width: float) -> tuple[np.ndarray, np.ndarray]:
        """Numbers of the beats in view that are drawn, and their x."""
        if self.lines is None or not len(self.lines.seconds):
            return np.zeros(0, np.int64), np.zeros(0)
        x = left + (self.lines.seconds - begin) * scale
        seen = (x >= left - 1) & (x <= width)
        if len(x) > 1 and float(np.median(np.diff(self.lines.seconds))) * scale < BEATS_APART:
            seen &= self.lines.down
        which = np.flatnonzero(seen)
        return which, x[which]

    def paint_body(self, painter: QPainter, body: QRectF, place: tuple[float, float, float]) -> None:
        """The lines over the rows. place: pixels left of the notes, the second there, and pixels per second."""
        current = theme.current()
        which, x = self._places(*place, body.right())
        if self.lines is None:
            return
        for i, at in zip(which.tolist(), x.tolist(), strict=True):
            colour = current.colour("ink")
            colour.setAlpha(255 if i == self.held else 170 if self.lines.down[i] else 70)
            pen = QPen(colour, 2 if i == self.held else 1)
            if self.lines.sure[i] < WEAK:
                pen.setStyle(Qt.PenStyle.DashLine)
            painter.setPen(pen)
            painter.drawLine(QLineF(round(at) + 0.5, body.top(), round(at) + 0.5, body.bottom()))

    def paint_ruler(self, painter: QPainter, width: float, place: tuple[float, float, float]) -> None:
        """The heads of the lines, with the numbers of the take's bars."""
        if self.lines is None:
            return
        current, left = theme.current(), place[0]
        painter.setFont(theme.font(9, QFont.Weight.Bold))
        painter.setPen(current.colour("faint"))
        middle = Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(14, HANDLES, left - 26, RULER - HANDLES - 1), middle, tr("beats of the take"))
        which, x = self._places(*place, width)
        painter.setFont(theme.font(8.5, QFont.Weight.DemiBold))
        numbered = -1e9
        ink = current.colour("ink")
        for i, at in zip(which.tolist(), x.tolist(), strict=True):
            down, weak = bool(self.lines.down[i]), bool(self.lines.sure[i] < WEAK)
            head = QRectF(at - (3 if down else 2), HANDLES + (4 if down else 9), 6 if down else 4, 12 if down else 7)
            painter.setPen(QPen(ink, 1))
            painter.setBrush(current.colour("sheet") if weak else ink)
            painter.drawRect(head)
            if down and at - numbered >= NUMBERS_APART:
                painter.setPen(ink)
                box = QRectF(at + 6, HANDLES, 60, RULER - HANDLES - 2)
                painter.drawText(box, middle, str(int(self.lines.bars[i])))
                numbered = at

    def line_at(self, at: QPointF, place: tuple[float, float, float], width: float) -> int:
        """The number of the beat whose head is at a point, -1 for none."""
        if self.lines is None or not HANDLES <= at.y() < RULER:
            return -1
        which, x = self._places(*place, width)
        if not len(which):
            return -1
        # Bar lines first: they stand closer to what is meant when both are near.
        off = np.abs(x - at.x()) - np.where(self.lines.down[which], 1.0, 0.0)
        near = int(np.argmin(off))
        return int(which[near]) if abs(x[near] - at.x()) <= HOLD else -1
