"""A singer, hummer or player of a line who knows what was meant: sound and truth, for tests and benchmarks.

Vowels are sums of harmonics under formants, with consonants and breath in between. Shares no rule with the ear.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class SingingStyle:
    """How a line is sung or played.

    vibrato    semitones either way; rate: in Hz
    scoop      semitones below at which a note starts
    drift      semitones of slow wandering
    consonant  level of the noise before a note, 0 none
    tuned      semitones off concert pitch
    attack, release  seconds
    harmonics  roll-off: 1 bright, 2 dull
    noise_db   of the room, in dBFS
    echo       seconds of reverberation, 0 none
    """

    vibrato: float = 0.3
    rate: float = 5.6
    scoop: float = 0.8
    drift: float = 0.08
    consonant: float = 0.05
    tuned: float = 0.0
    attack: float = 0.03
    release: float = 0.06
    harmonics: float = 1.3
    noise_db: float = -60.0
    echo: float = 0.0


SUNG = SingingStyle()
HUMMED = SingingStyle(vibrato=0.15, scoop=0.4, consonant=0.0, harmonics=2.1, attack=0.05)
PLUCKED = SingingStyle(vibrato=0.0, scoop=0.0, drift=0.0, consonant=0.02, attack=0.002, release=0.05, harmonics=1.1)
BLOWN = SingingStyle(vibrato=0.12, rate=4.8, scoop=0.1, drift=0.03, consonant=0.01, attack=0.025, harmonics=1.5)

Line = list[tuple[float, float, int, float]]
"""Notes: (start in s, end in s, MIDI note, loudness 0..1)."""


def line(random: np.random.Generator, seconds: float, low: int, high: int, repeats: float = 0.2) -> Line:
    """A line of notes, some repeated, some detached."""
    notes: Line = []
    at, number = 0.25, int(random.integers(low, high + 1))
    while at < seconds - 0.8:
        length = float(random.choice([0.16, 0.22, 0.3, 0.45, 0.7, 1.0]))
        gap = float(random.choice([0.02, 0.04, 0.08, 0.25], p=[0.35, 0.35, 0.2, 0.1]))
        notes.append((at, at + length, number, float(random.uniform(0.45, 1.0))))
        at += length + gap
        if random.random() > repeats:
            number = int(np.clip(number + random.choice([-7, -5, -4, -3, -2, -1, 1, 2, 3, 4, 5, 7]), low, high))
    return notes


def perform(notes: Line, manner: SingingStyle, rate: int, seed: int) -> np.ndarray:
    """The line as (n,) float32."""
    random = np.random.default_rng(seed)
    length = round((max((n[1] for n in notes), default=0) + 0.6) * rate)
    out = np.zeros(length)
    for start, end, number, loud in notes:
        first, last = round(start * rate), min(length, round((end + manner.release) * rate))
        t = np.arange(last - first) / rate
        pitch = number + manner.tuned - manner.scoop * np.exp(-t / 0.045)
        pitch = pitch + manner.vibrato * np.sin(2 * np.pi * manner.rate * t + random.uniform(0, 6)) * np.minimum(
            1, t / 0.25
        )
        wander = np.cumsum(random.normal(size=len(t))) / np.sqrt(rate)
        pitch = pitch + manner.drift * wander
        phase = 2 * np.pi * np.cumsum(440 * 2 ** ((pitch - 69) / 12)) / rate
        tone = np.zeros(len(t))
        top = 440 * 2 ** ((number - 69) / 12)
        for k in range(1, max(2, int(min(24, 0.45 * rate / top))) + 1):
            formant = 0.4 + np.exp(-(((k * top - 650) / 400) ** 2)) + 0.5 * np.exp(-(((k * top - 1500) / 600) ** 2))
            decay = np.exp(-t * k * 1.1) if manner.attack < 0.005 else 1.0
            tone += formant / k**manner.harmonics * decay * np.sin(k * phase + random.uniform(0, 6))
        shape = np.minimum(1, t / manner.attack) * np.clip((end - start + manner.release - t) / manner.release, 0, 1)
        out[first:last] += loud * 0.2 * tone * shape
        if manner.consonant:
            n = min(round(0.04 * rate), first)
            hiss = np.diff(random.normal(size=n + 1)) * np.hanning(n) * manner.consonant
            out[first - n : first] += hiss
    if manner.echo:
        tail = round(manner.echo * rate)
        room = random.normal(size=tail) * np.exp(-np.arange(tail) / (tail / 5)) * 0.015
        room[0] = 1.0
        size = 1 << (length + tail).bit_length()
        out = np.fft.irfft(np.fft.rfft(out, size) * np.fft.rfft(room, size), size)[:length]
    out += random.normal(size=length) * 10 ** (manner.noise_db / 20)
    return np.asarray(0.8 * out / (np.abs(out).max() + 1e-9), np.float32)
