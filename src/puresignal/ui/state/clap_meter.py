"""Measures the delay of the microphone: a click plays, the player claps along, and both are compared."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from puresignal.core.midi import messages
from puresignal.core.timing import clapping
from puresignal.io import ports
from puresignal.translation import tr
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.state.microphone import Microphone
from puresignal.ui.state.playback import Playback

CLICKS, FIRST, APART = 16, 4, 0.6
"""How many clicks there are, how many of them lead in, and seconds between them."""
CLAPPING = "clapping"
STRONG, WEAK, CHANNEL = 76, 77, 9
"""Notes of the click, and its channel from 0."""
MOST = 0.5


class ClapMeter(QObject):
    """changed: it began or ended"""

    changed = Signal()

    def __init__(
        self, live_session: LiveSession, playback: Playback, microphone: Microphone, parent: QObject | None = None
    ):
        super().__init__(parent)
        self._live_session, self._playback, self._microphone = live_session, playback, microphone
        self.running = False
        self._claps: list[float] = []
        self._end = QTimer(self)
        self._end.setSingleShot(True)
        self._end.timeout.connect(self._finish)
        microphone.changed.connect(self._hear)

    def start(self) -> None:
        """Play the click, and listen. What plays is stopped."""
        if self.running:
            return
        if not self._microphone.running:
            self._microphone.told.emit(self._microphone.problem(), True)
            return
        self._playback.stop()
        self.running, self._claps = True, []
        self._microphone.listen_for_claps(True)
        self._live_session.need(CLAPPING, (ports.CLICK,))
        QTimer.singleShot(400, self, self._play)
        self._end.start(round(1000 * (0.4 + CLICKS * APART + MOST)))
        self.changed.emit()

    def _play(self) -> None:
        live = self._live_session
        if live.player is None or ports.CLICK not in live.outputs:
            return
        output = live.outputs.index(ports.CLICK)
        at = np.repeat(np.arange(CLICKS) * APART, 2) + np.tile([0.0, 0.05], CLICKS)
        note = np.repeat(np.where(np.arange(CLICKS) % 4 == 0, STRONG, WEAK), 2)
        status = np.tile([messages.NOTE_ON | CHANNEL, messages.NOTE_OFF | CHANNEL], CLICKS)
        data = np.column_stack([np.full(len(at), output), status, note, np.tile([110, 0], CLICKS)]).astype(np.uint8)
        live.player.use(at, data)
        live.player.loop(None)
        live.player.speed(1.0)
        live.player.play(0.0, [])

    def _hear(self) -> None:
        if self.running:
            self._claps = list(self._microphone.state.get("claps") or self._claps)

    def clicks(self) -> np.ndarray:
        """(n,) seconds of the clock of the clicks that were played, but for those that lead in."""
        live = self._live_session
        live.read_now()
        output = live.outputs.index(ports.CLICK) if ports.CLICK in live.outputs else -1
        sent = [r.at for r in live.recent(sent=True) if r.port == output and messages.is_note_on(r.data)]
        return np.array(sent[-CLICKS:][FIRST:])

    def _finish(self) -> None:
        clicks = self.clicks()
        self.running = False
        self._microphone.listen_for_claps(False)
        self._live_session.need_no_more(CLAPPING)
        found = clapping.measured(clicks, np.array(self._claps)) if len(clicks) else None
        tell = self._microphone.told.emit
        if found is None:
            tell(tr("Too few claps were heard. Clap on each click, close to the microphone, and try again."), True)
        else:
            delay = min(MOST, max(0.0, found.delay))
            self._microphone.set_delay(round(1000 * delay, 1))
            if found.itself:
                said = tr("The microphone hears the click itself, {ms:.1f} ms late: that is the delay now. While you "
                          "record, use headphones, or what plays is recorded with you.")  # fmt: skip
            else:
                said = tr("Delay of the microphone: {ms:.1f} ms, from {n} claps that spread by {spread:.0f} ms.")
            tell(said.format(ms=1000 * delay, n=found.count, spread=1000 * found.spread), False)
        self.changed.emit()
