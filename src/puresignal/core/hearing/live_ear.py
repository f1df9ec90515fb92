"""The live ear: one stream of sound in, sung notes, taught sounds, level and pitch out."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing.dsp import two_voices, yin
from puresignal.core.hearing.melody.live_melody import LiveNotes, NoteChange
from puresignal.core.hearing.melody.segmentation import MelodySettings
from puresignal.core.hearing.networks.dense import Network
from puresignal.core.hearing.percussion.example_classifier import ExampleSet
from puresignal.core.hearing.percussion.live_hits import LiveHit, LiveHits

RATE = 44_100
"""Sample rate of the sound fed; sung notes are heard in half of it."""
LOOK = 1024
"""Samples, at half the rate, from which the pitch on the face is taken."""
LONGEST, SHORTEST = 420, 12
"""Lags between which a period is looked for: 52 Hz to 1.8 kHz at half the rate."""
PERIODIC = 0.25
PITCH_EVERY = 220
"""Samples, at half the rate, between two looks at the pitch."""
TOGETHER_EVERY = 2200
"""Samples, at half the rate, between two looks for a second voice."""
TOGETHER_LOOKS, TOGETHER, TOGETHER_LEAST = 80, 0.15, 8
"""Looks at sound that are remembered; the part of them, and how many, that must show two voices before it is said."""
LEVELS = 600
"""Blocks over which the floor is taken."""
FULL = 0.98
ABOVE_FLOOR = 10.0
"""Decibels above the floor from which a second voice is looked for."""


@dataclass(frozen=True)
class Heard:
    """The findings in one block. Seconds are of the stream.

    notes  changes of the sung note; hits: taught sounds
    """

    notes: tuple[NoteChange, ...]
    hits: tuple[LiveHit, ...]


class LiveEar:
    """Hears sung notes, or taught sounds, or both.

    level    dBFS of the newest block; floor: of the quiet moments; pitch: MIDI number with fractions, None without one
    clipped  blocks at full scale so far; gated: blocks that were too soft to be listened to
    several  whether two people have been heard at once for some of the last seconds
    """

    def __init__(self, net: Network | None, known: ExampleSet | None = None) -> None:
        """net: of live_pitch.py, for sung notes; known: the taught sounds."""
        self._net, self._known = net, known
        self._low, self._high, self._sensitivity, self._gate = 36, 84, 0.5, -70.0
        self.level, self.floor = -120.0, -120.0
        self.pitch: float | None = None
        self.clipped = self.gated = 0
        self._since_floor = self._since_pitch = 0
        self._levels: deque[float] = deque(maxlen=LEVELS)
        self._half = np.zeros(0, np.float32)
        self._newest = np.zeros(two_voices.SIZE, np.float32)
        self._since_together = 0
        self._together: deque[bool] = deque(maxlen=TOGETHER_LOOKS)
        self._begin()

    def _begin(self) -> None:
        self._notes: LiveNotes | None = None
        if self._net is not None:
            settings = MelodySettings(low=self._low, high=self._high, sensitivity=self._sensitivity)
            self._notes = LiveNotes(self._net, settings)
        self._hits = None if self._known is None else LiveHits(self._known, self._sensitivity)
        self._fed = 0
        # Where in the stream the present listeners began.
        self._notes_from = 0.0

    def set(self, low: int, high: int, sensitivity: float, gate: float) -> None:
        """Listen between two MIDI notes, more or less keenly, and to nothing below a level in dBFS."""
        if (low, high, sensitivity, gate) == (self._low, self._high, self._sensitivity, self._gate):
            return
        self._low, self._high, self._sensitivity, self._gate = low, high, sensitivity, gate
        before = self._fed
        self._begin()
        self._fed, self._notes_from = before, before / RATE

    def teach(self, known: ExampleSet | None) -> None:
        """Listen for other taught sounds."""
        self._known = known
        self._hits = None if known is None else LiveHits(known, self._sensitivity)
        self._hits_from = self._fed / RATE

    _hits_from = 0.0

    def feed(self, samples: np.ndarray) -> Heard:
        """Hear the next samples, (n,) at RATE."""
        block = np.nan_to_num(np.asarray(samples, np.float32))
        self._measure(block)
        if self.level < self._gate:
            # Silence to the listeners, whose clocks go on.
            self.gated += 1
            block = np.zeros_like(block)
        halved = self._halved(block)
        self._look(halved)
        notes = [] if self._notes is None else self._notes.feed(halved)
        hits = [] if self._hits is None else self._hits.feed(block)
        self._fed += len(block)
        a, b = self._notes_from, self._hits_from
        return Heard(
            tuple(NoteChange(one.at + a, one.number, one.velocity) for one in notes),
            tuple(LiveHit(one.start + b, one.sound, one.velocity, one.confidence) for one in hits),
        )

    def end(self) -> tuple[NoteChange, ...]:
        """End what is sung."""
        return () if self._notes is None else tuple(self._notes.end())

    @property
    def several(self) -> bool:
        count = sum(self._together)
        return count >= TOGETHER_LEAST and count > TOGETHER * len(self._together)

    @property
    def seconds(self) -> float:
        """Seconds fed so far."""
        return self._fed / RATE

    def _measure(self, block: np.ndarray) -> None:
        if not len(block):
            return
        power = float(np.mean(block.astype(np.float64) ** 2))
        self.level = 10 * float(np.log10(power + 1e-12))
        self.clipped += bool(np.abs(block).max() >= FULL)
        self._levels.append(self.level)
        if len(self._levels) % 16 == 1 or len(self._levels) == LEVELS:
            self._since_floor += 1
            if len(self._levels) < LEVELS or self._since_floor >= 16:
                self.floor, self._since_floor = float(np.quantile(self._levels, 0.1)), 0

    def _halved(self, block: np.ndarray) -> np.ndarray:
        """Half the rate: a short low-pass whose state goes on from block to block."""
        taps = _TAPS
        whole = np.concatenate([self._half, block])
        count = max(0, (len(whole) - len(taps) + 1) // 2)
        if not count:
            self._half = whole
            return np.zeros(0, np.float32)
        filtered = np.convolve(whole, taps, "valid")[: 2 * count : 2]
        self._half = whole[2 * count :]
        return np.asarray(filtered, np.float32)

    def _look(self, halved: np.ndarray) -> None:
        """The pitch of the newest moment."""
        self._newest = np.concatenate([self._newest, halved])[-two_voices.SIZE :]
        self._since_pitch += len(halved)
        self._since_together += len(halved)
        if self._since_together >= TOGETHER_EVERY:
            self._since_together = 0
            if self._notes is not None and self.level > max(self._gate, self.floor + ABOVE_FLOOR):
                self._together.append(two_voices.sounds_like_two(self._newest))
        if self._since_pitch < PITCH_EVERY:
            return
        self._since_pitch = 0
        self.pitch = pitch_of(self._newest[-(LOOK + LONGEST) :]) if self.level > self._gate else None


def _low_pass() -> np.ndarray:
    """A windowed sinc to a little under a quarter of RATE."""
    n = np.arange(31) - 15
    taps = np.sinc(0.46 * n) * np.hamming(31)
    return np.asarray(taps / taps.sum(), np.float32)


_TAPS = _low_pass()


def pitch_of(samples: np.ndarray) -> float | None:
    """The pitch of (LOOK + LONGEST,) samples at half of RATE as a MIDI number, None where nothing is periodic."""
    sums = np.concatenate([[0.0], np.cumsum(samples.astype(np.float64) ** 2)])
    if sums[-1] / len(samples) < 1e-9:
        return None
    dips = yin.of_moment(samples.astype(np.float64), sums, LONGEST)
    good = np.flatnonzero((dips[SHORTEST:-1] < PERIODIC) & (dips[SHORTEST:-1] <= dips[SHORTEST - 1 : -2])
                          & (dips[SHORTEST:-1] <= dips[SHORTEST + 1 :]))  # fmt: skip
    if not len(good):
        return None
    lag = int(good[0]) + SHORTEST
    best = good + SHORTEST
    # A later dip that is much deeper is the period; the first one only half of it.
    deeper = best[dips[best] < dips[lag] - 0.12]
    lag = int(deeper[0]) if len(deeper) else lag
    shift = float(yin.between(dips[lag - 1 : lag], dips[lag : lag + 1], dips[lag + 1 : lag + 2])[0])
    return 69.0 + 12.0 * float(np.log2(RATE / 2 / (lag + shift) / 440.0))
