"""A melody while it is sung or played: notes at once, and a little later the notes that the whole ear hears.

At once (`Quick`) each newest moment is looked at by itself: a period found in its last 12 to 70 ms (period.py)
makes a note as soon as it stands for some moments; what rises anew is a note struck again.
The whole ear (melody.py) needs what comes after a note as well. It follows behind and settles each note at most
SETTLES seconds after its end; what it then says is what it says of a recording of the same (bench/live_ear.py).
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing import begin, frames, melody, period, tones
from puresignal.core.hearing.convolved import Layers
from puresignal.core.hearing.heard import Heard, velocity_of
from puresignal.core.hearing.melody import MelodyAnalysis, MelodySettings
from puresignal.core.hearing.network import Network
from puresignal.core.hearing.rises import Beginnings

RATE = melody.RATE
SETTLES, FOLLOWS = 1.7, 0.6
"""Seconds after its end at which a note is settled at the latest, and a block; those that have to follow its end."""

HOP, SLOW = 110, 1536
"""Samples between looks, and those that a look sees at most."""
LOOKS = ((260, 102, 0.1), (420, 205, 0.18), (SLOW, 540, 0.2))
"""(samples seen, longest period in samples, how imperfect it may be): the shortest that shows a plain one tells."""
SHORTEST = 10
"""Samples of the shortest period."""
STANDS, CHANGES = 2, 3
"""Looks for which a pitch must stand to begin a note, and to take over from another."""
SLIDES, FALLS, GLIDES = 7, 9, 0.09
"""The same for a pitch that moves by more than so many semitones a look, and for one far below the one before."""
FULL_DB, DIP_DB = 5.0, 2.5
"""A note is struck again when its level is back to so much below its peak, and has come up by so much."""
LETS_GO = 5
"""Looks without a period after which a note has ended."""
RECENT, AGAIN = 0.05, 0.09
"""Seconds for which a beginning is remembered until its period is found; seconds between two notes of one pitch."""
SOFTEST_DB, ABOVE_NOISE_DB = -58.0, 9.0
"""Decibels of full scale, and above the usual noise, below which nothing begins."""


@dataclass(frozen=True)
class Told:
    """What happens now: a note begins (velocity above 0) or ends (0). at  seconds; number  MIDI."""

    at: float
    number: int
    velocity: int


class Quick:
    """Notes at once, in a stream of blocks of any length."""

    def __init__(self, settings: MelodySettings | None = None, tuning: float = 0.0) -> None:
        self._settings = settings or MelodySettings()
        self.tuning = tuning
        self._held = np.zeros(SLOW, np.float32)
        self._looked = 0
        self._levels: deque[float] = deque(maxlen=400)
        self._newest: deque[float] = deque(maxlen=12)
        self._rises = Beginnings(RATE, 0.5, HOP, 4, AGAIN)
        self._rose = -np.inf
        self._exact = 0.0
        self._noise = -70.0
        self._loudest = -30.0
        self._sounding: int | None = None
        self._since = -np.inf
        self._peak = -120.0
        self._next: int | None = None
        self._stood = 0
        self._silent = 0

    def feed(self, samples: np.ndarray) -> list[Told]:
        """samples (n,) at RATE, the next ones."""
        self._held = np.concatenate([self._held, frames.usable(samples)])
        out: list[Told] = []
        while len(self._held) >= SLOW + HOP:
            self._held = self._held[HOP:]
            self._looked += 1
            self._look(self._held[:SLOW], self._held[SLOW - HOP : SLOW], self._looked * HOP / RATE, out)
        return out

    def end(self) -> list[Told]:
        """What still sounds ends."""
        out: list[Told] = []
        self._stop(self._looked * HOP / RATE, out)
        return out

    def _look(self, seen: np.ndarray, newest: np.ndarray, now: float, out: list[Told]) -> None:
        level = 10 * np.log10(float(np.mean(seen[-2 * HOP :].astype(np.float64) ** 2)) + 1e-12)
        self._levels.append(level)
        self._newest.append(level)
        if self._looked % 40 == 0:
            self._noise = float(np.quantile(self._levels, 0.1))
        loud_enough = level > max(SOFTEST_DB, min(self._noise + ABOVE_NOISE_DB, self._loudest - 20))
        loud_enough &= level > self._loudest - self._settings.floor
        number, slope = self._number(seen) if loud_enough or self._sounding is not None else (None, 0.0)
        # What begins is seen some moments after its first sound, its period a little later again.
        if self._rises.feed(newest):
            self._rose = now
        # What lets go of a note is no beginning, nor is a consonant: the level has to come up again.
        struck = now - self._rose < RECENT and level > self._peak - FULL_DB and level - min(self._newest) > DIP_DB
        if self._sounding is not None:
            self._peak = max(self._peak - 0.05, level)
        if number is None:
            self._stood = 0
            self._silent += 1
            if self._sounding is not None and (self._silent >= LETS_GO or not loud_enough):
                self._stop(now, out)
            return
        self._silent = 0
        self._stood = self._stood + 1 if number == self._next else 1
        self._next = number
        if self._sounding is None:
            if self._stood >= (STANDS if slope < GLIDES else SLIDES) and loud_enough:
                self._start(number, level, now, out)
        elif level < self._peak - 24:
            self._stop(now, out)
        else:
            again = struck and self._rose > self._since + AGAIN and self._stood >= STANDS
            if again if number == self._sounding else self._stood >= self._patience(number, slope, now):
                self._start(number, level, now, out)

    def _patience(self, number: int, slope: float, now: float) -> int:
        """Looks for which a pitch must stand to take over: two notes at once seem to have a period far below both."""
        if self._sounding is not None and number <= self._sounding - 10:
            return FALLS
        if slope >= GLIDES:
            return SLIDES
        return STANDS if now - self._rose < RECENT else CHANGES

    def _start(self, number: int, level: float, now: float, out: list[Told]) -> None:
        self._stop(now, out)
        self._loudest = max(self._loudest, level)
        velocity = int(velocity_of(level - self._loudest))
        self._sounding, self._since, self._peak = number, now, level
        out.append(Told(now, number, velocity))

    def _stop(self, now: float, out: list[Told]) -> None:
        if self._sounding is not None:
            out.append(Told(now, self._sounding, 0))
        self._sounding = None

    def _number(self, seen: np.ndarray) -> tuple[int | None, float]:
        """The note of the newest moment, or none, and how far it has moved since the last look, in semitones.

        What vibrates about a sounding note stays that note.
        """
        for size, longest, plain in LOOKS:
            exact = _period(seen[-size:], longest, plain)
            if exact is not None:
                break
        else:
            return None, 0.0
        exact -= self.tuning
        slope, self._exact = abs(exact - self._exact), exact
        if self._sounding is not None and abs(exact - self._sounding) < 0.8:
            return self._sounding, slope
        number = int(np.rint(exact))
        return (number if self._settings.low <= number <= self._settings.high else None), slope


def _period(seen: np.ndarray, longest: int, plain: float) -> float | None:
    """The pitch of a moment as a MIDI number with parts, where it is plain: the first dip that is deep enough."""
    # Newest first: the part that is compared is the newest, so an old sound goes quickly.
    turned = seen[::-1].astype(np.float32)
    sums = np.concatenate([[0.0], np.cumsum(turned.astype(np.float64) ** 2)])
    lags = np.arange(longest + 1)
    energy = sums[lags + len(seen) - longest] - sums[lags]
    if energy[0] <= 0:
        return None
    mean = period.normalised(turned[None, :], energy[None, :])[0]
    low = np.flatnonzero((mean[1:-1] < mean[:-2]) & (mean[1:-1] <= mean[2:]) & (mean[1:-1] < plain)) + 1
    low = low[low >= SHORTEST]
    if not len(low):
        return None
    deepest = float(mean[low].min())
    lag = int(low[mean[low] < deepest + 0.06][0])
    exact = lag + float(period.between(mean[lag - 1], mean[lag], mean[lag + 1]))
    return float(69 + 12 * np.log2(RATE / exact / 440))


MARGIN = 20 * 440
"""Samples on either side of what is analysed, so that nothing is heard otherwise at an edge."""
EVERY = 25 * 440
"""Samples between two decisions."""
REMEMBERS = 600
"""Decisions, some five minutes, for which it is remembered how loud the loud moments were."""
LOOKS_BACK = 30.0
"""Seconds that a note can be long until it is settled in parts."""


class LiveMelody:
    """Notes at once from `feed`; from `settled` those that the whole ear hears."""

    def __init__(self, begin_net: Layers, tone_net: Network, settings: MelodySettings | None = None) -> None:
        self._nets = (begin_net, tone_net)
        self._settings = settings or MelodySettings()
        self._quick = Quick(self._settings)
        self._held = np.zeros(0, np.float32)
        self._first = 0
        self._done = 0
        self._loud: deque[np.ndarray] = deque(maxlen=REMEMBERS)
        self._tones_loud: deque[np.ndarray] = deque(maxlen=REMEMBERS)
        self._parts: list[MelodyAnalysis] = []
        self._parts_first = 0
        self._until = 0.0
        self._loudest = -np.inf
        self._ready: list[Heard] = []

    def feed(self, samples: np.ndarray) -> list[Told]:
        """What happens now. samples (n,) at RATE, the next ones."""
        block = frames.usable(samples)
        told = self._quick.feed(block)
        self._held = np.concatenate([self._held, block])
        while self._first + len(self._held) >= self._done + EVERY + MARGIN:
            self._follow(self._done + EVERY, last=False)
        return told

    def end(self) -> list[Told]:
        """The stream has ended: all notes are settled."""
        if self._first + len(self._held) > self._done:
            self._follow(self._first + len(self._held), last=True)
        return self._quick.end()

    def settled(self) -> Heard:
        """The notes that were settled since the last time this was asked."""
        ready, self._ready = self._ready, []
        return Heard.join(ready) if ready else Heard.empty()

    def _follow(self, until: int, last: bool) -> None:
        new = self._held[self._done - self._first : until - self._first]
        self._loud.append(begin.LOOK.loudness(new))
        self._tones_loud.append(tones.loudness(new))
        loud, against = begin.LOOK.loud_of(list(self._loud)), tones.loud_of(list(self._tones_loud))
        start = max(self._first, self._done - MARGIN)
        stop = min(self._first + len(self._held), until + MARGIN)
        found = melody.of_samples(*self._nets, self._held[start - self._first : stop - self._first], against, loud)
        lead, own = self._done - start, until - self._done
        extra = 1 if last else 0
        self._parts.append(
            found.part(_frames(lead, own, melody.HOP, extra), _frames(lead, own, melody.FINE_HOP, extra))
        )
        self._done = until
        keep = max(self._first, until - MARGIN)
        self._held, self._first = self._held[keep - self._first :], keep
        self._decide(last)

    def _decide(self, last: bool) -> None:
        analysis = melody.joined(self._parts)
        self._parts = [analysis]
        self._quick.tuning = melody.tuning(analysis.pitch, analysis.dip)
        offset = self._parts_first * melody.STEP
        found = melody.decide(analysis, self._settings)
        heard = found.but(start=found.start + offset, end=found.end + offset)
        # With the margin and the time between two decisions that is less than SETTLES, by what an end may still move.
        limit = np.inf if last else offset + len(analysis.level) * melody.STEP - FOLLOWS
        new = (heard.start > self._until) & (heard.end < limit)
        # What overlaps with one that is not yet settled waits for it.
        waits = heard.start[(heard.start > self._until) & (heard.end >= limit)]
        if len(waits):
            new &= heard.start < waits.min()
        if new.any():
            notes = heard.take(new)
            self._ready.append(notes.but(velocity=self._velocities(analysis, notes, offset)))
            self._until = float(notes.start.max()) + 0.02
        self._forget(analysis, float(heard.start[heard.start > self._until].min(initial=np.inf)))

    def _velocities(self, analysis: MelodyAnalysis, notes: Heard, offset: float) -> np.ndarray:
        level = melody.levels(analysis, notes.but(start=notes.start - offset, end=notes.end - offset))
        self._loudest = max(self._loudest, float(level.max()))
        return velocity_of(level - self._loudest)

    def _forget(self, analysis: MelodyAnalysis, waits: float) -> None:
        """Only what a note that is not settled may need is kept, and some seconds more for what is usual."""
        now = self._parts_first * melody.STEP + len(analysis.level) * melody.STEP
        keep = max(now - LOOKS_BACK, min(now - KEPT, waits - 1.0, self._until - 1.0))
        drop = max(0, int((keep - self._parts_first * melody.STEP) / melody.STEP))
        if drop:
            self._parts = [analysis.part(slice(drop, None), slice(drop * (melody.HOP // melody.FINE_HOP), None))]
            self._parts_first += drop


KEPT = 6.0
"""Seconds that decisions see at least."""


def _frames(lead: int, own: int, hop: int, extra: int) -> slice:
    return slice(lead // hop, lead // hop + own // hop + extra)
