"""Repeats what is played live in a round of the loop in the next ones, until the window has put it into the score.

The window does that a moment before each round ends. If it stands still - a slow machine, a stopped process - the
player does without it: it hears what leaves, takes out what it has sent itself, and plays the rest again.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable
from typing import NamedTuple

from puresignal.core.midi import messages

NEAR = 0.05
"""Seconds by which a message may leave later than it was meant to, and still be told to be the player's own."""
FED_KEPT = 4096
"""Messages handed over last that are remembered."""


class _Heard(NamedTuple):
    """A live message: when it left, where in the score, and what it was."""

    at: float
    place: float
    output: int
    data: bytes


class RoundEcho:
    """on: whether what is played is to sound again."""

    def __init__(self) -> None:
        self.on = False
        self._fed: deque[tuple[float, int, bytes]] = deque(maxlen=FED_KEPT)
        self._heard: list[_Heard] = []
        self._held: set[tuple[int, int, int]] = set()
        self._round: list[_Heard] = []
        self._next = 0

    def switch(self, on: bool) -> None:
        self.on = on
        if not on:
            self.forget(float("inf"))

    def fed(self, at: float, output: int, data: bytes) -> None:
        """The player has handed a message over itself. at: seconds of the clock."""
        # Also while it is off: what is handed over before it is switched on may leave after that.
        self._fed.append((at, output, data))

    def hear(self, left: Iterable[tuple[float, int, bytes]], place_of: Callable[[float], float | None]) -> None:
        """Take in messages that left: seconds of the clock, output, bytes. place_of: the score's second at a moment."""
        for at, output, data in left:
            is_on, is_off = messages.is_note_on(data), messages.is_note_end(data)
            if not (is_on or is_off) or self._is_own(at, output, data):
                continue
            key = (output, data[0] & messages.CHANNEL, data[1])
            # Ends of notes that are none of these are left alone: the score has notes of the same number.
            if is_off and key not in self._held:
                continue
            place = place_of(at)
            if place is None:
                continue
            (self._held.add if is_on else self._held.discard)(key)
            self._heard.append(_Heard(at, place, output, bytes(data)))

    def _is_own(self, at: float, output: int, data: bytes) -> bool:
        for i, (fed_at, fed_output, fed) in enumerate(self._fed):
            if fed_output == output and fed == data and abs(at - fed_at) < NEAR:
                del self._fed[i]
                return True
        return False

    def forget(self, until: float) -> None:
        """Forget messages up to a moment: the score has them now."""
        self._heard = [one for one in self._heard if one.at > until]
        done = self._round[: self._next]
        kept = [one for one in self._round[self._next :] if one.at > until]
        self._round, self._next = done + kept, len(done)

    def begin_round(self) -> None:
        """Another round begins: everything heard so far is due in it."""
        self._round = sorted(self._heard, key=lambda one: one.place)
        self._next = 0

    def due(self, up_to: float) -> list[tuple[float, int, bytes]]:
        """Messages that are due up to a second of the score, each once: (second, output, bytes), in order."""
        first = self._next
        while self._next < len(self._round) and self._round[self._next].place <= up_to:
            self._next += 1
        return [(one.place, one.output, one.data) for one in self._round[first : self._next]]
