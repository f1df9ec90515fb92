"""Velocities or probabilities below the sheet, drawn with the pointer: of the selected notes, or of all."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QComboBox, QWidget

from puresignal.translation import tr
from puresignal.ui.takes.row_labels import GUTTER
from puresignal.ui.widgets import theme

HEIGHT = 96
EDGE = 8.0
"""Pixels above the loudest and below the softest."""
NEAR = 4.0
"""Pixels from the pointer within which a note is meant."""
VELOCITY, PROBABILITY = "velocity", "probability"  # not shown
RANGES = {VELOCITY: (1.0, 127.0, (1, 64, 127)), PROBABILITY: (0.0, 100.0, (0, 50, 100))}
"""Lowest and highest value of each, and those that have a line."""
MOST = 4000
"""Stems drawn at once; more cannot be told apart."""


class VelocityStrip(QWidget):
    """A drag draws values along its line; Shift keeps it straight from where it began.

    drawn  other values: (origins, values), of what `what` says
    asked  show the other quantity
    """

    drawn = Signal(object, object)
    asked = Signal()

    def __init__(self, x_of: Callable[[np.ndarray], np.ndarray], parent: QWidget | None = None):
        """x_of: pixels of seconds."""
        super().__init__(parent)
        self._x_of = x_of
        self._start = self._velocity = np.zeros(0)
        self._origin = np.zeros(0, np.int64)
        self._selected = np.zeros(0, np.int64)
        self._is_selected = np.zeros(0, bool)
        self._changed: dict[int, float] = {}
        self._from: QPointF | None = None
        self._last: QPointF | None = None
        self.what = VELOCITY
        self.choice = QComboBox(self)
        self.choice.setAccessibleName(tr("What the strip shows"))
        self.choice.addItem(tr("velocity"), VELOCITY)
        self.choice.addItem(tr("probability"), PROBABILITY)
        self.choice.setGeometry(10, 34, GUTTER - 62, 26)
        self.choice.activated.connect(self._choose)
        self.setFixedHeight(HEIGHT)
        self.setAccessibleName(tr("Velocities"))
        self.setToolTip(tr("Drag to draw: for the selected notes, or for all. Shift draws a straight line."))
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)

    def _choose(self) -> None:
        self.what = self.choice.currentData()
        self.asked.emit()

    def show_notes(self, start: np.ndarray, value: np.ndarray, origin: np.ndarray) -> None:
        """start: (n,) seconds, rising; value: velocities, or probabilities in per cent."""
        self._start, self._velocity, self._origin = start, value.astype(float), origin
        self._flag()

    def show_selection(self, origins: np.ndarray) -> None:
        self._selected = origins
        self._flag()

    def _flag(self) -> None:
        self._is_selected = np.isin(self._origin, self._selected)
        self.update()

    def _y(self, velocity: float) -> float:
        _, high, _ = RANGES[self.what]
        return EDGE + (1 - velocity / high) * (self.height() - 2 * EDGE)

    def _velocity_at(self, y: float) -> float:
        low, high, _ = RANGES[self.what]
        return float(np.clip(high * (1 - (y - EDGE) / (self.height() - 2 * EDGE)), low, high))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton and event.position().x() >= GUTTER - NEAR:
            self._from = self._last = event.position()
            self._changed = {}
            self._draw(event.position(), event.position())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._last is None or self._from is None:
            return
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._changed = {}
            self._draw(self._from, event.position())
        else:
            self._draw(self._last, event.position())
        self._last = event.position()

    def _draw(self, one: QPointF, other: QPointF) -> None:
        """Give the notes under a line its height."""
        left, right = sorted((one, other), key=lambda at: at.x())
        x = self._x_of(self._start)
        inside = (x >= left.x() - NEAR) & (x <= right.x() + NEAR)
        if self._is_selected.any():
            inside &= self._is_selected
        wide = max(1e-6, right.x() - left.x())
        for i in np.flatnonzero(inside).tolist():
            part = float(np.clip((x[i] - left.x()) / wide, 0, 1))
            self._changed[i] = round(self._velocity_at(left.y() + part * (right.y() - left.y())))
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        rows, self._from, self._last = dict(self._changed), None, None
        self._changed = {}
        if rows:
            which = np.array(sorted(rows))
            self.drawn.emit(self._origin[which], np.array([rows[i] for i in which.tolist()]))
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape and self._changed:
            self._changed, self._from, self._last = {}, None, None
            self.update()
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, current = QPainter(self), theme.current()
        painter.fillRect(self.rect(), current.colour("sheet"))
        painter.fillRect(QRectF(0, 0, GUTTER, self.height()), current.colour("shade"))
        painter.setPen(QPen(current.colour("edge"), 1))
        painter.drawLine(QLineF(0, 0.5, self.width(), 0.5))
        painter.setFont(theme.font(8))
        for velocity in RANGES[self.what][2]:
            y = self._y(velocity)
            painter.setPen(current.colour("faint"))
            painter.drawText(
                QRectF(GUTTER - 34, y - 7, 28, 14), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                str(velocity),
            )  # fmt: skip
            painter.setPen(QPen(current.colour("line"), 1))
            painter.drawLine(QLineF(GUTTER, y, self.width(), y))
        self._paint_stems(painter)

    def _paint_stems(self, painter: QPainter) -> None:
        current = theme.current()
        painter.setClipRect(QRectF(GUTTER, 0, self.width() - GUTTER, self.height()))
        x = self._x_of(self._start)
        seen = np.flatnonzero((x > GUTTER - 3) & (x < self.width() + 3))[:MOST]
        any_chosen = bool(self._is_selected.any())
        base = self._y(0)
        pale, ink, accent = current.colour("edge"), current.colour("ink"), current.colour("accent")
        for kind, colour in ((0, pale), (1, ink), (2, accent)):
            painter.setPen(QPen(colour, 2))
            lines = []
            for i in seen.tolist():
                changed = i in self._changed
                mine = 2 if changed else 1 if not any_chosen or self._is_selected[i] else 0
                if mine == kind:
                    top = self._y(self._changed.get(i, float(self._velocity[i])))
                    at = round(float(x[i])) + 0.0
                    lines += [QLineF(at, base, at, top), QLineF(at - 2.5, top, at + 2.5, top)]
            painter.drawLines(lines)
