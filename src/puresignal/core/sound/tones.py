"""Pitched sounds: alias-free wavetables, brighter when played harder, all voices in one array operation."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.translation import mark

BITS = 12
TABLE = 1 << BITS
OCTAVES = 10
"""Tables by the octave of the note: each holds only harmonics below half the sample rate."""


@dataclass(frozen=True)
class Tone:
    """A pitched sound.

    harmonics  levels of the harmonics at full velocity, from the first
    dull       factor on the roll-off exponent of the harmonics when played softly
    attack, decay, release  seconds; decay is to the sustain level
    sustain    0..1
    """

    name: str
    harmonics: tuple[float, ...]
    dull: float
    attack: float
    decay: float
    sustain: float
    release: float


def _falling(count: int, power: float, even: float = 1.0) -> tuple[float, ...]:
    return tuple((even if k % 2 == 0 else 1.0) / k**power for k in range(1, count + 1))


def _struck(count: int, power: float, node: int) -> tuple[float, ...]:
    """Harmonics of a string struck at one `node`-th of its length: those with a node there are missing."""
    return tuple(abs(float(np.sin(np.pi * k / node))) / k**power * 2.6 for k in range(1, count + 1))


TONES = (
    Tone(mark("Struck bars"), (1.0, 0.35, 0.08, 0.3, 0.04, 0.12, 0.02, 0.05), 1.4, 0.002, 1.1, 0.0, 0.25),
    Tone(mark("Low string"), _falling(24, 1.15), 1.6, 0.004, 0.9, 0.25, 0.12),
    Tone("Plucked", _falling(32, 1.0, 0.7), 1.5, 0.002, 0.7, 0.0, 0.15),
    Tone("Drawbars", (1.0, 0.8, 0.55, 0.45, 0.0, 0.3, 0.0, 0.25), 0.3, 0.006, 1.0, 1.0, 0.05),
    Tone(mark("Bowed section"), _falling(28, 1.05), 0.9, 0.09, 0.5, 0.85, 0.3),
    Tone("Blown", _falling(14, 1.5, 0.25), 1.2, 0.03, 0.3, 0.8, 0.12),
    Tone(mark("Struck strings"), _struck(26, 1.25, 8), 1.8, 0.0015, 2.4, 0.0, 0.18),
    Tone("Lead", _falling(40, 0.9), 0.6, 0.008, 0.4, 0.8, 0.08),
)


ELECTRIC = 4
"""The first program of electric pianos; those before it have strings."""


def tone_of(program: int) -> int:
    """The tone for a General MIDI program 0..127, by its family."""
    if program < ELECTRIC:
        return 6
    return (0, 0, 3, 2, 1, 4, 4, 5, 5, 5, 7, 4, 4, 2, 0, 4)[program // 8]


def tables(tone: Tone, rate: int) -> np.ndarray:
    """(OCTAVES, 2, TABLE) float32: soft and hard wavetables for each octave of notes 0..119."""
    out = np.zeros((OCTAVES, 2, TABLE), np.float32)
    phase = 2 * np.pi * np.arange(TABLE) / TABLE
    for octave in range(OCTAVES):
        highest = 440 * 2 ** ((octave * 12 + 11 - 69) / 12)
        most = max(1, min(len(tone.harmonics), int(0.45 * rate / highest)))
        for hard in (0, 1):
            wave = np.zeros(TABLE)
            for k in range(1, most + 1):
                level = tone.harmonics[k - 1] * (1.0 if hard else k ** (-tone.dull))
                wave += level * np.sin(k * phase)
            out[octave, hard] = wave / max(1e-9, np.abs(wave).max())
    return out


class Voices:
    """All sounding pitched notes, as arrays; when voices run out, the oldest is reused.

    rate  samples per second
    """

    def __init__(self, rate: int, most: int = 32):
        self._rate = rate
        self._tables = np.stack([tables(tone, rate) for tone in TONES])
        # Each voice has a table of its own, mixed for its hardness when it starts.
        self._waves = np.zeros((most, TABLE), np.float32)
        self._base = (np.arange(most) * TABLE).astype(np.int64)[:, None]
        self._tone = np.zeros(most, np.int64)
        self._phase, self._step = np.zeros(most, np.uint32), np.zeros(most)
        self._gain, self._age = np.zeros(most), np.full(most, -1.0)
        self._released = np.full(most, np.inf)
        self._begin = np.zeros(most, np.int64)
        self._key = np.full(most, -1, np.int64)
        self._place = np.zeros((most, 2))
        self._shape = np.array([(t.attack, t.decay, t.sustain, t.release) for t in TONES])
        self._bend = np.zeros(16)

    def sounding(self) -> int:
        return int((self._age >= 0).sum())

    def start(self, channel: int, note: int, velocity: float, tone: int, offset: int, gain: float = 1.0) -> None:
        """Start a note, `offset` samples into the next block."""
        free = np.flatnonzero(self._age < 0)
        i = int(free[0]) if len(free) else int(np.argmax(self._age))
        hard = velocity / 127
        soft_wave, hard_wave = self._tables[tone, min(OCTAVES - 1, note // 12)]
        self._waves[i] = (1 - hard) * soft_wave + hard * hard_wave
        self._tone[i], self._phase[i] = tone, 0
        self._step[i] = 440 * 2 ** ((note - 69) / 12) / self._rate
        self._gain[i] = 0.3 * gain * hard**1.3
        self._age[i], self._released[i], self._begin[i] = 0.0, np.inf, offset
        self._key[i] = channel * 128 + note
        pan = (note - 60) / 120
        self._place[i] = np.sqrt(0.5 - pan * 0.5), np.sqrt(0.5 + pan * 0.5)

    def end(self, channel: int, note: int, offset: int = 0) -> None:
        """Release a note, `offset` samples into the next block."""
        mine = (self._key == channel * 128 + note) & np.isinf(self._released) & (self._age >= 0)
        self._released[mine] = self._age[mine] + np.maximum(0, offset - self._begin[mine]) / self._rate

    def end_all(self, channel: int = -1) -> None:
        """Release every note of a channel, or of all channels."""
        mine = (self._age >= 0) & np.isinf(self._released)
        if channel >= 0:
            mine &= self._key // 128 == channel
        self._released[mine] = self._age[mine]

    def bend(self, channel: int, semitones: float) -> None:
        """Set the pitch bend of a channel."""
        self._bend[channel] = semitones

    def add_to(self, out: np.ndarray) -> None:
        """Add a block of everything that sounds to (2, samples) float32."""
        live = np.flatnonzero(self._age >= 0)
        if not len(live):
            return
        count = out.shape[1]
        begin = self._begin[live]
        step = self._step[live] * 2 ** (self._bend[self._key[live] // 128] / 12)
        # Phases are integers that wrap by themselves; their upper bits index the table.
        turn = np.round(step * 2**32).astype(np.uint32)
        phase = self._phase[live] - turn * begin.astype(np.uint32)
        places = phase[:, None] + turn[:, None] * np.arange(count, dtype=np.uint32)
        wave = np.take(self._waves, np.right_shift(places, np.uint32(32 - BITS)) + self._base[live])
        first = self._envelope(live, self._age[live])
        last = self._envelope(live, self._age[live] + (count - begin) / self._rate)
        slope = (last - first) / np.maximum(1, count - begin)
        shift = np.arange(count) - begin[:, None]
        wave *= ((first[:, None] + slope[:, None] * shift) * (shift >= 0)).astype(np.float32)
        # During an attack, or a release within this block, a straight line across the block would be too coarse.
        ends_here = (self._released[live] >= self._age[live]) & np.isfinite(self._released[live])
        young = np.flatnonzero((self._age[live] < 2 * self._shape[self._tone[live], 0]) | ends_here)
        if len(young):
            self._shape_young(live[young], wave, young, shift[young], first[young], slope[young])
        out += (self._place[live] * self._gain[live][:, None]).T.astype(np.float32) @ wave
        self._phase[live] = phase + turn * np.uint32(count)
        self._age[live] += (count - begin) / self._rate
        self._begin[live] = 0
        shape = self._shape[self._tone[live]]
        away = self._age[live] - self._released[live] > 6 * shape[:, 3]
        quiet = (shape[:, 2] == 0) & (self._age[live] > 7 * shape[:, 1])
        self._age[live[away | quiet]] = -1.0

    def _shape_young(
        self,
        live: np.ndarray,
        wave: np.ndarray,
        rows: np.ndarray,
        shift: np.ndarray,
        first: np.ndarray,
        slope: np.ndarray,
    ) -> None:
        """Shape attacking notes sample by sample: a straight line across a block would blur them."""
        line = (first[:, None] + slope[:, None] * shift) * (shift >= 0)
        ages = self._age[live][:, None] + np.maximum(0, shift) / self._rate
        exact = self._envelope(live, ages) * (shift >= 0)
        wave[rows] *= np.divide(exact, line, out=np.zeros_like(exact), where=np.abs(line) > 1e-12).astype(np.float32)

    def _envelope(self, live: np.ndarray, ages: np.ndarray) -> np.ndarray:
        """(voices,) or (voices, samples) level at ages in seconds."""
        columns = self._shape[self._tone[live]].T
        attack, decay, sustain, release = columns if ages.ndim == 1 else columns[:, :, None]
        released = self._released[live] if ages.ndim == 1 else self._released[live][:, None]
        rise = np.minimum(1.0, ages / attack)
        body = sustain + (1 - sustain) * np.exp(-np.maximum(0.0, ages - attack) / decay)
        return np.asarray(rise * body * np.exp(-np.maximum(0.0, ages - released) / release))
