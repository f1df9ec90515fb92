"""Parts of a painted widget for screen readers: what is drawn inside it becomes its accessible children."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QRectF, Qt
from PySide6.QtWidgets import QWidget


class AccessiblePart(QWidget):
    """One part: it has a name and a place, paints nothing, and lets the pointer through."""

    def __init__(self, parent: QWidget):
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.setAttribute(Qt.WidgetAttribute.WA_NoSystemBackground)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)


class AccessibleParts:
    """The parts of a widget."""

    def __init__(self, owner: QWidget):
        self._owner = owner
        self._parts: list[AccessiblePart] = []

    def show(self, parts: Sequence[tuple[str, QRectF]]) -> None:
        """Show parts by name and box; widgets are kept from one call to the next."""
        while len(self._parts) > len(parts):
            gone = self._parts.pop()
            gone.hide()
            gone.deleteLater()
        while len(self._parts) < len(parts):
            self._parts.append(AccessiblePart(self._owner))
        for part, (name, box) in zip(self._parts, parts, strict=True):
            part.setAccessibleName(name)
            part.setGeometry(box.toAlignedRect())
            part.show()
