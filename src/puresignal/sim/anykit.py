"""Drum kits that nobody built, and grooves on them, with the truth: for tests and for training the ear.

A stroke is a few decaying partials, some coloured noise and a click, drawn anew for every kit; some kits are those
of the built-in sound, tuned and damped otherwise. Shares no rule with the ear.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from puresignal.core.sound import drums
from puresignal.core.sound.drums import Drum, Kit

SORTS = (
    "kick", "snare.head", "snare.side", "hat.closed", "hat.open", "hat.pedal", "tom1.head", "tom2.head", "tom3.head",
    "tom4.head", "crash1.bow", "ride.bow",
)  # fmt: skip

Strokes = dict[str, Callable[[float, np.random.Generator], np.ndarray]]
"""For each drum how it sounds at a loudness 0..1."""


def _between(random: np.random.Generator, low: float, high: float) -> float:
    return float(np.exp(random.uniform(np.log(low), np.log(high))))


def _noise(count: int, low: float, high: float, rate: int, random: np.random.Generator) -> np.ndarray:
    spectrum = np.fft.rfft(random.normal(size=count))
    frequency = np.maximum(20.0, np.linspace(0, rate / 2, len(spectrum)))
    spectrum *= 1 / (1 + (low / frequency) ** 4) / (1 + (frequency / high) ** 4)
    out = np.fft.irfft(spectrum, count)
    return np.asarray(out / (np.abs(out).max() + 1e-9))


def _drop(hz: float, octaves: float, quick: float, decay: float, rate: int, seconds: float) -> np.ndarray:
    t = np.arange(round(seconds * rate)) / rate
    pitch = hz * 2 ** (octaves * np.exp(-t / quick))
    return np.asarray(np.sin(2 * np.pi * np.cumsum(pitch) / rate + 0.5) * np.exp(-t / decay))


def _metal(count: int, low: float, random: np.random.Generator, rate: int) -> np.ndarray:
    t = np.arange(count) / rate
    out = np.zeros(count)
    for _ in range(int(random.integers(6, 26))):
        out += random.uniform(0.3, 1) * np.sin(2 * np.pi * low * random.uniform(0.5, 9) * t + random.uniform(0, 6))
    return np.asarray(out / (np.abs(out).max() + 1e-9))


def drawn_kit(random: np.random.Generator, rate: int) -> Strokes:
    """A kit drawn at random."""
    kit: Strokes = {}
    click = random.uniform(0, 0.6)

    def struck(body: np.ndarray, loud: float, own: np.random.Generator, sharp: float) -> np.ndarray:
        burst = round(0.006 * rate)
        out = body.copy()
        out[:burst] += sharp * loud * own.normal(size=burst) * np.exp(-np.arange(burst) / (0.0012 * rate))
        # Soft strokes are duller.
        soft = 0.85 * (1 - loud)
        if soft > 0.1:
            spectrum = np.fft.rfft(out)
            frequency = np.linspace(0, rate / 2, len(spectrum))
            out = np.fft.irfft(spectrum / (1 + (frequency * soft / 5000) ** 1.5), len(out))
        fade = min(len(out), round(0.01 * rate))
        out[-fade:] *= np.linspace(1, 0, fade)
        return np.asarray(loud**1.4 * out / (np.abs(out).max() + 1e-9))

    kick = (
        _between(random, 38, 75),
        random.uniform(0.3, 2.2),
        _between(random, 0.008, 0.05),
        _between(random, 0.06, 0.4),
    )
    thud, thud_at = random.uniform(0, 0.5), _between(random, 300, 5000)
    short = round(0.03 * rate)
    kit["kick"] = lambda loud, own: struck(
        _drop(*kick, rate, 0.6) + thud * np.pad(
            _noise(short, 80, thud_at, rate, own) * np.exp(-np.arange(short) / (0.006 * rate)),
            (0, round(0.6 * rate) - short)), loud, own, click,
    )  # fmt: skip

    snare = (_between(random, 130, 330), random.uniform(0, 0.6), 0.02, _between(random, 0.025, 0.22))
    wires = (
        _between(random, 0.2, 4.0),
        _between(random, 200, 3500),
        _between(random, 3500, 16_000),
        _between(random, 0.03, 0.3),
    )

    def snare_sound(loud: float, own: np.random.Generator) -> np.ndarray:
        body = _drop(*snare, rate, 0.5) + 0.4 * _drop(snare[0] * 1.62, 0.1, 0.01, snare[3] * 0.6, rate, 0.5)
        t = np.arange(len(body)) / rate
        hiss = _noise(len(body), wires[1], wires[2], rate, own) * np.exp(-t / wires[3])
        return struck(body + wires[0] * hiss, loud, own, click)

    kit["snare.head"] = snare_sound
    wood = (
        _between(random, 350, 1900),
        _between(random, 0.008, 0.035),
        random.uniform(1.3, 2.6),
        random.uniform(0, 0.4),
    )
    kit["snare.side"] = lambda loud, own: struck(
        _drop(wood[0], 0.05, 0.01, wood[1], rate, 0.2)
        + 0.6 * _drop(wood[0] * wood[2], 0, 0.01, wood[1] * 0.6, rate, 0.2)
        + wood[3] * _drop(snare[0], 0, 0.01, 0.04, rate, 0.2), loud, own, 0.5 + click,
    )  # fmt: skip
    base, air = _between(random, 300, 1200), random.uniform(0.2, 1.5)
    low, high = _between(random, 2500, 9000), _between(random, 9000, 18000)

    def hat(decay: float, swell: float, dull: float) -> Callable[[float, np.random.Generator], np.ndarray]:
        def sound(loud: float, own: np.random.Generator) -> np.ndarray:
            count = round(min(1.3, decay * 6 + 0.03) * rate)
            t = np.arange(count) / rate
            metal = np.diff(_metal(count, base, own, rate), prepend=0.0)
            body = metal / (np.abs(metal).max() + 1e-9) + air * _noise(count, low * dull, high, rate, own)
            return struck(body * np.exp(-t / decay) * np.clip(t / swell, 0, 1), loud, own, 0.2 * click)

        return sound

    kit["hat.closed"] = hat(_between(random, 0.012, 0.13), 0.0005, 1.0)
    kit["hat.open"] = hat(_between(random, 0.2, 1.2), 0.001, 0.95)
    kit["hat.pedal"] = hat(_between(random, 0.02, 0.11), _between(random, 0.001, 0.008), random.uniform(0.5, 0.9))
    floor, ratio = _between(random, 55, 120), random.uniform(1.12, 1.45)
    fall, quick, ring = random.uniform(0.05, 0.7), _between(random, 0.02, 0.09), _between(random, 0.08, 0.6)
    skin = random.uniform(0, 0.8)
    for i in range(4):
        hz = floor * ratio**i

        def tom(loud: float, own: np.random.Generator, hz: float = hz) -> np.ndarray:
            body = _drop(hz, fall, quick, ring * (floor / hz) ** 0.4, rate, 0.8)
            body = body + 0.35 * _drop(hz * 1.58, fall, quick, ring * 0.4, rate, 0.8)
            hiss = _noise(len(body), 200, 4000, rate, own) * np.exp(-np.arange(len(body)) / (0.03 * rate))
            return struck(body + skin * hiss, loud, own, click)

        kit[f"tom{4 - i}.head"] = tom
    wash = _between(random, 0.4, 2.5)
    crash_low = _between(random, 400, 3000)

    def crash(loud: float, own: np.random.Generator) -> np.ndarray:
        count = round(min(2.5, 3 * wash) * rate)
        t = np.arange(count) / rate
        body = air * _noise(count, crash_low, 17000, rate, own) + 0.7 * _metal(count, base, own, rate)
        shape = (0.6 * np.exp(-t / wash) + 0.4 * np.exp(-t / (wash * 0.2))) * np.clip(t / 0.004, 0.3, 1)
        return struck(body * shape, loud, own, click)

    kit["crash1.bow"] = crash
    bell, ping, hum = _between(random, 1500, 6000), random.uniform(0.0, 1.2), _between(random, 0.3, 2.0)
    tick, tick_at, rest = _between(random, 0.008, 0.06), _between(random, 1500, 6000), 10 ** random.uniform(-1.4, -0.2)

    def ride(loud: float, own: np.random.Generator) -> np.ndarray:
        # The stick is heard first and most; under it the wash goes on.
        count = round(min(2.5, 3 * hum) * rate)
        t = np.arange(count) / rate
        wash_of = air * _noise(count, 2500, 15_000, rate, own) + _metal(count, base * 1.3, own, rate)
        body = rest * wash_of * np.exp(-t / hum) + _noise(count, tick_at, 16_000, rate, own) * np.exp(-t / tick)
        body = body + ping * np.sin(2 * np.pi * bell * t) * np.exp(-t / 0.08)
        return struck(body, loud, own, 0.6 * click)

    kit["ride.bow"] = ride
    return kit


def built_kit(random: np.random.Generator, rate: int) -> Strokes:
    """A kit of the built-in sound, tuned and damped otherwise."""
    made = Kit(
        "any", tune=float(random.lognormal(0, 0.16)), damping=float(random.lognormal(-0.1, 0.4)),
        snares=float(random.lognormal(0, 0.4)), sweep=float(random.lognormal(0, 0.5)),
        air=float(random.lognormal(0, 0.4)), bright=float(random.lognormal(0, 0.3)),
    )  # fmt: skip
    kit: Strokes = {}
    for name in SORTS:
        own = Drum(tune=float(random.normal(0, 2)), damping=float(random.lognormal(0, 0.3)))
        layers = drums.render(name, made, own, rate)

        def stroke(loud: float, _: np.random.Generator, layers: list[np.ndarray] = layers) -> np.ndarray:
            velocity = 127 * loud
            return np.asarray(layers[drums.layer_of(velocity)] * drums.gain_of(velocity), np.float64)

        kit[name] = stroke
    return kit


_LOUD = {"hat": 0.35, "crash1": 0.6, "ride": 0.4, "snare": 0.8, "kick": 0.95}


def groove(
    kit: Strokes, seconds: float, rate: int, random: np.random.Generator
) -> tuple[np.ndarray, list[tuple[float, str, float]]]:
    """Some drumming on a kit: (n,) float32 and (second, drum, loudness) of each hit."""
    sound = np.zeros(round((seconds + 1.0) * rate))
    step = 60 / random.uniform(66, 175) / 4
    names = [n for n in SORTS if n in ("kick", "snare.head", "hat.closed") or random.random() < 0.6]
    trims = {n: _LOUD.get(n.split(".")[0], 0.7) * random.lognormal(0, 0.35) for n in names}
    weights = {n: random.uniform(0.03, 0.3) for n in names}
    cymbal = str(random.choice([n for n in names if n in ("hat.closed", "ride.bow", "hat.open")]))
    every, skips = int(random.choice([1, 2, 2, 4])), random.uniform(0, 0.25)
    toms = [n for n in names if n.startswith("tom")]
    truth: list[tuple[float, str, float]] = []
    ringing: tuple[int, int, np.ndarray] | None = None
    for i in range(int((seconds - 0.2) / step)):
        filling = bool(toms) and (i // 8) % 4 == 3
        chosen = []
        if filling:
            if random.random() < 0.85:
                chosen.append(toms[min(len(toms) - 1, int((i % 8) / 8 * len(toms)))])
            if random.random() < 0.15:
                chosen.append("kick")
        else:
            if i % every == 0 and random.random() > skips:
                chosen.append(cymbal)
            if i % 16 in (4, 12) and random.random() < 0.85:
                chosen.append("snare.head")
            if (i % 16 in (0, 8) and random.random() < 0.8) or random.random() < 0.1:
                chosen.append("kick")
            chosen += [n for n in names if random.random() < weights[n] * (0.4 if i % 2 == 0 else 0.2)]
        hats = [n for n in chosen if n.startswith("hat")]
        for name in dict.fromkeys(n for n in chosen if n not in hats[1:]):
            at = max(0.02, 0.2 + i * step + random.normal(0, 0.004))
            loud = float(np.clip(random.normal(0.68, 0.2), 0.15, 1))
            stroke = kit[name](loud, random) * trims[name]
            begin = round(at * rate)
            if name.startswith("hat"):
                if ringing is not None and begin < ringing[1]:
                    # One pair of cymbals: the stroke before it ends here.
                    first, last, before = ringing
                    sound[begin:last] -= before[begin - first : last - first]
                stroke = stroke[: len(sound) - begin]
                ringing = (begin, begin + len(stroke), stroke)
            end = min(len(sound), begin + len(stroke))
            sound[begin:end] += stroke[: end - begin]
            truth.append((at, name, loud))
    return np.asarray(sound, np.float32), truth
