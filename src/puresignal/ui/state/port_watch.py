"""The MIDI ports of the machine, as they come and go."""

from __future__ import annotations

import json
import time
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from puresignal.engine.process_clients import ToldProcess
from puresignal.io.ports import MidiPort

LOOK_MS = 200
"""Milliseconds between looks at what the watching process says."""

AGAIN_AFTER = 1.0
"""Seconds after which a watching process that has ended is started again."""


class PortWatch(QObject):
    """Tells of every change, once somebody wants to know.

    changed  the ports: (all MIDI ports but ours, why there are none from JACK)
    """

    changed = Signal(object, str)

    def __init__(self, parent: QObject | None = None):
        super().__init__(parent)
        self._process = ToldProcess("puresignal.engine.port_watcher", (), None, answers=True)
        self._rest = b""
        self.ports: tuple[MidiPort, ...] = ()
        self.why = ""
        self._started = float("-inf")
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self._look)

    def start(self) -> None:
        """Watch from now on."""
        self._timer.start()

    def close(self) -> None:
        self._timer.stop()
        self._process.close()

    def _look(self) -> None:
        if not self._process.alive:
            now = time.monotonic()
            if now - self._started < AGAIN_AFTER:
                return
            self._rest, self._started = b"", now
            self._process.start()
        *lines, self._rest = (self._rest + self._process.read()).split(b"\n")
        if not lines:
            return
        state: dict[str, Any] = json.loads(lines[-1])
        self.ports, self.why = tuple(MidiPort(*row) for row in state["ports"]), state["why"]
        self.changed.emit(self.ports, self.why)
