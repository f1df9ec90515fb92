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
from puresignal.core.path.stage_description import Stage
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
    recalled  select what a name stands for: (name)
    kept      keep under a name: (name, the condition, or None for the notes that are selected)
    forgotten forget a name: (name)
    """

    asked = Signal(object, str)
    inverted = Signal()
    recalled = Signal(str)
    kept = Signal(str, object)
    forgotten = Signal(str)

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
        self.stage = self._combo(tr("Changed by"), ())
        self.round = self._number(0, 10_000, 0, tr("Pass"))
        self.round.setSpecialValueText(tr("any pass"))
        self.round.setPrefix(tr("pass "))
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
                (PlainLabel(tr("changed by")), self._row(self.stage, PlainLabel(tr("in")), self.round)),
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
        column.addLayout(self._make_names())
        column.addWidget(self.said)
        self.stretch: tuple[float, float] | None = None
        self.measure.activated.connect(lambda _: self._follow())
        self.place.activated.connect(lambda _: self._follow())
        self._follow()

    def _make_names(self) -> QVBoxLayout:
        """Selections under a name."""
        self.names = QComboBox()
        self.names.setEditable(True)
        self.names.setAccessibleName(tr("Name of a selection"))
        self.names.setToolTip(tr("Choose a named selection, or type a name for this one."))
        self.names.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        line = self.names.lineEdit()
        assert line is not None
        line.setPlaceholderText(tr("Name"))
        self.names.activated.connect(lambda row: self.recalled.emit(self.names.itemText(row)))
        self.keep_sentence, self.keep_notes, self.forget = (
            QPushButton(tr(label)) for label in (mark("Keep sentence"), mark("Keep notes"), mark("Forget"))
        )
        self.keep_sentence.setToolTip(tr("Keeps this sentence under the name; it also finds notes that come later."))
        self.keep_notes.setToolTip(tr("Keeps the notes that are selected now under the name."))
        self.forget.setToolTip(tr("Removes the name. Settings made for it stay."))
        self.keep_sentence.clicked.connect(lambda: self._keep(self.condition()))
        self.keep_notes.clicked.connect(lambda: self._keep(None))
        self.forget.clicked.connect(lambda: self.forgotten.emit(self.names.currentText().strip()))
        named, row = QHBoxLayout(), QHBoxLayout()
        named.addWidget(PlainLabel(tr("named")))
        named.addWidget(self.names, 1)
        for button in (self.keep_sentence, self.keep_notes, self.forget):
            row.addWidget(button, 1)
        column = QVBoxLayout()
        column.setSpacing(8)
        column.addLayout(named)
        column.addLayout(row)
        return column

    def _keep(self, wanted: Condition | None) -> None:
        name = self.names.currentText().strip()
        if name:
            self.kept.emit(name, wanted)
        else:
            self.tell(tr("Type a name first."))
            self.names.setFocus()

    def show_names(self, names: tuple[str, ...], current: str) -> None:
        """The named selections, and the one that is meant."""
        self.names.clear()
        self.names.addItems(list(names))
        self.names.setCurrentIndex(self.names.findText(current))
        self.names.setEditText(current)

    def show_condition(self, wanted: Condition) -> None:
        """Fill the blanks."""
        for combo, value in ((self.what, wanted.what), (self.measure, wanted.measure), (self.place, wanted.place),
                             (self.stage, wanted.stage)):  # fmt: skip
            combo.setCurrentIndex(max(0, combo.findData(value)))
        for box, number in ((self.amount, wanted.amount), (self.distance, wanted.distance), (self.every, wanted.every),
                            (self.first, wanted.first), (self.round, wanted.round)):  # fmt: skip
            box.setValue(int(number))
        self.in_range.setChecked(wanted.between is not None)
        self.stretch = wanted.between or self.stretch
        self.doubtful.setChecked(wanted.doubtful)
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
        stages = [(tr("any stage, or none"), "")]
        if shown is not None:
            keys = dict.fromkeys(Stage.of(number) for number in sorted(set(shown.outcome.tally.entries.stage.tolist())))
            stages += [(tr(stage.title) or tr(stage.word), stage.key) for stage in keys]
        if stages != [(self.stage.itemText(i), self.stage.itemData(i)) for i in range(self.stage.count())]:
            now = self.stage.currentData()
            self.stage.clear()
            for label, key in stages:
                self.stage.addItem(label, key)
            self.stage.setCurrentIndex(max(0, self.stage.findData(now)))

    def condition(self) -> Condition:
        """The condition that the sentence describes."""
        return Condition(
            self.what.currentData() or "", self.measure.currentData(), float(self.amount.value()),
            self.place.currentData(), float(self.distance.value()), self.every.value(), self.first.value(),
            self.stretch if self.in_range.isChecked() else None, self.doubtful.isChecked(),
            self.stage.currentData() or "", self.round.value(),
        )  # fmt: skip

    def tell(self, text: str) -> None:
        """Say what came of it."""
        self.said.setText(text)
