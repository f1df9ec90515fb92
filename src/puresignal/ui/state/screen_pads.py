"""The on-screen pads as an input port, wherever they are drawn."""

from __future__ import annotations

from PySide6.QtCore import QObject, QTimer, Signal

from puresignal.core.midi import messages
from puresignal.core.touch import computer_keyboard
from puresignal.core.touch.computer_keyboard import DRUM_CHANNEL
from puresignal.io import ports
from puresignal.ui.state.live_session import LiveSession


class ScreenPads(QObject):
    """Sends hits of the on-screen pads.

    struck  a pad was hit: (articulation, velocity)
    """

    struck = Signal(str, int)

    def __init__(self, live_session: LiveSession, parent: QObject | None = None):
        super().__init__(parent)
        self._live_session = live_session

    def strike(self, articulation: str, velocity: int, ends_in: int = 0) -> None:
        """Hit a pad. ends_in: milliseconds until its note-off, 0 if `release` will be called."""
        note = computer_keyboard.note_of(articulation)
        if ends_in:
            QTimer.singleShot(ends_in, self, lambda: self.release(note))
        self._live_session.play(ports.SCREEN_PADS, messages.note_on(DRUM_CHANNEL, note, velocity))
        self.struck.emit(articulation, velocity)

    def release(self, note: int) -> None:
        """Send the note-off of a hit."""
        self._live_session.play(ports.SCREEN_PADS, messages.note_off(DRUM_CHANNEL, note))
