"""A melody as it is sung or played: notes at once, and a little later the notes of the full analysis.

At once (`LiveNotes`), a small network looks at the newest moments (live_pitch.py): which pitches sound, and which of
them have just begun. A note is reported when that is likely in two successive frames, 5 ms apart. The full analysis
(candidates.py) also needs the sound after a note. It follows behind and settles each note at most SETTLES seconds
after its end, with the result it would have for a recording (bench/live_ear.py).
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing.dsp import spectra
from puresignal.core.hearing.melody import candidates
from puresignal.core.hearing.melody import notes as melody_notes
from puresignal.core.hearing.melody.candidates import MelodyAnalysis, PitchNetworks
from puresignal.core.hearing.melody.segmentation import MelodySettings
from puresignal.core.hearing.networks import live_pitch, multipitch, onset
from puresignal.core.hearing.networks.convolutional import ConvNet
from puresignal.core.hearing.networks.dense import Network
from puresignal.core.hearing.transcribed import TranscribedNotes, velocity_of

RATE = candidates.RATE
SETTLES, FOLLOWS = 1.7, 0.6
"""Seconds after its end, plus a block, by which a note is settled; seconds of sound needed after its end."""

HOP = live_pitch.HOP
AT_ONCE = RATE
"""Samples processed at once: bounds the memory, whatever is fed."""
BEGINS, AGAIN, HEARD = 0.5, 0.75, 0.5
"""Onset probability over two frames that reports a note; the same for a repetition of the sounding pitch; and the
probability with which the note must sound.
"""
ARMED, APART = 0.25, 0.09
"""Onset probability below which a repetition of the same pitch becomes possible; shortest time between the two."""
STAYS, LETS_GO, FALLS_DB = 0.15, 16, 20.0
"""Probability of sounding below which a note ends; frames until it does, or two if it has fallen FALLS_DB."""
SOUNDS, STANDS = 0.92, 12
"""Probability of sounding, and number of frames, after which a note without an onset is reported."""
ABOVE_NOISE_DB, BELOW_LOUDEST_DB = 6.0, 20.0
"""A note must be this much louder than the usual noise, or be within BELOW_LOUDEST_DB of the loudest notes."""


@dataclass(frozen=True)
class NoteChange:
    """A change now: a note begins (velocity above 0) or ends (0). at: seconds; number: MIDI note."""

    at: float
    number: int
    velocity: int


class LiveNotes:
    """Notes at once, from a stream of blocks of any length."""

    def __init__(self, net: Network, settings: MelodySettings | None = None, tuning: float = 0.0) -> None:
        """net: the network of live_pitch.py."""
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
        """Process the next samples, (n,) at RATE."""
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
        """End everything that sounds."""
        out: list[NoteChange] = []
        self._stop(self._looked * HOP / RATE, out)
        return out

    def _look(
        self, new: dict[int, float], sounds: dict[int, float], level: float, now: float, out: list[NoteChange]
    ) -> None:
        """new, sounds: probability that each note has just begun, and that it sounds."""
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
        """The note that begins now, or None."""
        number = max(probability, key=lambda each: probability[each], default=-1)
        if number == own:
            again = self._armed and probability.get(own, 0.0) > AGAIN and now - self._since > APART
            return number if again else None
        return number if probability.get(number, 0.0) > BEGINS and sounds[number] > HEARD else None

    def _unheard(self, sounds: dict[int, float], own: int, stays: float) -> int | None:
        """A note that has sounded for a while without an audible onset, or None."""
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
"""Samples on either side of an analysed stretch, so that its edges do not matter."""
EVERY = 24 * 440
"""Samples between two decisions. All of these are whole numbers of frames, also of the long windows, which are 880
apart, so that their interpolation does not depend on the stretch.
"""
REMEMBERS = 600
"""Decisions, about five minutes, for which the level of the loud moments is remembered."""
LOOKS_BACK = 30.0
"""Longest note in seconds before it is settled in parts."""


class LiveMelody:
    """Notes at once from `feed`; the notes of the full analysis from `settled`."""

    def __init__(
        self, begin_net: ConvNet, tone_net: PitchNetworks, newest_net: Network, settings: MelodySettings | None = None
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
        """The changes now. samples: the next ones, (n,) at RATE."""
        block = spectra.usable(samples)
        told = self._quick.feed(block)
        self._held = np.concatenate([self._held, block])
        while self._first + len(self._held) >= self._done + EVERY + MARGIN:
            self._follow(self._done + EVERY, last=False)
        return told

    def end(self) -> list[NoteChange]:
        """End of the stream: all notes are settled."""
        if self._first + len(self._held) > self._done:
            self._follow(self._first + len(self._held), last=True)
        return self._quick.end()

    def settled(self) -> TranscribedNotes:
        """The notes settled since the last call."""
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
        found = melody_notes.decide(analysis, self._settings)
        heard = found.but(start=found.start + offset, end=found.end + offset)
        # Together with the margin and the time between decisions this is less than SETTLES, by the possible shift of
        # an end.
        limit = np.inf if last else offset + len(analysis.level) * candidates.STEP - FOLLOWS
        new = (heard.start > self._until) & (heard.end < limit)
        # A note that overlaps with an unsettled one waits for it.
        waits = heard.start[(heard.start > self._until) & (heard.end >= limit)]
        if len(waits):
            new &= heard.start < waits.min()
        if new.any():
            notes = heard.take(new)
            self._ready.append(notes.but(velocity=self._velocities(analysis, notes, offset)))
            self._until = float(notes.start.max()) + 0.02
        self._forget(analysis, float(heard.start[heard.start > self._until].min(initial=np.inf)))

    def _velocities(self, analysis: MelodyAnalysis, notes: TranscribedNotes, offset: float) -> np.ndarray:
        level = melody_notes.levels(analysis, notes.but(start=notes.start - offset, end=notes.end - offset))
        self._loudest = max(self._loudest, float(level.max()))
        return velocity_of(level - self._loudest)

    def _forget(self, analysis: MelodyAnalysis, waits: float) -> None:
        """Keep only what an unsettled note may need, and a few seconds more for the usual levels."""
        now = self._parts_first * candidates.STEP + len(analysis.level) * candidates.STEP
        keep = max(now - LOOKS_BACK, min(now - KEPT, waits - 1.0, self._until - 1.0))
        drop = max(0, int((keep - self._parts_first * candidates.STEP) / candidates.STEP))
        if drop:
            self._parts = [
                analysis.part(slice(drop, None), slice(drop * (candidates.HOP // candidates.FINE_HOP), None))
            ]
            self._parts_first += drop


KEPT = 6.0
"""Seconds that a decision sees at least."""


def _frames(lead: int, own: int, hop: int, extra: int) -> slice:
    return slice(lead // hop, lead // hop + own // hop + extra)
