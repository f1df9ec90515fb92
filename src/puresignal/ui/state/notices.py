"""Notices to the player, from wherever they come; the window shows them in one bar."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject, Signal


class Notices(QObject):
    """A hub for messages.

    told     a message: (text, whether it is a problem)
    offered  a message with a button that acts on it: (text, label, tip, action)
    cleared  no message is of use any more
    """

    told = Signal(str, bool)
    offered = Signal(str, str, str, object)
    cleared = Signal()

    def tell(self, text: str, problem: bool) -> None:
        """Show a message; a problem stands out."""
        self.told.emit(text, problem)

    def clear(self) -> None:
        """Hide the message that is shown."""
        self.cleared.emit()

    def offer(self, text: str, label: str, tip: str, act: Callable[[], None]) -> None:
        """Show a message with a button that acts on it."""
        self.offered.emit(text, label, tip, act)
