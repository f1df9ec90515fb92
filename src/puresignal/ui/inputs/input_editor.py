"""The settings of one live input: port, channel, kit, destination, Armed and Monitor."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFormLayout,
    QFrame,
    QHBoxLayout,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from puresignal.core.diagnosis.monitoring import armed
from puresignal.core.session import session as edits
from puresignal.core.session.live_input import ALL, ALL_CHANNELS, CONTROL, NOTES, LiveInput, with_input
from puresignal.io import ports
from puresignal.io.ports import MidiPort
from puresignal.translation import tr
from puresignal.ui.state.workbench import Workbench
from puresignal.ui.widgets.plain_text import ElidedLabel, PlainLabel, plain_tip

SIMULATED = (ports.DRUM_MODULE, ports.PAD_BOX, ports.KEYBOARD)


class InputEditor(QFrame):
    """Shows one live input of the session and edits it.

    remove_requested  the input should be removed
    learn_switched    Learn was switched on or off
    device_switched   the simulated device should play or stop: (port, on)
    mapping_requested its note map should be shown
    generator_requested  the generator on held keys should be shown
    setup_requested   its kit should be set up by asking for one pad after the other
    """

    mapping_requested = Signal()
    setup_requested = Signal()
    generator_requested = Signal()
    remove_requested = Signal()
    learn_switched = Signal(bool)
    device_switched = Signal(str, bool)

    def __init__(self, workbench: Workbench, number: int, parent: QWidget | None = None):
        super().__init__(parent)
        self._workbench = workbench
        self.number = number
        self.title = PlainLabel(tr("INPUT {n}").format(n=number + 1))
        self.title.setObjectName("section")
        self.remove = self._button(tr("Remove"), tr("Stop listening to this input."))
        self.remove.clicked.connect(self.remove_requested)
        self.source_port = self._combo(
            tr("Port to listen to"),
            tr("The source: a device, another program, or a simulated device."),
        )
        self.source_port.activated.connect(lambda: self._edit(tr("choose input port"), port=self._port()))
        self.channel = self._combo(
            tr("Channel to listen to"),
            tr("The MIDI channel to listen to. If two players share a cable, choose one for each."),
        )
        self.channel.addItem(tr("all channels"), ALL_CHANNELS)
        for channel in range(1, 17):
            self.channel.addItem(tr("channel {n}").format(n=channel), channel)
        self.channel.activated.connect(
            lambda: self._edit(tr("choose input channel"), channel=self.channel.currentData())
        )
        self.takes = self._combo(
            tr("What to take from the port"),
            tr("Notes, or controllers, or both: another device may send one of them better."),
        )
        for title, takes in ((tr("notes and controls"), ALL), (tr("notes"), NOTES), (tr("controls"), CONTROL)):
            self.takes.addItem(title, takes)
        self.takes.activated.connect(
            lambda: self._edit(tr("choose what to take from the port"), takes=self.takes.currentData())
        )
        self.kit = ElidedLabel()
        self.choose_kit = self._button(
            tr("Map…"), tr("The notes of this kit: which note means which drum. It is chosen in Mapping.")
        )
        self.choose_kit.clicked.connect(self.mapping_requested)
        self.target_port = self._combo(
            tr("Port to send clean MIDI to"),
            tr("Where clean MIDI goes while you play, on the receiver's notes."),
        )
        self.target_port.activated.connect(
            lambda: self._edit(tr("choose destination"), output=self.target_port.currentData())
        )
        self._destinations: tuple[str, ...] = ()
        self.generator = self._button(tr("Generator…"), tr("What plays while keys are held, in time with what plays."))
        self.generator.clicked.connect(self.generator_requested)
        self.generator.hide()
        self.armed = self._check(tr("Armed"), tr("Recording takes this input."), "armed")
        self.monitor = self._check(
            tr("Monitor"), tr("Send what is played on at once. When off, it is still recorded."), "monitor"
        )
        self.learn = self._button(
            tr("Learn"),
            tr(
                "Hit each pad: the program asks about unknown ones; hit the same pad again to accept the guess. "
                "For the hi-hat pedal: foot off, press once, let go."
            ),
            small=False,
        )
        self.learn.setCheckable(True)
        self.learn.setEnabled(False)
        self.learn.clicked.connect(self.learn_switched)
        self.set_up = self._button(
            tr("Set up…"),
            tr("In about a minute: each pad is asked for, then map, pedal, stands and curves are proposed."),
            small=False,
        )
        self.set_up.clicked.connect(self.setup_requested)
        self.play = self._button(tr("Play"), tr("The simulated device plays until you stop it."))
        self.play.setCheckable(True)
        self.play.clicked.connect(lambda on: self.device_switched.emit(self._port(), on))
        self._build()

    def _build(self) -> None:
        head = QHBoxLayout()
        head.addWidget(self.title)
        head.addStretch()
        head.addWidget(self.play)
        head.addWidget(self.remove)
        kit = QHBoxLayout()
        kit.setSpacing(4)
        kit.addWidget(self.kit, 1)
        kit.addWidget(self.choose_kit)
        form = QFormLayout()
        form.setSpacing(6)
        form.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
        for label, widget in (
            (tr("From"), self.source_port),
            (tr("Channel"), self.channel),
            (tr("Accepts"), self.takes),
            (tr("Kit"), kit),
            (tr("To"), self.target_port),
        ):
            form.addRow(label, widget)
        keys = QHBoxLayout()
        keys.setSpacing(4)
        keys.addWidget(self.armed)
        keys.addWidget(self.monitor)
        keys.addStretch()
        ways = QHBoxLayout()
        ways.setSpacing(4)
        ways.addWidget(self.learn, 1)
        ways.addWidget(self.set_up, 1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        column.addLayout(head)
        column.addLayout(form)
        column.addWidget(self.generator)
        column.addLayout(keys)
        column.addLayout(ways)

    def show_input(
        self, one: LiveInput, there: tuple[MidiPort, ...], alone: bool, listening: bool, playing: bool
    ) -> None:
        """Show the input; unavailable ports stay selected.

        playing  whether its simulated device is playing
        """
        self._destinations = tuple(to.name for to in self._workbench.session.destinations)
        self._fill(self.source_port, there, True, one.port)
        self._fill(self.target_port, there, False, one.output)
        self.channel.setCurrentIndex(self.channel.findData(one.channel))
        self.takes.setCurrentIndex(self.takes.findData(one.takes))
        name = one.source.name if one.source is not None else tr("none: unchanged")
        self.kit.show_text(name)
        self.kit.setToolTip(plain_tip(name))
        self.choose_kit.setAccessibleName(tr("Source map of this input: {kit}, chosen in Mapping", kit=name))
        to = self._workbench.session.destination(one.output or "").port
        self.generator.setVisible(to == ports.HELD)
        self.armed.setChecked(one.armed)
        self.monitor.setChecked(one.monitor)
        self.learn.setEnabled(listening and bool(one.port))
        self.set_up.setEnabled(bool(one.port))
        for button in (self.learn, self.set_up):
            # A voice has no pads to be named.
            button.setVisible(one.port not in (*ports.HEARD, ports.TOUCH))
        self.play.setVisible(one.port in SIMULATED)
        self.play.setEnabled(listening)
        if not listening:
            self.learn.setChecked(False)
        self.play.setChecked(playing)
        self.play.setText(tr("Stop") if self.play.isChecked() else tr("Play"))
        self.remove.setVisible(not alone)

    def _fill(self, combo: QComboBox, there: tuple[MidiPort, ...], gives: bool, chosen: str | None) -> None:
        combo.clear()
        combo.addItem(tr("choose…") if gives else tr("none"), "" if gives else None)
        names = [p.name for p in there if p.gives == gives and (p.system == ports.OWN or not p.name.startswith("Pure"))]
        if not gives:
            names = [*self._destinations, *names]
        for name in dict.fromkeys([*names, *([chosen] if chosen else [])]):
            combo.addItem(name if name in names else tr("{name} (unavailable)").format(name=name), name)
        place = combo.findData(chosen) if chosen else 0
        combo.setCurrentIndex(max(0, place))

    def _port(self) -> str:
        return self.source_port.currentData() or ""

    def _edit(self, name: str, **changed: object) -> None:
        bench = self._workbench
        bench.do(name, edits.with_inputs(bench.session, with_input(bench.session.inputs, self.number, **changed)))

    def _combo(self, name: str, tip: str) -> QComboBox:
        combo = QComboBox()
        combo.setAccessibleName(name)
        combo.setToolTip(tip)
        combo.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        return combo

    def _check(self, label: str, tip: str, field: str) -> QCheckBox:
        box = QCheckBox(label)
        box.setToolTip(tip)
        box.setAccessibleName(tr("{what}, input {n}").format(what=label, n=self.number + 1))
        box.clicked.connect(lambda on: self._switch(label, field, on))
        return box

    def _switch(self, label: str, field: str, on: bool) -> None:
        one = self._workbench.session.inputs[self.number]
        changed = armed(one, on) if field == "armed" else {field: on}
        self._edit(tr("switch {what}").format(what=label.lower()), **changed)

    def _button(self, label: str, tip: str, small: bool = True) -> QPushButton:
        button = QPushButton(label)
        button.setObjectName("small" if small else "")
        button.setToolTip(tip)
        button.setAccessibleName(tr("{what}, input {n}").format(what=label, n=self.number + 1))
        return button
