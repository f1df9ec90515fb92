"""Playing with other programs: whose time is followed, and who gets MIDI clock."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QFormLayout,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from puresignal.core.session import session as edits
from puresignal.core.session import sync
from puresignal.core.session.sync import Sync
from puresignal.core.timing import timeline_edits
from puresignal.translation import mark, tr
from puresignal.ui.state.services import Services
from puresignal.ui.widgets.plain_text import PlainLabel

MASTERS = (
    (sync.OWN, mark("Its own tempo")), (sync.CLOCK, mark("MIDI clock from a port")),
    (sync.TRANSPORT, mark("JACK transport")),
)  # fmt: skip
ABOUT = {
    sync.OWN: mark("Play, Stop and the tempo are this session's."),
    sync.CLOCK: mark(
        "Start, Continue, Stop, song position and tempo come from the port. Bars and changes of meter stay as they are "
        "here. Record waits for Start, or joins what is playing."
    ),
    sync.TRANSPORT: mark(
        "Play, Stop and moves of the position are the same in every program on the JACK transport, whoever presses "
        "them. The tempo is this session's."
    ),
}


class SyncDialog(QDialog):
    """Every choice acts at once, and can be undone."""

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(parent, Qt.WindowType.Tool)
        self.setWindowTitle(tr("Sync with other programs"))
        self.setMinimumWidth(460)
        self._workbench, self._watch, self._outside = services.workbench, services.port_watch, services.outside
        self.follow = QComboBox()
        self.follow.setAccessibleName(tr("Follow"))
        self.follow.setToolTip(tr("Whose time this session plays in."))
        for value, label in MASTERS:
            self.follow.addItem(tr(label), value)
        self.follow.activated.connect(lambda _: self._set(follow=self.follow.currentData()))
        self.port = QComboBox()
        self.port.setAccessibleName(tr("Port of the clock"))
        self.port.setToolTip(tr("The port that the clock comes from. One that is not there now is remembered."))
        self.port.activated.connect(lambda _: self._set(port=self.port.currentData()))
        self.about = PlainLabel()
        self.about.setWordWrap(True)
        self.about.setObjectName("faint")
        self.state = PlainLabel()
        self.state.setObjectName("figure")
        self.state.setAccessibleName(tr("State of the clock"))
        self.take_over = QPushButton(tr("Use this tempo in the session"))
        self.take_over.setToolTip(tr("Sets the session's tempo at bar 1 to that of the clock."))
        self.take_over.setAutoDefault(False)
        self.take_over.clicked.connect(self._use_tempo)
        self.clock_to = QListWidget()
        self.clock_to.setAccessibleName(tr("Send MIDI clock to"))
        self.clock_to.setToolTip(tr("Ticked ports get MIDI clock, Start, Stop and song position while this plays."))
        self.clock_to.setMinimumHeight(110)
        self.clock_to.itemChanged.connect(lambda _: self._choose_receivers())
        form = QFormLayout()
        form.setVerticalSpacing(8)
        form.setHorizontalSpacing(14)
        form.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
        form.addRow(tr("Follow"), self.follow)
        self._port_label = PlainLabel(tr("Port"))
        form.addRow(self._port_label, self.port)
        form.addRow("", self.about)
        row = QHBoxLayout()
        row.addWidget(self.state, 1)
        row.addWidget(self.take_over)
        form.addRow("", row)
        head = PlainLabel(tr("SEND MIDI CLOCK TO"))
        head.setObjectName("section")
        column = QVBoxLayout(self)
        column.setContentsMargins(18, 16, 18, 16)
        column.setSpacing(10)
        column.addLayout(form)
        column.addWidget(head)
        column.addWidget(self.clock_to, 1)
        self._workbench.changed.connect(self.show_session)
        self._watch.changed.connect(lambda *_: self.show_session())
        self._outside.changed.connect(self._show_state)
        self._watch.start()
        self.show_session()

    def _set(self, **changed: object) -> None:
        bench = self._workbench
        settings = replace(bench.session.sync, **changed)  # type: ignore[arg-type]
        if settings.follow == sync.CLOCK and not settings.port and self.port.count():
            settings = replace(settings, port=str(self.port.itemData(0)))
        if settings != bench.session.sync:
            bench.do(tr("set sync"), edits.with_sync(bench.session, settings))

    def _choose_receivers(self) -> None:
        items = [self.clock_to.item(i) for i in range(self.clock_to.count())]
        chosen = [i.data(Qt.ItemDataRole.UserRole) for i in items if i.checkState() == Qt.CheckState.Checked]
        self._set(clock_to=tuple(chosen))

    def _use_tempo(self) -> None:
        bench, bpm = self._workbench, self._outside.bpm
        if bpm is not None:
            timeline = timeline_edits.with_tempo_at(bench.timeline, 0.0, round(bpm, 1))
            bench.do(tr("set tempo"), edits.with_timeline(bench.session, timeline))

    def show_session(self) -> None:
        """Show the session's settings and the ports that are there."""
        settings: Sync = self._workbench.session.sync
        self.follow.setCurrentIndex(self.follow.findData(settings.follow))
        self.about.setText(tr(ABOUT[settings.follow]))
        for widget in (self.port, self._port_label):
            widget.setVisible(settings.follow == sync.CLOCK)
        sources = [port.name for port in self._watch.ports if port.gives]
        self._fill(self.port, sources, settings.port)
        sinks = [port.name for port in self._watch.ports if not port.gives]
        wanted = list(dict.fromkeys((*sinks, *settings.clock_to)))
        shown = [self.clock_to.item(i).data(Qt.ItemDataRole.UserRole) for i in range(self.clock_to.count())]
        self.clock_to.blockSignals(True)
        if shown != wanted:
            self.clock_to.clear()
            for name in wanted:
                item = QListWidgetItem(name if name in sinks else tr("{port} (unavailable)", port=name))
                item.setData(Qt.ItemDataRole.UserRole, name)
                self.clock_to.addItem(item)
        for i in range(self.clock_to.count()):
            item = self.clock_to.item(i)
            on = item.data(Qt.ItemDataRole.UserRole) in settings.clock_to
            item.setCheckState(Qt.CheckState.Checked if on else Qt.CheckState.Unchecked)
        self.clock_to.blockSignals(False)
        self._show_state()

    @staticmethod
    def _fill(combo: QComboBox, there: list[str], chosen: str) -> None:
        names = list(dict.fromkeys((*there, *([chosen] if chosen else []))))
        if [combo.itemData(i) for i in range(combo.count())] != names:
            combo.clear()
            for name in names:
                combo.addItem(name if name in there else tr("{port} (unavailable)", port=name), name)
        combo.setCurrentIndex(combo.findData(chosen))

    def _show_state(self) -> None:
        self.state.setText(self._outside.words())
        self.state.setVisible(bool(self.state.text()))
        self.take_over.setVisible(self._workbench.session.sync.follow == sync.CLOCK)
        self.take_over.setEnabled(self._outside.bpm is not None)
