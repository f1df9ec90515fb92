"""Measures how evenly an input's messages arrive: by its clock, its active sensing, or even notes."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from puresignal.core.midi import messages
from puresignal.core.timing import jitter
from puresignal.core.timing.jitter import Jitter
from puresignal.engine.ring import Reader
from puresignal.translation import mark, tr
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.state.notices import Notices

SECONDS = 10.0
CLOCK, SENSING, NOTES = mark("its clock"), mark("its active sensing"), mark("its notes")
TICK, ALIVE = 0xF8, 0xFE
TOGETHER = 0.002
"""Seconds within which notes are one stroke."""


class JitterMeter(QObject):
    """Listens to one input for some seconds.

    changed  it began or ended
    found    the measurement, None if nothing even came; by: what it was measured by
    """

    changed = Signal()

    def __init__(self, live_session: LiveSession, notices: Notices, parent: QObject | None = None):
        super().__init__(parent)
        self._live_session, self._notices = live_session, notices
        self.running = False
        self.found: Jitter | None = None
        self.by = ""
        self._port, self._since = "", 0.0
        self._reader: Reader | None = None
        self._end = QTimer(self)
        self._end.setSingleShot(True)
        self._end.timeout.connect(self._finish)

    def start(self, port: str) -> None:
        """Measure an input port."""
        live = self._live_session
        if self.running or not port:
            return
        if not live.listening or live.router is None:
            self._notices.tell(tr("Switch live input on first: the device must be heard."), True)
            return
        self._port, self.running, self.found = port, True, None
        self._reader = Reader(live.router.sync)
        live.read_now()
        last = live.recent()
        self._since = last[-1].at if last else 0.0
        self._end.start(round(1000 * SECONDS))
        self.changed.emit()

    def _finish(self) -> None:
        live, reader = self._live_session, self._reader
        self.running, self._reader = False, None
        if live.listening and reader is not None:
            live.read_now()
            number = live.port_names.index(self._port) if self._port in live.port_names else -1
            came = [r for r in reader.read() if r.port == number]
            notes = [r.at for r in live.recent() if r.port == number and r.at > self._since
                     and messages.is_note_on(r.data)]  # fmt: skip
            for by, times in (
                (CLOCK, [r.at for r in came if r.data[0] == TICK]),
                (SENSING, [r.at for r in came if r.data[0] == ALIVE]),
                (NOTES, _strokes(notes)),
            ):
                found = jitter.measured(np.array(times))
                if found is not None:
                    self.found, self.by = found, by
                    break
        if self.found is None:
            self._notices.tell(
                tr("Nothing even came from {port}. Let it send its clock, or play even notes by its own sequencer or "
                   "arpeggio, and measure again.", port=self._port), True,
            )  # fmt: skip
        self.changed.emit()


def _strokes(at: list[float]) -> list[float]:
    """The first of notes that begin together."""
    found: list[float] = []
    for one in at:
        if not found or one - found[-1] > TOGETHER:
            found.append(one)
    return found
