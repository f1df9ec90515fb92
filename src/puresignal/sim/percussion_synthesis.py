"""Parts of drum sounds: band noise, falling pitch, cymbal modes, the attack of a stick, a room.

Source  a plate passes energy on to higher modes, so a cymbal's highs come up after the stroke: A. Chaigne and others,
        Nonlinear vibrations and chaos in gongs and cymbals, 2005; membrane modes: N. Fletcher and T. Rossing, The
        Physics of Musical Instruments, 1998
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np


def between(random: np.random.Generator, low: float, high: float) -> float:
    """A random number, equally likely in each octave."""
    return float(np.exp(random.uniform(np.log(low), np.log(high))))


def quick_size(count: int) -> int:
    """A length of at least `count` with a fast transform: a power of two, or three quarters of one."""
    size = 1 << max(1, (count - 1).bit_length())
    return size * 3 // 4 if size >= 4 and count <= size * 3 // 4 else size


def noise(count: int, low: float, high: float, rate: int, random: np.random.Generator) -> np.ndarray:
    """(count,) noise from `low` to `high` Hz with a peak of 1."""
    size = quick_size(count)
    spectrum = np.fft.rfft(random.standard_normal(size, np.float32))
    frequency = np.maximum(20.0, np.linspace(0, rate / 2, len(spectrum)))
    spectrum *= 1 / (1 + (low / frequency) ** 4) / (1 + (frequency / high) ** 4)
    out = np.fft.irfft(spectrum, size)[:count]
    return np.asarray(out / (np.abs(out).max() + 1e-9))


def drop(hz: float, octaves: float, quick: float, decay: float, rate: int, seconds: float) -> np.ndarray:
    """A sine that falls to `hz` from this many octaves above in about `quick` seconds, and to a third of its level
    in `decay`."""
    t = np.arange(round(seconds * rate)) / rate
    pitch = hz * 2 ** (octaves * np.exp(-t / quick))
    return np.asarray(np.sin(2 * np.pi * np.cumsum(pitch) / rate + 0.5) * np.exp(-t / decay))


def _ringing(pitches: np.ndarray, falls: np.ndarray, levels: np.ndarray, count: int, rate: int) -> np.ndarray:
    """(count,) sum of modes: Hz, seconds until a third of the level, complex levels with their phases."""
    block = int(np.ceil(np.sqrt(count)))
    turn = (2j * np.pi * pitches - 1 / falls) / rate
    # exp(z (a B + b)) is a product, so a thousand modes are one matrix product; only its real part is used.
    coarse = _powers(np.exp(turn * block), block, levels)
    fine = _powers(np.exp(turn), block, np.ones(len(turn)))
    left = np.concatenate([coarse.real, -coarse.imag], axis=0).astype(np.float32)
    right = np.concatenate([fine.real, fine.imag], axis=0).astype(np.float32)
    return np.asarray((left.T @ right).ravel()[:count], float)


def _powers(base: np.ndarray, count: int, first: np.ndarray) -> np.ndarray:
    """(n, count) each number to the powers 0, 1, .. times a first one: by doubling, which is faster than exp."""
    out = np.empty((len(base), count), complex)
    out[:, 0], done, step = first, 1, base.astype(complex)
    while done < count:
        more = min(done, count - done)
        np.multiply(out[:, :more], step[:, None], out=out[:, done : done + more])
        done, step = done + more, step * step
    return out


def colour(random: np.random.Generator, spread: float) -> Callable[[np.ndarray], np.ndarray]:
    """A random gain by frequency: about `spread` decibels up and down, octave by octave."""
    knots = random.normal(0, spread, 11)
    return lambda hz: np.asarray(10 ** (np.interp(np.log2(np.maximum(hz, 20) / 20), np.arange(11), knots) / 20))


@dataclass(frozen=True, eq=False)
class Plate:
    """A cymbal: its modes in Hz, their levels, and the seconds until each falls to a third if undamped."""

    pitches: np.ndarray
    levels: np.ndarray
    falls: np.ndarray


def plate(
    random: np.random.Generator, modes: tuple[float, float], full: tuple[float, float], high: tuple[float, float],
    longest: float, slope: float = 0.9,
) -> Plate:  # fmt: skip
    """A random cymbal.

    modes    range of their number; full, high: ranges of the Hz from which, and up to which, it is loud
    longest  seconds that its modes around 1 kHz ring; slope: how much faster its highs decay, at most
    """
    # A plate has equally many modes in each Hz; a drum machine has a few.
    pitches = np.sort(random.uniform(between(random, 60, 600), 21_000, round(between(random, *modes))))
    begins, ends = between(random, *full), between(random, *high)
    levels = (1 + (begins / pitches) ** 2) ** -random.uniform(0.1, 0.9)
    levels = levels * (1 + (pitches / ends) ** 4) ** -random.uniform(0.1, 0.6) * colour(random, 4)(pitches)
    falls = longest * (pitches / 1000) ** -random.uniform(0.0, slope)
    return Plate(pitches, levels * random.lognormal(0, 0.6, len(pitches)), falls)


def strike(
    cymbal: Plate, seconds: float, rate: int, random: np.random.Generator, *, damped: float = np.inf,
    swell: float = 0.0005, quick: float = 0.0, quick_falls: float = 0.03, stick: float = np.inf, loose: float = 0.0,
) -> np.ndarray:  # fmt: skip
    """A stroke on a cymbal. damped: longest ring in seconds; swell: seconds in which its high modes come up.

    quick: initial extra level, decaying in quick_falls; stick: Hz above which the stick does not excite; loose: part
    that
    keeps ringing in spite of the damping
    """
    count = round(seconds * rate)
    falls = 1 / (1 / cymbal.falls + 1 / damped)
    levels = cymbal.levels / (1 + (cymbal.pitches / stick) ** 2) * np.exp(2j * np.pi * random.random(len(falls)))
    rise = np.minimum(falls * 0.7, swell * (cymbal.pitches / 3000) ** 0.5)
    out = _ringing(cymbal.pitches, falls, levels, count, rate)
    out -= _ringing(cymbal.pitches, 1 / (1 / falls + 1 / rise), levels, count, rate)
    if loose:
        out += _ringing(cymbal.pitches, np.minimum(cymbal.falls, 10 * falls), loose * levels, count, rate)
    if quick:
        out += _ringing(cymbal.pitches, np.minimum(falls, quick_falls), quick * levels, count, rate)
    return np.asarray(out / (np.abs(out).max() + 1e-9))


@dataclass(frozen=True, eq=False)
class Bite:
    """The attack of a stick or beater: noise from `low` to `high` Hz that decays in `lasts` seconds.

    rest  the part that decays in `lingers` seconds instead
    """

    low: float
    high: float
    lasts: float
    rest: float
    lingers: float

    def sound(self, rate: int, random: np.random.Generator) -> np.ndarray:
        """(n,) with a variance of 1 at its start."""
        count = round(5 * max(self.lasts, self.lingers) * rate)
        t = np.arange(count) / rate
        out = noise(count, self.low, self.high, rate, random)
        falls = (1 - self.rest) * np.exp(-t / self.lasts) + self.rest * np.exp(-t / self.lingers)
        return np.asarray(out / (out.std() + 1e-9) * falls)


def added(body: np.ndarray, more: np.ndarray, level: float = 1.0) -> np.ndarray:
    """Two sounds that start together, as long as the first."""
    out = body.copy()
    count = min(len(body), len(more))
    out[:count] += level * more[:count]
    return out


class Room:
    """The later sound at the microphones, from walls and the other drums."""

    def __init__(self, random: np.random.Generator, rate: int):
        falls, wet = between(random, 0.03, 0.2), 10 ** (random.uniform(-30, -8) / 20)
        self.seconds = 4 * falls
        count = round(self.seconds * rate)
        tail = noise(count, 100, between(random, 1500, 12_000), rate, random) * np.exp(
            -np.arange(count) / (falls * rate)
        )
        self._tail = (wet * tail / (np.sqrt((tail**2).sum()) + 1e-9)).astype(np.float32)
        self._answers: dict[int, np.ndarray] = {}

    def answer(self, size: int) -> np.ndarray:
        """(size // 2 + 1,) gain by frequency."""
        if size not in self._answers:
            self._answers[size] = 1 + np.fft.rfft(self._tail[:size], size)
        return self._answers[size]
