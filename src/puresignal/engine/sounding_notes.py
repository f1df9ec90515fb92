"""Notes that sound at the receivers: counts for the router, and a table that outlives it.

The table is in shared memory, so that a successor after a crash knows what to end. It never shows less than what may
sound: a start is entered at once, an end only when its block has surely been sent, and nothing is taken out while the
output is not connected, since no end can reach the receiver then.
"""

from __future__ import annotations

import mmap
from collections import deque
from collections.abc import Iterable

import numpy as np

OUTPUTS = 8
"""Largest number of outputs."""
KEYS = 16 * 128
SOUNDING_SIZE = OUTPUTS * KEYS
"""Bytes of the table: a count for each output, channel and note."""
SILENCE = bytes(SOUNDING_SIZE)
SENT_AFTER = 3
"""Blocks until what was written has surely been sent, and until a new connection carries messages."""
KEPT_FOR = 75
"""Blocks for which an ended note stays in the table: on a busy machine its end may have been lost, and a successor
sends it once more.
"""
AGAIN_AFTER = 40
"""Blocks until they are ended once more: a receiver that has just started may be late for its first blocks."""

LAST_AFTER = 400
"""Blocks until they are ended a last time: small blocks are over before a busy machine has settled."""
LATELY = 64
"""Ended notes that are remembered, to be ended once more when the router ends."""

Table = bytearray | mmap.mmap


class SoundingNotes:
    """Counts of sounding notes by key: output * KEYS + channel (0..15) * 128 + note.

    Called from the port callback: nothing here waits.
    """

    def __init__(self, table: Table | None = None):
        self._table: Table = table if table is not None else bytearray(SOUNDING_SIZE)
        # This router's own notes; what one before it left is only in the table.
        self._counts = bytearray(SOUNDING_SIZE)
        self._block = 0
        self._ended: deque[tuple[int, int]] = deque()
        # For an output that was just connected: the block in which its notes are ended, their keys, and how often.
        self._release_in: dict[int, tuple[int, set[int], int]] = {}
        self._connected = [True] * OUTPUTS
        self._lately: dict[int, None] = {}
        self._released: set[int] = set()

    def is_silent(self) -> bool:
        """Whether nothing is held and nothing is waiting to be ended."""
        waiting = any(times for _, _, times in tuple(self._release_in.values()))
        return not waiting and not self._ended and self._counts == SILENCE

    @property
    def is_settled(self) -> bool:
        """Whether the next block has nothing to do here; something may sound."""
        return not self._release_in and not self._ended

    def disconnected(self, output: int) -> None:
        """An output has no receiver: what sounds there stays in the table until it has one again."""
        self._connected[output] = False
        self._release_in.pop(output, None)

    def connected(self, output: int) -> None:
        """An output was connected: end what may still sound there once the connection carries messages."""
        self._connected[output] = True
        left = self._left([output])
        if left:
            self._release_in[output] = self._block + SENT_AFTER, set(left), 2

    def next_block(self) -> list[int]:
        """Begin a block. Returns the keys that have to be ended in it."""
        self._block += 1
        ended = self._ended
        while ended and ended[0][0] <= self._block:
            key = ended.popleft()[1]
            self._table[key] = self._counts[key]
        if not self._release_in:
            return []
        # Another thread may add one meanwhile.
        found: list[int] = []
        for output, (block, keys, times) in tuple(self._release_in.items()):
            if block > self._block:
                continue
            if times > 1:
                self._release_in[output] = self._block + AGAIN_AFTER, keys, times - 1
                found += keys
            elif times == 1:
                self._released |= keys
                self._release_in[output] = self._block + LAST_AFTER, keys, 0
                found += self._end(keys)
            else:
                self._release_in.pop(output, None)
                found += keys
        return sorted(found)

    def began(self, key: int) -> None:
        count = self._counts[key] = min(255, self._counts[key] + 1)
        if self._release_in and key // KEYS in self._release_in:
            # It began after the connection, and its own end follows.
            self._release_in[key // KEYS][1].discard(key)
        if count > self._table[key]:
            self._table[key] = count

    def ends(self, key: int) -> bool:
        """One of the key's notes ends. Returns whether it was the last, so that the end has to be sent."""
        count = self._counts[key]
        if not count:
            return False
        self._counts[key] = count - 1
        if count == 1:
            self._lately.pop(key, None)
            self._lately[key] = None
            if len(self._lately) > LATELY:
                del self._lately[next(iter(self._lately))]
        if self._connected[key // KEYS]:
            self._ended.append((self._block + KEPT_FOR, key))
        return count == 1

    def ended_lately(self, busy: bool) -> list[int]:
        """Keys whose end was sent and may have been lost on the way: what another router left, and on a busy machine
        what ended lately.
        """
        keys = [*self._released, *(self._lately if busy else ())]
        return [key for key in dict.fromkeys(keys) if not self._counts[key]]

    def end_all(self) -> list[int]:
        """End what sounds and is not being ended yet. Returns the keys, rising."""
        ending = {key for _, key in self._ended if not self._counts[key]}
        return self._end(key for key in self._left(range(OUTPUTS)) if key not in ending)

    def settle(self) -> None:
        """Everything that was written has been sent."""
        while self._ended:
            key = self._ended.popleft()[1]
            self._table[key] = self._counts[key]

    def _left(self, outputs: Iterable[int]) -> list[int]:
        found: list[int] = []
        for output in outputs:
            first = output * KEYS
            row = self._table[first : first + KEYS]
            if any(row):
                found += (np.flatnonzero(np.frombuffer(row, np.uint8)) + first).tolist()
        return found

    def _end(self, keys: Iterable[int]) -> list[int]:
        ended = list(keys)
        for key in ended:
            self._counts[key] = 0
            if self._connected[key // KEYS]:
                self._ended.append((self._block + SENT_AFTER, key))
        return ended
