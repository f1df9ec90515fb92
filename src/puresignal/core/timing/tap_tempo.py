"""Tempo from tapping: what the player means, also when a tap was missed or came twice."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

SLOWEST, FASTEST = 30.0, 300.0
"""Taps a minute that can be meant."""
ENOUGH = 3
"""Taps from which a tempo is told."""
MOST = 16
"""Taps that are looked at: the tempo follows a player who changes it."""
PAUSE = 2.6
"""Taps' lengths after which a new tempo is begun."""


@dataclass(frozen=True)
class TapTempo:
    """Taps so far, in seconds of any clock."""

    taps: tuple[float, ...] = ()

    def tapped(self, at: float) -> TapTempo:
        """With one more tap. After a pause it is the first of a new tempo."""
        if not self.taps or at <= self.taps[-1]:
            return TapTempo((at,))
        period = self._period() or (self.taps[-1] - self.taps[-2] if len(self.taps) > 1 else 60.0 / SLOWEST)
        if at - self.taps[-1] > PAUSE * max(period, 60.0 / FASTEST):
            return TapTempo((at,))
        return TapTempo((*self.taps, at)[-MOST:])

    @property
    def bpm(self) -> float | None:
        """The tempo, None while there are too few taps."""
        period = self._period()
        return None if period is None else float(np.clip(60.0 / period, SLOWEST, FASTEST))

    def _period(self) -> float | None:
        """Seconds a beat: taps are numbered by the beats that they are on, and a line is laid through them."""
        if len(self.taps) < ENOUGH:
            return None
        taps = np.array(self.taps)
        between = np.diff(taps)
        # Of few taps, one that was missed or doubled may be half of what there is: the usual distance is one that
        # most others are a whole multiple of.
        usual = self._usual(between)
        kept = [float(taps[0])]
        for tap in taps[1:].tolist():
            # A tap that came twice is one: the first of the two.
            if tap - kept[-1] > 0.45 * usual:
                kept.append(tap)
        beats = np.concatenate([[0], np.cumsum(np.maximum(1, np.rint(np.diff(kept) / usual)))])
        if len(kept) < 2:
            return None
        slope = np.polyfit(beats, np.array(kept), 1)[0]
        return float(slope)

    @staticmethod
    def _usual(between: np.ndarray) -> float:
        """The distance that explains the others best: they are as long, twice as long (missed) or short (doubled)."""
        best, least = float(np.median(between)), np.inf
        for one in np.unique(between).tolist():
            if not 60.0 / FASTEST <= one <= 60.0 / SLOWEST:
                continue
            ratio = between / one
            off = np.abs(ratio - 1)
            missed = np.where((ratio > 1.5) & (ratio < 2.5), 0.35 + np.abs(ratio - 2), np.inf)
            doubled = np.where(ratio < 0.45, 0.35, np.inf)
            cost = float(np.minimum(np.minimum(off, missed), np.minimum(doubled, 1.0)).sum())
            if cost < least - 1e-9:
                best, least = one, cost
        return best
