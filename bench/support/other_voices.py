"""Humming, whistling, quiet and trembling voices, for checking the ear: a third synthesis, of nothing trained on.

The voice is a decaying pulse through fixed resonances. Loudness swells and dips within notes, which begins no new
note; notes of one pitch are always apart.
"""

from __future__ import annotations

import numpy as np
from scipy.signal import butter, lfilter, sosfilt

RATE = 44_100
MANNERS = ("hummed", "whistled", "quiet", "trained", "on the phone", "growled")
Notes = list[tuple[float, float, int, float]]


def line(random: np.random.Generator, seconds: float, low: int, high: int) -> Notes:
    """A tune in a scale: tied notes change their pitch, repeated ones are apart."""
    scale = [n for n in range(low, high + 1) if (n - low) % 12 in (0, 2, 4, 5, 7, 9, 11)]
    place, at = len(scale) // 2, 0.35
    notes: Notes = []
    beat = float(random.uniform(0.32, 0.6))
    while at < seconds - 0.7:
        length = beat * float(random.choice([0.5, 0.5, 1, 1, 1, 2]))
        tied = random.random() < 0.55
        step = int(random.choice([-3, -2, -1, -1, 0, 1, 1, 2, 4]))
        notes.append(
            (at, at + length * (1.0 if tied and step else 0.82), scale[place], float(random.uniform(0.5, 0.9)))
        )
        at += length
        place = int(np.clip(place + step, 0, len(scale) - 1))
        if random.random() < 0.08:
            at += beat
    out = []
    for i, (s, e, n, v) in enumerate(notes):
        after = notes[i + 1] if i + 1 < len(notes) else None
        if after is not None and after[2] == n and after[0] - e < 0.07:
            e = after[0] - 0.08
        out.append((s, e, n, v))
    return out


def sing(notes: Notes, random: np.random.Generator, manner: str) -> np.ndarray:
    """(n,) float32 at RATE."""
    count = round((notes[-1][1] + 0.7) * RATE)
    t = np.arange(count) / RATE
    pitch, level = np.full(count, float(notes[0][2])), np.zeros(count)
    vibrato = {"trained": 0.6, "hummed": 0.2, "growled": 0.1}.get(manner, 0.25) * float(random.uniform(0.4, 1.3))
    late, speed = float(random.uniform(0.1, 0.5)), float(random.uniform(4.5, 6.5))
    glide = float(random.uniform(0.02, 0.05))
    for i, (start, end, number, loud) in enumerate(notes):
        a, b = round(start * RATE), min(count, round(end * RATE))
        tied = i > 0 and start - notes[i - 1][1] < 0.03
        since = t[a:] - start
        aim = number + vibrato * np.sin(2 * np.pi * speed * since) * np.clip((since - late) / 0.3, 0, 1)
        if tied:
            share = 0.5 + 0.5 * np.tanh(since / glide)
            pitch[a:] = pitch[a - 1] * (1 - share) + aim * share
        else:
            pitch[a:] = aim - float(random.uniform(0, 0.8)) * np.exp(-since / 0.04)
        attack = float(random.uniform(0.02, 0.07))
        long = b - a
        shape = loud * np.ones(long)
        if not tied:
            shape *= np.clip(np.arange(long) / (attack * RATE), 0, 1)
        follows = i + 1 < len(notes) and notes[i + 1][0] - end < 0.03
        if not follows:
            fade = round(min(0.08, 0.4 * (end - start)) * RATE)
            shape[-fade:] *= np.linspace(1, 0, fade) ** 1.2
        level[a:b] = shape
    # Swells and dips that mean nothing.
    knots = np.arange(0, t[-1] + 0.35, 0.35)
    depth = 4.5 if manner in ("hummed", "quiet", "growled") else 2.5
    level *= 10 ** (np.interp(t, knots, random.normal(0, depth / 2, len(knots))) / 20)
    level *= 10 ** (-np.abs(np.interp(t, knots, random.normal(0, depth / 2, len(knots)))) / 20)
    wander = np.interp(t, knots, random.normal(0, 0.12, len(knots)))
    jitter = np.interp(t, np.arange(0, t[-1] + 0.01, 0.007), random.normal(0, 0.04, int((t[-1] + 0.01) / 0.007) + 1))
    tuned = float(random.uniform(-0.35, 0.35))
    hertz = 440 * 2 ** ((pitch + wander + jitter + tuned - 69) / 12)
    phase = np.cumsum(hertz / RATE)
    white = random.normal(size=count)
    if manner == "whistled":
        breath = sosfilt(butter(2, [900, 4000], "band", fs=RATE, output="sos"), white)
        out = level * np.sin(2 * np.pi * phase) + 0.03 * level * breath
    else:
        turn = phase % 1.0
        pulse = np.exp(-7 * turn) - 0.14 * np.exp(-1.2 * turn)
        if manner == "growled":
            pulse *= 1 + 0.5 * np.sin(np.pi * phase)
        airy = {"quiet": 0.5, "hummed": 0.1}.get(manner, 0.15)
        source = level * (pulse - pulse.mean() + airy * 0.2 * white * (1 - turn))
        size = float(random.uniform(0.9, 1.2))
        formants = ((260, 60), (1050, 200)) if manner == "hummed" else (
            (float(random.choice([350, 500, 650, 750])), 90), (float(random.choice([900, 1300, 1800])), 120),
            (2600, 180),
        )  # fmt: skip
        out = np.zeros(count)
        for k, (centre, width) in enumerate(formants):
            r = np.exp(-np.pi * width / RATE)
            c = 2 * r * np.cos(2 * np.pi * centre * size / RATE)
            out += 0.6**k * lfilter([1 - r], [1, -c, r * r], source)
    out = out / (np.abs(out).max() + 1e-9)
    if manner == "on the phone":
        out = sosfilt(butter(4, [300, 3400], "band", fs=RATE, output="sos"), out)
        out = np.sign(out) * np.log1p(255 * np.abs(out)) / np.log(256)
        out = np.round(out * 64) / 64
        out = np.sign(out) * (256 ** np.abs(out) - 1) / 255
    if manner == "quiet":
        room = np.cumsum(random.normal(size=count))
        room -= np.convolve(room, np.ones(2000) / 2000, "same")
        out = out + 10 ** (float(random.uniform(-30, -22)) / 20) * (0.5 * random.normal(size=count) + room / room.std())
    return np.asarray(0.7 * out / (np.abs(out).max() + 1e-9), np.float32)
