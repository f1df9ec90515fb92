"""The live inputs: choose ports, start live input."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import Signal
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QComboBox, QFrame, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from puresignal.core.errors import PureSignalError
from puresignal.core.kit.articulations import STANDARD, sort_key, spoken
from puresignal.core.kit.map_learning import MapLearning, missing
from puresignal.core.session import session as edits
from puresignal.core.session.live_input import LiveInput
from puresignal.io import note_map_file, ports, realtime
from puresignal.io.ports import MidiPort
from puresignal.translation import tr
from puresignal.ui.inputs.input_editor import InputEditor
from puresignal.ui.state.services import Services
from puresignal.ui.widgets import text_format
from puresignal.ui.widgets.plain_text import PlainLabel


class LivePanel(QFrame):
    """All live inputs, one below the other, with the button to start them.

    why_silent_requested  "No sound?" was pressed
    why_twice_requested   "Heard twice?" was pressed
    journal_requested     earlier playing should be shown
    mapping_requested     the note map of an input should be shown: its number
    generator_requested    the generator on held keys should be shown
    device_switched       a simulated device should play or stop: (port, on)
    setup_requested       an input's kit should be set up: its number
    """

    why_silent_requested = Signal()
    why_twice_requested = Signal()
    journal_requested = Signal()
    mapping_requested = Signal(int)
    generator_requested = Signal()
    device_switched = Signal(str, bool)
    setup_requested = Signal(int)

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("panel")
        workbench, live_session = services.workbench, services.live_session
        self._workbench, self._live_session = workbench, live_session
        self._learner = services.learner
        self._port_watch, self._chosen = services.port_watch, services.chosen_input
        self._chosen.changed.connect(lambda: self.show_inputs())
        self._there: tuple[MidiPort, ...] = (*self._port_watch.ports, *ports.simulated(), *ports.virtual())
        self._made_of: object = None
        self.editors: list[InputEditor] = []
        title = PlainLabel(tr("Settings"))
        title.setObjectName("figure")
        self.listen = self._button(tr("Start listening"), tr("Connect the ports, clean what arrives and send it on."))
        self.listen.setCheckable(True)
        self.listen.clicked.connect(self._listen)
        self.what = QComboBox()
        self.what.setAccessibleName(tr("Articulation of the pad"))
        self.what.setToolTip(tr("The articulation of the pad you hit: choose if the guess is wrong."))
        self.what.activated.connect(lambda: self._learner.choose(self.what.currentData()))
        self.what.hide()
        self.says = self._line()
        self.figures = self._line()
        self.figures.hide()
        self.figures.setToolTip(
            tr("Speed of the port system, and how often it could not keep up: a dropout is an audible gap.")
        )
        self.why = self._button(
            tr("No sound?"),
            tr("Follows the last hit from the port to the output and names the place where it stops."),
        )
        self.why.setAccessibleName(tr("No sound?"))
        self.why.clicked.connect(self.why_silent_requested)
        self.twice = self._button(tr("Heard twice?"), tr("Names every source that sounds for one hit."))
        self.twice.setAccessibleName(tr("Heard twice?"))
        self.twice.clicked.connect(self.why_twice_requested)
        self.kept = self._button(
            tr("Keep earlier playing…"),
            tr("What was played without recording: choose a phrase and add it as a take."),
        )
        self.kept.setAccessibleName(tr("Keep earlier playing"))
        self.kept.clicked.connect(self.journal_requested)
        self._list = QVBoxLayout()
        self._list.setSpacing(12)
        keys, below = QHBoxLayout(), QHBoxLayout()
        for row, buttons in ((keys, (self.listen,)), (below, (self.why, self.twice))):
            row.setSpacing(4)
            for button in buttons:
                row.addWidget(button, 1)
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 14, 16, 14)
        column.setSpacing(8)
        column.addWidget(title)
        column.addLayout(self._list)
        column.addLayout(keys)
        column.addWidget(self.says)
        column.addWidget(self.what)
        column.addWidget(self.figures)
        column.addLayout(below)
        column.addWidget(self.kept)
        live_session.status_changed.connect(self._say)
        live_session.router_state_changed.connect(self._stand)
        live_session.started.connect(lambda: self._settle(True))
        live_session.stopped.connect(self._ended)
        self._learner.pad_queried.connect(self._ask)
        workbench.changed.connect(self.show_inputs)
        self._port_watch.changed.connect(self.show_ports)
        self.show_inputs()
        # Live input may have been started before this panel was made.
        if live_session.listening:
            self._settle(True)

    # The first input, for sessions that have only one
    @property
    def source_port(self) -> QComboBox:
        return self.editors[0].source_port

    @property
    def target_port(self) -> QComboBox:
        return self.editors[0].target_port

    @property
    def learn(self) -> QPushButton:
        return self.editors[0].learn

    def _line(self) -> PlainLabel:
        label = PlainLabel()
        label.setObjectName("faint")
        label.setWordWrap(True)
        return label

    def _button(self, label: str, tip: str) -> QPushButton:
        button = QPushButton(label)
        button.setToolTip(tip)
        button.setAccessibleName(label)
        return button

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        # Asking the servers takes a moment that the window's start need not wait for.
        self._port_watch.start()

    def show_ports(self, found: tuple[MidiPort, ...], why: str) -> None:
        """Offer these ports; selected ports stay selected even if unavailable. why: there are none from JACK."""
        self._there = (*found, *ports.simulated(), *ports.virtual())
        self._made_of = None
        self.show_inputs()
        if not self._live_session.listening:
            self._say(why or tr("Choose a port and press Start listening."), True)

    def show_inputs(self) -> None:
        """Show the session's live inputs."""
        inputs, listening = self._workbench.session.inputs, self._live_session.listening
        playing = frozenset(self._live_session.playing)
        made_of = (inputs, listening, self._there, playing, self._chosen.number, self._workbench.session.destinations)
        if self._made_of == made_of:
            return
        self._made_of = made_of
        while len(self.editors) > len(inputs):
            editor = self.editors.pop()
            self._list.removeWidget(editor)
            editor.hide()
            editor.deleteLater()
        while len(self.editors) < len(inputs):
            self.editors.append(self._editor(len(self.editors)))
        for number, (editor, one) in enumerate(zip(self.editors, inputs, strict=True)):
            editor.setVisible(number == self._chosen.number)
            editor.show_input(one, self._there, len(inputs) == 1, listening, one.port in playing)
        self.listen.setEnabled(listening or any(one.port for one in inputs))

    def _editor(self, number: int) -> InputEditor:
        editor = InputEditor(self._workbench, number)
        editor.remove_requested.connect(lambda: self._remove(number))
        editor.mapping_requested.connect(lambda: self.mapping_requested.emit(number))
        editor.generator_requested.connect(self.generator_requested)
        editor.learn_switched.connect(lambda on: self._learner.learn(on, number))
        editor.device_switched.connect(self._play_device)
        editor.setup_requested.connect(lambda: self.setup_requested.emit(number))
        self._list.addWidget(editor)
        return editor

    def _play_device(self, port: str, on: bool) -> None:
        self.device_switched.emit(port, on)
        self._made_of = None
        self.show_inputs()

    def add_input(self) -> None:
        """Add another player, or another channel of the same port."""
        bench = self._workbench
        last = bench.session.inputs[-1]
        one = LiveInput("", 0, note_map_file.shipped("general-midi"), last.output)
        bench.do(tr("add input"), edits.with_inputs(bench.session, (*bench.session.inputs, one)))
        self._chosen.choose(len(bench.session.inputs) - 1)

    def _remove(self, number: int) -> None:
        bench = self._workbench
        left = tuple(one for i, one in enumerate(bench.session.inputs) if i != number)
        bench.do(tr("remove input"), edits.with_inputs(bench.session, left))

    def _listen(self, on: bool) -> None:
        if not on:
            self._live_session.stop()
            return
        try:
            self._live_session.start()
        except (PureSignalError, OSError) as error:
            self.listen.setChecked(False)
            self._say(str(error), False)

    def _settle(self, listening: bool) -> None:
        self.listen.setChecked(listening)
        self.listen.setText(tr("Stop listening") if listening else tr("Start listening"))
        self._made_of = None
        self.show_inputs()

    def _ended(self) -> None:
        self.what.hide()
        self.figures.hide()
        self._settle(False)

    def _stand(self, state: dict[str, Any]) -> None:
        """Show rate, block size and dropouts, and what to do if real-time scheduling is missing."""
        late = realtime.advice() if state["realtime"] is False else ""
        if not state["server"]:
            self.figures.setText(late)
            self.figures.setVisible(bool(late))
            return
        delay = 1000 * state["block"] / state["rate"]
        text = tr("{system}, {khz:g} kHz, {block} frames: {ms:.1f} ms · {dropouts}").format(
            system=state["system"], khz=state["rate"] / 1000, block=state["block"], ms=delay,
            dropouts=text_format.counted(state["dropouts"], "dropout").replace(" ", "\u00a0"),
        )  # fmt: skip
        wanted = self._live_session.sound_out.block
        if state["system"] == ports.PIPEWIRE and state["block"] != wanted:
            text += "\n" + tr("{n} frames were asked for; another program or the sound card sets them.").format(
                n=wanted
            )
        self.figures.setText(f"{text}\n{late}" if late else text)
        self.figures.show()

    def _ask(self, learning: MapLearning | None) -> None:
        """Ask about a pad, or show the progress of learning."""
        self.what.setVisible(learning is not None and learning.waiting is not None)
        if learning is None:
            self._say(tr("Listening"), True)
            return
        if learning.waiting is None:
            left = len(missing(learning.note_map))
            done = tr("{n} known. Hit a pad; the program asks about unknown ones.").format(
                n=len(learning.note_map.pads)
            )
            hat = learning.note_map.hat
            if hat is not None and learning.pedal is not None:
                done += tr(" Pedal: controller {c}, open at {open}, closed at {closed}.").format(
                    c=hat.controller, open=hat.open_at, closed=hat.closed_at
                )
            self._say(done if left else tr("Every usual pad is known."), True)
            return
        self.what.clear()
        names = sorted({*STANDARD, *([learning.guess] if learning.guess else [])}, key=sort_key)
        for name in names:
            self.what.addItem(spoken(name), name)
        self.what.setCurrentIndex(self.what.findData(learning.guess))
        guess = spoken(learning.guess) if learning.guess else tr("something new")
        text = tr("Note {note}: {guess}? Hit it again for yes, or choose:").format(
            note=learning.waiting[1], guess=guess
        )
        self._say(text, True)

    def _say(self, text: str, _: bool) -> None:
        self.says.setText(text)
