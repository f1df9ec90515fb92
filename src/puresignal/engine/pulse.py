"""Signs of life: each process counts in shared memory, and whoever started it notices when it stops counting.

A process that was killed is noticed at once; one that hangs - stopped, or stuck in a call - only by this.
"""

from __future__ import annotations

import mmap
import os
import threading
import time

ROUTER, RECORDER, PLAYER, SOUND, DEVICES, EAR = range(6)
REFUSED = 7
"""The word in which the recorder says that the disk refuses what arrives: the system's number of the error, or 0."""
SIZE = 64
BEAT_EVERY = 0.02
"""Seconds between beats."""
LOOK_EVERY = 0.016
"""Seconds that must lie between two looks for both to count."""
SOON, MOST_LOOKS = 30.0, 400
"""Seconds after a hang within which the next one is waited for twice as long, and the most looks for that."""
LOOKS = 4
"""Looks without a beat after which a process hangs. Counted in looks and not in time, so that a machine that stood
still, and the looking with it, is not taken for a hung process."""


def make() -> int:
    """Create memory for the beats. Returns an open file number that can be passed to other processes."""
    memory = os.memfd_create("pure-signal pulse")
    os.ftruncate(memory, SIZE)
    return memory


class Pulse:
    """The beat of one process."""

    def __init__(self, memory: int, number: int):
        """number: which of the processes it is."""
        self._words = memoryview(mmap.mmap(memory, SIZE)).cast("Q")
        self._number = number

    def beat(self) -> None:
        self._words[self._number] += 1

    def say(self, word: int, number: int) -> None:
        """Leave a number for whoever watches."""
        self._words[word] = number

    def keep_beating(self) -> None:
        """Beat from a thread: for a process whose main thread is busy for seconds and yet well."""

        def work() -> None:
            while True:
                self.beat()
                time.sleep(BEAT_EVERY)

        threading.Thread(target=work, daemon=True).start()


class PulseWatch:
    """Looks at the beats of processes."""

    def __init__(self, memory: int):
        self._words = memoryview(mmap.mmap(memory, SIZE)).cast("Q")
        self._seen: dict[int, tuple[int, int, float]] = {}
        self._patience: dict[int, int] = {}
        self._hung_at: dict[int, float] = {}

    def started(self, number: int) -> None:
        """A process was started: it counts from its first beat on."""
        self._words[number] = 0
        self._seen.pop(number, None)

    def said(self, word: int) -> int:
        """A number that a process left."""
        return int(self._words[word])

    def beats(self, number: int) -> bool:
        """Whether a process has begun to beat: it is up."""
        return self._words[number] > 0

    def hangs(self, number: int) -> bool:
        """Whether a process beat before, and did not over several looks. To be asked regularly.

        Each time that this is so soon after the last, twice as many looks are waited for: the machine may be too slow.
        """
        beats, now = self._words[number], time.monotonic()
        before, looks, at = self._seen.get(number, (beats, 0, now))
        if not beats or beats != before:
            self._seen[number] = beats, 0, now
            return False
        if now - at >= LOOK_EVERY:
            looks, at = looks + 1, now
        self._seen[number] = beats, looks, at
        soon = now - self._hung_at.get(number, float("-inf")) < SOON
        patience = self._patience.get(number, LOOKS) if soon else LOOKS
        if looks < patience:
            return False
        self._patience[number], self._hung_at[number] = min(MOST_LOOKS, 2 * patience), now
        self._seen.pop(number)
        return True
