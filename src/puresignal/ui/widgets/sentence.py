"""A recipe as a sentence whose blanks are filled in place."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import fields
from typing import Any

from PySide6.QtCore import Signal
from PySide6.QtGui import QValidator
from PySide6.QtWidgets import QComboBox, QSpinBox, QWidget

from puresignal.core.generators.recipe import Blank, Recipe
from puresignal.core.harmony.keys import note_name
from puresignal.translation import mark, tr
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
        return QValidator.State.Acceptable, text, place


class Sentence(QWidget):
    """The words and the blanks.

    filled  name of a blank, and what the user put into it
    blanks  the boxes by name
    """

    filled = Signal(str, object)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.blanks: dict[str, QComboBox | QSpinBox] = {}
        self._flow = FlowLayout(self)
        self._flow.setContentsMargins(0, 0, 0, 0)

    def build(self, recipe: Recipe, words: str, options: Mapping[str, tuple[tuple[str, str], ...]]) -> None:
        """Make the widgets of a kind of recipe.

        words    the translated sentence, blanks in braces
        options  (value, words) of blanks whose choices only the session knows
        """
        while (item := self._flow.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        self.blanks = {}
        for part in re.split(r"(\{\w+\})", words):
            if part.startswith("{"):
                blank = next(one for one in recipe.blanks if one.field == part[1:-1])
                self._flow.addWidget(self._blank(recipe, blank, options.get(blank.field, ())))
                continue
            for word in part.split():
                label = PlainLabel(word)
                # A comma belongs to the word or blank before it.
                label.setProperty(JOINED, word[0] in ",.;:")
                self._flow.addWidget(label)
        self.updateGeometry()

    def show_values(self, recipe: Recipe, missing: str) -> None:
        """Show the settings of a recipe of the kind that was built. missing: words for a choice that is gone"""
        for field, blank in self.blanks.items():
            value = getattr(recipe, field)
            blank.blockSignals(True)
            if isinstance(blank, QComboBox):
                place = blank.findData(value)
                if place < 0:
                    blank.addItem(missing, value)
                    place = blank.count() - 1
                blank.setCurrentIndex(place)
            else:
                blank.setValue(round(value))
            blank.blockSignals(False)

    def _blank(self, recipe: Recipe, blank: Blank, known: tuple[tuple[str, str], ...]) -> QWidget:
        field = blank.field
        box: QComboBox | QSpinBox
        if blank.options or known or field == "source":
            box = combo = QComboBox()
            for value, words in [(value, tr(words)) for value, words in blank.options] or list(known):
                box.addItem(words, value)
            box.setMaximumWidth(WIDEST)
            box.activated.connect(lambda _: self.filled.emit(field, combo.currentData()))
        else:
            box = NoteBox() if blank.unit == "note" else QSpinBox()
            box.setRange(int(blank.low), int(blank.high))
            box.setKeyboardTracking(False)
            if blank.unit == "%":
                box.setSuffix(tr(" %"))
                box.setSingleStep(5)
            usual = next(one.type for one in fields(recipe) if one.name == field)
            exact: Any = float if "float" in str(usual) else int
            box.valueChanged.connect(lambda value: self.filled.emit(field, exact(value)))
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
