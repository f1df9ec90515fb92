"""The header: the session's name, the buttons of the views, and the tempo."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from puresignal.translation import tr
from puresignal.ui.state.view import ViewSpec
from puresignal.ui.state.workbench import Shown
from puresignal.ui.widgets import text_format
from puresignal.ui.widgets.plain_text import PlainLabel


class Header(QWidget):
    """One button for each view.

    view_chosen  a button was pressed: the name of its view
    """

    view_chosen = Signal(str)

    def __init__(self, views: tuple[ViewSpec, ...], parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("header")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 0, 18, 0)
        row.setSpacing(2)
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
        self.tempo = PlainLabel()
        self.tempo.setObjectName("figure")
        self.tempo.setToolTip(tr("Tempo and meter of the take, in quarter notes per minute."))
        row.addWidget(self.tempo)
        self.set_compact(False)

    def set_compact(self, compact: bool) -> None:
        """Leave less room for the name in a small window."""
        self.name.setMinimumWidth(160 if compact else 206)

    def choose(self, name: str) -> None:
        """Show which view is current."""
        # Not a button group, in which Tab would reach only the chosen one.
        for view, button in self.buttons.items():
            button.setChecked(view == name)

    def show_session(self, name: str, shown: Shown | None) -> None:
        """Show the session's name and the current take's tempo."""
        self.name.setText(name)
        tempo = (
            "" if shown is None else f"{text_format.tempo(shown.take.tempo)}   {text_format.meter(shown.take.tempo)}"
        )
        self.tempo.setText(tempo)

    def mark_mapping(self, unmapped: int) -> None:
        """Mark the button of Mapping with the number of unmapped hits."""
        label = tr("Mapping")
        text = f"{label}  \N{BULLET} {text_format.count(unmapped)}" if unmapped else label
        self.buttons["Mapping"].setText(text)
