"""Measures what the way out and back in costs: notes are sent to a port that is wired to an input."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from puresignal.core.midi import messages
from puresignal.core.timing import loop_back
from puresignal.core.timing.loop_back import LoopBack
from puresignal.translation import tr
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.state.notices import Notices
from puresignal.ui.state.playback import Playback

NOTES, APART, FIRST = 24, 0.15, 40
"""How many notes are sent, seconds between them, and the number of the first."""
CHANNEL = 15
MEASURING = "measuring"


class DelayMeter(QObject):
    """Sends notes and waits for them.

    changed  it began or ended; `found` is what it measured, None if nothing came back
    """

    changed = Signal()

    def __init__(self, live_session: LiveSession, playback: Playback, notices: Notices, parent: QObject | None = None):
        super().__init__(parent)
        self._live_session, self._playback, self._notices = live_session, playback, notices
        self.running = False
        self.found: LoopBack | None = None
        self._port = ""
        self._end = QTimer(self)
        self._end.setSingleShot(True)
        self._end.timeout.connect(self._finish)

    def start(self, port: str) -> None:
        """Measure the way through an output port. What plays is stopped."""
        live = self._live_session
        if self.running or not port:
            return
        if not live.listening:
            self._notices.tell(tr("Switch live input on first: what is sent is heard at an input."), True)
            return
        self._playback.stop()
        self._port, self.running, self.found = port, True, None
        live.need(MEASURING, (port,))
        # A port that has just been opened is wired a moment later.
        QTimer.singleShot(400, self._send)
        self._end.start(round(1000 * (0.4 + NOTES * APART + loop_back.LONGEST)))
        self.changed.emit()

    def _send(self) -> None:
        live = self._live_session
        if live.player is None or self._port not in live.outputs:
            return
        output = live.outputs.index(self._port)
        at = np.repeat(np.arange(NOTES) * APART, 2) + np.tile([0.0, APART / 2], NOTES)
        note = np.repeat(FIRST + np.arange(NOTES), 2)
        status = np.tile([messages.NOTE_ON | CHANNEL, messages.NOTE_OFF | CHANNEL], NOTES)
        data = np.column_stack([np.full(len(at), output), status, note, np.tile([64, 0], NOTES)]).astype(np.uint8)
        live.player.use(at, data)
        live.player.loop(None)
        live.player.speed(1.0)
        live.player.play(0.0, [])

    def _finish(self) -> None:
        live = self._live_session
        live.read_now()
        output = live.outputs.index(self._port) if self._port in live.outputs else -1
        sent = [r for r in live.recent(sent=True) if r.port == output and _is_ours(r.data)]
        came = [r for r in live.recent() if _is_ours(r.data)]
        self.found = loop_back.measured(
            np.array([r.at for r in sent]), np.array([r.data[1] for r in sent], int),
            np.array([r.at for r in came]), np.array([r.data[1] for r in came], int),
        )  # fmt: skip
        self.running = False
        live.need_no_more(MEASURING)
        if self.found is None:
            text = tr("Nothing came back. Wire {port} to one of the inputs, with a cable or in the port system, and "
                      "measure again; or type the delay.")  # fmt: skip
            self._notices.tell(text.format(port=self._port), True)
        self.changed.emit()


def _is_ours(data: bytes) -> bool:
    return messages.is_note_on(data) and data[0] & messages.CHANNEL == CHANNEL
