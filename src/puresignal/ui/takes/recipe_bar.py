"""The bar over the notes of a generated take: its recipe as a sentence whose blanks are filled in place."""

from __future__ import annotations

import re
from dataclasses import fields

from PySide6.QtWidgets import QCheckBox, QComboBox, QPushButton, QSpinBox, QVBoxLayout, QWidget

from puresignal.core.generators.recipe import Blank, Recipe
from puresignal.core.harmony.keys import note_name
from puresignal.translation import mark, tr
from puresignal.ui.state.services import Services
from puresignal.ui.widgets.flow_layout import JOINED, FlowLayout
from puresignal.ui.widgets.plain_text import PlainLabel, plain_tip

WIDEST = 190
"""Pixels of a blank that chooses."""


class NoteBox(QSpinBox):
    """A note, shown by name."""

    def textFromValue(self, value: int) -> str:
        return note_name(value)

    def valueFromText(self, text: str) -> int:
        names = {note_name(n).casefold(): n for n in range(128)}
        plain = text.strip().casefold().replace("#", "\N{MUSIC SHARP SIGN}")
        return names.get(plain, int(text) if text.strip().isdigit() else self.value())

    def validate(self, text: str, place: int) -> object:  # type: ignore[override]
        from PySide6.QtGui import QValidator

        return QValidator.State.Acceptable, text, place


class RecipeBar(QWidget):
    """Shown while the chosen take is generated."""

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("bar")
        self._act, self._workbench = services.generators, services.workbench
        self.blanks: dict[str, QComboBox | QSpinBox] = {}
        self._made_of: object = None
        self._recipe: Recipe | None = None
        self._sentence = QWidget()
        self._flow = FlowLayout(self._sentence)
        self._flow.setContentsMargins(0, 0, 0, 0)
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
            self._build(recipe, there)
        self._recipe = recipe
        for box, value in ((self.bars, recipe.bars), (self.rounds, recipe.rounds), (self.seed, recipe.seed)):
            box.blockSignals(True)
            box.setValue(value)
            box.blockSignals(False)
        self.fresh.setChecked(recipe.fresh)
        self.before.setEnabled(recipe.seed > 0)
        for field, blank in self.blanks.items():
            value = getattr(recipe, field)
            blank.blockSignals(True)
            if isinstance(blank, QComboBox):
                place = blank.findData(value)
                if place < 0:
                    blank.addItem(tr("a take that is gone"), value)
                    place = blank.count() - 1
                blank.setCurrentIndex(place)
            else:
                blank.setValue(round(value))
            blank.blockSignals(False)

    def _build(self, recipe: Recipe, there: tuple[tuple[str, str], ...]) -> None:
        """The sentence, word for word, with its blanks."""
        while (item := self._flow.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        self.blanks = {}
        for part in re.split(r"(\{\w+\})", tr(recipe.sentence)):
            if part.startswith("{"):
                blank = next(one for one in recipe.blanks if one.field == part[1:-1])
                self._flow.addWidget(self._blank(recipe, blank, there))
                continue
            for word in re.findall(r"\S+(?:\s(?![^\s{]*$))?", part.strip()):
                label = PlainLabel(word.strip())
                # A comma belongs to the word or blank before it.
                label.setProperty(JOINED, word[0] in ",.;:")
                self._flow.addWidget(label)
        self._sentence.updateGeometry()

    def _blank(self, recipe: Recipe, blank: Blank, there: tuple[tuple[str, str], ...]) -> QWidget:
        field = blank.field
        box: QComboBox | QSpinBox
        if blank.options or field == "source":
            box = QComboBox()
            options = [(value, tr(words)) for value, words in blank.options] or list(there)
            for value, words in options:
                box.addItem(words, value)
            box.setMaximumWidth(WIDEST)
            combo = box
            box.activated.connect(lambda _: self._act.set(**{field: combo.currentData()}))
        else:
            box = NoteBox() if blank.unit == "note" else QSpinBox()
            box.setRange(int(blank.low), int(blank.high))
            box.setKeyboardTracking(False)
            if blank.unit == "%":
                box.setSuffix(tr(" %"))
                box.setSingleStep(5)
            usual = next(one.type for one in fields(recipe) if one.name == field)
            exact = float if "float" in str(usual) else int
            gesture = f"recipe {field}"  # not shown
            box.valueChanged.connect(lambda value: self._act.set(gesture, **{field: exact(value)}))
        box.setAccessibleName(field)
        box.setToolTip(plain_tip(_TIPS.get(field, "") and tr(_TIPS[field])))
        self.blanks[field] = box
        return box


_TIPS = {
    "source": mark("The take whose notes it listens to."),
    "far": mark("How many chords are borrowed from the other mode."),
    "wide": mark("How many voices go an octave down, so that the chord is wider."),
    "gate": mark("How much of its step each note sounds."),
    "approach": mark("How many changes of chord are led to by a semitone."),
    "off": mark("0: all on the beat. 100: wherever the drummer likes."),
    "ghosts": mark("Soft strokes on the snare between the beats."),
}
