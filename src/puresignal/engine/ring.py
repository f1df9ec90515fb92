"""A ring of messages in shared memory: one writer that never waits, any number of readers with places of their own.

The writer is the port's callback. It fills a slot, then counts it; a reader that
falls a whole ring behind learns how much it missed.
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
"""In the head, as whole 64-bit words: slots written, and the place of the reader that keeps one.

Written and read as one word: `struct` clears its bytes before it writes them, which another process can see.
"""
DATA = 20
MORE = 0x8000
"""Set in a slot's size where the message goes on in the next slot."""
SIZE = _HEAD + SLOTS * _SLOT.size


class Record(NamedTuple):
    """A message as it arrived: seconds of the router's clock, number of the input, bytes."""

    at: float
    port: int
    data: bytes


def make() -> int:
    """Memory for a ring; returns the number of an open file that other processes can be given."""
    memory = os.memfd_create("pure-signal ring")
    os.ftruncate(memory, SIZE)
    return memory


class Writer:
    """The one that writes. After a crash the next one goes on where the last one stopped."""

    def __init__(self, memory: int):
        self._map = mmap.mmap(memory, SIZE)
        self._head = memoryview(self._map)[:_HEAD].cast("Q")
        self._count = self._head[_COUNT]

    @property
    def count(self) -> int:
        """Slots written so far."""
        return int(self._count)

    def put(self, at: float, port: int, data: bytes) -> None:
        """Adds a message; a long one takes several slots and is counted when it is whole."""
        count = self._count
        for begin in range(0, len(data) or 1, DATA):
            part = data[begin : begin + DATA]
            more = MORE if begin + DATA < len(data) else 0
            _SLOT.pack_into(self._map, _HEAD + (count % SLOTS) * _SLOT.size, at, port, len(part) | more, part)
            count += 1
        self._count = count
        self._head[_COUNT] = count


def watch(readers: list[Reader]) -> Callable[[], bool]:
    """A quick function that tells whether any of these has something to read."""
    pairs = [(reader, reader._head) for reader in readers]

    def has_come() -> bool:
        # A list, which is quicker than any() over a generator here.
        return True in [head[_COUNT] != reader._place for reader, head in pairs]

    return has_come


class Reader:
    """One that reads, from now on. missed counts slots that were written over before they were read.

    keeps_place  this one's place is in the memory too: the next one of its kind goes on from there
    """

    def __init__(self, memory: int, keeps_place: bool = False):
        self._map = mmap.mmap(memory, SIZE)
        self._head = memoryview(self._map)[:_HEAD].cast("Q")
        self._place = self._head[_PLACE if keeps_place else _COUNT]
        self._part = b""
        self.missed = 0

    def keep_place(self) -> None:
        """What was read up to now is dealt with, and need not be read again by anybody after us."""
        self._head[_PLACE] = self._place

    @property
    def ready(self) -> bool:
        """Whether there is something to read."""
        return bool(self._head[_COUNT] != self._place)

    def read(self, most: int = SLOTS) -> list[Record]:
        """What has come since the last call, at most so many slots of it."""
        count = self._head[_COUNT]
        # A margin: the slots next to be written over may be half new already.
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
