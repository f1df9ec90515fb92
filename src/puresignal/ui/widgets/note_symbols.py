"""Symbols of note values - head, stem, flags, dot, and the figure of a tuplet - drawn in the theme's ink."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QIcon, QPainter, QPainterPath, QPen, QPixmap

WIDE, TALL = 26, 18
RATIO = 3


def symbol(value: int, kind: str, ink: QColor) -> QIcon:
    """value: 1 for a whole note to 64; kind: "", "t", "d" or "q" as in core/timing/grids.py"""
    pixmap = QPixmap(QSize(WIDE, TALL) * RATIO)
    pixmap.setDevicePixelRatio(RATIO)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    head, base = QPointF(5.5, 14.5), 14.5
    painter.save()
    painter.translate(head)
    painter.rotate(-20)
    painter.setPen(QPen(ink, 1.2))
    painter.setBrush(ink if value >= 4 else Qt.BrushStyle.NoBrush)
    painter.drawEllipse(QRectF(-3.2, -2.2, 6.4, 4.4))
    painter.restore()
    if value >= 2:
        painter.setPen(QPen(ink, 1.2))
        painter.drawLine(QPointF(8.4, base - 1), QPointF(8.4, 1.5))
    flags = {8: 1, 16: 2, 32: 3, 64: 4}.get(value, 0)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for i in range(flags):
        top = 1.5 + i * 2.7
        path = QPainterPath(QPointF(8.4, top))
        path.cubicTo(QPointF(9, top + 3), QPointF(13.5, top + 3.2), QPointF(12.2, top + 6.4))
        painter.setPen(QPen(ink, 1.3))
        painter.drawPath(path)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(ink)
    if kind == "d":
        painter.drawEllipse(QPointF(12.5, base), 1.4, 1.4)
    elif kind:
        font = painter.font()
        font.setPixelSize(9)
        font.setBold(True)
        painter.setFont(font)
        painter.setPen(ink)
        painter.drawText(QRectF(16, 0, 10, 12), Qt.AlignmentFlag.AlignCenter, "3" if kind == "t" else "5")
    painter.end()
    return QIcon(pixmap)
