"""A few whole numbers that one process writes and others read, always all of one moment."""

from __future__ import annotations

import mmap
import os

COUNT = 8
SIZE = 8 * (COUNT + 1)
TRIES = 1000


def make() -> int:
    """Memory for the numbers; returns the number of an open file that other processes can be given."""
    memory = os.memfd_create("pure-signal words")
    os.ftruncate(memory, SIZE)
    return memory


class SharedCounters:
    """COUNT numbers of 64 bits, behind a number that is odd while they are being written."""

    def __init__(self, memory: int):
        self._words = memoryview(mmap.mmap(memory, SIZE)).cast("q")

    def write(self, *values: int) -> None:
        """All at once; fewer than COUNT leave the rest as they were."""
        words = self._words
        words[0] += 1
        for i, value in enumerate(values):
            words[i + 1] = value
        words[0] += 1

    def read(self) -> tuple[int, ...]:
        """All of one moment. A writer that died while writing is not waited for."""
        words = self._words
        for _ in range(TRIES):
            before = words[0]
            found = tuple(words[1:])
            if before % 2 == 0 and words[0] == before:
                return found
        return tuple(words[1:])
