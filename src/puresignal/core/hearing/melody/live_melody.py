"""A melody while it is sung or played: notes at once, and a little later the notes that the whole ear hears.

At once (`Quick`) a small network is asked after the newest moments (newest.py): which pitches sound, and which of them
have just begun. A note is told as soon as that is likely in two looks, 5 ms apart.
The whole ear (melody.py) needs what comes after a note as well. It follows behind and settles each note at most
SETTLES seconds after its end; what it then says is what it says of a recording of the same (bench/live_ear.py).
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing.dsp import spectra
from puresignal.core.hearing.melody import candidates
from puresignal.core.hearing.melody.candidates import MelodyAnalysis, MelodySettings
from puresignal.core.hearing.networks import live_pitch, multipitch, onset
from puresignal.core.hearing.networks.convolutional import ConvNet
from puresignal.core.hearing.networks.dense import Network
from puresignal.core.hearing.transcribed import TranscribedNotes, velocity_of

RATE = candidates.RATE
SETTLES, FOLLOWS = 1.7, 0.6
"""Seconds after its end at which a note is settled at the latest, and a block; those that have to follow its end."""

HOP = live_pitch.HOP
AT_ONCE = RATE
"""Samples worked on at once at most: bounds the memory, however much is fed."""
BEGINS, AGAIN, HEARD = 0.5, 0.75, 0.5
"""How likely a note must have begun, over two looks, to be told; one of the pitch that sounds already; and how likely
it must sound."""
ARMED, APART = 0.25, 0.09
"""How unlikely a beginning must have been before the next of the same pitch, and seconds between the two."""
STAYS, LETS_GO, FALLS_DB = 0.15, 16, 20.0
"""How likely a note must sound to go on; looks after which it ends otherwise: two where it is so far below its peak."""
SOUNDS, STANDS = 0.92, 12
"""How likely a pitch must sound, and for how many looks, to be a note whose beginning was not heard."""
ABOVE_NOISE_DB, BELOW_LOUDEST_DB = 6.0, 20.0
"""Nothing begins that is no louder than so much above the usual noise, unless it is near the loudest notes."""


@dataclass(frozen=True)
class NoteChange:
    """What happens now: a note begins (velocity above 0) or ends (0). at  seconds; number  MIDI."""

    at: float
    number: int
    velocity: int


class LiveNotes:
    """Notes at once, in a stream of blocks of any length."""

    def __init__(self, net: Network, settings: MelodySettings | None = None, tuning: float = 0.0) -> None:
        """net: the one that newest.py asks."""
        self._net = net
        self._settings = settings or MelodySettings()
        self.tuning = tuning
        self._held = np.zeros(live_pitch.SEEN, np.float32)
        self._picture = live_pitch.nothing(live_pitch.PAST)
        self._looked = 0
        self._levels: deque[float] = deque(maxlen=400)
        self._noise, self._loudest, self._peak = -90.0, -40.0, -120.0
        self._began: dict[int, float] = {}
        self._sounding: int | None = None
        self._since = -np.inf
        self._armed = True
        self._silent = 0
        self._next, self._stood = -1, 0

    def feed(self, samples: np.ndarray) -> list[NoteChange]:
        """samples (n,) at RATE, the next ones."""
        out: list[NoteChange] = []
        for first in range(0, len(samples), AT_ONCE):
            self._feed(spectra.usable(samples[first : first + AT_ONCE]), out)
        return out

    def _feed(self, samples: np.ndarray, out: list[NoteChange]) -> None:
        self._held = np.concatenate([self._held, samples])
        looks = (len(self._held) - live_pitch.SEEN) // HOP
        if not looks:
            return
        self._picture = self._picture[-live_pitch.PAST :] + live_pitch.looked(self._held[HOP:], self.tuning)
        self._held = self._held[looks * HOP :]
        look, number = live_pitch.asked(self._picture, self._settings.low, self._settings.high)
        probability = self._net.probability(live_pitch.rows(self._picture, look, number))
        for k in range(looks):
            self._looked += 1
            own = look == live_pitch.PAST + k
            level = 10 * float(np.log10((10 ** self._picture.bands[live_pitch.PAST + k]).sum()))
            new = dict(zip(number[own].tolist(), probability[own, 0].tolist(), strict=True))
            sounds = dict(zip(number[own].tolist(), probability[own, 1].tolist(), strict=True))
            self._look(new, sounds, level, self._looked * HOP / RATE, out)

    def end(self) -> list[NoteChange]:
        """What still sounds ends."""
        out: list[NoteChange] = []
        self._stop(self._looked * HOP / RATE, out)
        return out

    def _look(
        self, new: dict[int, float], sounds: dict[int, float], level: float, now: float, out: list[NoteChange]
    ) -> None:
        """new, sounds: how likely a note of each number has just begun, and sounds."""
        self._levels.append(level)
        if self._looked % 40 == 0:
            self._noise = float(np.quantile(self._levels, 0.1))
        steady = {number: (probability + self._began.get(number, 0.0)) / 2 for number, probability in new.items()}
        self._began = new
        own = -1 if self._sounding is None else self._sounding
        stays = sounds.get(own, 0.0)
        self._armed |= new.get(own, 0.0) < ARMED
        number = self._beginning(steady, sounds, own, now)
        if number is None:
            number = self._unheard(sounds, own, stays)
        loud_enough = level > min(self._noise + ABOVE_NOISE_DB, self._loudest - BELOW_LOUDEST_DB)
        if number is not None and loud_enough and level > self._loudest - self._settings.floor:
            self._start(number, level, now, out)
            return
        self._peak = max(self._peak - 0.05, level)
        self._silent = 0 if stays > STAYS else self._silent + 1
        if self._silent >= (2 if level < self._peak - FALLS_DB else LETS_GO):
            self._stop(now, out)

    def _beginning(self, probability: dict[int, float], sounds: dict[int, float], own: int, now: float) -> int | None:
        """The note that begins, if any does."""
        number = max(probability, key=lambda each: probability[each], default=-1)
        if number == own:
            again = self._armed and probability.get(own, 0.0) > AGAIN and now - self._since > APART
            return number if again else None
        return number if probability.get(number, 0.0) > BEGINS and sounds[number] > HEARD else None

    def _unheard(self, sounds: dict[int, float], own: int, stays: float) -> int | None:
        """A note that has sounded for a while although its beginning was not heard."""
        number = max(sounds, key=lambda each: sounds[each], default=-1)
        if number in (own, -1) or sounds[number] < SOUNDS or stays > STAYS:
            self._stood = 0
            return None
        self._stood = self._stood + 1 if number == self._next else 1
        self._next = number
        return number if self._stood >= STANDS else None

    def _start(self, number: int, level: float, now: float, out: list[NoteChange]) -> None:
        self._stop(now, out)
        self._loudest = max(self._loudest, level)
        self._sounding, self._since, self._peak = number, now, level
        self._armed, self._silent, self._stood = False, 0, 0
        out.append(NoteChange(now, number, int(velocity_of(level - self._loudest))))

    def _stop(self, now: float, out: list[NoteChange]) -> None:
        if self._sounding is not None:
            out.append(NoteChange(now, self._sounding, 0))
        self._sounding = None


MARGIN = 20 * 440
"""Samples on either side of what is analysed, so that nothing is heard otherwise at an edge."""
EVERY = 24 * 440
"""Samples between two decisions. All of these are whole numbers of frames, of the long windows that are 880 apart too,
so that what is between those is found between the same."""
REMEMBERS = 600
"""Decisions, some five minutes, for which it is remembered how loud the loud moments were."""
LOOKS_BACK = 30.0
"""Seconds that a note can be long until it is settled in parts."""


class LiveMelody:
    """Notes at once from `feed`; from `settled` those that the whole ear hears."""

    def __init__(
        self, begin_net: ConvNet, tone_net: Network, newest_net: Network, settings: MelodySettings | None = None
    ) -> None:
        self._nets = (begin_net, tone_net)
        self._settings = settings or MelodySettings()
        self._quick = LiveNotes(newest_net, self._settings)
        self._held = np.zeros(0, np.float32)
        self._first = 0
        self._done = 0
        self._loud: deque[np.ndarray] = deque(maxlen=REMEMBERS)
        self._tones_loud: deque[np.ndarray] = deque(maxlen=REMEMBERS)
        self._parts: list[MelodyAnalysis] = []
        self._parts_first = 0
        self._until = 0.0
        self._loudest = -np.inf
        self._ready: list[TranscribedNotes] = []

    def feed(self, samples: np.ndarray) -> list[NoteChange]:
        """What happens now. samples (n,) at RATE, the next ones."""
        block = spectra.usable(samples)
        told = self._quick.feed(block)
        self._held = np.concatenate([self._held, block])
        while self._first + len(self._held) >= self._done + EVERY + MARGIN:
            self._follow(self._done + EVERY, last=False)
        return told

    def end(self) -> list[NoteChange]:
        """The stream has ended: all notes are settled."""
        if self._first + len(self._held) > self._done:
            self._follow(self._first + len(self._held), last=True)
        return self._quick.end()

    def settled(self) -> TranscribedNotes:
        """The notes that were settled since the last time this was asked."""
        ready, self._ready = self._ready, []
        return TranscribedNotes.join(ready) if ready else TranscribedNotes.empty()

    def _follow(self, until: int, last: bool) -> None:
        new = self._held[self._done - self._first : until - self._first]
        self._loud.append(onset.SPECTROGRAM.loudness(new))
        self._tones_loud.append(multipitch.loudness(new))
        loud, against = onset.SPECTROGRAM.loud_of(list(self._loud)), multipitch.loud_of(list(self._tones_loud))
        start = max(self._first, self._done - MARGIN)
        stop = min(self._first + len(self._held), until + MARGIN)
        found = candidates.of_samples(*self._nets, self._held[start - self._first : stop - self._first], against, loud)
        lead, own = self._done - start, until - self._done
        extra = 1 if last else 0
        self._parts.append(
            found.part(_frames(lead, own, candidates.HOP, extra), _frames(lead, own, candidates.FINE_HOP, extra))
        )
        self._done = until
        keep = max(self._first, until - MARGIN)
        self._held, self._first = self._held[keep - self._first :], keep
        self._decide(last)

    def _decide(self, last: bool) -> None:
        analysis = candidates.joined(self._parts)
        self._parts = [analysis]
        self._quick.tuning = candidates.tuning(analysis.pitch, analysis.dip)
        offset = self._parts_first * candidates.STEP
        found = candidates.decide(analysis, self._settings)
        heard = found.but(start=found.start + offset, end=found.end + offset)
        # With the margin and the time between two decisions that is less than SETTLES, by what an end may still move.
        limit = np.inf if last else offset + len(analysis.level) * candidates.STEP - FOLLOWS
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

    def _velocities(self, analysis: MelodyAnalysis, notes: TranscribedNotes, offset: float) -> np.ndarray:
        level = candidates.levels(analysis, notes.but(start=notes.start - offset, end=notes.end - offset))
        self._loudest = max(self._loudest, float(level.max()))
        return velocity_of(level - self._loudest)

    def _forget(self, analysis: MelodyAnalysis, waits: float) -> None:
        """Only what a note that is not settled may need is kept, and some seconds more for what is usual."""
        now = self._parts_first * candidates.STEP + len(analysis.level) * candidates.STEP
        keep = max(now - LOOKS_BACK, min(now - KEPT, waits - 1.0, self._until - 1.0))
        drop = max(0, int((keep - self._parts_first * candidates.STEP) / candidates.STEP))
        if drop:
            self._parts = [
                analysis.part(slice(drop, None), slice(drop * (candidates.HOP // candidates.FINE_HOP), None))
            ]
            self._parts_first += drop


KEPT = 6.0
"""Seconds that decisions see at least."""


def _frames(lead: int, own: int, hop: int, extra: int) -> slice:
    return slice(lead // hop, lead // hop + own // hop + extra)
