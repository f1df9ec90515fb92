"""The arpeggio of held keys: a sentence whose blanks are filled in place, and where it goes."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Any

from PySide6.QtWidgets import QComboBox, QDialog, QFormLayout, QPushButton, QSpinBox, QVBoxLayout, QWidget

from puresignal.core.generators.recipe import Arpeggio, Blank
from puresignal.core.session import session as edits
from puresignal.io import ports
from puresignal.translation import mark, tr
from puresignal.ui.state.services import Services
from puresignal.ui.widgets.field_row import field_row
from puresignal.ui.widgets.flow_layout import JOINED, FlowLayout
from puresignal.ui.widgets.plain_text import PlainLabel

SENTENCE = mark(
    "Plays the keys that are held {order}, over {octaves} octaves in {rate}, each note sounding {gate} of its step, "
    "swung {swing}, an accent every {accent} notes, {rests} of them silent."
)


class HeldDialog(QDialog):
    """Each change takes effect at once, also while it plays, and can be undone."""

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle(tr("Arpeggio of held keys"))
        self.setMinimumWidth(460)
        self._workbench, self._watch = services.workbench, services.port_watch
        self.blanks: dict[str, QComboBox | QSpinBox] = {}
        sentence = QWidget()
        flow = FlowLayout(sentence)
        flow.setContentsMargins(0, 0, 0, 0)
        for part in re.split(r"(\{\w+\})", tr(SENTENCE)):
            if part.startswith("{"):
                flow.addWidget(self._blank(next(one for one in Arpeggio.blanks if one.field == part[1:-1])))
                continue
            for word in part.split():
                label = PlainLabel(word)
                # A comma belongs to the blank before it.
                label.setProperty(JOINED, word[0] in ",.;:")
                flow.addWidget(label)
        self.to = QComboBox()
        self.to.setAccessibleName(tr("Destination of the arpeggio"))
        self.to.setToolTip(tr("Where the notes go: a destination, or a port as it is."))
        self.to.activated.connect(lambda _: self._do(to=self.to.currentData()))
        self.channel = QSpinBox()
        self.channel.setRange(1, 16)
        self.channel.setAccessibleName(tr("Channel of the arpeggio"))
        self.channel.setToolTip(tr("The channel of its notes, where the destination has none."))
        self.channel.valueChanged.connect(lambda value: self._set("channel", value))
        note = PlainLabel(
            tr("It is in time with what plays: press Play or Record. The take keeps the keys that were held; a "
               "generator that listens to it makes the same notes.")
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
        column.setContentsMargins(18, 16, 18, 16)
        column.setSpacing(12)
        column.addWidget(sentence)
        column.addLayout(form)
        column.addWidget(note)
        column.addWidget(field_row(close))
        self._workbench.changed.connect(self.show_session)
        self.show_session()

    def _blank(self, blank: Blank) -> QWidget:
        field = blank.field
        box: QComboBox | QSpinBox
        if blank.options:
            box = combo = QComboBox()
            for value, words in blank.options:
                combo.addItem(tr(words), value)
            combo.activated.connect(lambda _: self._set(field, combo.currentData()))
        else:
            box = QSpinBox()
            box.setRange(int(blank.low), int(blank.high))
            box.setKeyboardTracking(False)
            if blank.unit == "%":
                box.setSuffix(tr(" %"))
                box.setSingleStep(5)
            kind = type(getattr(Arpeggio(), field))
            box.valueChanged.connect(lambda value: self._set(field, kind(value)))
        box.setAccessibleName(field)
        self.blanks[field] = box
        return box

    def show_session(self) -> None:
        """Show the session's arpeggio."""
        held = self._workbench.session.held
        for field, box in self.blanks.items():
            value = getattr(held.recipe, field)
            box.blockSignals(True)
            if isinstance(box, QComboBox):
                box.setCurrentIndex(box.findData(value))
            else:
                box.setValue(round(value))
            box.blockSignals(False)
        self.channel.blockSignals(True)
        self.channel.setValue(held.recipe.channel)
        self.channel.blockSignals(False)
        names = [one.name for one in self._workbench.session.destinations]
        names += [p.name for p in (*self._watch.ports, *ports.simulated()) if not p.gives and p.name != ports.ARPEGGIO]
        self.to.clear()
        self.to.addItem(ports.SOUND, "")
        for name in dict.fromkeys((*names, *([held.to] if held.to else []))):
            if name != ports.SOUND:
                self.to.addItem(name, name)
        self.to.setCurrentIndex(max(0, self.to.findData(held.to)))

    def _set(self, field: str, value: Any) -> None:
        self._do(recipe=replace(self._workbench.session.held.recipe, **{field: value}))

    def _do(self, **changed: Any) -> None:
        bench = self._workbench
        made = replace(bench.session.held, **changed)
        bench.do(tr("set arpeggio"), edits.with_held(bench.session, made), "held arpeggio")  # not shown
