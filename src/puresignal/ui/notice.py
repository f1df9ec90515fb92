"""The line under the header that says what went wrong or what to know, until it is put away."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QWidget


class Notice(QFrame):
    """Hidden while there is nothing to say."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self._text = QLabel()
        self._text.setWordWrap(True)
        self._text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self._away = QPushButton(self.tr("Put away"))
        self._away.setToolTip(self.tr("Hide this message."))
        self._away.setAccessibleName(self.tr("Put the message away"))
        self._away.clicked.connect(self.hide)
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 8, 14, 8)
        row.addWidget(self._text, 1)
        row.addWidget(self._away)
        self.hide()

    @property
    def text(self) -> str:
        return self._text.text()

    def tell(self, text: str, problem: bool) -> None:
        """Shows a message; a problem stands out."""
        self.setObjectName("problem" if problem else "notice")
        self.style().polish(self)
        self._text.setText(text)
        self.setAccessibleName(text)
        self.show()
