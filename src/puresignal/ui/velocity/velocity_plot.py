"""One drum's velocities: in below, out at the side, the curve in between, and each hit as a mark."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QFont, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QResizeEvent
from PySide6.QtWidgets import QWidget

from puresignal.core.path.velocity_curve import LEAST, MOST, STRAIGHT, Shape, table
from puresignal.translation import tr
from puresignal.ui.widgets import theme
from puresignal.ui.widgets.accessible_parts import AccessibleParts

FADE_SECONDS = 0.9
FOOT, SIDE, HEAD = 24.0, 24.0, 24.0
NEAR = 9.0
"""Pixels within which a point of the curve is grabbed."""
BINS = 32


def _on_curve(points: Sequence[tuple[float, float]], x: float) -> float:
    return float(np.interp(x, [px for px, _ in points], [py for _, py in points]))


class VelocityPlot(QWidget):
    """Draws one drum; the curve's points are dragged, a double click adds or removes one.

    chosen         it was clicked
    curve_changed  (shape, gesture); the steps of a drag are one gesture
    """

    OWN_KEYS = (Qt.Key.Key_Space, Qt.Key.Key_Return, Qt.Key.Key_Enter)
    chosen = Signal()
    curve_changed = Signal(object, str)

    def __init__(self, key: str, title: str, family: str, parent: QWidget | None = None):
        super().__init__(parent)
        self.key, self._title, self._family = key, title, family
        self.shape_now, self.own = Shape(), False
        self._arrived = self._left = np.zeros(0)
        self._parts = AccessibleParts(self)
        self._out = table(Shape())
        self.selected = False
        self._drag = -1
        self._gesture = ""
        self._marks: list[tuple[float, float, float]] = []
        self._frames = QTimer(self)
        self._frames.setInterval(33)
        self._frames.timeout.connect(self._fade)
        self.setMinimumSize(150, 140)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(tr("Velocities of {name}").format(name=title))
        self.setToolTip(
            tr("Below: velocities in. At the side: velocities out. Drag the points; double-click adds or removes one.")
        )

    def sizeHint(self) -> QSize:
        return QSize(210, 176)

    def show_hits(self, arrived: np.ndarray, left: np.ndarray, shape: Shape, own: bool) -> None:
        """Show the hits of a take and their shape. own: the shape is this drum's, not the one for all."""
        self._arrived, self._left, self.own = arrived, left, own
        self.shape_now, self._out = shape, table(shape)
        self._name_parts()
        self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._name_parts()

    def _name_parts(self) -> None:
        """Name the counts and the points of the curve for screen readers."""
        counts = tr("{arrived} hits in, {left} out", arrived=len(self._arrived), left=len(self._left))
        parts = [(counts, QRectF(12, 4, self.width() - 24, HEAD - 4))]
        for x, y in self.shape_now.curve:
            place = self.at(x, y)
            name = tr("point: in {x:.0f}, out {y:.0f}", x=x, y=y)
            parts.append((name, QRectF(place.x() - 4, place.y() - 4, 8, 8)))
        self._parts.show(parts)

    def mark(self, velocity: float) -> None:
        """Mark a hit that arrives now."""
        out = self._out[int(np.clip(velocity, 0, 127))]
        self._marks.append((time.monotonic(), velocity, float(out) if out == out else 0.0))
        del self._marks[:-40]
        self._frames.start()
        self.update()

    @property
    def marks(self) -> int:
        """Hits that have not faded yet."""
        return len(self._marks)

    def _fade(self) -> None:
        now = time.monotonic()
        self._marks = [m for m in self._marks if now - m[0] < FADE_SECONDS]
        if not self._marks:
            self._frames.stop()
        self.update()

    # Geometry

    def field(self) -> QRectF:
        """The square of the curve."""
        return QRectF(10, HEAD, self.width() - 16 - SIDE, self.height() - HEAD - FOOT - 4)

    def at(self, velocity: float, out: float) -> QPointF:
        """The pixel of a pair of velocities."""
        box = self.field()
        return QPointF(
            box.left() + (velocity - LEAST) / (MOST - LEAST) * box.width(),
            box.bottom() - (out - LEAST) / (MOST - LEAST) * box.height(),
        )

    def _velocities(self, at: QPointF) -> tuple[float, float]:
        box = self.field()
        across = LEAST + (at.x() - box.left()) / max(1.0, box.width()) * (MOST - LEAST)
        up = LEAST + (box.bottom() - at.y()) / max(1.0, box.height()) * (MOST - LEAST)
        return min(MOST, max(LEAST, round(across))), min(MOST, max(LEAST, round(up)))

    def _point_at(self, at: QPointF) -> int:
        points = self.shape_now.curve
        far = [(QPointF(self.at(x, y)) - at).manhattanLength() for x, y in points]
        near = int(np.argmin(far))
        return near if far[near] <= NEAR else -1

    # Pointer

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.chosen.emit()
            self._drag = self._point_at(event.position())
            self._gesture = f"curve {self.key} {time.monotonic()}"  # not shown

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drag >= 0:
            self._move(self._drag, *self._velocities(event.position()))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drag = -1

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        points = list(self.shape_now.curve)
        found = self._point_at(event.position())
        if 0 < found < len(points) - 1:
            del points[found]
        elif found < 0:
            x, _ = self._velocities(event.position())
            if all(abs(x - px) >= 2 for px, _ in points):
                y = _on_curve(points, x)
                points = sorted([*points, (x, round(y))])
        self._emit(tuple(points), f"curve {self.key} {time.monotonic()}")  # not shown

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {Qt.Key.Key_Up: 3.0, Qt.Key.Key_Down: -3.0}
        if event.key() in steps:
            # By keyboard the middle is bent, which is what a curve is mostly used for.
            x = 64.0
            y = _on_curve(self.shape_now.curve, x) + steps[Qt.Key(event.key())]
            self._emit(((LEAST, LEAST), (x, min(MOST, max(LEAST, y))), (MOST, MOST)), f"curve {self.key}")  # not shown
        elif event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self._emit(STRAIGHT, f"curve {self.key} {time.monotonic()}")  # not shown
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.chosen.emit()
        else:
            super().keyPressEvent(event)

    def _move(self, which: int, x: float, y: float) -> None:
        points = list(self.shape_now.curve)
        low = points[which - 1][0] + 1 if which else LEAST
        high = points[which + 1][0] - 1 if which < len(points) - 1 else MOST
        if which in (0, len(points) - 1):
            x = points[which][0]
        points[which] = (min(high, max(low, x)), y)
        self._emit(tuple(points), self._gesture)

    def _emit(self, points: tuple[tuple[float, float], ...], gesture: str) -> None:
        self.curve_changed.emit(replace(self.shape_now, curve=points), gesture)

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        current, painter = theme.current(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        edge = "ink" if self.selected or self.hasFocus() else "edge"
        painter.setPen(QPen(current.colour(edge), 2 if self.selected else 1))
        painter.setBrush(current.colour("sheet"))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 6, 6)
        painter.setPen(current.colour("ink"))
        painter.setFont(theme.font(10, QFont.Weight.DemiBold))
        painter.drawText(QRectF(12, 4, self.width() - 24, HEAD - 4), Qt.AlignmentFlag.AlignVCenter, self._title)
        painter.setPen(current.colour("faint"))
        painter.setFont(theme.font(9))
        count = str(len(self._arrived)) if len(self._arrived) else "–"
        right = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
        painter.drawText(QRectF(12, 4, self.width() - 24, HEAD - 4), right, count)
        box = self.field()
        painter.fillRect(box, current.colour("paper"))
        painter.setPen(QPen(current.colour("line"), 1))
        for part in (0.25, 0.5, 0.75):
            x, y = box.left() + part * box.width(), box.top() + part * box.height()
            painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
            painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
        self._paint_heaps(painter, box)
        self._paint_curve(painter)
        now = time.monotonic()
        for began, velocity, out in self._marks:
            size = 7.0 * (1 - (now - began) / FADE_SECONDS) + 2
            at = self.at(velocity, max(LEAST, out))
            painter.setPen(QPen(current.colour("accent"), 2))
            painter.drawLine(QPointF(at.x() - size, at.y()), QPointF(at.x() + size, at.y()))
            painter.drawLine(QPointF(at.x(), at.y() - size), QPointF(at.x(), at.y() + size))

    def _paint_heaps(self, painter: QPainter, box: QRectF) -> None:
        """Input velocities as columns below the square, output velocities as bars at its side."""
        colour = theme.current().family(self._family)
        counts, _ = np.histogram(self._arrived, BINS, (0, 128))
        most = max(1, int(counts.max(initial=0)))
        wide = box.width() / BINS
        for i, count in enumerate(counts.tolist()):
            if count:
                tall = max(2.0, count / most * (FOOT - 4))
                painter.fillRect(QRectF(box.left() + i * wide, box.bottom() + 2, wide - 1, tall), colour)
        counts, _ = np.histogram(self._left, BINS, (0, 128))
        most = max(1, int(counts.max(initial=0)))
        tall = box.height() / BINS
        for i, count in enumerate(counts.tolist()):
            if count:
                wide = max(2.0, count / most * (SIDE - 4))
                painter.fillRect(QRectF(box.right() + 2, box.bottom() - (i + 1) * tall, wide, tall - 0.6), colour)

    def _paint_curve(self, painter: QPainter) -> None:
        current = theme.current()
        box = self.field()
        across, up = box.width() / (MOST - LEAST), box.height() / (MOST - LEAST)
        left, bottom = box.left(), box.bottom()
        heard = [
            QPointF(left + (v - LEAST) * across, bottom - (o - LEAST) * up)
            for v, o in enumerate(self._out.tolist())
            if v and o == o
        ]
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(current.colour("ink" if self.own else "faint"), 2))
        painter.drawPolyline(QPolygonF(heard))
        plain = replace(self.shape_now, curve=STRAIGHT).plain
        if not plain:
            # The curve's own points lie on it only if nothing else is set, so it is drawn beside the output.
            painter.setPen(QPen(current.colour("faint"), 1, Qt.PenStyle.DashLine))
            painter.drawPolyline(QPolygonF([self.at(x, y) for x, y in self.shape_now.curve]))
        painter.setPen(QPen(current.colour("ink"), 1.5))
        painter.setBrush(current.colour("sheet"))
        for x, y in self.shape_now.curve:
            at = self.at(x, y)
            painter.drawRect(QRectF(at.x() - 3.5, at.y() - 3.5, 7, 7))
