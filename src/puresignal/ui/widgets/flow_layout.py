"""A layout that sets widgets like words: beside each other, and on as many lines as they need."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QRect, QSize, Qt
from PySide6.QtWidgets import QLayout, QLayoutItem, QWidget

JOINED = "joined"
"""Property of a widget that follows the one before without a gap, and on the same line."""


class FlowLayout(QLayout):
    """apart: pixels between two widgets; lines: between two lines."""

    def __init__(self, parent: QWidget | None = None, apart: int = 5, lines: int = 5):
        super().__init__(parent)
        self._items: list[QLayoutItem] = []
        self._apart, self._lines = apart, lines

    def addItem(self, item: QLayoutItem) -> None:
        self._items.append(item)

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        return self._set(QRect(0, 0, width, 0), False)

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        self._set(rect, True)

    def sizeHint(self) -> QSize:
        return self.minimumSize()

    def minimumSize(self) -> QSize:
        size = QSize()
        for item in self._items:
            size = size.expandedTo(item.minimumSize())
        margins = self.contentsMargins()
        return size + QSize(margins.left() + margins.right(), margins.top() + margins.bottom())

    def _set(self, rect: QRect, place: bool) -> int:
        """Lay the widgets out. Returns the height."""
        margins = self.contentsMargins()
        inside = rect.adjusted(margins.left(), margins.top(), -margins.right(), -margins.bottom())
        rows: list[tuple[int, list[QLayoutItem]]] = []
        x, high, row = 0, 0, list[QLayoutItem]()
        for item in self._items:
            if item.isEmpty():
                continue
            size = item.sizeHint()
            if _is_joined(item):
                x -= self._apart
            elif row and x + size.width() > inside.width():
                rows.append((high, row))
                x, high, row = 0, 0, []
            row.append(item)
            x, high = x + size.width() + self._apart, max(high, size.height())
        if row:
            rows.append((high, row))
        y = inside.top()
        for high, items in rows:
            x = inside.left()
            for item in items:
                size = item.sizeHint()
                x -= self._apart * _is_joined(item)
                if place:
                    item.setGeometry(QRect(QPoint(x, y + (high - size.height()) // 2), size))
                x += size.width() + self._apart
            y += high + self._lines
        return y - self._lines * bool(rows) - rect.top() + margins.bottom()


def _is_joined(item: QLayoutItem) -> bool:
    widget = item.widget()
    return widget is not None and bool(widget.property(JOINED))
