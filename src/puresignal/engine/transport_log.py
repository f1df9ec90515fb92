"""The log of the transport, in a ring: read by the window, and by the recorder, which keeps it with what was played.

A record's time is that of the frame at which it takes effect, by the clock that also times what arrives: a hit and
the round that it fell into can be compared to the frame. Its bytes are JSON: {"move": "play", "seconds": from bar 1,
"speed": 1.0}, or {"note": what the window wants kept}.
"""

from __future__ import annotations

import json
from typing import Any

from puresignal.engine.ring import Writer

PLAY, ROUND, MOVED, STOP = "play", "round", "moved", "stop"
NOTE = "note"


class TransportLog:
    """The writer of the ring."""

    def __init__(self, ring: Writer):
        self._ring = ring

    def move(self, at: float, kind: str, seconds: float, speed: float) -> None:
        """The transport is at `seconds` from bar 1 at a time of the clock, and goes on at a speed."""
        self._put(at, {"move": kind, "seconds": round(seconds, 7), "speed": speed})

    def note(self, at: float, what: Any) -> None:
        """Log anything that the window wants kept."""
        self._put(at, {NOTE: what})

    def _put(self, at: float, what: dict[str, Any]) -> None:
        self._ring.put(at, 0, json.dumps(what, separators=(",", ":")).encode())
