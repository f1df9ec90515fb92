"""Sharp sounds, such as claps and clicks, in a stream of blocks: when each begins. For measuring, not for playing."""

from __future__ import annotations

import numpy as np

FRAME = 0.002
"""Seconds of a level."""
ABOVE, SOFTEST = 4.0, 10 ** (-50 / 20)
"""How many times the level of before a sharp sound has, and the least that it has."""
BEFORE, APART = 0.06, 0.18
"""Seconds before that it is compared with, and the least time between two."""


class SharpSounds:
    """Fed with blocks in order."""

    def __init__(self, rate: int):
        self._rate, self._size = rate, max(1, round(FRAME * rate))
        self._rest = np.zeros(0, np.float32)
        self._levels: list[float] = []
        self._last = -APART

    def feed(self, at: float, samples: np.ndarray) -> list[float]:
        """Seconds at which sharp sounds begin. at: second of the block's first sample; samples: (n,)"""
        begin = at - len(self._rest) / self._rate
        whole = np.concatenate([self._rest, samples])
        count = len(whole) // self._size
        self._rest = whole[count * self._size :]
        kept = round(BEFORE / FRAME)
        found = []
        for i, level in enumerate(np.abs(whole[: count * self._size]).reshape(count, self._size).max(axis=1).tolist()):
            second = begin + i * self._size / self._rate
            before = max(self._levels[-kept:-1], default=0.0)
            if level > max(SOFTEST, ABOVE * before) and second - self._last >= APART and len(self._levels) >= kept:
                found.append(second)
                self._last = second
            self._levels.append(level)
        del self._levels[: -2 * kept]
        return found
