"""The click's sound: a short tone with a hard beginning, higher and louder on the first beat of a bar."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from puresignal.core.midi import messages

SECONDS = 0.045
PITCHES, GAINS = (1050.0, 1400.0, 2100.0), (0.28, 0.5, 0.85)
"""Hz and level of a part of a beat, a beat and a first beat."""
LOUDER = (64, 110)
"""Velocities from which a click is a beat, and a first beat."""


def blip(kind: int, rate: int) -> np.ndarray:
    """(samples,) float32 of one kind of click: 0 part of a beat, 1 beat, 2 first beat."""
    at = np.arange(round(SECONDS * rate)) / rate
    tone = np.sin(2 * np.pi * PITCHES[kind] * at) + 0.35 * np.sin(2 * np.pi * 2.73 * PITCHES[kind] * at)
    fall = np.exp(-at / 0.009)
    # Starts at full level at its first sample, so that an onset is where it should be.
    knock = 0.6 * np.exp(-at / 0.0006)
    return (GAINS[kind] * (tone * fall + knock)).astype(np.float32)


MASKED = 8.0
"""A click is masked if what sounds with it has so many times its energy, 9 dB: little is left of it but a doubt."""


class Click:
    """Plays clicks into blocks.

    level   factor
    played  clicks that have sounded to their end; masked: those of them that what sounded with them drowned
    """

    def __init__(self, rate: int):
        self.level = 1.0
        self._blips = [blip(kind, rate) for kind in range(3)]
        self.played = self.masked = 0
        self._sounding: list[tuple[np.ndarray, int]] = []
        # Energy of the click that sounds, and of everything else meanwhile.
        self._own = self._others = 0.0

    def add_to(self, block: np.ndarray, came: Iterable[tuple[int, bytes]], level: float) -> None:
        """Add what sounds to a (2, frames) block. came: (offset, note-on) of new clicks; level: that of the sound."""
        for offset, message in came:
            if messages.is_note_on(message):
                kind = sum(message[2] >= limit for limit in LOUDER)
                # One at a time: the next click ends the one before.
                self._sounding = [(self._blips[kind], -offset)]
                self._own = self._others = 0.0
        left = []
        count = block.shape[1]
        for samples, place in self._sounding:
            first, last = max(0, place), min(len(samples), place + count)
            if last > first:
                part, click = block[:, first - place : last - place], level * self.level * samples[first:last]
                self._own += float(2 * (click**2).sum())
                self._others += float((part**2).sum())
                part += click
            if last < len(samples):
                left.append((samples, place + count))
            else:
                self.played += 1
                self.masked += self._others > MASKED * self._own
        self._sounding = left
