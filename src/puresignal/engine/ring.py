"""A ring of messages in shared memory: one writer that never waits, any number of readers with their own positions.

The writer is the port's callback. It fills a slot, then counts it; a reader that falls a whole ring behind learns how
much it missed.
"""

from __future__ import annotations

import mmap
import os
import struct
from collections.abc import Callable
from typing import NamedTuple

SLOTS = 1 << 16
_SLOT = struct.Struct("<dHH20s")
_HEAD = 64
_COUNT, _PLACE = 0, 1
"""64-bit words in the head: slots written, and the position of the reader that keeps one.

Read and written as single words: `struct` clears its bytes before writing them, which another process could see.
"""
DATA = 20
MORE = 0x8000
"""Set in a slot's size if the message continues in the next slot."""
SIZE = _HEAD + SLOTS * _SLOT.size


class Record(NamedTuple):
    """A message as it arrived: seconds of the router's clock, number of the input, bytes."""

    at: float
    port: int
    data: bytes


def make() -> int:
    """Create memory for a ring. Returns an open file number that can be passed to other processes."""
    memory = os.memfd_create("pure-signal ring")
    os.ftruncate(memory, SIZE)
    return memory


class Writer:
    """The writer. After a crash the next one continues where the last one stopped."""

    def __init__(self, memory: int):
        self._map = mmap.mmap(memory, SIZE)
        self._head = memoryview(self._map)[:_HEAD].cast("Q")
        self._count = self._head[_COUNT]

    @property
    def count(self) -> int:
        """Slots written so far."""
        return int(self._count)

    def put(self, at: float, port: int, data: bytes) -> None:
        """Add a message; a long one takes several slots and is counted when complete."""
        count = self._count
        for begin in range(0, len(data) or 1, DATA):
            part = data[begin : begin + DATA]
            more = MORE if begin + DATA < len(data) else 0
            _SLOT.pack_into(self._map, _HEAD + (count % SLOTS) * _SLOT.size, at, port, len(part) | more, part)
            count += 1
        self._count = count
        self._head[_COUNT] = count


def watch(readers: list[Reader]) -> Callable[[], bool]:
    """A fast function that tells whether any of these readers has something to read."""
    pairs = [(reader, reader._head) for reader in readers]

    def has_come() -> bool:
        # A list, which is faster than any() over a generator here.
        return True in [head[_COUNT] != reader._place for reader, head in pairs]

    return has_come


class Reader:
    """A reader from now on. missed: slots that were overwritten before they were read.

    keeps_place  its position is stored in the memory too: the next reader of its kind continues there
    """

    def __init__(self, memory: int, keeps_place: bool = False):
        self._map = mmap.mmap(memory, SIZE)
        self._head = memoryview(self._map)[:_HEAD].cast("Q")
        self._place = self._head[_PLACE if keeps_place else _COUNT]
        self._part = b""
        self.missed = 0

    def keep_place(self) -> None:
        """Mark what was read so far as done, so that no successor reads it again."""
        self._head[_PLACE] = self._place

    @property
    def ready(self) -> bool:
        """Whether there is something to read."""
        return bool(self._head[_COUNT] != self._place)

    def read(self, most: int = SLOTS) -> list[Record]:
        """The messages since the last call, at most this many slots."""
        count = self._head[_COUNT]
        # A margin: the slots about to be overwritten may be half new already.
        if count - self._place > SLOTS - 256:
            self.missed += count - self._place - SLOTS // 2
            self._place, self._part = count - SLOTS // 2, b""
        found = []
        for place in range(self._place, min(count, self._place + most)):
            at, port, size, data = _SLOT.unpack_from(self._map, _HEAD + (place % SLOTS) * _SLOT.size)
            self._part += data[: size & 0xFF]
            if not size & MORE:
                found.append(Record(at, port, self._part))
                self._part = b""
        self._place = min(count, self._place + most)
        return found
