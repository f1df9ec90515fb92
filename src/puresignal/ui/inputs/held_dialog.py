"""The generator on held keys: a sentence whose blanks are filled in place, and its destination."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PySide6.QtCore import QTimer
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QComboBox, QDialog, QFormLayout, QPushButton, QSpinBox, QVBoxLayout, QWidget

from puresignal.core.generators import held_pattern
from puresignal.core.generators.recipe import Arpeggio, BassLine, ChordProgression, DrumPattern, Recipe
from puresignal.core.session import session as edits
from puresignal.io import ports
from puresignal.translation import mark, tr
from puresignal.ui.state.services import Services
from puresignal.ui.widgets.field_row import field_row
from puresignal.ui.widgets.plain_text import PlainLabel
from puresignal.ui.widgets.sentence import Sentence

SENTENCES: dict[type[Recipe], str] = {
    Arpeggio: mark(
        "Plays the keys that are held {order}, over {octaves} octaves in {rate}, each note sounding {gate} of its "
        "step, swung {swing}, an accent every {accent} notes, {rests} of them silent."
    ),
    BassLine: mark(
        "Plays {way} under the keys that are held in {rate}, {rests} of the notes off the beat left out; not below "
        "{low}."
    ),
    DrumPattern: mark(
        "While keys are held: {kicks} kicks, {snares} snares and {hats} hats a bar, {off} off the beat, {ghosts} ghost "
        "strokes, a fill every {fill} bars; softer or louder with the keys."
    ),
    ChordProgression: mark(
        "While a key is held, chords of {key} moved to that key, one every {every}, {far} away from it, {sevenths} "
        "with sevenths, ending {ending}; from {low} up, {wide} voices opened."
    ),
}
SIDE = 18
"""Pixels at the left and right."""
MODES = (("C major", mark("major")), ("C minor", mark("minor")))


class HeldDialog(QDialog):
    """Each change takes effect at once, also while it plays, and can be undone."""

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle(tr("Generator on held keys"))
        self.setMinimumWidth(460)
        self._workbench, self._watch = services.workbench, services.port_watch
        self.kind = QComboBox()
        self.kind.setAccessibleName(tr("Kind of generator"))
        for kind in held_pattern.LIVE:
            self.kind.addItem(tr(kind.title), kind.kind)
        self.kind.activated.connect(lambda _: self._change_kind())
        self._sentence = Sentence()
        self._sentence.filled.connect(self._set)
        self._built: type[Recipe] | None = None
        self._before: dict[str, Recipe] = {}
        self.to = QComboBox()
        self.to.setAccessibleName(tr("Destination of its notes"))
        self.to.setToolTip(tr("Where the notes go: a destination, or a port as it is."))
        self.to.activated.connect(lambda _: self._do(to=self.to.currentData()))
        self.channel = QSpinBox()
        self.channel.setRange(1, 16)
        self.channel.setAccessibleName(tr("Channel of its notes"))
        self.channel.setToolTip(tr("The channel of its notes, where the destination has none."))
        self.channel.valueChanged.connect(lambda value: self._set("channel", value))
        note = PlainLabel(
            tr("It is in time with what plays: press Play or Record. The take keeps the keys that were held, and a "
               "generator that listens to it can play them again.")
        )  # fmt: skip
        note.setObjectName("faint")
        note.setWordWrap(True)
        form = QFormLayout()
        form.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
        form.addRow(tr("To"), self.to)
        form.addRow(tr("Channel"), field_row(self.channel))
        close = QPushButton(tr("Close"))
        close.clicked.connect(self.accept)
        column = QVBoxLayout(self)
        column.setContentsMargins(SIDE, 16, SIDE, 16)
        column.setSpacing(12)
        column.addWidget(field_row(self.kind))
        column.addWidget(self._sentence)
        column.addLayout(form)
        column.addWidget(note)
        column.addWidget(field_row(close))
        self._workbench.changed.connect(self.show_session)
        self.show_session()

    @property
    def blanks(self) -> dict[str, QComboBox | QSpinBox]:
        """The boxes of the sentence by name."""
        return self._sentence.blanks

    def _change_kind(self) -> None:
        """Another kind; what was filled in for it before in this window comes back."""
        recipe = self._workbench.session.held.recipe
        self._before[recipe.kind] = recipe
        wanted = next(kind for kind in held_pattern.LIVE if kind.kind == self.kind.currentData())
        if wanted is not type(recipe):
            self._do(recipe=self._before.get(wanted.kind) or wanted())

    def show_session(self) -> None:
        """Show the session's generator."""
        held = self._workbench.session.held
        recipe = held.recipe
        if type(recipe) is not self._built:
            self._built = type(recipe)
            self._sentence.build(_in_c(recipe), tr(SENTENCES[type(recipe)]), {})
            if isinstance(recipe, ChordProgression):
                box = self.blanks["key"]
                assert isinstance(box, QComboBox)
                box.clear()
                for value, words in MODES:
                    box.addItem(tr(words), value)
            # Words that are not shown yet have no size.
            QTimer.singleShot(0, self, self._fit)
        self.kind.setCurrentIndex(self.kind.findData(recipe.kind))
        self._sentence.show_values(_in_c(recipe), "")
        self.channel.blockSignals(True)
        self.channel.setValue(held.recipe.channel)
        self.channel.blockSignals(False)
        names = [one.name for one in self._workbench.session.destinations]
        names += [p.name for p in (*self._watch.ports, *ports.simulated()) if not p.gives and p.name != ports.HELD]
        self.to.clear()
        self.to.addItem(ports.SOUND, "")
        for name in dict.fromkeys((*names, *([held.to] if held.to else []))):
            if name != ports.SOUND:
                self.to.addItem(name, name)
        self.to.setCurrentIndex(max(0, self.to.findData(held.to)))

    def _fit(self) -> None:
        """As high as the lines of the sentence need."""
        layout = self.layout()
        assert layout is not None
        self._sentence.setMinimumHeight(self._sentence.heightForWidth(self.width() - 2 * SIDE))
        layout.activate()
        self.resize(self.width(), layout.totalHeightForWidth(self.width()))

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        QTimer.singleShot(0, self, self._fit)

    def _set(self, field: str, value: Any) -> None:
        """Fill in a blank."""
        self._do(recipe=replace(self._workbench.session.held.recipe, **{field: value}))

    def _do(self, **changed: Any) -> None:
        bench = self._workbench
        made = replace(bench.session.held, **changed)
        bench.do(tr("set generator"), edits.with_held(bench.session, made), "held generator")  # not shown


def _in_c(recipe: Recipe) -> Recipe:
    """A progression in C: the key that is held says which key it is."""
    if not isinstance(recipe, ChordProgression):
        return recipe
    return replace(recipe, key="C minor" if recipe.key.endswith("minor") else "C major")
