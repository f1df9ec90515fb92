"""A setting with its name, its value in the player's unit, and a slider; double-click resets it."""

from __future__ import annotations

import itertools

from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtWidgets import QGridLayout, QSlider, QWidget

from puresignal.translation import tr
from puresignal.ui.widgets.plain_text import PlainLabel

_gestures = itertools.count()


class LabelledSlider(QWidget):
    """One numeric setting.

    moved  (value, gesture): values of one gesture form one undo step
    """

    moved = Signal(float, str)

    def __init__(
        self, label: str, unit: str, low: float, high: float, default: float, tip: str, step: float = 1.0,
        parent: QWidget | None = None,
    ):  # fmt: skip
        super().__init__(parent)
        self._low, self._step, self._default, self._unit = low, step, default, unit
        self._gesture = ""
        self._label = label
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setRange(0, round((high - low) / step))
        self.slider.setPageStep(max(1, self.slider.maximum() // 10))
        self.slider.setToolTip(f"{tip} {tr('Double-click: reset to {value}.').format(value=self._say(default))}")
        self.slider.setAccessibleName(label)
        self.slider.installEventFilter(self)
        self.slider.sliderPressed.connect(self._begin)
        self.slider.valueChanged.connect(self._moved)
        self._name = PlainLabel(label)
        # Room for the marks on capitals of other languages.
        self._name.setContentsMargins(0, 1, 0, 0)
        self._value = PlainLabel()
        self._value.setObjectName("faint")
        self._value.setAlignment(Qt.AlignmentFlag.AlignRight)
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setVerticalSpacing(1)
        grid.addWidget(self._name, 0, 0)
        grid.addWidget(self._value, 0, 1)
        grid.addWidget(self.slider, 1, 0, 1, 2)
        self.show_value(default)

    def value(self) -> float:
        return round(self._low + self.slider.value() * self._step, 6)

    def show_value(self, value: float) -> None:
        """Show a value without emitting a signal."""
        self.slider.blockSignals(True)
        self.slider.setValue(round((value - self._low) / self._step))
        self.slider.blockSignals(False)
        self._value.setText(self._say(value))

    def remark(self, text: str) -> None:
        """Say something behind the setting's name; empty for nothing."""
        self._name.setText(f"{self._label} · {text}" if text else self._label)

    def _say(self, value: float) -> str:
        if self._unit == "%":
            return f"{value * 100:.0f} %"
        return f"{value:g} {self._unit}"

    def _begin(self) -> None:
        self._gesture = f"knob {next(_gestures)}"  # not shown

    def _moved(self) -> None:
        if not self.slider.isSliderDown():
            self._begin()
        self._value.setText(self._say(self.value()))
        self.moved.emit(self.value(), self._gesture)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.MouseButtonDblClick:
            self._begin()
            self.slider.setValue(round((self._default - self._low) / self._step))
            return True
        return super().eventFilter(watched, event)
