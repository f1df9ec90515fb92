"""The server's 32-bit frame counter as one that continues: over its wrap, dropouts, and jumps to another device."""

from __future__ import annotations

COMPARED_FOR = 1.0
"""Seconds over which the counter is compared with the clock."""
STOOD_FOR = 1.0
"""Seconds without a block after which the server stood still, such as in suspend, and its counter with it."""


class FrameCounter:
    """Frames since the start, as they are played.

    frame  first frame of the current block
    ran    seconds of the monotonic clock of the last block's callback
    """

    def __init__(self, frame: int, rate: int, now: float):
        self.frame, self.rate, self.ran = frame, rate, now
        self._last, self._length = -1, 0
        # Seconds that the callback that was least late was later than its frame: where the counter stands on the clock.
        self._late = self._late_next = float("inf")
        self._compared = float("-inf")

    def advance(self, first: int, length: int, now: float) -> int:
        """The next block. first: the server's frame; length: frames; now: seconds. Returns its frame."""
        if self._last >= 0:
            before = self._length
            step = (first - self._last) & 0xFFFFFFFF
            runs = step == before and now - self.ran < STOOD_FOR
            self.frame += step if runs else self._true_step(step, before, now)
        self._last, self._length, self.ran = first, length, now
        late = now - self.frame / self.rate
        if late < self._late:
            self._late = late
        if late < self._late_next:
            self._late_next = late
        if now > self._compared:
            # The clocks drift apart, so an old comparison counts for a while only.
            self._late, self._late_next, self._compared = self._late_next, late, now + COMPARED_FOR
        return self.frame

    def _true_step(self, step: int, before: int, now: float) -> int:
        """Frames since the last block, where the counter says another number than its length.

        After a dropout the counter is right. When another device drives the graph it jumps, and the clock is right.
        """
        by_clock = (now - self._late) * self.rate - self.frame
        return step if step >= before and abs(step - by_clock) <= before else max(before, round(by_clock))
