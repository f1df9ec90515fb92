"""A field for a tempo."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import QDoubleSpinBox, QWidget

from puresignal.core.timing.session_time import FASTEST, SLOWEST
from puresignal.translation import tr


class TempoBox(QDoubleSpinBox):
    """A tempo: typed, by arrow keys, and by the wheel also without a click first; Shift for tenths."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.setRange(SLOWEST, FASTEST)
        self.setDecimals(2)
        self.setSuffix(tr(" BPM"))
        self.setKeyboardTracking(False)
        self.setAlignment(Qt.AlignmentFlag.AlignRight)

    def textFromValue(self, value: float) -> str:
        return self.locale().toString(value, "f", 2).rstrip("0").rstrip(self.locale().decimalPoint())

    def wheelEvent(self, event: QWheelEvent) -> None:
        steps = event.angleDelta().y() or event.angleDelta().x()
        if self.isReadOnly():
            event.ignore()
            return
        size = 0.1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        self.setValue(self.value() + size * steps / 120)
        event.accept()
