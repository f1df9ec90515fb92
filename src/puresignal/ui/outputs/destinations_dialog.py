"""Destinations: ports under names of the player's, with the channel that everything sent there gets."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QDoubleSpinBox,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from puresignal.core.errors import PureSignalError
from puresignal.core.midi.sound_names import GENERAL_MIDI, SoundNames
from puresignal.core.session import session as edits
from puresignal.core.session.destination import Destination
from puresignal.core.session.track_settings import BY_CONTROLLER, BY_VELOCITY, MOST_OFFSET
from puresignal.engine.session_setup import live_wait
from puresignal.io import ports, sound_lists
from puresignal.translation import mark, tr
from puresignal.ui.state.services import Services
from puresignal.ui.widgets.plain_text import PlainLabel


class DestinationsDialog(QDialog):
    """A list of the destinations, and the chosen one. Each change takes effect at once and can be undone.

    chosen  a destination was made or chosen: its name
    """

    chosen = Signal(str)

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(parent)
        self._workbench, self._watch = services.workbench, services.port_watch
        self.setWindowTitle(tr("Destinations"))
        self.setMinimumSize(520, 300)
        self.names = QListWidget()
        self.names.setAccessibleName(tr("Destinations"))
        self.names.currentTextChanged.connect(lambda _: self._show_one())
        self.add, self.remove = QPushButton(tr("Add")), QPushButton(tr("Remove"))
        self.add.setToolTip(tr("A new destination: a name for a port, and what it expects."))
        self.remove.setToolTip(tr("What was sent to it then goes to its port."))
        for button in (self.add, self.remove):
            # Enter in the name ends it, and presses nothing.
            button.setAutoDefault(False)
        self.add.clicked.connect(self._add)
        self.remove.clicked.connect(self._remove)
        self.name = QLineEdit()
        self.name.setAccessibleName(tr("Name of the destination"))
        self.name.editingFinished.connect(self._rename)
        self.port = QComboBox()
        self.port.setAccessibleName(tr("Port of the destination"))
        self.port.setToolTip(tr("The port that it stands for. One that is not there now is remembered."))
        self.port.activated.connect(lambda: self._set(port=self.port.currentData()))
        self.channel = QComboBox()
        self.channel.setAccessibleName(tr("Channel of the destination"))
        self.channel.setToolTip(tr("Everything sent there gets this channel, live and in files."))
        self.channel.addItem(tr("each note's own"), None)
        for n in range(1, 17):
            self.channel.addItem(tr("channel {n}").format(n=n), n)
        self.channel.activated.connect(lambda: self._set(channel=self.channel.currentData()))
        self.drives = QComboBox()
        self.drives.setAccessibleName(tr("What levels do at the destination"))
        self.drives.setToolTip(
            tr("A track's level is sent as controller 7 before its notes, or makes them louder and softer: then 127 is "
               "as played.")
        )  # fmt: skip
        for way, label in ((BY_CONTROLLER, mark("controller 7")), (BY_VELOCITY, mark("velocity of the notes"))):
            self.drives.addItem(tr(label), way)
        self.drives.activated.connect(lambda: self._set(drives=self.drives.currentData()))
        self.sounds = QComboBox()
        self.sounds.setAccessibleName(tr("Sounds of the destination"))
        self.sounds.setToolTip(
            tr("The names of its sounds, by which tracks choose one: General MIDI, or a list from a MIDNAM file.")
        )
        self.sounds.activated.connect(self._choose_sounds)
        self._lists: list[SoundNames] = []
        self.problem = PlainLabel()
        self.problem.setWordWrap(True)
        self.problem.hide()
        self.offset = QDoubleSpinBox()
        self.offset.setRange(-MOST_OFFSET, MOST_OFFSET)
        self.offset.setDecimals(1)
        self.offset.setSuffix(tr(" ms"))
        self.offset.setAccessibleName(tr("Offset of the destination"))
        self.offset.setToolTip(
            tr("Everything sent there leaves later by so much, or earlier if negative. Early live is a choice below.")
        )
        self.offset.valueChanged.connect(lambda value: self._set(offset=value))
        self.early_live = QCheckBox(tr("Early live too"))
        self.early_live.setAccessibleName(tr("Early live too"))
        self.early_live.setToolTip(
            tr("Nothing can leave before it is played: what is early leaves at once, and everything else waits.")
        )
        self.early_live.clicked.connect(self._set_early)
        self.wait = PlainLabel()
        self.wait.setObjectName("faint")
        self.about = PlainLabel(tr("Its note map is chosen in Mapping."))
        self.about.setObjectName("faint")
        form = QFormLayout()
        form.setSpacing(8)
        form.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
        form.addRow(tr("Name"), self.name)
        form.addRow(tr("Port"), self.port)
        form.addRow(tr("Channel"), self.channel)
        form.addRow(tr("Offset"), self.offset)
        form.addRow(tr("Levels by"), self.drives)
        form.addRow(tr("Sounds"), self.sounds)
        form.addRow("", self.problem)
        form.addRow("", self.about)
        form.addRow(tr("All of them"), self.early_live)
        form.addRow("", self.wait)
        buttons = QHBoxLayout()
        buttons.addWidget(self.add)
        buttons.addWidget(self.remove)
        left = QVBoxLayout()
        left.addWidget(self.names, 1)
        left.addLayout(buttons)
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 16, 16, 16)
        row.setSpacing(16)
        row.addLayout(left, 2)
        row.addLayout(form, 3)
        self._workbench.changed.connect(self.show_session)
        self._watch.changed.connect(lambda *_: self._show_one())
        self._watch.start()
        self.show_session()

    @property
    def _one(self) -> Destination | None:
        item = self.names.currentItem()
        if item is None:
            return None
        return next((one for one in self._workbench.session.destinations if one.name == item.text()), None)

    def show_session(self) -> None:
        """Show the session's destinations."""
        wanted = [one.name for one in self._workbench.session.destinations]
        now = self.names.currentItem().text() if self.names.currentItem() is not None else ""
        if [self.names.item(i).text() for i in range(self.names.count())] != wanted:
            self.names.blockSignals(True)
            self.names.clear()
            self.names.addItems(wanted)
            self.names.blockSignals(False)
            self.names.setCurrentRow(max(0, wanted.index(now) if now in wanted else len(wanted) - 1))
        self._show_one()

    def _set_early(self, on: bool) -> None:
        bench = self._workbench
        bench.do(tr("set offsets live"), edits.with_early_live(bench.session, on))

    def _show_one(self) -> None:
        self.early_live.setChecked(self._workbench.session.delivery.early_live)
        wait = live_wait(self._workbench.session)
        self.wait.setText(tr("Live, everything else leaves {ms:g} ms later.").format(ms=wait) if wait else "")
        one = self._one
        for widget in (self.name, self.port, self.channel, self.offset, self.drives, self.sounds, self.remove):
            widget.setEnabled(one is not None)
        if one is None:
            self.name.clear()
            return
        if not self.name.hasFocus():
            self.name.setText(one.name)
        there = [p.name for p in (*self._watch.ports, *ports.simulated(), *ports.virtual()) if not p.gives]
        self.port.clear()
        for name in dict.fromkeys((*there, *([one.port] if one.port else []))):
            self.port.addItem(name if name in there else tr("{name} (unavailable)").format(name=name), name)
        self.port.setCurrentIndex(self.port.findData(one.port))
        self.channel.setCurrentIndex(self.channel.findData(one.channel))
        self.offset.blockSignals(True)
        self.offset.setValue(one.offset)
        self.offset.blockSignals(False)
        self.drives.setCurrentIndex(self.drives.findData(one.drives))
        self._lists = list(dict.fromkeys((GENERAL_MIDI, *sound_lists.kept(), one.sounds or GENERAL_MIDI)))
        self.sounds.clear()
        self.sounds.addItems([names.name for names in self._lists])
        self.sounds.insertSeparator(self.sounds.count())
        self.sounds.addItem(tr("From a file…"))
        self.sounds.setCurrentIndex(self._lists.index(one.sounds or GENERAL_MIDI))

    def _choose_sounds(self, row: int) -> None:
        if row < len(self._lists):
            names = self._lists[row]
            self._set(sounds=None if names == GENERAL_MIDI else names)
            return
        self._show_one()
        kinds = tr("Names of sounds (*.midnam *.xml *.json)")
        path, _ = QFileDialog.getOpenFileName(self, tr("Names of sounds"), "", kinds)
        if path:
            self.use_sounds(Path(path))

    def use_sounds(self, path: Path) -> None:
        """Give the destination the sounds that a file names, and keep the list for other sessions."""
        try:
            names = sound_lists.read(path)
            sound_lists.keep(names)
        except PureSignalError as error:
            self.problem.setText(str(error))
            self.problem.show()
            return
        self.problem.hide()
        self._set(sounds=names)

    def _add(self) -> None:
        bench = self._workbench
        used = {one.name for one in bench.session.destinations}
        name = next(tr("Destination {n}", n=n) for n in range(1, 1000) if tr("Destination {n}", n=n) not in used)
        bench.do(tr("add destination"), edits.with_destination(bench.session, Destination(name, ports.SOUND)))
        self.names.setCurrentRow([self.names.item(i).text() for i in range(self.names.count())].index(name))
        self.name.setFocus()
        self.name.selectAll()
        self.chosen.emit(name)

    def _remove(self) -> None:
        one, bench = self._one, self._workbench
        if one is not None:
            bench.do(tr("remove destination"), edits.without_destination(bench.session, one.name))

    def _rename(self) -> None:
        one, bench, name = self._one, self._workbench, self.name.text().strip()
        used = {other.name for other in bench.session.destinations}
        if one is None or not name or name == one.name or name in used:
            self.name.setText("" if one is None else one.name)
            return
        renamed = edits.with_destination(bench.session, replace(one, name=name), before=one.name)
        # The list follows without telling of it: for a moment it would name what is not there yet.
        self.names.blockSignals(True)
        self.names.item(self.names.currentRow()).setText(name)
        self.names.blockSignals(False)
        bench.do(tr("rename destination"), renamed)
        self.chosen.emit(name)

    def _set(self, **changed: object) -> None:
        one, bench = self._one, self._workbench
        if one is not None:
            session = edits.with_destination(bench.session, replace(one, **changed))  # type: ignore[arg-type]
            bench.do(tr("change destination"), session)
