"""A line sung with words: changing vowels, consonants of several kinds, legato notes.

A singer, or a choir, is drawn at random each time. Harmonics are summed with the level of the vowel's resonances at
that moment. Shares no rule with the ear.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from puresignal.sim.instrument_synthesis import Notes
from puresignal.sim.percussion_synthesis import between

CONTROL = 1000
"""Rate in Hz at which pitch, loudness and vowels are computed."""
NOTHING, HUM, HISS, STOP, DIP = range(5)
"""Start of a syllable: nothing, a nasal, a fricative, a stop with or without a burst, half-closed lips."""


@dataclass(frozen=True)
class Singer:
    """How somebody sings.

    resonances  Hz of the neutral vowel's four formants; widths: Hz
    tilt        roll-off of the harmonics; breath: of the voice itself
    vibrato     semitones; speed: Hz; scoop: semitones; glide: seconds between notes; drift: semitones; tuned: semitones
    habits      frequency of each consonant; longest: seconds of one
    attack, release  seconds
    hums     0..1: how far the mouth is closed; a hum has little above its lowest harmonics
    dips     a second, in which the level sinks within a note, which begins no new one; deep: decibels
    growl    0..1: how strongly every second period differs
    breaks   semitones of sudden steps between registers, for some hundredths of a second
    tremble  part of the level, at the speed of the vibrato
    sets_in  seconds until the vibrato begins
    whistles whether there is only the lowest harmonic
    """

    resonances: tuple[float, ...]
    widths: tuple[float, ...]
    tilt: float
    breath: float
    vibrato: float
    speed: float
    scoop: float
    glide: float
    drift: float
    tuned: float
    habits: tuple[float, ...]
    longest: float
    attack: float
    release: float
    hums: float = 0.0
    dips: float = 0.0
    deep: float = 0.0
    growl: float = 0.0
    breaks: float = 0.0
    tremble: float = 0.0
    sets_in: float = 0.12
    whistles: bool = False


def any_voice(random: np.random.Generator) -> Singer:
    """A random singer, hummer or whistler, with more ways than any_singer has."""
    plain = any_singer(random)
    kind = random.random()
    return replace(
        plain,
        hums=float(random.uniform(0.5, 1.0)) if kind < 0.3 else 0.0,
        whistles=0.3 <= kind < 0.42,
        breath=between(random, 0.003, 0.15) if random.random() < 0.4 else plain.breath,
        dips=float(random.uniform(0.5, 3.0)) if random.random() < 0.6 else 0.0,
        deep=float(random.uniform(2.0, 11.0)),
        growl=float(random.uniform(0.1, 0.8)) if kind >= 0.42 and random.random() < 0.25 else 0.0,
        breaks=float(random.uniform(0.5, 5.0)) if random.random() < 0.15 else 0.0,
        tremble=float(random.uniform(0.05, 0.4)) if random.random() < 0.3 else 0.0,
        sets_in=float(random.uniform(0.05, 0.7)),
        glide=between(random, 0.008, 0.12),
        habits=tuple(random.dirichlet([1.0] * 5 if kind >= 0.42 else [3.0, 0.5, 0.02, 0.02, 1.5]).tolist()),
    )  # fmt: skip


def any_singer(random: np.random.Generator) -> Singer:
    """A random singer."""
    size = random.uniform(0.8, 1.3)
    return Singer(
        tuple(size * f for f in (550.0, 1500.0, 2600.0, 3600.0)), tuple(random.uniform(50, 220, 4).tolist()),
        float(random.uniform(0.3, 2.4)), float(10 ** random.uniform(-3.0, -1.2)),
        between(random, 0.03, 1.0), float(random.uniform(3.8, 7.2)),
        float(random.uniform(-0.3, 2.0)) if random.random() < 0.6 else 0.0,
        between(random, 0.008, 0.06), float(random.uniform(0.0, 0.2)),
        float(random.uniform(-0.45, 0.45)), tuple(random.dirichlet([1.0] * 5).tolist()),
        float(random.uniform(0.04, 0.15)),
        between(random, 0.006, 0.12), float(random.uniform(0.03, 0.25)),
    )  # fmt: skip


def sing(notes: Notes, singer: Singer, rate: int, seed: int, voices: int = 1) -> tuple[np.ndarray, Notes]:
    """The line as (n,) float32 with a peak of 0.8, and the notes with their ends where a consonant cut them off.

    voices  of a choir, each slightly off in time, pitch and timbre; all sing the same words
    """
    count = round((max((n[1] for n in notes), default=0.0) + 0.6) * rate)
    out, kept = np.zeros(count), notes
    for k in range(voices):
        # The words are the same for all.
        said, own = np.random.default_rng(seed), np.random.default_rng(seed + 7919 * k)
        if k:
            singer = replace(
                singer, tuned=singer.tuned + float(own.normal(0, 0.08)), speed=singer.speed * own.uniform(0.85, 1.15),
                resonances=tuple(f * own.uniform(0.93, 1.07) for f in singer.resonances),
            )  # fmt: skip
        late = own.normal(0, 0.012) if voices > 1 else 0.0
        moved = [(max(0.02, s + late + own.normal(0, 0.006) * (voices > 1)), e + late, n, v) for s, e, n, v in notes]
        sound, cut = _alone(moved, singer, rate, count, said, own)
        out += sound
        kept = kept if k else [(s, min(e, c), n, v) for (s, e, n, v), c in zip(notes, cut, strict=True)]
    return np.asarray(0.8 * out / (np.abs(out).max() + 1e-9), np.float32), kept


def say(singer: Singer, what: int, number: int, seconds: float, loud: float, rate: int, take: int) -> np.ndarray:
    """One spoken syllable: (n,) float64 from its audible start, with a peak of `loud`.

    what  selects the consonant and vowel; no two takes are alike
    """
    note = (0.2, 0.2 + seconds, number, 1.0)
    count = round((note[1] + singer.release + 0.05) * rate)
    sound, _ = _alone([note], singer, rate, count, np.random.default_rng(what), np.random.default_rng(take))
    level = np.convolve(np.abs(sound), np.ones(rate // 200), "same")
    heard = sound[int(np.argmax(level > 0.04 * level.max())) :]
    return np.asarray(loud * heard / (np.abs(heard).max() + 1e-9))


def _alone(
    notes: Notes, singer: Singer, rate: int, count: int, said: np.random.Generator, own: np.random.Generator
) -> tuple[np.ndarray, list[float]]:
    """One voice: (count,) samples, and the actual end of each note."""
    steps = round(count * CONTROL / rate) + 1
    at = np.arange(steps) / CONTROL
    pitch, level, hiss = np.full(steps, float(notes[0][2]) if notes else 60.0), np.zeros(steps), np.zeros(steps)
    mouth = np.ones((steps, 2))
    before, ends = 0.0, [n[1] for n in notes]
    for i, (start, end, number, loud) in enumerate(notes):
        led = i > 0 and start - before < 0.06
        kind = int(said.choice(5, p=singer.habits))
        kind = said.choice([HISS, STOP, DIP]) if led and kind == NOTHING and number == notes[i - 1][2] else kind
        room = start - (notes[i - 1][0] if i else 0.0)
        length = min(float(said.uniform(0.015, singer.longest)), 0.55 * room)
        length = min(length, 0.05) if kind == HUM else length
        first, a = max(0, round((start - length) * CONTROL)), round(start * CONTROL)
        z = min(steps, round((end + singer.release) * CONTROL))
        since = at[a:z] - at[min(a, steps - 1)]
        trill = singer.vibrato * np.sin(2 * np.pi * singer.speed * since + own.uniform(0, 6))
        aim = number + trill * np.clip((since - singer.sets_in) / 0.25, 0.1, 1)
        if led:
            share = 1 / (1 + np.exp(-(since - 0.01) / (0.3 * singer.glide)))
            pitch[a:z] = pitch[max(0, a - 1)] * (1 - share) + aim * share
        else:
            pitch[first:z] = number
            pitch[a:z] = aim - singer.scoop * own.uniform(0.3, 1.0) * np.exp(-since / own.uniform(0.02, 0.06))
        shape = np.clip(since / (singer.attack if kind in (NOTHING, DIP, HUM) else 0.3 * singer.attack + 0.004), 0, 1)
        shape *= np.clip((end + singer.release - at[a:z]) / singer.release, 0, 1) ** 1.3
        shape *= loud * (1 + 0.2 * np.sin(2 * np.pi * own.uniform(0.2, 1.5) * since + own.uniform(0, 6)))
        level[a:z] = np.maximum(shape, level[a:z] * np.clip(1 - since / 0.06, 0, 1)) if led else shape
        mouth[a:z] = 2 ** said.uniform(-0.7, 0.7, 2)
        _say(kind, first, a, loud, level, hiss, mouth, said)
        if led and kind in (HISS, STOP):
            ends[i - 1] = min(ends[i - 1], at[first] + 0.3 * length)
        before = end
    if singer.dips or singer.tremble:
        level *= _uneven(at, singer, own)
    if singer.breaks:
        for place in own.integers(0, steps, max(1, int(steps / CONTROL / 3))).tolist():
            part = slice(place, place + int(own.integers(15, 60)))
            pitch[part] += singer.breaks * own.choice([-1.0, 1.0])
    smooth = np.stack([np.convolve(np.pad(m, 20, mode="edge"), np.hanning(41) / 20, "valid") for m in mouth.T], axis=1)
    wander = singer.drift * np.cumsum(own.normal(size=steps)) / np.sqrt(CONTROL)
    return _voiced(pitch + wander + singer.tuned, level, hiss, smooth, singer, rate, count, own), ends


def _uneven(at: np.ndarray, singer: Singer, own: np.random.Generator) -> np.ndarray:
    """Dips and swells of the level that begin no note, and tremolo: (n,) factors."""
    decibels = np.zeros(len(at))
    for _ in range(int(own.poisson(singer.dips * at[-1]))):
        middle, width = own.uniform(0, at[-1]), between(own, 0.07, 0.4)
        decibels -= own.uniform(0.2, 1.0) * singer.deep * np.exp(-(((at - middle) / width) ** 2))
    knots = np.arange(0, at[-1] + 0.6, 0.6)
    decibels += np.interp(at, knots, own.normal(0, singer.deep / 4, len(knots)))
    tremolo = 1 + singer.tremble * np.sin(2 * np.pi * singer.speed * at + own.uniform(0, 6))
    return np.asarray(10 ** (decibels / 20) * tremolo)


def _say(
    kind: int, first: int, a: int, loud: float, level: np.ndarray, hiss: np.ndarray, mouth: np.ndarray,
    said: np.random.Generator,
) -> None:  # fmt: skip
    """A consonant from `first` until its vowel starts at `a`."""
    length = a - first
    if length < 3:
        return
    x = np.linspace(0, 1, length)
    if kind == HUM:
        level[first:a] = np.maximum(
            level[first:a] * (1 - 0.6 * x), loud * said.uniform(0.15, 0.5) * np.minimum(1, 8 * x)
        )
        mouth[first:a] = (0.45, 0.7)
    elif kind == HISS:
        level[first:a] *= (1 - x) ** 4
        hiss[first:a] = np.minimum(1, np.minimum(6 * x, 6 * (1 - x))) * loud * 10 ** said.uniform(-2.2, -0.6)
    elif kind == STOP:
        level[first:a] *= (1 - x) ** 8
        burst = min(length, int(said.integers(4, 40)))
        if said.random() < 0.7:
            hiss[a - burst : a] = np.exp(-3 * np.linspace(0, 1, burst)) * loud * 10 ** said.uniform(-2.0, -0.4)
    elif kind == DIP:
        level[first:a] *= 1 - said.uniform(0.3, 0.95) * np.sin(np.pi / 2 * x) ** 2


def _voiced(
    pitch: np.ndarray, level: np.ndarray, hiss: np.ndarray, mouth: np.ndarray, singer: Singer, rate: int, count: int,
    own: np.random.Generator,
) -> np.ndarray:  # fmt: skip
    """(count,) samples from controls at CONTROL."""
    t = np.arange(count) / rate
    at = np.arange(len(pitch)) / CONTROL
    frequency = 440 * 2 ** ((pitch - 69) / 12)
    shiver = own.normal(0, 0.004, len(pitch))
    phase = 2 * np.pi * np.cumsum(np.interp(t, at, frequency * (1 + shiver))) / rate
    centres = np.array(singer.resonances) * np.stack(
        [mouth[:, 0], mouth[:, 1], mouth[:, 1] ** 0.4, np.ones(len(mouth))], 1
    )
    out = np.zeros(count)
    for k in range(1, 2 if singer.whistles else 46):
        f = k * frequency
        if f.min() > 0.45 * rate:
            break
        gain = np.zeros(len(f))
        for j, width in enumerate(singer.widths):
            gain += 0.7**j / np.sqrt(1 + ((f - centres[:, j]) / width) ** 2)
        if singer.hums:
            # Closed lips: the nose lets the lowest through.
            gain = (1 - singer.hums) * gain + singer.hums / (1 + (f / 420) ** 3)
        gain = np.where(f < 0.45 * rate, (0.02 * (1 - singer.hums) + gain) * k**-singer.tilt * level, 0.0)
        out += np.interp(t, at, gain) * np.sin(k * phase + own.uniform(0, 6))
    if singer.growl:
        rough = np.interp(t, at, np.cumsum(own.normal(0, 0.02, len(at))))
        out *= 1 + singer.growl * np.sin(phase / own.choice([2, 2, 2, 3]) + rough)
    out /= np.sqrt(np.mean(out**2)) + 1e-9
    noise = own.normal(size=count)
    noise = noise - own.uniform(-0.5, 0.95) * np.roll(noise, 1)
    return np.asarray(out + noise * (np.interp(t, at, hiss) * 4 + singer.breath * np.interp(t, at, level)))
