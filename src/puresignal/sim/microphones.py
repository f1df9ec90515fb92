"""How sound is recorded badly: telephones, near and far microphones, machines in the room, clicks from headphones."""

from __future__ import annotations

import numpy as np
from scipy.signal import butter, sosfilt

from puresignal.sim.percussion_synthesis import between


def any_microphone(sound: np.ndarray, rate: int, random: np.random.Generator) -> np.ndarray:
    """The sound through some of what happens to recordings: (n,) float32 with a peak below 1."""
    out = np.asarray(sound, np.float64)
    out = 0.8 * out / (np.abs(out).max() + 1e-9)
    if random.random() < 0.25:
        out = _telephone(out, rate, random)
    if random.random() < 0.2:
        # Near the mouth the lows grow.
        out = out + random.uniform(0.3, 2.0) * sosfilt(butter(1, 180, "low", fs=rate, output="sos"), out)
    if random.random() < 0.2:
        out = sosfilt(butter(2, random.uniform(90, 320), "high", fs=rate, output="sos"), out)
    if random.random() < 0.15:
        out = np.clip(out, -random.uniform(0.35, 0.7), random.uniform(0.35, 0.7))
    out = 0.8 * out / (np.abs(out).max() + 1e-9)
    if random.random() < 0.35:
        out = out + 10 ** (random.uniform(-55, -24) / 20) * _machine(len(out), rate, random)
    if random.random() < 0.15:
        out = out + 10 ** (random.uniform(-50, -30) / 20) * _clicks(len(out), rate, random)
    return np.asarray(0.9 * out / max(1.0, float(np.abs(out).max())), np.float32)


def _telephone(sound: np.ndarray, rate: int, random: np.random.Generator) -> np.ndarray:
    """A narrow band, coarse steps that grow with the level, and sometimes gaps."""
    band = [random.uniform(150, 400), random.uniform(3000, 0.9 * min(8000, rate / 2))]
    out = sosfilt(butter(3, band, "band", fs=rate, output="sos"), sound)
    out = 0.9 * out / (np.abs(out).max() + 1e-9)
    steps = 2 ** random.uniform(5, 8)
    squeezed = np.round(np.sign(out) * np.log1p(255 * np.abs(out)) / np.log(256) * steps) / steps
    return np.asarray(np.sign(squeezed) * (256 ** np.abs(squeezed) - 1) / 255)


def _machine(count: int, rate: int, random: np.random.Generator) -> np.ndarray:
    """Hum of the mains with its harmonics, and the rush of a fan: level 1."""
    t = np.arange(count) / rate
    base = float(random.choice([50.0, 60.0]))
    hum = sum(random.uniform(0, 1) / k * np.sin(2 * np.pi * base * k * t + random.uniform(0, 6)) for k in range(1, 8))
    rush = sosfilt(butter(1, between(random, 150, 2500), "low", fs=rate, output="sos"), random.normal(size=count))
    out = random.uniform(0, 1) * hum + random.uniform(0.3, 1) * rush / (rush.std() + 1e-9)
    return np.asarray(out / (out.std() + 1e-9))


def _clicks(count: int, rate: int, random: np.random.Generator) -> np.ndarray:
    """A metronome that leaks from headphones: short tones, even in time, peak 1."""
    out = np.zeros(count)
    every, first = random.uniform(0.3, 0.8), random.uniform(0, 0.5)
    size = round(0.02 * rate)
    tone = np.sin(2 * np.pi * between(random, 700, 3500) * np.arange(size) / rate) * np.exp(
        -np.arange(size) / (size / 5)
    )
    for place in np.arange(first, count / rate - 0.03, every).tolist():
        begin = round(place * rate)
        out[begin : begin + size] += tone[: len(out) - begin]
    return out
