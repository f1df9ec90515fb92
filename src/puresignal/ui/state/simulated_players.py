"""The simulated devices as players: while the transport runs they play in time with it, bar line on bar line."""

from __future__ import annotations

import time
from typing import Any

import numpy as np
from PySide6.QtCore import QObject

from puresignal.core.session import recorded
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.state.playback import Playback

SOON = 0.04
"""Seconds before a bar line from which a player joins in at the next one: its messages have to get there."""


class SimulatedPlayers(QObject):
    """Starts them at once while the transport stands, and with the next bar while it runs."""

    def __init__(self, live_session: LiveSession, playback: Playback, parent: QObject | None = None):
        super().__init__(parent)
        self._live_session, self._playback = live_session, playback
        # What each was told, so that it can begin again in time.
        self._told: dict[str, dict[str, Any]] = {}
        # Clock, second from bar 1 and speed of the transport's last move; None while it stands.
        self._anchor: tuple[float, float, float] | None = None
        live_session.transport_moved.connect(self._moved)
        live_session.stopped.connect(self._told.clear)

    def play(self, port: str, **command: Any) -> None:
        """Let a device play. command: as device_process.py says, with the tempo for while the transport stands."""
        self._told[port] = command
        self._send(port)

    def stop(self, port: str) -> None:
        self._told.pop(port, None)
        self._live_session.device(stop=port)

    def _send(self, port: str) -> None:
        command, joined = dict(self._told[port]), self.next_bar()
        if joined is not None:
            command["at"], command["bpm"] = joined
        self._live_session.device(play=port, **command)

    def next_bar(self) -> tuple[float, float] | None:
        """The clock's second of the next bar line, and the tempo there; None while the transport stands."""
        if self._anchor is None:
            return None
        at, second, speed = self._anchor
        timeline, _ = self._playback.time()
        now = time.monotonic() + SOON
        bar, into = timeline.beats_to_bar(float(timeline.seconds_to_beats(np.array([second + (now - at) * speed]))[0]))
        first = bar if into < 1e-6 else bar + 1
        begin, end = timeline.beats_to_seconds(timeline.bars_to_beats(np.array([first, first + 1]))).tolist()
        beats = timeline.bar_to_beats(first + 1) - timeline.bar_to_beats(first)
        return at + (begin - second) / speed, 60.0 * beats / (end - begin) * speed

    def _moved(self, moves: list[tuple[float, dict[str, Any]]]) -> None:
        again = False
        for at, what in moves:
            kind = what.get("move")
            if kind == recorded.STOP:
                self._anchor = None
            elif kind in (recorded.PLAY, recorded.ROUND, recorded.MOVED):
                # A round of a loop goes on in time by itself.
                again = again or kind != recorded.ROUND
                self._anchor = at, float(what["seconds"]), max(0.05, float(what["speed"]))
        if again and self._anchor is not None:
            for port in self._told:
                self._send(port)
