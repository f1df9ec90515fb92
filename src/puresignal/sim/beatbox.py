"""Vocal percussion: syllables with a character of their own, breaths in between, and the truth."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np


@dataclass(frozen=True)
class Syllable:
    """One vocal sound.

    burst    level of the click at its onset; hiss: of the breath after it; voice: of the sung part
    centre   Hz of the hiss; wide: its width in octaves; lasts: its seconds
    pitch    Hz of the voice; falls: octaves of its drop; formant: Hz; hum: seconds
    rises    seconds in which the hiss comes up; holds: seconds before it decays; both from its start
    after    seconds of the consonant before the voice starts
    """

    burst: float
    hiss: float
    voice: float
    centre: float
    wide: float
    lasts: float
    pitch: float
    falls: float
    formant: float
    hum: float
    rises: float = 0.006
    holds: float = 0.0
    after: float = 0.0


def any_syllable(random: np.random.Generator) -> Syllable:
    """A random syllable: struck or breathed, short or held, a single sound or a consonant and a vowel."""
    kind, slow = random.random(), random.random() < 0.25
    return Syllable(
        burst=float(random.uniform(0.1, 1.0)) * (not slow),
        hiss=float(random.uniform(0.1, 1.0)) if kind < 0.75 else float(random.uniform(0, 0.15)),
        voice=float(random.uniform(0.2, 1.0)) if kind > 0.45 else 0.0,
        centre=float(np.exp(random.uniform(np.log(500), np.log(9000)))), wide=float(random.uniform(0.4, 1.6)),
        lasts=float(np.exp(random.uniform(np.log(0.02), np.log(0.22)))),
        pitch=float(np.exp(random.uniform(np.log(70), np.log(320)))), falls=float(random.uniform(-0.2, 1.2)),
        formant=float(np.exp(random.uniform(np.log(300), np.log(2500)))),
        hum=float(np.exp(random.uniform(np.log(0.05), np.log(0.25)))),
        rises=float(np.exp(random.uniform(np.log(0.01), np.log(0.06)))) if slow else 0.006,
        holds=float(random.uniform(0.02, 0.15)) if random.random() < 0.35 else 0.0,
        after=float(random.uniform(0.02, 0.12)) if random.random() < 0.35 else 0.0,
    )  # fmt: skip


def _coloured(count: int, centre: float, wide: float, rate: int, random: np.random.Generator) -> np.ndarray:
    spectrum = np.fft.rfft(random.normal(size=count))
    frequency = np.maximum(30.0, np.linspace(0, rate / 2, len(spectrum)))
    spectrum *= np.exp(-((np.log2(frequency / centre) / wide) ** 2))
    out = np.fft.irfft(spectrum, count)
    return np.asarray(out / (np.abs(out).max() + 1e-9))


def say(syllable: Syllable, loud: float, rate: int, random: np.random.Generator) -> np.ndarray:
    """One utterance of the syllable, never twice the same: (n,) float64 with a peak of about `loud`."""
    s = syllable
    count = round((0.04 + max(s.holds + s.lasts * 2.2, s.after + s.hum * 2.2)) * rate)
    t = np.arange(count) / rate
    out = np.zeros(count)
    click = round(0.012 * rate)
    out[:click] += s.burst * random.normal(size=click) * np.exp(-np.arange(click) / (0.0025 * rate))
    if s.hiss:
        late = random.uniform(0.0, 0.008)
        held = s.holds * random.uniform(0.8, 1.25)
        shape = np.clip((t - late) / (s.rises * random.uniform(0.8, 1.25)), 0, 1) * np.exp(
            -np.maximum(0, t - late - held) / (s.lasts * random.uniform(0.8, 1.25))
        )
        centre = s.centre * 2 ** random.normal(0, 0.1)
        out += s.hiss * _coloured(count, centre, s.wide, rate, random) * shape
    if s.voice:
        late = random.uniform(0.0, 0.02) + s.after * random.uniform(0.85, 1.2)
        pitch = s.pitch * 2 ** (random.normal(0, 0.08) - s.falls * np.minimum(1, t / max(0.03, s.hum)))
        phase = 2 * np.pi * np.cumsum(pitch) / rate
        voiced = np.zeros(count)
        for k in range(1, 25):
            if k * s.pitch > 0.4 * rate:
                break
            voiced += (0.25 + np.exp(-((np.log2(k * s.pitch / s.formant) / 0.8) ** 2))) / k**0.7 * np.sin(k * phase)
        shape = np.clip((t - late) / 0.01, 0, 1) * np.exp(-((np.maximum(0, t - late) / s.hum) ** 2))
        out += s.voice * voiced / (np.abs(voiced).max() + 1e-9) * shape
    fade = min(count, round(0.02 * rate))
    out[-fade:] *= np.linspace(1, 0, fade)
    return np.asarray(loud * out / (np.abs(out).max() + 1e-9))


def beat(
    syllables: list[Syllable], seconds: float, rate: int, random: np.random.Generator, breaths: float = 0.12
) -> tuple[np.ndarray, list[tuple[float, int]]]:
    """A rhythm of the syllables with breaths in between: (n,) float32, and (second, number of the syllable)."""
    return rhythm([partial(_take, syllable, rate) for syllable in syllables], seconds, rate, random, breaths)


def _take(syllable: Syllable, rate: int, loud: float, random: np.random.Generator) -> np.ndarray:
    return say(syllable, loud, rate, random)


def rhythm(
    takes: Sequence[Callable[[float, np.random.Generator], np.ndarray]], seconds: float, rate: int,
    random: np.random.Generator, breaths: float = 0.12,
) -> tuple[np.ndarray, list[tuple[float, int]]]:  # fmt: skip
    """The result of beat() for arbitrary sounds; takes: functions that make one instance at a loudness."""
    out = np.zeros(round((seconds + 0.7) * rate))
    truth: list[tuple[float, int]] = []
    at, step = float(random.uniform(0.15, 0.6)), float(random.uniform(0.11, 0.24))
    while at < seconds - 0.2:
        begin = round(at * rate)
        if random.random() < breaths:
            count = round(random.uniform(0.12, 0.35) * rate)
            sigh = _coloured(count, random.uniform(800, 4000), 1.3, rate, random) * np.hanning(count)
            out[begin : begin + count] += random.uniform(0.01, 0.09) * sigh[: len(out) - begin]
            at += count / rate + float(random.uniform(0.0, 0.1))
            continue
        which = int(random.integers(len(takes)))
        sound = takes[which](float(random.uniform(0.3, 1.0)), random)[: len(out) - begin]
        out[begin : begin + len(sound)] += sound
        truth.append((at, which))
        at += step * float(random.choice([1, 2, 2, 3])) + float(random.normal(0, 0.006))
    return np.asarray(out, np.float32), truth
