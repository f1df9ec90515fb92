"""Plays the computer keyboard while it is switched on, and never leaves a note sounding."""

from __future__ import annotations

import time

from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QAbstractSpinBox, QApplication, QLineEdit, QPlainTextEdit, QTextEdit

from puresignal.core.midi import messages
from puresignal.core.touch import computer_keyboard
from puresignal.core.touch.computer_keyboard import Held, Keyboard
from puresignal.engine.ring import Record
from puresignal.io import ports
from puresignal.ui.state.live_session import LiveSession

_BY_LETTER = {
    **{getattr(Qt.Key, f"Key_{letter}"): code for row, first in (("QWERTYUIOP", 16), ("ASDFGHJKL", 30), ("ZXCVBNM", 44))
       for code, letter in enumerate(row, first)},
    **{getattr(Qt.Key, f"Key_{(n + 1) % 10}"): 2 + n for n in range(10)},
    Qt.Key.Key_Minus: 12, Qt.Key.Key_Equal: 13, Qt.Key.Key_BracketLeft: 26, Qt.Key.Key_BracketRight: 27,
    Qt.Key.Key_Semicolon: 39, Qt.Key.Key_Apostrophe: 40, Qt.Key.Key_QuoteLeft: 41, Qt.Key.Key_Comma: 51,
    Qt.Key.Key_Period: 52, Qt.Key.Key_Slash: 53,
}  # fmt: skip
"""Layout of an English keyboard, used if no scan codes are available."""
_PLAYING_KEYS = frozenset(code for row in computer_keyboard.ROWS for code in row)
"""Keys that a drum or note can be assigned to."""
EVDEV = 8
"""Offset of the display server's scan codes from the kernel's."""
_OTHERS = Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier | Qt.KeyboardModifier.MetaModifier


def scan_of(event: QKeyEvent) -> int:
    """The position of a key as an evdev scan code."""
    code = event.nativeScanCode()
    return code - EVDEV if code > EVDEV else _BY_LETTER.get(Qt.Key(event.key()), 0)


class KeyboardPlayer(QObject):
    """Intercepts the keys of the window that play something and lets all others through.

    changed  keys went down or up, or the settings changed
    """

    changed = Signal()

    def __init__(self, live_session: LiveSession, keyboard: Keyboard, parent: QObject | None = None):
        super().__init__(parent)
        self._live_session = live_session
        self.keyboard = keyboard
        self.held = Held()
        self.on = False
        self._ghost = False
        self._pressed_at: list[float] = []
        self.delay: float | None = None
        live_session.messages_received.connect(self._measure)

    def switch(self, on: bool) -> None:
        """Switch between playing and normal typing."""
        app = QApplication.instance()
        assert app is not None
        if on == self.on:
            return
        self.on = on
        if on:
            app.installEventFilter(self)
        else:
            app.removeEventFilter(self)
            self._release_all()
        self.changed.emit()

    def stop(self) -> None:
        """Back to normal typing; nothing is left sounding."""
        self.switch(False)

    def set_keyboard(self, keyboard: Keyboard) -> None:
        """Use other settings; keys that are down are released."""
        self._release_all()
        self.keyboard = keyboard
        self.changed.emit()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        kind = event.type()
        if kind in (QEvent.Type.ApplicationDeactivate, QEvent.Type.WindowDeactivate):
            # The new owner of the keyboard gets the releases; ours would never come.
            self._release_all()
            return False
        if kind not in (QEvent.Type.KeyPress, QEvent.Type.KeyRelease, QEvent.Type.ShortcutOverride):
            return False
        assert isinstance(event, QKeyEvent)
        writing = isinstance(QApplication.focusWidget(), QLineEdit | QAbstractSpinBox | QTextEdit | QPlainTextEdit)
        if writing or QApplication.activeModalWidget() is not None or QApplication.activePopupWidget() is not None:
            return False
        scan = scan_of(event)
        if kind == QEvent.Type.KeyRelease:
            return self._up(scan, event.isAutoRepeat())
        if event.modifiers() & _OTHERS:
            return False
        if not (scan == computer_keyboard.GHOST_KEY or self._plays(scan)):
            # A letter beside the one that was meant must not switch anything.
            if not (event.text().isalnum() or scan in _PLAYING_KEYS):
                return False
            if kind == QEvent.Type.ShortcutOverride:
                event.accept()
            return True
        if kind == QEvent.Type.ShortcutOverride:
            # Not a shortcut: the key belongs to the keyboard player.
            event.accept()
            return True
        # One press reaches the filter once for the window and once for its focus widget.
        if not event.isAutoRepeat() and scan not in self.held.down:
            self._down(scan, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
        return True

    def _plays(self, scan: int) -> bool:
        keyboard = self.keyboard
        return (keyboard.drum(scan) if keyboard.mode == computer_keyboard.DRUMS else keyboard.note(scan)) is not None

    def _down(self, scan: int, accent: bool) -> None:
        now = time.monotonic()
        if scan == computer_keyboard.GHOST_KEY:
            self._ghost = True
            self.changed.emit()
            return
        keyboard = self.keyboard
        velocity = keyboard.strike(self.held.strokes, accent, self._ghost)
        if keyboard.mode == computer_keyboard.DRUMS:
            drum = keyboard.drum(scan)
            assert drum is not None
            messages = self.held.press(scan, computer_keyboard.DRUM_CHANNEL, computer_keyboard.note_of(drum), velocity)
        else:
            note = keyboard.note(scan)
            assert note is not None
            messages = self.held.press(scan, computer_keyboard.NOTE_CHANNEL, note, velocity)
        for message in messages:
            self._live_session.play(ports.COMPUTER_KEYBOARD, message)
            self._pressed_at.append(now)
        self.changed.emit()

    def _up(self, scan: int, repeats: bool) -> bool:
        if scan == computer_keyboard.GHOST_KEY and not repeats:
            self._ghost = False
            self.changed.emit()
            return True
        if scan not in self.held.down:
            return False
        # Key repeat also sends releases while the key is down.
        if not repeats:
            self._send(self.held.release(scan))
        return True

    def _release_all(self) -> None:
        self._ghost = False
        self._send(self.held.release_all())

    def _send(self, messages: list[bytes]) -> None:
        for message in messages:
            self._live_session.play(ports.COMPUTER_KEYBOARD, message)
        self.changed.emit()

    def _measure(self, records: list[Record]) -> None:
        """Measure the time from key to router; the sound's own delay is added to it."""
        if not self._pressed_at or ports.COMPUTER_KEYBOARD not in self._live_session.port_names:
            return
        number = self._live_session.port_names.index(ports.COMPUTER_KEYBOARD)
        for record in records:
            if record.port == number and messages.is_note_on(record.data) and self._pressed_at:
                self.delay = max(0.0, record.at - self._pressed_at.pop(0))
        self.changed.emit()
