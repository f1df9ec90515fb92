"""Imaginary drum kits, and grooves on them, with the truth: for tests and for training the ear.

A stroke is made of decaying modes, coloured noise and the attack of a stick (percussion_synthesis.py), drawn at random
for every kit: some like recorded drums, some like drum machines; some kits are those of the built-in sound, tuned and
damped differently. Shares no rule with the ear.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from puresignal.core.sound import drums
from puresignal.core.sound.drums import Drum, Kit
from puresignal.sim.percussion_synthesis import (
    Bite,
    Room,
    added,
    between,
    colour,
    drop,
    noise,
    plate,
    quick_size,
    strike,
)

SORTS = (
    "kick", "snare.head", "snare.side", "hat.closed", "hat.open", "hat.pedal", "tom1.head", "tom2.head", "tom3.head",
    "tom4.head", "crash1.bow", "ride.bow",
)  # fmt: skip

Stroke = Callable[[float, np.random.Generator], np.ndarray]
Strokes = dict[str, Stroke]
"""For each drum a function of loudness 0..1."""


def drawn_kit(random: np.random.Generator, rate: int) -> Strokes:
    """A random kit."""
    machine = random.random() < 0.25
    room = None if machine or random.random() < 0.2 else Room(random, rate)
    # Soft strokes are duller, unless the kit was sampled at one loudness.
    dulls = 0.0 if random.random() < 0.4 else random.uniform(0.2, 0.9)
    bare: Strokes = {
        "kick": _kick(random, rate, machine),
        **_snare(random, rate, machine),
        **_hats(random, rate, machine),
    }
    bare |= {**_toms(random, rate, machine), **_cymbals(random, rate, machine)}
    kit = {name: _finished(sound, dulls, room, random, rate) for name, sound in bare.items()}
    return kit | {name: takes(kit[name], random) for name in kit if name.startswith(("hat", "crash", "ride"))}


def _finished(sound: Stroke, dulls: float, room: Room | None, random: np.random.Generator, rate: int) -> Stroke:
    """A drum in the kit's room, coloured by its own microphone."""
    shade = colour(random, random.uniform(0, 6))

    def stroke(loud: float, own: np.random.Generator) -> np.ndarray:
        body = sound(loud, own)
        count = len(body) + (round(room.seconds * rate) if room else 0)
        size, soft = quick_size(count), dulls * (1 - loud)
        frequency = np.linspace(0, rate / 2, size // 2 + 1)
        answer = shade(frequency) / (1 + (frequency * soft / 5000) ** 1.5)
        if room:
            answer = answer * room.answer(size)
        out = np.fft.irfft(np.fft.rfft(body.astype(np.float32), size) * answer, size)[:count]
        fade = min(count, round(0.01 * rate))
        out[-fade:] *= np.linspace(1, 0, fade)
        return np.asarray(loud**1.4 * out / (np.abs(out).max() + 1e-9))

    return stroke


def _beater(random: np.random.Generator, machine: bool) -> Bite:
    lasts = between(random, 0.0008, 0.004) if machine else between(random, 0.0015, 0.009)
    return Bite(between(random, 150, 2500), between(random, 2500, 12_000), lasts, random.uniform(0, 0.4),
                between(random, 0.01, 0.05))  # fmt: skip


def _kick(random: np.random.Generator, rate: int, machine: bool) -> Stroke:
    hz, octaves, bends = between(random, 38, 85), random.uniform(0.2, 2.2), between(random, 0.006, 0.05)
    falls = between(random, 0.06, 0.35) if machine else between(random, 0.018, 0.16)
    second, above = random.uniform(0, 0.6) ** 2, random.uniform(1.5, 2.6)
    beater, strong = _beater(random, machine), between(random, 0.02, 1.2)

    def sound(loud: float, own: np.random.Generator) -> np.ndarray:
        body = drop(hz, octaves, bends, falls, rate, 0.6)
        body += second * drop(hz * above, octaves / 2, bends, falls * 0.6, rate, 0.6)
        return added(body, beater.sound(rate, own), strong * (0.5 + 0.5 * loud))

    return sound


def _snare(random: np.random.Generator, rate: int, machine: bool) -> Strokes:
    hz, octaves, falls = between(random, 95, 330), random.uniform(0, 0.6), between(random, 0.018, 0.14)
    # The modes of a membrane.
    above = [(ratio, random.uniform(0, 0.5), falls * random.uniform(0.3, 0.9)) for ratio in (1.59, 2.14, 2.65, 3.16)]
    above = above[: 1 if machine else 4]
    wires, low, high = between(random, 0.3, 6.0), between(random, 200, 3500), between(random, 4000, 18_000)
    hiss, rest, late = between(random, 0.015, 0.13), random.uniform(0, 0.3), between(random, 0.0003, 0.006)
    stick, strong = _beater(random, machine), between(random, 0.02, 1.0)

    def head(loud: float, own: np.random.Generator) -> np.ndarray:
        body = drop(hz, octaves, 0.02, falls, rate, 0.5)
        for ratio, level, fall in above:
            body += level * drop(hz * ratio, 0.1, 0.01, fall, rate, 0.5)
        t = np.arange(len(body)) / rate
        shape = ((1 - rest) * np.exp(-t / hiss) + rest * np.exp(-t / (2.5 * hiss))) * np.minimum(1, t / late)
        body += wires * noise(len(body), low, high, rate, own) * shape
        return added(body, stick.sound(rate, own), strong * (0.5 + 0.5 * loud))

    count = int(random.integers(2, 4)) if machine or random.random() < 0.2 else int(random.integers(4, 30))
    lowest = between(random, 350, 1800)
    modes = np.append(lowest, lowest * random.uniform(1.15, 9, count - 1))
    levels = (modes / lowest) ** -random.uniform(0, 1.2) * random.lognormal(0, 0.5, count)
    rings = between(random, 0.007, 0.035) * (modes / lowest) ** -random.uniform(0, 0.6)
    shell, noisy = random.uniform(0, 0.8) ** 2, between(random, 0.02, 1.5)
    crack = Bite(between(random, 500, 3000), between(random, 4000, 16_000), between(random, 0.003, 0.02),
                 random.uniform(0, 0.5), between(random, 0.015, 0.05))  # fmt: skip

    def side(loud: float, own: np.random.Generator) -> np.ndarray:
        body = shell * drop(hz, 0, 0.01, 0.04, rate, 0.25)
        for mode, level, ring in zip(modes.tolist(), levels.tolist(), rings.tolist(), strict=True):
            body += level * drop(mode, 0.02, 0.01, ring, rate, 0.25)
        return added(body / np.abs(body).max(), crack.sound(rate, own), noisy)

    return {"snare.head": head, "snare.side": side}


def _hats(random: np.random.Generator, rate: int, machine: bool) -> Strokes:
    few = machine or random.random() < 0.15
    pair = plate(random, (6, 40) if few else (80, 500), (1500, 8000), (7000, 24_000), between(random, 0.3, 2.0))
    air = random.uniform(0.0, 3.0)
    low, high = between(random, 2500, 9000), between(random, 9000, 24_000)
    stick = _beater(random, machine)

    def hat(rings: float, swell: float, dull: float, quick: float, clap: float, strong: float) -> Stroke:
        seconds = min(1.6, rings * 6 + 0.15)
        loose, meets, at = between(random, 0.001, 0.05), between(random, 0.008, 0.04), between(random, 90, 500)

        def sound(loud: float, own: np.random.Generator) -> np.ndarray:
            body = strike(pair, seconds, rate, own, damped=rings, swell=swell, quick=quick, quick_falls=0.012,
                          stick=20_000 * dull**3, loose=loose)  # fmt: skip
            t = np.arange(len(body)) / rate
            hiss = noise(len(body), low * dull, high, rate, own) * np.exp(-t / rings) * np.clip(t / swell, 0, 1)
            # Where the two meet they also make a short low sound.
            thud = clap * noise(len(body), at, 2 * at, rate, own) * np.exp(-t / meets)
            return added(body + air * hiss + thud, stick.sound(rate, own), strong * loud)

        return sound

    closed = between(random, 0.015, 0.13)
    return {
        "hat.closed": hat(closed, between(random, 0.0003, 0.006), 1.0, 1.5 * random.random() ** 2,
                          0.8 * random.random() ** 2, 0.5 * random.random() ** 2),
        "hat.open": hat(max(2.5 * closed, between(random, 0.12, 1.2)), between(random, 0.0005, 0.008),
                        random.uniform(0.85, 1.0), random.uniform(0, 1.2), 0.6 * random.random() ** 2,
                        0.4 * random.random() ** 2),
        "hat.pedal": hat(between(random, 0.015, 0.08), between(random, 0.001, 0.025), random.uniform(0.65, 1.0),
                         random.uniform(0, 0.5), 2.5 * random.random() ** 2, 0.0),
    }  # fmt: skip


def _toms(random: np.random.Generator, rate: int, machine: bool) -> Strokes:
    floor, ratio = between(random, 55, 120), random.uniform(1.12, 1.45)
    octaves, bends, ring = random.uniform(0.05, 0.7), between(random, 0.02, 0.09), between(random, 0.06, 0.5)
    above = [(r, random.uniform(0, 0.5), random.uniform(0.25, 0.7)) for r in (1.59, 2.14, 2.65)][: 1 if machine else 3]
    stick, strong = _beater(random, machine), between(random, 0.05, 2.0)
    skin, high, wears = random.uniform(0, 1), between(random, 1500, 9000), between(random, 0.015, 0.08)

    def tom(hz: float) -> Stroke:
        falls = ring * (floor / hz) ** 0.4

        def sound(loud: float, own: np.random.Generator) -> np.ndarray:
            body = drop(hz, octaves, bends, falls, rate, 0.8)
            for ratio, level, part in above:
                body += level * drop(hz * ratio, octaves, bends, falls * part, rate, 0.8)
            body += skin * noise(len(body), 200, high, rate, own) * np.exp(-np.arange(len(body)) / (wears * rate))
            return added(body, stick.sound(rate, own), strong * (0.5 + 0.5 * loud))

        return sound

    return {f"tom{4 - i}.head": tom(floor * ratio**i) for i in range(4)}


def _cymbals(random: np.random.Generator, rate: int, machine: bool) -> Strokes:
    few = machine or random.random() < 0.1
    crashes = plate(random, (8, 60) if few else (100, 600), (150, 3000), (2500, 16_000), between(random, 0.6, 4.0), 0.6)
    wash, opens = random.uniform(0.0, 2.0), between(random, 0.003, 0.09)
    burst, below = max(0.0, random.uniform(-1.5, 1.5)), between(random, 250, 2500)
    body_at, body_falls = between(random, 150, 700), between(random, 0.05, 0.8)
    bodies = 1.2 * random.random() ** 2, 0.5 * random.random() ** 3

    def crash(loud: float, own: np.random.Generator) -> np.ndarray:
        body = strike(crashes, 2.2, rate, own, swell=opens, quick=burst, quick_falls=0.15)
        t = np.arange(len(body)) / rate
        hiss = noise(len(body), below, 17_000, rate, own) * (np.exp(-t / 0.5) - np.exp(-t / opens))
        low = noise(len(body), body_at / 1.5, 1.5 * body_at, rate, own) * np.exp(-t / body_falls)
        return np.asarray(body + wash * hiss + bodies[0] * low)

    rides = plate(random, (8, 60) if few else (80, 500), (800, 7000), (6000, 24_000), between(random, 0.3, 2.5))
    rest, tick = between(random, 0.4, 6.0), between(random, 0.004, 0.05)
    bell, ping = between(random, 1200, 6000), random.uniform(0, 0.6) ** 2
    thin, late, stick = between(random, 0.1, 3.0), between(random, 0.0005, 0.01), _beater(random, machine)
    strong, spread = 0.6 * random.random() ** 2, between(random, 1, 12)

    def ride(loud: float, own: np.random.Generator) -> np.ndarray:
        # The stick is heard first and most; under it the wash continues.
        body = strike(rides, 2.0, rate, own, swell=late, quick=rest, quick_falls=tick)
        t = np.arange(len(body)) / rate
        body = body + ping * np.sin(2 * np.pi * bell * t) * np.exp(-t / 0.12)
        body += bodies[1] * noise(len(body), body_at / 1.5, 1.5 * body_at, rate, own) * np.exp(-t / body_falls)
        body = body + thin * noise(len(body), 3000, 18_000, rate, own) * np.exp(-t / (spread * tick))
        return added(body, stick.sound(rate, own), strong * loud)

    return {"crash1.bow": crash, "ride.bow": ride}


LAYERS = (0.3, 0.6, 1.0)


def takes(sound: Stroke, random: np.random.Generator) -> Stroke:
    """A drum that sounds like one of a few takes of it: a cymbal recurs many times in a recording."""
    number, kept = int(random.integers(1, 4)), {}

    def stroke(loud: float, own: np.random.Generator) -> np.ndarray:
        layer = min(LAYERS, key=lambda each: abs(each - loud))
        which = (layer, int(own.integers(number)))
        if which not in kept:
            kept[which] = sound(layer, own) / layer**1.4
        return np.asarray(kept[which] * loud**1.4)

    return stroke


def built_kit(random: np.random.Generator, rate: int) -> Strokes:
    """A kit of the built-in sound, tuned and damped differently."""
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


_LOUD = {"hat": 0.45, "crash1": 0.6, "ride": 0.5, "snare": 0.8, "kick": 0.95}


def groove(
    kit: Strokes, seconds: float, rate: int, random: np.random.Generator
) -> tuple[np.ndarray, list[tuple[float, str, float]]]:
    """Some drumming on a kit: (n,) float32 and (second, drum, loudness) of each hit that others do not mask
    completely."""
    sound = np.zeros(round((seconds + 1.0) * rate))
    trims = {n: _LOUD.get(n.split(".")[0], 0.7) * random.lognormal(0, 0.4) for n in SORTS}
    # The balance of metal and drums depends on the microphones.
    metal = 10 ** (random.uniform(-16, 4) / 20)
    trims |= {n: metal * level for n, level in trims.items() if n.startswith(("hat", "crash", "ride"))}
    uneven = random.uniform(1.0, 1.7)
    played: list[tuple[float, str, float]] = []
    parts: list[np.ndarray] = []
    ringing: tuple[int, int, np.ndarray] | None = None
    for at, name, loud in _pattern(seconds, random):
        stroke = kit[name](loud, random) * trims[name] * loud ** (uneven - 1)
        begin = round(at * rate)
        stroke = stroke[: len(sound) - begin]
        if name.startswith("hat"):
            if ringing is not None and begin < ringing[1]:
                # One pair of cymbals: the stroke before it ends here.
                first, last, before = ringing
                rest = before[begin - first : last - first]
                fade = round(random.uniform(0.002, 0.03) * rate)
                sound[begin:last] -= rest * np.clip(np.arange(len(rest)) / fade, 0, 1)
            ringing = (begin, begin + len(stroke), stroke)
        sound[begin : begin + len(stroke)] += stroke
        played.append((at, name, loud))
        parts.append(_octaves(stroke[:HEARD_IN]))
    heard = []
    for hit, part in zip(played, parts, strict=True):
        begin = round(hit[0] * rate)
        if (part > AUDIBLE * _octaves(sound[begin : begin + HEARD_IN])).any():
            heard.append(hit)
    return np.asarray(sound, np.float32), heard


HEARD_IN, AUDIBLE = 2048, 0.03
"""Samples from an onset, and the fraction of the sound in some octave, in which a hit is audible."""


def _octaves(sound: np.ndarray) -> np.ndarray:
    """(8,) energy by octave of at most HEARD_IN samples."""
    power = np.abs(np.fft.rfft(sound, HEARD_IN)) ** 2
    octaves = np.add.reduceat(power, [2, 4, 8, 16, 32, 64, 128, 256, 512])[:-1]
    return np.asarray(octaves + 1e-6 * power.sum())


def _pattern(seconds: float, random: np.random.Generator) -> list[tuple[float, str, float]]:
    """Bars of a beat with variations, ghost notes and fills: times, drums and loudnesses."""
    beat, division = 60 / random.uniform(66, 185), int(random.choice([4, 4, 4, 3]))
    step, bar = beat / division, 4 * division
    keeper = str(random.choice(["hat.closed", "ride.bow", "hat.open", "tom4.head"], p=[0.5, 0.36, 0.1, 0.04]))
    every = int(random.choice([1, 2, 2, division])) if division == 4 else int(random.choice([1, 3]))
    foot = random.random() < (0.7 if keeper == "ride.bow" else 0.12)
    backbeat = str(random.choice(["snare.head", "snare.side"], p=[0.82, 0.18]))
    ghosts, opens, crashes = (
        random.choice([0, 0, 0.1, 0.3]),
        random.choice([0, 0.05, 0.2]),
        random.choice([0, 0.3, 0.7]),
    )
    skips, strays = random.uniform(0, 0.45), random.choice([0.0, 0.01, 0.04])
    kicks = {i for i in range(bar) if random.random() < (0.8 if i in (0, bar // 2) else 0.12)}
    fills, toms = random.random() < 0.6, [f"tom{i}.head" for i in range(1, 5) if random.random() < 0.8]
    out: list[tuple[float, str, float]] = []
    for i in range(int((seconds - 0.2) / step)):
        place = i % bar
        chosen: dict[str, float] = {}

        def hit(name: str, low: float, high: float, chosen: dict[str, float] = chosen) -> None:
            chosen.setdefault(name, float(random.uniform(low, high)))

        if fills and toms and (i // bar) % 4 == 3 and place >= bar // 2:
            if random.random() < 0.85:
                among = min(len(toms) - 1, int((place - bar // 2) / (bar / 2) * len(toms)))
                hit("snare.head" if random.random() < 0.2 else toms[among], 0.4, 1.0)
            if place % division == 0 and random.random() < 0.5:
                hit("kick", 0.6, 1.0)
        else:
            crashed = place == 0 and random.random() < crashes
            if crashed:
                hit("crash1.bow", 0.6, 1.0)
            elif i % every == 0 and random.random() > skips:
                name = "hat.open" if keeper == "hat.closed" and random.random() < opens else keeper
                hit(name, 0.4, 0.75 if i % division else 0.95)
            if foot and place in (division, 3 * division) and random.random() < 0.9:
                hit("hat.pedal", 0.35, 0.8)
            if place in (division, 3 * division) and random.random() < 0.9:
                hit(backbeat, 0.6, 1.0)
            elif random.random() < ghosts:
                hit("snare.head", 0.12, 0.38)
            if place in kicks and random.random() < 0.9:
                hit("kick", 0.55, 1.0)
        for name in SORTS:
            if random.random() < strays:
                hit(name, 0.15, 1.0)
        hats = [n for n in chosen if n.startswith("hat")]
        out += [
            (max(0.02, 0.2 + i * step + float(random.normal(0, 0.004))), n, loud)
            for n, loud in chosen.items() if n not in hats[1:]
        ]  # fmt: skip
    return sorted(out)
