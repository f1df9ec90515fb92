"""Text from outside is shown as it is: Qt would read markup in a name, and load what it points to."""

from __future__ import annotations

import html
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel


class PlainLabel(QLabel):
    """A label whose text is never read as markup."""

    def __init__(self, *arguments: Any, **more: Any):
        super().__init__(*arguments, **more)
        self.setTextFormat(Qt.TextFormat.PlainText)


def plain_tip(text: str) -> str:
    """A tooltip that shows a text as it is: tooltips have no plain format, so markup in it is escaped."""
    if "<" not in text:
        return text
    return f"<qt>{html.escape(text).replace(chr(10), '<br>')}</qt>"
