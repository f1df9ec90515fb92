"""The bar over the notes of a generated take: its recipe as a sentence whose blanks are filled in place."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QCheckBox, QComboBox, QPushButton, QSpinBox, QVBoxLayout, QWidget

from puresignal.core.generators.recipe import Recipe
from puresignal.translation import mark, tr
from puresignal.ui.state.services import Services
from puresignal.ui.widgets.flow_layout import FlowLayout
from puresignal.ui.widgets.plain_text import PlainLabel
from puresignal.ui.widgets.sentence import Sentence


class RecipeBar(QWidget):
    """Shown while the chosen take is generated."""

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("bar")
        self._act, self._workbench = services.generators, services.workbench
        self._made_of: object = None
        self._recipe: Recipe | None = None
        self._sentence = Sentence()
        self._sentence.filled.connect(self._filled)
        self.bars, self.rounds = self._number(1, 256, "bars"), self._number(1, 64, "rounds")
        self.fresh = QCheckBox(tr("each time anew"))
        self.fresh.setToolTip(tr("Each round has other notes, or all have the same."))
        self.fresh.clicked.connect(lambda on: self._act.set(fresh=on))
        self.seed = self._number(0, 2**31 - 1, "seed")
        self.seed.setToolTip(tr("The same number makes the same notes, on every computer."))
        self.other = self._button(mark("Other notes"), mark("The same sentence, other notes (the next number)."))
        self.other.clicked.connect(lambda: self._act.other(1))
        self.before = self._button(mark("Those before"), mark("The notes of the number before."))
        self.before.clicked.connect(lambda: self._act.other(-1))
        self.keep = self._button(
            mark("Keep as notes"), mark("Makes a drawn take of them, which can be edited and is not changed any more.")
        )
        self.keep.clicked.connect(self._act.keep)
        self.seed.setMaximumWidth(96)
        below = QWidget()
        row = FlowLayout(below, 6)
        row.setContentsMargins(0, 0, 0, 0)
        for part in (
            self.bars, PlainLabel(tr("bars, played")), self.rounds, PlainLabel(tr("times")), self.fresh,
            PlainLabel(tr("number")), self.seed, self.other, self.before, self.keep,
        ):  # fmt: skip
            row.addWidget(part)
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 6, 12, 8)
        column.setSpacing(7)
        column.addWidget(self._sentence)
        column.addWidget(below)

    @property
    def blanks(self) -> dict[str, QComboBox | QSpinBox]:
        """The boxes of the sentence by name."""
        return self._sentence.blanks

    def _button(self, label: str, tip: str) -> QPushButton:
        button = QPushButton(tr(label))
        button.setObjectName("small")
        button.setToolTip(tr(tip))
        return button

    def _number(self, low: int, high: int, field: str) -> QSpinBox:
        box = QSpinBox()
        box.setRange(low, high)
        box.setKeyboardTracking(False)
        names = {"bars": tr("Bars"), "rounds": tr("Rounds"), "seed": tr("Number of the notes")}
        box.setAccessibleName(names[field])
        box.valueChanged.connect(lambda value: self._act.set(f"recipe {field}", **{field: value}))  # not shown
        return box

    def show_take(self) -> None:
        """Show the recipe of the chosen take, or hide."""
        ref = self._act.ref()
        self.setVisible(ref is not None)
        if ref is None:
            self._made_of = None
            return
        recipe = self._act.recipe()
        if recipe is None:
            self.hide()
            return
        there = tuple((one.ident, one.name) for one in self._act.sources())
        if self._made_of != (type(recipe), ref.ident, there):
            self._made_of = type(recipe), ref.ident, there
            self._sentence.build(recipe, tr(recipe.sentence), {"source": there})
        self._recipe = recipe
        for box, value in ((self.bars, recipe.bars), (self.rounds, recipe.rounds), (self.seed, recipe.seed)):
            box.blockSignals(True)
            box.setValue(value)
            box.blockSignals(False)
        self.fresh.setChecked(recipe.fresh)
        self.before.setEnabled(recipe.seed > 0)
        self._sentence.show_values(recipe, tr("a take that is gone"))

    def _filled(self, field: str, value: Any) -> None:
        gesture = None if isinstance(self.blanks[field], QComboBox) else f"recipe {field}"  # not shown
        self._act.set(gesture, **{field: value})
