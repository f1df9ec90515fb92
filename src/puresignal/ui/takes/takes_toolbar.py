"""The row of buttons above the sheet of Takes: what is shown of it, what is shown below it, and what is looked for."""

from __future__ import annotations

from collections.abc import Iterator

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QButtonGroup, QCheckBox, QHBoxLayout, QMenu, QPushButton, QWidget, QWidgetAction

from puresignal.translation import mark, tr
from puresignal.ui.takes import row_painter

SHOWN = (
    (row_painter.PLAYED, mark("Played"), mark("Show every hit as played, in outline (F6).")),
    (row_painter.CLEAN, mark("Clean"), mark("Show the hits that leave, solid (F7).")),
    (
        row_painter.BOTH,
        mark("Both"),
        mark("Show the result solid, and removed hits as struck-through outlines (F8)."),
    ),
)
SOUND, STRIP, CONTROL, WORDS, LIST, FACE = "sound", "strip", "control", "words", "list", "face"  # not shown
BELOW = (
    (SOUND, mark("Recording"), mark("The recording that the chosen notes were heard in.")),
    (STRIP, mark("Velocities (Ctrl+Shift+L)"), mark("Draw velocities with the pointer.")),
    (CONTROL, mark("Controllers (Ctrl+Alt+L)"), mark("Draw controllers, bend and pressure.")),
    (WORDS, mark("Words and markers (Ctrl+Alt+W)"), mark("Type syllables under notes, and markers.")),
    (LIST, mark("List of events (Ctrl+L)"), mark("The notes with exact values.")),
    (FACE, mark("Face of the input (Ctrl+Alt+F)"), mark("Play the chosen input while looking at the rows.")),
)


def button(label: str, name: str, tip: str) -> QPushButton:
    """A button with its name for screen readers and its tooltip; all three are marked texts."""
    made = QPushButton(tr(label))
    made.setToolTip(tr(tip))
    made.setAccessibleName(tr(name))
    return made


class TakesToolbar(QWidget):
    """The buttons.

    show_chosen      row_painter.PLAYED, CLEAN or BOTH
    rows_changed     which rows are shown, or how
    doubtful_asked   go to the next doubtful note
    below_switched   something below the sheet is shown, or not: (SOUND, STRIP, CONTROL, WORDS, LIST or FACE, on)
    """

    show_chosen = Signal(str)
    rows_changed = Signal()
    doubtful_asked = Signal()
    below_switched = Signal(str, bool)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("bar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.show_group = QButtonGroup(self)
        self.show_buttons = dict(self._make_shown())
        self.show_buttons[row_painter.BOTH].setChecked(True)
        self.all_rows = self._row_box(
            tr("all rows"), tr("Show all rows of the kit"), tr("Also show rows of the kit on which nothing was played.")
        )
        self.pale = self._row_box(
            tr("others pale"),
            tr("Show other takes pale"),
            tr("Of several takes show the chosen one in colour, and the others pale behind it."),
        )
        self.degrees = self._row_box(
            tr("scale degrees"),
            tr("Show scale degrees"),
            tr("Beside each note's name its step in the session's key, 1 for the root."),
        )
        self.alone = self._switch(
            mark("Alone"), mark("Only the chosen take"), mark("See and hear only the chosen take, or all (O).")
        )
        self.beats = self._switch(
            mark("Beats"),
            mark("Beats of the chosen take"),
            mark("Find the beats and bars in the chosen take, mend them, and use them as the tempo (G)."),
        )
        self.steps = self._switch(
            mark("Steps"),
            mark("Steps"),
            mark("Enter notes step by step: each hit on any input stands at the position, which goes on (Shift+E)."),
        )
        self.below: dict[str, QAction] = {}
        self.doubtful = button(
            mark("Doubtful"),
            mark("Next doubtful note"),
            mark("Go to the next hit that was kept or removed only narrowly (D; Shift+D back)."),
        )
        self.doubtful.clicked.connect(lambda: self.doubtful_asked.emit())
        self.hear = QCheckBox(tr("play"))
        self.hear.setChecked(True)
        self.hear.setToolTip(tr("Plays each doubtful hit in context (E plays it again; H plays all hits)."))
        self.hear.setAccessibleName(tr("Play each doubtful note in context"))
        self.side = self._switch(
            mark("Path"), mark("Show the path"), mark("Show or hide the path and the selected note (F9).")
        )
        self.side.setChecked(True)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 8, 12, 8)
        row.setSpacing(5)
        at_left = (*self.show_buttons.values(), self._make_rows(), self.alone, self.beats, self.steps)
        for each in (*at_left, self._make_below()):
            row.addWidget(each)
        row.addStretch()
        for widget in (self.doubtful, self.hear, self.side):
            row.addWidget(widget)

    def set_compact(self, compact: bool) -> None:
        """In a narrow window hide the buttons that keys duplicate."""
        for widget in (self.hear, self.alone, self.beats, self.steps):
            widget.setVisible(not compact)

    def _make_shown(self) -> Iterator[tuple[str, QPushButton]]:
        for name, label, tip in SHOWN:
            one = self._switch(label, label, tip)
            one.clicked.connect(lambda _=False, n=name: self.show_chosen.emit(n))
            self.show_group.addButton(one)
            yield name, one

    @staticmethod
    def _switch(label: str, name: str, tip: str) -> QPushButton:
        one = button(label, name, tip)
        one.setCheckable(True)
        return one

    def _row_box(self, label: str, name: str, tip: str) -> QCheckBox:
        box = QCheckBox(label)
        box.setToolTip(tip)
        box.setAccessibleName(name)
        box.toggled.connect(lambda _: self.rows_changed.emit())
        return box

    def _make_rows(self) -> QPushButton:
        """The menu of which rows are shown."""
        rows = button(mark("Rows"), mark("Which rows are shown"), mark("Which rows and takes the sheet shows."))
        menu = QMenu(rows)
        for box in (self.all_rows, self.pale, self.degrees):
            holder = QWidget()
            inside = QHBoxLayout(holder)
            inside.setContentsMargins(10, 5, 14, 5)
            inside.addWidget(box)
            action = QWidgetAction(menu)
            action.setDefaultWidget(holder)
            menu.addAction(action)
        rows.setMenu(menu)
        return rows

    def _make_below(self) -> QPushButton:
        """The menu of what is shown below the sheet."""
        below = button(mark("Below"), mark("What is shown below the sheet"), mark("What the sheet shows below."))
        menu = QMenu(below)
        menu.setToolTipsVisible(True)
        for name, label, tip in BELOW:
            action = menu.addAction(tr(label))
            action.setToolTip(tr(tip))
            action.setCheckable(True)
            action.setChecked(name == SOUND)
            action.toggled.connect(lambda on, n=name: self.below_switched.emit(n, on))
            self.below[name] = action
        below.setMenu(menu)
        return below
