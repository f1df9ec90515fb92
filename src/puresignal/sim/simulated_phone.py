"""A phone that plays the page without a browser: the same messages, on a clock of its own, over a slow link."""

from __future__ import annotations

import json
import threading
import time
from contextlib import ExitStack
from typing import Any

from websockets.exceptions import ConnectionClosed
from websockets.sync.client import ClientConnection, connect
from websockets.typing import Origin


class SimulatedPhone:
    """Connected until closed.

    seat   with which it may come back; face: the cells as told; held: cells that are lit
    """

    def __init__(self, host: str, greeting: dict[str, str], ahead: float = 0.0, late: float = 0.0):
        """Connects.

        host      address and port
        greeting  token, code or seat
        ahead     seconds by which its clock is ahead of this machine's
        late      seconds that each of its messages takes longer
        """
        self._ahead, self._late = ahead, late
        self.seat = self.refused = ""
        self.face: dict[str, Any] = {}
        self.held: list[list[int]] = []
        self.answers = True
        """False: it sleeps, and is silent without its link being closed."""
        self._ends = ExitStack()
        line = connect(f"ws://{host}/touch", origin=Origin(f"http://{host}"), compression=None)
        self._socket: ClientConnection = self._ends.enter_context(line)
        self._send(greeting)
        self._hears = threading.Thread(target=self._hear, daemon=True)
        self._hears.start()

    def now(self) -> float:
        """Milliseconds of its clock."""
        return (time.monotonic() + self._ahead) * 1000

    def _send(self, message: dict[str, Any]) -> None:
        if self._late:
            time.sleep(self._late)
        self._socket.send(json.dumps(message))

    def _hear(self) -> None:
        try:
            for message in self._socket:
                told = json.loads(message)
                if "ping" in told and self.answers:
                    self._send({"pong": told["ping"], "at": self.now()})
                elif "cells" in told:
                    self.face = told
                elif "held" in told:
                    self.held = told["held"]
                self.seat, self.refused = told.get("seat", self.seat), told.get("refused", self.refused)
        except (ConnectionClosed, OSError):
            pass

    def touch(self, doing: str, finger: int, x: float, y: float, pressure: float | None = None) -> None:
        """Tell what a finger does now."""
        self._send({"at": self.now(), "touches": [[doing, finger, x, y, pressure]]})

    def say(self, text: str | bytes) -> None:
        """Send anything."""
        self._socket.send(text)

    def lose(self) -> None:
        """The link is cut, without a word."""
        self._socket.socket.close()

    @property
    def over(self) -> bool:
        """Whether the line is closed."""
        return not self._hears.is_alive()

    def close(self) -> None:
        self._ends.close()
