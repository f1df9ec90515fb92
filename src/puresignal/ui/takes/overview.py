"""The whole take in one strip: its loudness, unmapped or selected notes, and the visible part."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QFont, QImage, QPainter, QPen

from puresignal.core.midi.columns import distinct
from puresignal.ui.takes import row_painter
from puresignal.ui.takes.timeline_rows import Picture
from puresignal.ui.widgets import theme

OVERVIEW = 46
"""Its height in pixels."""


class Overview:
    """Draws the strip and converts its pixels to seconds. Its outline is cached."""

    def __init__(self, left: float):
        self._left = left
        self._outline: tuple[object, int, str, QImage] | None = None

    def scale(self, picture: Picture, width: int) -> float:
        """Pixels per second for a width of the strip: the take, and a little room after it."""
        return width / max(0.5, picture.length * 1.02)

    def second_at(self, x: float, picture: Picture, width: int) -> float:
        """The second at a pixel of the strip."""
        return (x - self._left) / self.scale(picture, width)

    def paint(
        self, painter: QPainter, box: QRectF, name: str, picture: Picture, chosen: np.ndarray,
        in_view: tuple[float, float],
    ) -> None:  # fmt: skip
        """box: the whole strip; chosen: origins of the selected notes; in_view: seconds."""
        current = theme.current()
        top, width = box.top(), round(box.width() - self._left)
        painter.fillRect(box, current.colour("shade"))
        painter.setPen(QPen(current.colour("edge"), 1))
        painter.drawLine(QLineF(box.left(), top + 0.5, box.right(), top + 0.5))
        painter.setFont(theme.font(9, QFont.Weight.Bold))
        painter.setPen(current.colour("faint"))
        painter.drawText(QRectF(14, top, self._left - 26, OVERVIEW), Qt.AlignmentFlag.AlignVCenter, name)
        scale = self.scale(picture, width)
        painter.drawImage(QPointF(self._left, top + 8), self._drawn(picture, width, scale))
        self._paint_marks(painter, picture, chosen, scale, top)
        begin, end = in_view
        frame = QRectF(self._left + begin * scale, top + 3, max(6.0, (end - begin) * scale), OVERVIEW - 6)
        painter.setPen(QPen(current.colour("ink"), 1.5))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(frame.intersected(QRectF(self._left, top, width - 1, OVERVIEW)))

    def _drawn(self, picture: Picture, width: int, scale: float) -> QImage:
        current = theme.current()
        kept = self._outline
        if kept is None or kept[0] is not picture.played or kept[1:3] != (width, current.name):
            loudest = np.zeros(width, np.float32)
            for row in picture.rows:
                loudest = np.maximum(loudest, row_painter.columns(row.start * scale, row.velocity, width))
            kept = (
                picture.played,
                width,
                current.name,
                row_painter.skyline(loudest, OVERVIEW - 14, current.colour("faint")),
            )
            self._outline = kept
        return kept[3]

    def _paint_marks(self, painter: QPainter, picture: Picture, chosen: np.ndarray, scale: float, top: float) -> None:
        """Mark unmapped notes, or the selected ones if there are any."""
        painter.setPen(QPen(theme.current().colour("accent"), 1.5))
        for row in picture.rows:
            starts = row.start if row.unmapped else np.zeros(0)
            if len(chosen):
                starts = row.start[chosen[row.origin]]
            places = distinct((self._left + starts * scale).astype(np.int64))
            painter.drawLines([QLineF(x + 0.5, top + 4, x + 0.5, top + 11) for x in places.tolist()])
