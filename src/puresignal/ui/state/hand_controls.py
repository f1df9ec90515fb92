"""Pads, pedals and switches that record, stop, undo a pass or play again, learned by hitting them."""

from __future__ import annotations

from collections.abc import Callable
from typing import ClassVar

from PySide6.QtCore import QObject, QTimer, Signal

from puresignal.core.touch import hand_control
from puresignal.core.touch.hand_control import Presses, Trigger
from puresignal.engine.ring import Record
from puresignal.translation import mark, tr
from puresignal.ui.state.capture import Capture
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.state.playback import Playback
from puresignal.ui.state.preference_store import PreferenceStore


class HandControls(QObject):
    """Pads and switches that control the program; kept with the preferences, since it belongs to the player's devices.

    changed  another trigger, or learning began or ended
    """

    changed = Signal()
    ACTIONS: ClassVar[dict[str, str]] = {
        hand_control.RECORD: mark("Record / stop recording"),
        hand_control.STOP: mark("Stop"),
        hand_control.UNDO_PASS: mark("Undo pass"),
        hand_control.AGAIN: mark("Again from there"),
        hand_control.PLAY: mark("Play / stop"),
    }

    def __init__(
        self, live_session: LiveSession, capture: Capture, playback: Playback, preferences: PreferenceStore,
        parent: QObject | None = None,
    ):  # fmt: skip
        super().__init__(parent)
        self._live_session, self._capture, self._playback = live_session, capture, playback
        self._preferences = preferences
        self._presses = Presses()
        self.learning: str | None = None
        live_session.messages_received.connect(self._receive)
        capture.is_control = self.is_control

    def trigger(self, action: str) -> Trigger | None:
        """The trigger of an action."""
        return dict(self._preferences.now.controls).get(action)

    def words(self, action: str) -> str:
        """The trigger of an action in words; empty for none."""
        one = self.trigger(action)
        if one is None:
            return ""
        kinds = {
            hand_control.NOTE: tr("note {n}"), hand_control.CONTROL: tr("controller {n}"),
            hand_control.PROGRAM: tr("program {n}"),
        }  # fmt: skip
        what = kinds[one.kind].format(n=one.number)
        return tr("{what}, channel {channel}, {port}").format(what=what, channel=one.channel, port=one.port)

    def learn(self, action: str | None) -> None:
        """The next thing that is hit does this; None: stop learning."""
        listens = action is None or self._live_session.start_or_tell()
        self.learning = action if listens else None
        self.changed.emit()

    def forget(self, action: str) -> None:
        rows = tuple(row for row in self._preferences.now.controls if row[0] != action)
        self._preferences.change(controls=rows)
        self.changed.emit()

    def is_control(self, port: str, data: bytes) -> bool:
        """Whether a message comes from something that controls, and so is not playing."""
        return any(one.is_it(port, data) for _, one in self._preferences.now.controls)

    def _receive(self, records: list[Record]) -> None:
        names = self._live_session.port_names
        for at, port, data in records:
            one = self._presses.pressed(at, names[port] if port < len(names) else "", data)
            if one is None:
                continue
            if self.learning is not None:
                action, self.learning = self.learning, None
                rows = [row for row in self._preferences.now.controls if row[0] != action and row[1] != one]
                self._preferences.change(controls=(*rows, (action, one)))
                self.changed.emit()
                continue
            action = next((name for name, trigger in self._preferences.now.controls if trigger == one), "")
            if action:
                # After the messages of this moment have been taken in.
                QTimer.singleShot(0, self._act(action))

    def _act(self, action: str) -> Callable[[], None]:
        def stop() -> None:
            if self._capture.running:
                self._capture.end()
            else:
                self._playback.stop()

        def undo_pass() -> None:
            self._capture.undo_pass()

        found: dict[str, Callable[[], None]] = {
            hand_control.RECORD: self._capture.toggle, hand_control.STOP: stop, hand_control.UNDO_PASS: undo_pass,
            hand_control.AGAIN: self._capture.again, hand_control.PLAY: self._playback.toggle,
        }  # fmt: skip
        return found[action]
