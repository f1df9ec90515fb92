"""The header: the session's name, the buttons of the views, and tempo, meter and key."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from puresignal.translation import tr
from puresignal.ui.shell.time_controls import TimeControls
from puresignal.ui.state.services import Services
from puresignal.ui.state.view import ViewSpec
from puresignal.ui.widgets import text_format
from puresignal.ui.widgets.plain_text import PlainLabel, plain_tip


class Header(QWidget):
    """One button for each view.

    view_chosen  a button was pressed: the name of its view
    """

    view_chosen = Signal(str)

    def __init__(self, views: tuple[ViewSpec, ...], services: Services, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("header")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 0, 18, 0)
        row.setSpacing(2)
        self._name = ""
        self.name = PlainLabel()
        self.name.setObjectName("sessionName")
        row.addWidget(self.name)
        self.buttons: dict[str, QPushButton] = {}
        for i, view in enumerate(views):
            name = view.name
            button = QPushButton(tr(name))
            button.setObjectName("view")
            button.setCheckable(True)
            button.setToolTip(f"{tr(view.tip)} (Ctrl+{i + 1})")  # not shown
            button.setAccessibleName(tr("{name} view").format(name=tr(name)))
            button.clicked.connect(lambda _=False, n=name: self.view_chosen.emit(n))
            row.addWidget(button)
            self.buttons[name] = button
        row.addStretch()
        self.time = TimeControls(services)
        row.addWidget(self.time)
        self.set_compact(False)

    def set_compact(self, compact: bool) -> None:
        """Leave less room for the name in a small window."""
        self.name.setFixedWidth(146 if compact else 206)
        self.time.set_compact(compact)
        self._elide()

    def choose(self, name: str) -> None:
        """Show which view is current."""
        # Not a button group, in which Tab would reach only the chosen one.
        for view, button in self.buttons.items():
            button.setChecked(view == name)

    def show_session(self, name: str) -> None:
        """Show the session's name."""
        self._name = name
        self.name.setToolTip(plain_tip(name))
        self._elide()

    def _elide(self) -> None:
        metrics = self.name.fontMetrics()
        # The label keeps a size hint of its former width until its text changes.
        self.name.setText("")
        self.name.setText(metrics.elidedText(self._name, Qt.TextElideMode.ElideRight, self.name.maximumWidth() - 4))

    def mark_mapping(self, unmapped: int) -> None:
        """Mark the button of Mapping with the number of unmapped hits."""
        label = tr("Mapping")
        text = f"{label}  \N{BULLET} {text_format.count(unmapped)}" if unmapped else label
        self.buttons["Mapping"].setText(text)
