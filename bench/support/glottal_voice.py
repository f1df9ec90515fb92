"""A voice for checking the ear, synthesised unlike sim/singer.py: glottal pulses through moving resonances.

(Glottal pulse: A. Rosenberg, Effect of glottal pulse shape on the quality of natural vowels, 1971. Formants: G.
Peterson and H. Barney, Control methods used in a study of the vowels, 1952.) Nothing of it is used in training.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from scipy.signal import lfilter

RATE = 44_100
VOWELS = (
    (270, 2290, 3010),
    (530, 1840, 2480),
    (730, 1090, 2440),
    (570, 840, 2410),
    (300, 870, 2240),
    (490, 1350, 1690),
)
NASAL = (250, 1100, 2200)
BLOCK = 110
"""Samples per block of constant resonances."""

Notes = list[tuple[float, float, int, float]]


def sing(notes: Notes, random: np.random.Generator) -> np.ndarray:
    """The line as (n,) float32, by a random singer: consonants before notes, glides between tied notes."""
    size = random.uniform(0.95, 1.25)
    count = round((notes[-1][1] + 0.8) * RATE)
    t = np.arange(count) / RATE
    pitch, voiced, noise = np.full(count, float(notes[0][2])), np.zeros(count), np.zeros(count)
    mouths = np.zeros((-(-count // BLOCK), 3))
    vibrato, speed = random.uniform(0.0, 0.9), random.uniform(4.3, 6.8)
    habits = random.dirichlet([1.5, 1.0, 1.0, 1.0, 1.0])
    scoops = random.uniform(0.0, 1.5) if random.random() < 0.6 else 0.0
    breath = 10 ** random.uniform(-3.0, -1.6)
    before = 0.0
    for i, (start, end, number, loud) in enumerate(notes):
        a, b = round(start * RATE), round(end * RATE)
        led = i > 0 and start - before < 0.05
        kind = int(random.choice(5, p=habits)) if led or random.random() < 0.8 else 0
        said = min(random.uniform(0.05, 0.11), 0.6 * (start - notes[i - 1][0])) if i else random.uniform(0.05, 0.11)
        # The start of a voiced consonant and the start of its vowel may both count as the onset.
        said = min(said, 0.045) if kind == 1 else said
        first = max(0, a - round(said * RATE))
        own = np.arange(a, min(count, b + round(0.2 * RATE)))
        since = (own - a) / RATE
        aim = number + vibrato * np.sin(2 * np.pi * speed * since + 6 * random.random()) * np.clip(
            (since - 0.15) / 0.3, 0, 1
        )
        aim -= scoops * random.uniform(0.3, 1.0) * np.exp(-since / random.uniform(0.03, 0.07)) * (not led)
        glide = 1.0 / (1.0 + np.exp(-(since + 0.01) / 0.013)) if led else 1.0
        pitch[own] = pitch[max(0, a - 1)] * (1 - glide) + aim * glide
        attack = random.uniform(0.012, 0.08) if kind in (0, 1, 4) else random.uniform(0.008, 0.03)
        shape = np.clip(since / attack, 0, 1) * np.clip((b + round(0.06 * RATE) - own) / (0.1 * RATE), 0, 1) ** 1.5
        if led:
            shape = np.maximum(shape, voiced[own] * (since < 0.08))
        # Singing varies in loudness.
        voiced[own] = loud * shape * (1 + 0.25 * np.sin(2 * np.pi * random.uniform(0.2, 1.2) * since))
        vowel = np.array(VOWELS[int(random.integers(len(VOWELS)))]) * size
        mouths[a // BLOCK : b // BLOCK + 1] = vowel
        if kind == 1:
            voiced[first:a] = np.maximum(0.3 * loud, 0.4 * voiced[first:a])
            pitch[first:a] = pitch[min(count - 1, a + 400)] if not led else pitch[first:a]
            mouths[first // BLOCK : a // BLOCK] = np.array(NASAL) * size
        elif kind == 2:
            voiced[first:a] *= np.linspace(1, 0, a - first) ** 3
            noise[first:a] += np.hanning(a - first) * random.uniform(0.01, 0.08)
        elif kind == 3:
            voiced[first:a] *= np.linspace(1, 0, a - first) ** 6
            burst = min(a, 400)
            noise[a - burst : a] += np.exp(-np.arange(burst) / 120) * random.uniform(0.03, 0.15)
        elif kind == 4:
            voiced[first:a] *= 1 - 0.75 * np.hanning(2 * (a - first))[: a - first]
        if start - before > 0.2 and i and random.random() < 0.4:
            taken = np.arange(round((before + 0.05) * RATE), first)
            noise[taken] += 0.015 * np.hanning(len(taken))
        before = end
    mouths[mouths[:, 0] == 0] = np.array(VOWELS[2]) * size
    mouths = np.stack([np.convolve(np.pad(m, 9, mode="edge"), np.ones(19) / 19, "valid") for m in mouths.T], axis=1)
    wander = np.cumsum(random.normal(size=count)) * 0.06 / np.sqrt(RATE)
    wander -= np.linspace(wander[0], wander[-1], count)
    jitter = np.interp(t, t[::200], random.normal(0, 0.06, len(t[::200])))
    tuned = random.uniform(-0.3, 0.3)
    phase = np.cumsum(440 * 2 ** ((pitch + wander + jitter + tuned - 69) / 12) / RATE) % 1.0
    rise, fall = random.uniform(0.3, 0.5), random.uniform(0.1, 0.25)
    pulse = np.where(
        phase < rise, 0.5 - 0.5 * np.cos(np.pi * phase / rise),
        np.where(phase < rise + fall, np.cos(np.pi / 2 * np.minimum(1, (phase - rise) / fall)), 0.0),
    )  # fmt: skip
    source = np.diff(pulse, prepend=pulse[0]) * 20 * voiced + breath * voiced * pulse * random.normal(size=count)
    out = _mouth(source, mouths)
    out = out / (np.sqrt(np.mean(out**2)) + 1e-9) * 0.1
    hiss = random.normal(size=count)
    return np.asarray(out + noise * (hiss - 0.7 * np.roll(hiss, 1)), np.float32)


def _mouth(source: np.ndarray, mouths: np.ndarray) -> np.ndarray:
    """Resonators in series, with new frequencies for each block."""
    out = source
    for k, width in enumerate((80.0, 110.0, 160.0)):
        state, parts = np.zeros(2), []
        radius = np.exp(-np.pi * width / RATE)
        for i, begin in enumerate(range(0, len(out), BLOCK)):
            turn = 2 * radius * np.cos(2 * np.pi * mouths[i, k] / RATE)
            # Unit gain at 0 Hz, whatever the frequency.
            part, state = lfilter([1 - turn + radius**2], [1, -turn, radius**2], out[begin : begin + BLOCK], zi=state)
            parts.append(part)
        out = np.concatenate(parts)
    return out


def line(random: np.random.Generator, seconds: float, low: int, high: int) -> Notes:
    """Notes in phrases: some tied to the next, some separate, some repeated at one pitch."""
    notes: Notes = []
    at, number = 0.4, int(random.integers(low, high + 1))
    while at < seconds - 0.8:
        for _ in range(int(random.integers(4, 11))):
            length = float(random.choice([0.18, 0.25, 0.35, 0.5, 0.8]))
            gap = 0.0 if random.random() < 0.6 else float(random.choice([0.06, 0.12]))
            notes.append((at, at + length, number, float(random.uniform(0.4, 1.0))))
            at += length + gap
            if random.random() > 0.2:
                number = int(np.clip(number + random.choice([-5, -4, -3, -2, -2, -1, 1, 2, 2, 3, 4, 5, 7]), low, high))
            if at > seconds - 0.8:
                break
        at += float(random.uniform(0.25, 0.5))
    # Two tied notes of one pitch without a consonant between them would be one note.
    return [
        (s, e - 0.05 if n == m and following - e < 0.03 else e, n, v)
        for (s, e, n, v), (following, _, m, _) in pairwise([*notes, (seconds + 9, 0.0, 0, 0.0)])
    ]
