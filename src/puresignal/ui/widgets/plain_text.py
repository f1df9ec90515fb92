"""Text from outside is shown as it is: Qt would read markup in a name, and load what it points to."""

from __future__ import annotations

import html
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QLabel, QSizePolicy


class PlainLabel(QLabel):
    """A label whose text is never read as markup."""

    def __init__(self, *arguments: Any, **more: Any):
        super().__init__(*arguments, **more)
        self.setTextFormat(Qt.TextFormat.PlainText)


class ElidedLabel(PlainLabel):
    """A line of text that is cut short with an ellipsis where it has no room."""

    def __init__(self, *arguments: Any, **more: Any):
        super().__init__(*arguments, **more)
        self._whole = self.text()
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)

    def show_text(self, text: str) -> None:
        self._whole = text
        self._fit()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        self.setText(self.fontMetrics().elidedText(self._whole, Qt.TextElideMode.ElideRight, self.width()))


def plain_tip(text: str) -> str:
    """A tooltip that shows a text as it is: tooltips have no plain format, so markup in it is escaped."""
    if "<" not in text:
        return text
    return f"<qt>{html.escape(text).replace(chr(10), '<br>')}</qt>"
