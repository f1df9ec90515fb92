"""Recording: what arrives at the armed inputs becomes takes."""

from __future__ import annotations

from PySide6.QtCore import QObject, QTimer, Signal

from puresignal.core.errors import PureSignalError
from puresignal.core.midi import messages
from puresignal.core.midi.events import Take
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.core.session.live_input import LiveInput
from puresignal.engine.ring import Record
from puresignal.io import journal
from puresignal.translation import tr
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.state.workbench import Workbench

PREVIEW_MS = 120
"""Milliseconds between pictures of the take that is being recorded."""


class Capture(QObject):
    """Records a take for each armed input.

    changed  recording began or ended
    """

    changed = Signal()

    def __init__(self, workbench: Workbench, live_session: LiveSession, parent: QObject | None = None):
        super().__init__(parent)
        self._workbench, self._live_session = workbench, live_session
        self._records: list[Record] | None = None
        self._shown = 0
        self._preview = QTimer(self)
        self._preview.setInterval(PREVIEW_MS)
        self._preview.timeout.connect(self._show)
        live_session.messages_received.connect(self._receive)
        live_session.stopping.connect(self.end)

    @property
    def running(self) -> bool:
        return self._records is not None

    def begin(self) -> None:
        """Record from now on; live input must be on."""
        # What the window has not read yet was played before the button was pressed.
        self._live_session.read_now()
        self._records, self._shown = [], 0
        self._preview.start()
        self.changed.emit()

    def end(self) -> None:
        """Make a take of what arrived at each armed input. Does nothing if recording is off."""
        if self._records is None:
            return
        self._live_session.read_now()
        records, self._records = self._records, None
        self._preview.stop()
        self._make_takes(records)
        self.changed.emit()

    def _make_takes(self, records: list[Record]) -> None:
        bench, live = self._workbench, self._live_session
        made: list[tuple[Take, LiveInput]] = []
        armed = self._armed()
        idents = bench.store.free_idents(len(armed))
        begin = records[0].at if records else 0.0
        for number in armed:
            rows = [r for r in records if number in live.inputs_for(r)]
            if not any(messages.is_channel_message(r.data) for r in rows) and len(armed) > 1:
                continue
            name = tr("Recorded, take {n}").format(n=len(bench.session.takes) + len(made) + 1)
            try:
                take = self._take_of(rows, idents[len(made)], name, number, begin)
            except PureSignalError as error:
                bench.end_preview()
                live.status_changed.emit(str(error), False)
                return
            made.append((take, live.inputs[number]))
        if not made:
            bench.end_preview()
            why = tr("Nothing has arrived at an armed input.") if armed else tr("No input is armed.")
            live.status_changed.emit(why, False)
            return
        bench.add_takes(made, tr("record take"))

    def _armed(self) -> list[int]:
        return [i for i, one in enumerate(self._live_session.inputs) if one.armed and one.port]

    def _take_of(self, records: list[Record], ident: str, name: str, number: int, begin: float) -> Take:
        """A take of one input's messages. Takes of one recording share their start."""
        live = self._live_session
        rows = [(at, live.port_within(number, port), data) for at, port, data in records]
        since = None if len(self._armed()) == 1 else begin
        ports = tuple(port for port, _ in live.inputs[number].listens)
        return journal.to_take(rows, ports, ident, name, TempoMap.steady(120), since, one_device=True)

    def _receive(self, records: list[Record]) -> None:
        if self._records is not None:
            self._records += records

    def _show(self) -> None:
        """Show the take as it grows; of several players the one who played last."""
        if not self._records or len(self._records) == self._shown:
            return
        self._shown = len(self._records)
        live, armed = self._live_session, self._armed()
        recent = [i for r in self._records[-8:] for i in live.inputs_for(r) if i in armed]
        if not recent:
            return
        number = recent[-1]
        rows = [r for r in self._records if number in live.inputs_for(r)]
        take = self._take_of(rows, "capture", tr("Recording"), number, self._records[0].at)
        self._workbench.preview(take, live.inputs[number].source)
