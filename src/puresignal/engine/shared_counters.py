"""A few integers that one process writes and others read, always consistently."""

from __future__ import annotations

import mmap
import os

COUNT = 8
SIZE = 8 * (COUNT + 1)
TRIES = 1000


def make() -> int:
    """Create memory for the numbers. Returns an open file number that can be passed to other processes."""
    memory = os.memfd_create("pure-signal words")
    os.ftruncate(memory, SIZE)
    return memory


class SharedCounters:
    """COUNT 64-bit integers, guarded by a sequence number that is odd during a write."""

    def __init__(self, memory: int):
        self._words = memoryview(mmap.mmap(memory, SIZE)).cast("q")

    def write(self, *values: int) -> None:
        """Write all at once; fewer than COUNT values leave the rest unchanged."""
        words = self._words
        words[0] += 1
        for i, value in enumerate(values):
            words[i + 1] = value
        words[0] += 1

    def read(self) -> tuple[int, ...]:
        """Read all, from one moment. Does not wait for a writer that died while writing."""
        words = self._words
        for _ in range(TRIES):
            before = words[0]
            found = tuple(words[1:])
            if before % 2 == 0 and words[0] == before:
                return found
        return tuple(words[1:])
