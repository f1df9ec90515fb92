"""A view made as docs/architecture.md says, "Adding something": this file and a row in the list of views."""

from __future__ import annotations

from PySide6.QtWidgets import QLabel, QPushButton, QVBoxLayout

from puresignal.translation import mark
from puresignal.ui.state.services import Services
from puresignal.ui.state.shown import Shown
from puresignal.ui.state.view import View, ViewAction, ViewSpec

SPEC = ViewSpec(
    mark("Loudest"),
    mark("The hardest hit of the take."),
    "tests.ui.extra_view:LoudestView",
    (ViewAction(mark("Say loudest"), "Ctrl+Alt+H", "say"),),
)


class LoudestView(View):
    """The hardest hit of the take."""

    def __init__(self, services: Services):
        super().__init__(services)
        self.told = QLabel("no take")
        self.button = QPushButton("Go to Takes")
        self.button.clicked.connect(lambda: services.requests.view_requested.emit("Takes"))
        column = QVBoxLayout(self)
        column.addWidget(self.told)
        column.addWidget(self.button)

    def show_take(self, shown: Shown | None) -> None:
        if shown is not None:
            self.told.setText(f"{shown.outcome.output_notes.velocity.max():.0f}")

    def say(self) -> None:
        self._services.notices.tell(self.told.text(), False)
