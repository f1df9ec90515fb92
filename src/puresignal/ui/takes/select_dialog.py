"""Selecting notes by a sentence with blanks."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QPushButton,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from puresignal.core.kit.articulations import spoken
from puresignal.core.path import condition
from puresignal.core.path.condition import Condition
from puresignal.translation import mark, tr
from puresignal.ui.state.shown import Shown
from puresignal.ui.widgets.plain_text import PlainLabel

MEASURES = (
    (condition.ANY, mark("of any velocity")), (condition.SOFTER, mark("softer than")),
    (condition.LOUDER, mark("louder than")), (condition.SHORTER, mark("shorter than")),
    (condition.LONGER, mark("longer than")),
)  # fmt: skip
PLACES = (
    (condition.ANYWHERE, mark("anywhere")), (condition.ON_BEAT, mark("on the beat")),
    (condition.OFF_BEAT, mark("off the beat")), (condition.OFF_GRID, mark("off the sixteenths by more than")),
)  # fmt: skip
NEW, ADD, WITHIN = "new", "add", "within"  # not shown


class SelectDialog(QDialog):
    """The sentence. It stays open, and acts on what is shown.

    asked  select: (condition, NEW, ADD or WITHIN)
    inverted  select what is not selected
    """

    asked = Signal(object, str)
    inverted = Signal()

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent, Qt.WindowType.Tool)
        self.setWindowTitle(tr("Select notes"))
        self.what = self._combo(tr("Notes"), ())
        self.measure = self._combo(tr("Velocity or length"), MEASURES)
        self.amount = self._number(0, 10_000, 40, tr("Velocity, or milliseconds"))
        self.place = self._combo(tr("Place"), PLACES)
        self.distance = self._number(0, 500, 10, tr("Milliseconds off"))
        self.distance.setSuffix(tr(" ms"))
        self.every = self._number(1, 64, 1, tr("Every"))
        self.first = self._number(1, 64, 1, tr("Beginning with"))
        self.in_range = QCheckBox(tr("in the range on the ruler"))
        self.doubtful = QCheckBox(tr("only doubtful ones"))
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(8)
        each = self._row(self.every, PlainLabel(tr("th, beginning with number")), self.first)
        for row, parts in enumerate(
            (
                (PlainLabel(tr("Select")), self.what),
                (None, self.measure, self.amount),
                (None, self.place, self.distance),
                (PlainLabel(tr("every")), each),
                (None, self._row(self.in_range, self.doubtful)),
            )
        ):  # fmt: skip
            for place, part in enumerate(parts):
                if part is not None:
                    span = 2 if len(parts) == 2 and place == 1 else 1
                    grid.addWidget(part, row, place, 1, span)
        buttons = QHBoxLayout()
        self.buttons: dict[str, QPushButton] = {}
        for name, label, tip in (
            (NEW, mark("Select"), mark("Select these notes.")),
            (ADD, mark("Add"), mark("Add these notes to the selection.")),
            (WITHIN, mark("Within selection"), mark("Keep only these of the selected notes.")),
        ):
            button = QPushButton(tr(label))
            button.setToolTip(tr(tip))
            button.clicked.connect(lambda _=False, n=name: self.asked.emit(self.condition(), n))
            buttons.addWidget(button)
            self.buttons[name] = button
        self.invert = QPushButton(tr("Invert"))
        self.invert.setToolTip(tr("Select all notes that are not selected."))
        self.invert.clicked.connect(self.inverted)
        buttons.addWidget(self.invert)
        self.said = PlainLabel()
        self.said.setObjectName("faint")
        column = QVBoxLayout(self)
        column.setContentsMargins(18, 16, 18, 16)
        column.setSpacing(12)
        column.addLayout(grid)
        column.addLayout(buttons)
        column.addWidget(self.said)
        self.stretch: tuple[float, float] | None = None
        self.measure.activated.connect(lambda _: self._follow())
        self.place.activated.connect(lambda _: self._follow())
        self._follow()

    @staticmethod
    def _row(*widgets: QWidget) -> QWidget:
        holder = QWidget()
        row = QHBoxLayout(holder)
        row.setContentsMargins(0, 0, 0, 0)
        for one in widgets:
            row.addWidget(one)
        row.addStretch()
        return holder

    def _combo(self, name: str, options: tuple[tuple[str, str], ...]) -> QComboBox:
        combo = QComboBox()
        combo.setAccessibleName(name)
        for value, label in options:
            combo.addItem(tr(label), value)
        return combo

    def _number(self, low: int, high: int, value: int, name: str) -> QSpinBox:
        box = QSpinBox()
        box.setRange(low, high)
        box.setValue(value)
        box.setAccessibleName(name)
        return box

    def _follow(self) -> None:
        measure = self.measure.currentData()
        self.amount.setVisible(measure != condition.ANY)
        self.amount.setSuffix(tr(" ms") if measure in (condition.SHORTER, condition.LONGER) else "")
        self.distance.setVisible(self.place.currentData() == condition.OFF_GRID)

    def show_take(self, shown: Shown | None) -> None:
        """The tracks and ways of hitting that there are to choose from."""
        rows = [(tr("all notes"), "")]
        if shown is not None:
            rows += [(entry.title, entry.track.key) for entry in shown.tracks]
            used = sorted(set(shown.outcome.output_notes.articulation.tolist()) - {-1})
            names = [shown.outcome.vocabulary[code] for code in used]
            rows += [(spoken(name), name) for name in names if "." in name]
        if rows != [(self.what.itemText(i), self.what.itemData(i)) for i in range(self.what.count())]:
            now = self.what.currentData()
            self.what.clear()
            for label, key in rows:
                self.what.addItem(label, key)
            self.what.setCurrentIndex(max(0, self.what.findData(now)))

    def condition(self) -> Condition:
        """What the sentence says."""
        return Condition(
            self.what.currentData() or "", self.measure.currentData(), float(self.amount.value()),
            self.place.currentData(), float(self.distance.value()), self.every.value(), self.first.value(),
            self.stretch if self.in_range.isChecked() else None, self.doubtful.isChecked(),
        )  # fmt: skip

    def tell(self, text: str) -> None:
        """Say what came of it."""
        self.said.setText(text)
