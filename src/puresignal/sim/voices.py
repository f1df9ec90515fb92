"""A simulated singer and a simulated mouth drummer in front of the microphone, in real time.

Endless streams of sound, made two bars at a time. Shares no rule with the ear.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from puresignal.sim import beatbox, singer
from puresignal.sim.beatbox import Syllable

TUNE = ((0, 57, 5), (6, 60, 2), (8, 64, 5), (14, 62, 2), (16, 57, 5), (22, 60, 2), (24, 55, 7))
"""The sung line: (sixteenth, note, length in sixteenths)."""
MOUTH = {
    "kick": Syllable(0.7, 0.15, 1.0, 700, 1.0, 0.05, 85, 0.9, 420, 0.09),
    "snare.head": Syllable(0.9, 0.9, 0.25, 2600, 1.2, 0.09, 190, 0.3, 900, 0.05, after=0.02),
    "hat.closed": Syllable(0.25, 1.0, 0.0, 8200, 0.7, 0.035, 120, 0.0, 800, 0.05),
}
"""The syllable of the mouth drummer for each drum."""
PATTERN = (
    (0, "kick"), (2, "hat.closed"), (4, "snare.head"), (6, "hat.closed"), (7, "kick"), (10, "hat.closed"),
    (12, "snare.head"), (14, "hat.closed"),
)  # fmt: skip
NOISE = 10 ** (-62 / 20)


def sung(rate: int, bpm: float, seed: int) -> Iterator[tuple[np.ndarray, list[tuple[float, int]]]]:
    """Two bars at a time: (samples,) float32, and (second, note) of what is meant."""
    step = 60 / bpm / 4
    number = seed
    while True:
        line = [(at * step + 0.02, (at + long) * step, note, 0.85) for at, note, long in TUNE]
        bars = round(32 * step * rate)
        sound = singer.perform(line, singer.SUNG, rate, number)[:bars]
        yield np.pad(sound, (0, bars - len(sound))), [(at, note) for at, _, note, _ in line]
        number += 1


def spoken(rate: int, bpm: float, seed: int) -> Iterator[tuple[np.ndarray, list[tuple[float, str]]]]:
    """A bar of mouth drums at a time: (samples,) float32, and (second, drum)."""
    random = np.random.default_rng(seed)
    step = 60 / bpm / 4
    while True:
        meant = [(at * step + 0.02, name) for at, name in PATTERN]
        yield _said(meant, 16 * step, rate, random), meant


def examples(rate: int, name: str, seed: int) -> Iterator[tuple[np.ndarray, list[tuple[float, str]]]]:
    """One sound over and over, as somebody teaches it."""
    random = np.random.default_rng(seed)
    while True:
        meant = [(0.12, name)]
        yield _said(meant, 0.65, rate, random), meant


def silence(rate: int) -> Iterator[tuple[np.ndarray, list[tuple[float, int]]]]:
    """A quiet room."""
    random = np.random.default_rng(1)
    while True:
        yield (NOISE * random.normal(size=rate)).astype(np.float32), []


def _said(meant: list[tuple[float, str]], seconds: float, rate: int, random: np.random.Generator) -> np.ndarray:
    count = round(seconds * rate)
    out = NOISE * random.normal(size=count)
    for at, name in meant:
        sound = beatbox.say(MOUTH[name], float(random.uniform(0.5, 0.95)), rate, random)
        begin = round(at * rate)
        sound = sound[: count - begin]
        out[begin : begin + len(sound)] += 0.6 * sound
    return np.asarray(np.clip(out, -1, 1), np.float32)
