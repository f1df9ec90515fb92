"""The names beside the rows of a take, cached as images since they do not depend on zoom or scroll."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QFont, QFontMetricsF, QImage, QPainter, QPen

from puresignal.ui.takes import row_painter
from puresignal.ui.takes.timeline_rows import Group, Row
from puresignal.ui.widgets import theme

GUTTER = 214
"""Pixels left of the notes: the names of tracks, then of rows."""
NAMES = 94
PAD = 24
"""Width in pixels of the pads beside the row names."""
MOST = 400
"""Cached names at most."""

_CLEAR = QImage.Format.Format_ARGB32_Premultiplied


class RowLabels:
    """Cached images of names."""

    def __init__(self) -> None:
        self._kept: dict[tuple[object, ...], QImage] = {}

    def title(self, group: Group, height: float, colour: QColor, ratio: float) -> QImage:
        """A track's name, as tall as a row of `height`."""
        box = QRectF(0, 0, NAMES - 16, max(28.0, height - 4))

        def draw(painter: QPainter) -> None:
            painter.setFont(theme.font(10.5, QFont.Weight.Bold))
            painter.setPen(colour)
            painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | Qt.TextFlag.TextWordWrap, group.title)

        return self._picture((group.title, colour.rgb()), box.width(), box.height(), ratio, draw)

    def label(self, row: Row, height: float, colour: QColor, ratio: float) -> QImage:
        """A row's name, count, pad and mark."""
        current, width = theme.current(), GUTTER - NAMES - 1

        def draw(painter: QPainter) -> None:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setFont(theme.font(9.5))
            painter.setPen(current.colour("ink"))
            left = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft
            text = QFontMetricsF(painter.font()).elidedText(row.label, Qt.TextElideMode.ElideRight, width - 58)
            painter.drawText(QRectF(2, 0, width - 50, height), left, text)
            painter.setFont(theme.font(8.5))
            painter.setPen(current.colour("faint"))
            right = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
            painter.drawText(QRectF(width - 70, 0, 41, height), right, str(len(row.start)))
            if row.articulation is not None:
                painter.setPen(QPen(current.colour("line"), 1))
                painter.setBrush(current.colour("paper"))
                painter.drawRoundedRect(QRectF(width - PAD + 2.5, 3.5, PAD - 5, height - 7), 4, 4)
            row_painter.draw_mark(painter, row.mark, width - 10, height / 2, colour)

        key = (row.label, len(row.start), row.mark, row.articulation is None, colour.rgb(), current.name)
        return self._picture(key, width, height, ratio, draw)

    def _picture(
        self, key: tuple[object, ...], width: float, height: float, ratio: float, draw: Callable[[QPainter], None]
    ) -> QImage:
        key = (*key, width, height, ratio)
        if key not in self._kept:
            if len(self._kept) >= MOST:
                self._kept.clear()
            image = QImage(round(width * ratio), round(height * ratio), _CLEAR)
            image.setDevicePixelRatio(ratio)
            image.fill(0)
            painter = QPainter(image)
            draw(painter)
            painter.end()
            self._kept[key] = image
        return self._kept[key]
