"""Listening to a port: the router and recorder behind it, and what they say, told to the window as signals."""

from __future__ import annotations

import secrets
from dataclasses import replace
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from puresignal.core.errors import PureSignalError
from puresignal.core.events import Port, Take
from puresignal.core.learn import Learning, choose, hear
from puresignal.core.notemap import NoteMap
from puresignal.core.path.context import Context
from puresignal.core.silence import Situation
from puresignal.core.timebase import TempoMap
from puresignal.engine.client import RouterProcess
from puresignal.engine.ring import Reader, Record
from puresignal.engine.setup import Setup
from puresignal.io import folders, journal, mapfile
from puresignal.ui.model import Workbench

LOOK_MS = 25
"""Milliseconds between looks at what came: a lamp that is later than this looks late."""

PREVIEW_MS = 120


class Listener(QObject):
    """One live input, with an output or without.

    heard     a note came: (words for it, velocity, whether it leads nowhere)
    arrived   messages came: the records, in order
    said      how things stand, for people: (text, whether all is well)
    asked     a pad is asked about, or none any more: the Learning
    began, ended   listening began or ended
    """

    heard = Signal(str, int, bool)
    arrived = Signal(list)
    said = Signal(str, bool)
    asked = Signal(object)
    began = Signal()
    ended = Signal()

    def __init__(self, workbench: Workbench, parent: QObject | None = None):
        super().__init__(parent)
        self._workbench = workbench
        self._router: RouterProcess | None = None
        self._reader: Reader | None = None
        self.context = Context()
        self._setup: Setup | None = None
        self._restarts = 0
        self._taken: list[tuple[float, int, bytes]] | None = None
        self._shown = 0
        self.learning: Learning | None = None
        self._state: dict[str, Any] = {}
        self._messages = self._notes = 0
        self._last: tuple[int, int] | None = None
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self._look)
        self._preview = QTimer(self)
        self._preview.setInterval(PREVIEW_MS)
        self._preview.timeout.connect(self._show_capture)
        workbench.changed.connect(self._follow)

    @property
    def listening(self) -> bool:
        return self._router is not None

    @property
    def capturing(self) -> bool:
        return self._taken is not None

    def start(self, source_port: str, target_port: str | None, source: NoteMap | None) -> None:
        """Listens to a port and sends on to another."""
        self.stop()
        session = self._workbench.session
        outputs = (target_port,) if target_port else ()
        self._setup = Setup((source_port,), outputs, source, session.target, session.path)
        self.context = Context(source, session.target, (Port(source_port),))
        self._router = RouterProcess(self._setup, self.journal_folder())
        self._reader = Reader(self._router.ring)
        self._restarts = 0
        self._state, self._messages, self._notes, self._last = {}, 0, 0, None
        self._timer.start()
        self.began.emit()

    @staticmethod
    def journal_folder() -> Path:
        """Where this sitting's messages are kept."""
        return folders.state() / "journal" / secrets.token_hex(6)

    def stop(self) -> None:
        """Listens no more; what sounds is released, and what was being captured becomes a take."""
        if self._router is None:
            return
        if self.capturing:
            self.end_capture()
        self._timer.stop()
        self.learning = None
        self._router.close()
        self._router = self._reader = None
        self.ended.emit()

    def situation(self, source_port: str | None, target_port: str | None) -> Situation:
        """What is known, for the question why it is silent."""
        setup, state = self._setup, self._state
        if self._router is None or setup is None:
            return Situation(False, False, source_port, target_port, False, False, 0, 0, None)
        inputs, outputs = state.get("inputs") or [None], state.get("outputs") or [None]
        return Situation(
            listening=True,
            server=bool(state.get("server")),
            input=setup.inputs[0],
            output=setup.outputs[0] if setup.outputs else None,
            input_there=inputs[0] is not None,
            output_there=outputs[0] is not None,
            messages=self._messages,
            notes=self._notes,
            last=self._last,
        )

    def learn(self, on: bool) -> None:
        """Asks about each pad that the kit's map does not know, or asks no more."""
        source = self._setup.source if self._setup is not None else None
        self.learning = Learning(source or NoteMap(self.tr("My kit"), ())) if on and self._router is not None else None
        self.asked.emit(self.learning)

    def choose(self, articulation: str) -> None:
        """The pad that was asked about is this."""
        if self.learning is not None:
            self._learn(choose(self.learning, articulation))

    def _learn(self, learning: Learning) -> None:
        before, self.learning = self.learning, learning
        assert before is not None
        if learning.note_map is not before.note_map and self._setup is not None and self._router is not None:
            self._setup = replace(self._setup, source=learning.note_map)
            self.context = Context(learning.note_map, self._setup.target, self.context.ports)
            self._router.change(self._setup)
        if learning is not before:
            self.asked.emit(learning)

    def panic(self) -> None:
        """Ends every note at the receiver, at once."""
        if self._router is not None:
            self._router.panic()

    def begin_capture(self) -> None:
        """What comes from now on becomes a take."""
        self._taken, self._shown = [], 0
        self._preview.start()

    def end_capture(self) -> None:
        """Makes a take of what came."""
        self._look()
        rows, self._taken = self._taken or [], None
        self._preview.stop()
        bench = self._workbench
        try:
            take = self._take_of(rows, bench.store.free_ident(), self.tr("Captured, take {n}"))
        except PureSignalError as error:
            bench.end_preview()
            self.said.emit(str(error), False)
            return
        assert self._setup is not None
        bench.add_take(take, self._setup.source, self.tr("capture a take"))

    def _take_of(self, rows: list[tuple[float, int, bytes]], ident: str, name: str) -> Take:
        assert self._setup is not None
        number = len(self._workbench.session.takes) + 1
        tempo = TempoMap.steady(120)
        return journal.to_take(rows, self._setup.inputs, ident, name.format(n=number), tempo)

    def _follow(self) -> None:
        """The receiver's map or the path has changed: what leaves follows at once."""
        if self._router is None or self._setup is None:
            return
        session = self._workbench.session
        setup = Setup(self._setup.inputs, self._setup.outputs, self._setup.source, session.target, session.path)
        if setup != self._setup:
            self._setup = setup
            self.context = Context(setup.source, setup.target, self.context.ports)
            self._router.change(setup)

    def _look(self) -> None:
        router, reader = self._router, self._reader
        if router is None or reader is None:
            return
        router.watch_recorder()
        state = router.read(0.0)
        if router.restarts != self._restarts:
            self._restarts = router.restarts
            self.said.emit(self.tr("The router died and was started again. Nothing was left sounding."), False)
        if state is not None:
            self._state = state
            self._say(state)
        records = reader.read()
        self._messages += len(records)
        for record in records:
            data = record.data
            if len(data) == 3 and data[0] & 0xF0 == 0x90 and data[2]:
                self._notes += 1
                self._last = ((data[0] & 0x0F) + 1, data[1])
                if self.learning is not None:
                    self._learn(hear(self.learning, record.at, *self._last, mapfile.shipped("general-midi")))
        # The lamp shows the last hit of what came together; the list shows all.
        for record in records[-8:]:
            self._hear(record)
        if records:
            self.arrived.emit(records)
        if self._taken is not None:
            self._taken += records

    def _say(self, state: dict[str, object]) -> None:
        assert self._setup is not None
        inputs, outputs = state["inputs"], state["outputs"]
        assert isinstance(inputs, list)
        assert isinstance(outputs, list)
        if not state["server"]:
            self.said.emit(self.tr("There is no JACK server. Start it; it is taken up by itself."), False)
        elif not inputs[0]:
            self.said.emit(
                self.tr("{port} is not there. It is taken up when it comes.").format(port=self._setup.inputs[0]), False
            )
        elif outputs and not outputs[0]:
            self.said.emit(
                self.tr("{port} is not there. It is taken up when it comes.").format(port=self._setup.outputs[0]), False
            )
        else:
            self.said.emit(self.tr("Listening"), True)

    def _hear(self, record: Record) -> None:
        data = record.data
        if len(data) == 3 and data[0] & 0xF0 == 0x90 and data[2]:
            from puresignal.core.articulations import spoken

            channel = (data[0] & 0x0F) + 1
            name = self.context.articulation_of(channel, data[1])
            loose = name is None and bool(self.context.spoken_channels[channel])
            words = spoken(name) if name else self.tr("note {note}").format(note=data[1])
            self.heard.emit(words, data[2], loose)

    def _show_capture(self) -> None:
        if not self._taken or len(self._taken) == self._shown:
            return
        self._shown = len(self._taken)
        assert self._setup is not None
        take = self._take_of(self._taken, "capture", self.tr("Capturing"))
        self._workbench.preview(take, self._setup.source)
