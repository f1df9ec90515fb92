"""The bar under the header with errors and messages, until dismissed."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QWidget

from puresignal.translation import tr
from puresignal.ui.widgets.plain_text import PlainLabel, plain_tip


class MessageBar(QFrame):
    """Hidden while there is no message."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self._text = PlainLabel()
        self._text.setWordWrap(True)
        self._text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.act = QPushButton()
        self.act.clicked.connect(self._do)
        self._doing: Callable[[], None] | None = None
        self.away = QPushButton(tr("Dismiss"))
        self.away.setToolTip(tr("Hide this message."))
        self.away.setAccessibleName(tr("Dismiss the message"))
        self.away.clicked.connect(self.hide)
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 8, 14, 8)
        row.addWidget(self._text, 1)
        row.addWidget(self.act)
        row.addWidget(self.away)
        self.hide()

    @property
    def text(self) -> str:
        return self._text.text()

    def tell(self, text: str, problem: bool) -> None:
        """Show a message; a problem stands out."""
        self._show(text, problem)
        self._doing = None
        self.act.hide()

    def offer(self, text: str, label: str, tip: str, act: Callable[[], None]) -> None:
        """Show a message with a button that acts on it."""
        self._show(text, False)
        self._doing = act
        self.act.setText(label)
        self.act.setAccessibleName(label)
        self.act.setToolTip(plain_tip(tip))
        self.act.show()

    def _show(self, text: str, problem: bool) -> None:
        self.setObjectName("problem" if problem else "notice")
        self.style().polish(self)
        self._text.setText(text)
        self.setAccessibleName(text)
        self.show()

    def _do(self) -> None:
        doing, self._doing = self._doing, None
        self.hide()
        if doing is not None:
            doing()
