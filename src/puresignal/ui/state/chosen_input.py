"""Which live input is looked at: its face is in the middle of Inputs, its settings at the right."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal

from puresignal.core.session.live_input import LiveInput
from puresignal.ui.state.workbench import Workbench


class ChosenInput(QObject):
    """The number of the chosen input; it follows inputs that come and go.

    changed  another input is chosen, or the chosen one has changed
    """

    changed = Signal()

    def __init__(self, workbench: Workbench, parent: QObject | None = None):
        super().__init__(parent)
        self._workbench = workbench
        self._ident = workbench.session.inputs[0].ident
        self._seen: LiveInput | None = None
        workbench.changed.connect(self._follow)

    @property
    def number(self) -> int:
        """Its place among the session's inputs."""
        inputs = self._workbench.session.inputs
        return next((i for i, one in enumerate(inputs) if one.ident == self._ident), 0)

    @property
    def input(self) -> LiveInput:
        return self._workbench.session.inputs[self.number]

    def choose(self, number: int) -> None:
        """Look at an input."""
        inputs = self._workbench.session.inputs
        if 0 <= number < len(inputs):
            self._ident = inputs[number].ident
            self._follow()

    def choose_port(self, port: str) -> None:
        """Look at the input that listens to a port, if there is one."""
        inputs = self._workbench.session.inputs
        self.choose(next((i for i, one in enumerate(inputs) if any(name == port for name, _ in one.listens)), -1))

    def _follow(self) -> None:
        now = self.input
        if now != self._seen:
            self._seen, self._ident = now, now.ident
            self.changed.emit()
