"""The transport's symbols, drawn in the theme's colours."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QIcon, QPainter, QPen, QPixmap, QPolygonF

TO_START, PLAY, STOP, RECORD, LOOP = "to start", "play", "stop", "record", "loop"  # not shown
SIZE = 16
RATIO = 3
"""Pixels for each of the icon's, so that it is sharp on any screen."""


def icon(name: str, colour: QColor, pressed: QColor) -> QIcon:
    """A symbol, and how it looks on a pressed button."""
    made = QIcon()
    made.addPixmap(_drawn(name, colour), QIcon.Mode.Normal, QIcon.State.Off)
    made.addPixmap(_drawn(name, pressed), QIcon.Mode.Normal, QIcon.State.On)
    return made


def _drawn(name: str, colour: QColor) -> QPixmap:
    found = QPixmap(SIZE * RATIO, SIZE * RATIO)
    found.setDevicePixelRatio(RATIO)
    found.fill(Qt.GlobalColor.transparent)
    painter = QPainter(found)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setBrush(colour)
    painter.setPen(Qt.PenStyle.NoPen)
    if name == TO_START:
        painter.drawRect(QRectF(2, 2, 2.5, 12))
        painter.drawPolygon(QPolygonF([QPointF(14, 2), QPointF(14, 14), QPointF(5.5, 8)]))
    elif name == PLAY:
        painter.drawPolygon(QPolygonF([QPointF(3, 1.5), QPointF(14.5, 8), QPointF(3, 14.5)]))
    elif name == STOP:
        painter.drawRect(QRectF(3, 3, 10, 10))
    elif name == RECORD:
        painter.drawEllipse(QRectF(2, 2, 12, 12))
    else:
        # A pair of repeat signs joined by a line.
        for x, dots in ((2.0, 5.5), (14.0, 10.5)):
            painter.drawRect(QRectF(x - 1, 2, 2, 12))
            for y in (5.5, 10.5):
                painter.drawEllipse(QPointF(dots, y), 1.1, 1.1)
        painter.setPen(QPen(colour, 1.2))
        painter.drawLine(QPointF(2, 8), QPointF(14, 8))
    painter.end()
    return found
