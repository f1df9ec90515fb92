"""Drum kits that nobody built, and grooves on them, with the truth: for tests and for training the ear.

A stroke is a few decaying partials, some coloured noise and a click, drawn anew for every kit; some kits are those
of the built-in sound, tuned and damped otherwise. Shares no rule with the ear.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

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


def _quick(count: int) -> int:
    """A length not below `count` whose transform is quick: a power of two, or three quarters of one."""
    size = 1 << max(1, (count - 1).bit_length())
    return size * 3 // 4 if size >= 4 and count <= size * 3 // 4 else size


def _noise(count: int, low: float, high: float, rate: int, random: np.random.Generator) -> np.ndarray:
    size = _quick(count)
    spectrum = np.fft.rfft(random.standard_normal(size, np.float32))
    frequency = np.maximum(20.0, np.linspace(0, rate / 2, len(spectrum)))
    spectrum *= 1 / (1 + (low / frequency) ** 4) / (1 + (frequency / high) ** 4)
    out = np.fft.irfft(spectrum, size)[:count]
    return np.asarray(out / (np.abs(out).max() + 1e-9))


def _drop(hz: float, octaves: float, quick: float, decay: float, rate: int, seconds: float) -> np.ndarray:
    t = np.arange(round(seconds * rate)) / rate
    pitch = hz * 2 ** (octaves * np.exp(-t / quick))
    return np.asarray(np.sin(2 * np.pi * np.cumsum(pitch) / rate + 0.5) * np.exp(-t / decay))


def _ringing(pitches: np.ndarray, falls: np.ndarray, levels: np.ndarray, count: int, rate: int) -> np.ndarray:
    """(count,) the sum of modes: Hz, seconds in which each falls to a third, complex levels with their phases."""
    block = int(np.ceil(np.sqrt(count)))
    turn = (2j * np.pi * pitches - 1 / falls) / rate
    # exp(z (a B + b)) is a product, so a thousand modes are one product of matrices; only its real part is heard.
    coarse = _powers(np.exp(turn * block), block, levels)
    fine = _powers(np.exp(turn), block, np.ones(len(turn)))
    left = np.concatenate([coarse.real, -coarse.imag], axis=0).astype(np.float32)
    right = np.concatenate([fine.real, fine.imag], axis=0).astype(np.float32)
    return np.asarray((left.T @ right).ravel()[:count], float)


def _powers(base: np.ndarray, count: int, first: np.ndarray) -> np.ndarray:
    """(n, count) each number to the powers 0, 1, .. times a first one: by doubling, which is quicker than exp."""
    out = np.empty((len(base), count), complex)
    out[:, 0], done, step = first, 1, base.astype(complex)
    while done < count:
        more = min(done, count - done)
        np.multiply(out[:, :more], step[:, None], out=out[:, done : done + more])
        done, step = done + more, step * step
    return out


def _colour(random: np.random.Generator, spread: float) -> Callable[[np.ndarray], np.ndarray]:
    """How much louder each frequency is, drawn at random: about `spread` decibels up and down, octave by octave."""
    knots = random.normal(0, spread, 11)
    return lambda hz: np.asarray(10 ** (np.interp(np.log2(np.maximum(hz, 20) / 20), np.arange(11), knots) / 20))


@dataclass(frozen=True, eq=False)
class Plate:
    """A cymbal: its modes in Hz, how loud each is, and in what time it falls to a third, left alone."""

    pitches: np.ndarray
    levels: np.ndarray
    falls: np.ndarray


def _plate(random: np.random.Generator, longest: float) -> Plate:
    """A cymbal drawn at random. longest: seconds that its modes about 1 kHz ring."""
    lowest, highest = _between(random, 60, 600), _between(random, 9000, 19_000)
    count = int(random.integers(30, 400))
    # A plate has as many modes in each Hz, wherever; machines have a few.
    pitches = np.sort(random.uniform(lowest, highest, count))
    tilt, centre = random.normal(0.0, 0.5), _between(random, 2500, 9000)
    levels = (pitches / centre) ** tilt / (1 + (pitches / centre) ** 4) ** random.uniform(0.0, 0.4)
    levels = levels * _colour(random, 5)(pitches)
    falls = longest * (pitches / 1000) ** -random.uniform(0.1, 0.9)
    return Plate(pitches, levels * random.lognormal(0, 0.6, count), falls)


def _strike(
    plate: Plate, seconds: float, rate: int, random: np.random.Generator, *, damped: float = np.inf,
    swell: float = 0.0005, quick: float = 0.0, quick_falls: float = 0.03, stick: float = np.inf, loose: float = 0.0,
) -> np.ndarray:  # fmt: skip
    """A stroke on a cymbal. damped: seconds that it may ring at most; swell: in which its high modes come up.

    quick: how much louder it is at first, falling in quick_falls; stick  Hz above which the stick does not reach;
    loose  how much of it rings on in spite of what damps it
    """
    count = round(seconds * rate)
    falls = 1 / (1 / plate.falls + 1 / damped)
    levels = plate.levels / (1 + (plate.pitches / stick) ** 2) * np.exp(2j * np.pi * random.random(len(falls)))
    rise = np.minimum(falls * 0.7, swell * (plate.pitches / 3000) ** 0.5)
    out = _ringing(plate.pitches, falls, levels, count, rate)
    out -= _ringing(plate.pitches, 1 / (1 / falls + 1 / rise), levels, count, rate)
    if loose:
        out += _ringing(plate.pitches, np.minimum(plate.falls, 10 * falls), loose * levels, count, rate)
    if quick:
        out += _ringing(plate.pitches, np.minimum(falls, quick_falls), quick * levels, count, rate)
    return np.asarray(out / (np.abs(out).max() + 1e-9))


def drawn_kit(random: np.random.Generator, rate: int) -> Strokes:
    """A kit drawn at random."""
    kit: Strokes = {}
    click = random.uniform(0, 0.6)

    # The stick or the beater is heard for some milliseconds, of each drum otherwise.
    bites = {name: (_between(random, 0.0008, 0.006), _between(random, 0.3, 2.5)) for name in (*SORTS, "")}
    colours = {name: _colour(random, random.uniform(0, 6)) for name in (*SORTS, "")}

    def struck(body: np.ndarray, loud: float, own: np.random.Generator, sharp: float, name: str = "") -> np.ndarray:
        burst, (lasts, strong) = round(0.02 * rate), bites[name]
        out = body.copy()
        bite = own.normal(size=burst) * np.exp(-np.arange(burst) / (lasts * rate))
        out[:burst] += strong * sharp * loud * bite
        # Soft strokes are duller.
        soft = 0.85 * (1 - loud)
        size = _quick(len(out))
        spectrum = np.fft.rfft(out.astype(np.float32), size)
        frequency = np.linspace(0, rate / 2, len(spectrum))
        coloured = spectrum * colours[name](frequency) / (1 + (frequency * soft / 5000) ** 1.5)
        out = np.fft.irfft(coloured, size)[: len(out)]
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
            (0, round(0.6 * rate) - short)), loud, own, click, "kick",
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
        return struck(body + wires[0] * hiss, loud, own, click, "snare.head")

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
        + wood[3] * _drop(snare[0], 0, 0.01, 0.04, rate, 0.2), loud, own, 0.5 + click, "snare.side",
    )  # fmt: skip
    hats, air = _plate(random, _between(random, 0.3, 2.0)), random.uniform(0.0, 1.5)
    low, high = _between(random, 2500, 9000), _between(random, 9000, 18000)

    def hat(
        rings: float, swell: float, dull: float, bite: float, clap: float
    ) -> Callable[[float, np.random.Generator], np.ndarray]:
        seconds = min(1.6, rings * 6 + 0.15)
        loose, meets, at = _between(random, 0.001, 0.05), _between(random, 0.008, 0.06), _between(random, 90, 500)

        def sound(loud: float, own: np.random.Generator) -> np.ndarray:
            body = _strike(hats, seconds, rate, own, damped=rings, swell=swell, quick=bite, quick_falls=0.012,
                           stick=20_000 * dull**3, loose=loose)  # fmt: skip
            t = np.arange(len(body)) / rate
            hiss = _noise(len(body), low * dull, high, rate, own) * np.exp(-t / rings) * np.clip(t / swell, 0, 1)
            # Where the two meet they give a short low sound as well.
            thud = clap * _noise(len(body), at, 2 * at, rate, own) * np.exp(-t / meets)
            return struck(body + air * hiss + thud, loud, own, 0.2 * click, "hat.closed")

        return takes(sound, random)

    closed = _between(random, 0.01, 0.12)
    clap = random.uniform(0, 1) ** 2
    kit["hat.closed"] = hat(closed, 0.0004, 1.0, random.uniform(0, 2), clap)
    kit["hat.open"] = hat(max(2.5 * closed, _between(random, 0.12, 1.2)), _between(random, 0.0005, 0.008),
                          random.uniform(0.85, 1.0), random.uniform(0, 1.5), 0.5 * clap)  # fmt: skip
    kit["hat.pedal"] = hat(_between(random, 0.012, 0.11), _between(random, 0.001, 0.012), random.uniform(0.45, 0.9),
                           random.uniform(0, 0.6), random.uniform(0, 2.5))  # fmt: skip
    floor, ratio = _between(random, 55, 120), random.uniform(1.12, 1.45)
    fall, quick, ring = random.uniform(0.05, 0.7), _between(random, 0.02, 0.09), _between(random, 0.08, 0.6)
    skin = random.uniform(0, 0.8)
    for i in range(4):
        hz = floor * ratio**i

        def tom(loud: float, own: np.random.Generator, hz: float = hz) -> np.ndarray:
            body = _drop(hz, fall, quick, ring * (floor / hz) ** 0.4, rate, 0.8)
            body = body + 0.35 * _drop(hz * 1.58, fall, quick, ring * 0.4, rate, 0.8)
            hiss = _noise(len(body), 200, 4000, rate, own) * np.exp(-np.arange(len(body)) / (0.03 * rate))
            return struck(body + skin * hiss, loud, own, click, "tom1.head")

        kit[f"tom{4 - i}.head"] = tom
    crashes, wash = _plate(random, _between(random, 0.5, 3.5)), random.uniform(0.0, 1.2)
    opens, burst = _between(random, 0.001, 0.03), random.uniform(0, 1.5)

    def crash(loud: float, own: np.random.Generator) -> np.ndarray:
        body = _strike(crashes, 2.2, rate, own, swell=opens, quick=burst, quick_falls=0.2)
        t = np.arange(len(body)) / rate
        hiss = _noise(len(body), 900, 17_000, rate, own) * (np.exp(-t / 0.5) - np.exp(-t / opens))
        return struck(body + wash * hiss, loud, own, click, "crash1.bow")

    kit["crash1.bow"] = takes(crash, random)
    rides, rest = _plate(random, _between(random, 0.4, 4.0)), _between(random, 0.3, 6.0)
    tick, bell, ping = _between(random, 0.006, 0.08), _between(random, 1200, 6000), random.uniform(0, 0.7) ** 2
    thin = _between(random, 0.05, 1.0)

    def ride(loud: float, own: np.random.Generator) -> np.ndarray:
        # The stick is heard first and most; under it the wash goes on.
        body = _strike(rides, 2.0, rate, own, swell=0.001 + 0.01 * thin, quick=rest, quick_falls=tick)
        t = np.arange(len(body)) / rate
        body = body + ping * np.sin(2 * np.pi * bell * t) * np.exp(-t / 0.12)
        body = body + thin * _noise(len(body), 3000, 16_000, rate, own) * np.exp(-t / (3 * tick))
        return struck(body, loud, own, 0.6 * click, "ride.bow")

    kit["ride.bow"] = takes(ride, random)
    return kit


LAYERS = (0.3, 0.6, 1.0)


def takes(
    sound: Callable[[float, np.random.Generator], np.ndarray], random: np.random.Generator
) -> Callable[[float, np.random.Generator], np.ndarray]:
    """A drum that sounds like one of a few takes of it: a cymbal is heard many times in a recording."""
    number, kept = int(random.integers(1, 4)), {}

    def stroke(loud: float, own: np.random.Generator) -> np.ndarray:
        layer = min(LAYERS, key=lambda each: abs(each - loud))
        which = (layer, int(own.integers(number)))
        if which not in kept:
            kept[which] = sound(layer, own) / layer**1.4
        return np.asarray(kept[which] * loud**1.4)

    return stroke


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


_LOUD = {"hat": 0.45, "crash1": 0.6, "ride": 0.5, "snare": 0.8, "kick": 0.95}


def groove(
    kit: Strokes, seconds: float, rate: int, random: np.random.Generator
) -> tuple[np.ndarray, list[tuple[float, str, float]]]:
    """Some drumming on a kit: (n,) float32 and (second, drum, loudness) of each hit that can be heard in it."""
    sound = np.zeros(round((seconds + 1.0) * rate))
    trims = {n: _LOUD.get(n.split(".")[0], 0.7) * random.lognormal(0, 0.4) for n in SORTS}
    # How loud the metal is against the drums is as the microphones stood.
    metal = 10 ** (random.uniform(-18, 3) / 20)
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


HEARD_IN, AUDIBLE = 2048, 0.2
"""Samples from a beginning, and the part of what then sounds in some octave, in which a hit can be heard."""


def _octaves(sound: np.ndarray) -> np.ndarray:
    """(8,) energy by octave of at most HEARD_IN samples."""
    power = np.abs(np.fft.rfft(sound, HEARD_IN)) ** 2
    return np.add.reduceat(power, [2, 4, 8, 16, 32, 64, 128, 256, 512])[:-1] + 1e-6 * power.sum()


def _pattern(seconds: float, random: np.random.Generator) -> list[tuple[float, str, float]]:
    """Bars of a beat with its variations, ghosts and fills: what is played when, and how loud."""
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
