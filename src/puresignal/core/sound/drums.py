"""Drum sounds: each stroke is computed from modes and noise, in layers from soft and dark to hard and bright.

Membranes and sticks are sums of decaying partials with a falling pitch; metal is a dense cloud of inharmonic partials
whose high ones die sooner.

Source  F. Avanzini and D. Rocchesso, Modal synthesis of impact sounds; N. Fletcher and T. Rossing, The Physics of
        Musical Instruments, chapters 18 and 20; parameters by ear
"""

from __future__ import annotations

import zlib
from dataclasses import dataclass, replace

import numpy as np

from puresignal.core.kit.articulations import canonical, drum_of, family_of
from puresignal.translation import mark

LAYERS = 8
"""Layers of a drum, soft and dark to hard and bright."""
FADE_IN, FADE_OUT = 0.0004, 0.02
"""Seconds of fade at both ends of a stroke, so that there is never a click."""


@dataclass(frozen=True)
class Kit:
    """A kit of the built-in sound.

    tune     factor on all pitches
    damping  factor on all decays: below 1 is drier
    snares   level of the snare wires relative to the head
    sweep    initial pitch drop of membranes, 1 as usual
    air      level of noise in metal relative to its partials
    bright   factor on the brightness of every stroke
    """

    name: str
    tune: float = 1.0
    damping: float = 1.0
    snares: float = 1.0
    sweep: float = 1.0
    air: float = 1.0
    bright: float = 1.0


KITS = (
    Kit("Boathouse"),
    Kit(mark("Slipway, dry"), 1.08, 0.55, 1.3, 0.7, 1.15, 1.25),
    Kit(mark("Deckhouse, deep"), 0.82, 1.5, 0.8, 1.2, 0.85, 0.8),
    Kit(mark("Signal box, electric"), 1.0, 0.7, 0.6, 2.6, 1.6, 1.5),
)


@dataclass(frozen=True)
class Drum:
    """The player's settings of one drum.

    level    decibels
    place    pan, -1 left .. 1 right, from the drummer's seat
    tune     semitones
    damping  factor on its decay, 0.2 .. 2
    """

    level: float = 0.0
    place: float = 0.0
    tune: float = 0.0
    damping: float = 1.0


_PLACES = {
    "hat": -0.45, "snare": -0.08, "tom1": -0.3, "tom2": -0.05, "tom3": 0.3, "tom4": 0.45, "crash1": -0.55,
    "crash2": 0.6, "ride": 0.5,
}  # fmt: skip
_LEVELS = {"kick": 0.0, "snare": -1.0, "tom": -2.0, "hat": -8.0, "cymbal": -6.0, "percussion": -5.0, "other": -6.0}


def usual(articulation: str) -> Drum:
    """Default level and pan of a drum."""
    drum = drum_of(articulation)
    return Drum(_LEVELS.get(family_of(articulation), -5.0), _PLACES.get(drum, 0.0))


def gain_of(velocity: float) -> float:
    """Gain of a velocity 0..127, 0..1: doubling the velocity adds about 9 dB."""
    return float((max(0.0, min(127.0, velocity)) / 127) ** 1.5)


def layer_of(velocity: float, layers: int = LAYERS) -> int:
    """The layer for a velocity, of so many."""
    return min(layers - 1, max(0, int(velocity / 128 * layers)))


def render(articulation: str, kit: Kit, drum: Drum, rate: int) -> list[np.ndarray]:
    """The layers of one stroke, each (samples,) float32 with a peak of 1, before the gain of the velocity.

    rate  samples per second
    """
    name = canonical(articulation)
    tuned = replace(kit, tune=kit.tune * 2 ** (drum.tune / 12), damping=kit.damping * drum.damping)
    body, stick = _stroke(name, tuned, rate)
    ringing, hitting = (np.fft.rfft(part.astype(np.float32)) for part in (body, stick))
    hardness = [(i + 0.5) / LAYERS for i in range(LAYERS)]
    return [_layer(ringing, hitting, len(body), hard, tuned.bright, rate) for hard in hardness]


def _layer(body: np.ndarray, stick: np.ndarray, count: int, hard: float, bright: float, rate: int) -> np.ndarray:
    """A stroke of one hardness: harder strokes excite more high frequencies, and the stick is louder.

    body, stick  spectra of `count` samples
    """
    spectrum = body + stick * np.float32(hard**1.5)
    frequency = np.linspace(0, rate / 2, len(spectrum), dtype=np.float32)
    cutoff = np.float32(700.0 * (14_000 / 700.0) ** (hard**0.85) * bright)
    out = np.fft.irfft(spectrum / (1 + (frequency / cutoff) ** 2), count)
    into, away = max(2, round(FADE_IN * rate)), round(FADE_OUT * rate)
    out[:into] *= np.linspace(0, 1, into)
    out[-away:] *= np.linspace(1, 0, away) ** 2
    return np.asarray(out / max(1e-9, np.abs(out).max()), np.float32)


def _stroke(name: str, kit: Kit, rate: int) -> tuple[np.ndarray, np.ndarray]:
    """(ringing part, stick part) of a stroke at full hardness."""
    drum, _, way = name.partition(".")
    family = family_of(name)
    random = np.random.default_rng(zlib.crc32(name.encode()))
    if drum == "kick":
        return _kick(kit, rate, random)
    if drum == "snare":
        return _side(kit, rate, random) if way == "side" else _snare(kit, rate, random, way == "rim")
    if family == "tom":
        pitch = {"tom1": 176.0, "tom2": 138.0, "tom3": 104.0, "tom4": 80.0}.get(drum, 120.0)
        return _tom(kit, rate, random, pitch, way == "rim")
    if drum == "hat":
        return _hat(kit, rate, random, way)
    if family == "cymbal":
        return _cymbal(kit, rate, random, drum, way)
    if drum == "claps":
        return _claps(kit, rate, random)
    return _block(kit, rate, random)


def _time(seconds: float, rate: int) -> np.ndarray:
    """Times of the samples; their number suits a fast transform."""
    count = max(64, round(seconds * rate))
    coarse = 1 << max(4, count.bit_length() - 5)
    return np.arange(-(-count // coarse) * coarse) / rate


def _modes(
    t: np.ndarray,
    pitches: np.ndarray,
    decays: np.ndarray,
    levels: np.ndarray,
    fall: float = 0.0,
    falls_in: float = 0.02,
) -> np.ndarray:
    """Decaying partials. fall: initial rise of the pitch as a fraction; falls_in: seconds until it has dropped."""
    if not fall:
        return _partials(t, pitches, decays, levels.astype(complex))
    out = np.zeros(len(t))
    bend = t + fall * falls_in * (1 - np.exp(-t / falls_in))
    for pitch, decay, level in zip(pitches, decays, levels, strict=True):
        out += level * np.exp(-t / decay) * np.sin(2 * np.pi * pitch * bend)
    return out


def _noise(t: np.ndarray, random: np.random.Generator, low: float, high: float, rate: int) -> np.ndarray:
    """Noise between two frequencies, with soft edges, of unit power in its band."""
    spectrum = np.fft.rfft(random.normal(size=len(t)))
    frequency = np.maximum(1.0, np.fft.rfftfreq(len(t), 1 / rate))
    shape = 1 / np.sqrt((1 + (low / frequency) ** 6) * (1 + (frequency / high) ** 6))
    out = np.fft.irfft(spectrum * shape, len(t))
    return np.asarray(out / max(1e-9, float(np.sqrt(np.mean(out**2)))))


def _stick(
    t: np.ndarray, random: np.random.Generator, rate: int, low: float, high: float, seconds: float
) -> np.ndarray:
    return _noise(t, random, low, high, rate) * np.exp(-t / seconds) * 0.35


def _kick(kit: Kit, rate: int, random: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    t = _time(0.75 * max(0.6, kit.damping), rate)
    pitch = 52.0 * kit.tune
    body = _modes(
        t, np.array([pitch, pitch * 1.59, pitch * 2.3]), np.array([0.17, 0.07, 0.03]) * kit.damping,
        np.array([1.0, 0.35, 0.25]), 2.4 * kit.sweep, 0.018,
    )  # fmt: skip
    return body, _stick(t, random, rate, 1200, 5200, 0.004) + 0.5 * _stick(t, random, rate, 150, 900, 0.012)


def _snare(kit: Kit, rate: int, random: np.random.Generator, rim: bool) -> tuple[np.ndarray, np.ndarray]:
    t = _time(0.55 * max(0.6, kit.damping), rate)
    pitches = np.array([188, 287, 336, 418, 512, 640.0]) * kit.tune
    body = _modes(
        t, pitches, np.array([0.09, 0.07, 0.055, 0.04, 0.03, 0.025]) * kit.damping,
        np.array([1.0, 0.6, 0.45, 0.35, 0.25, 0.2]), 0.35 * kit.sweep, 0.012,
    )  # fmt: skip
    wires = _noise(t, random, 1400, 9500, rate) * (np.exp(-t / (0.085 * kit.damping)) - 0.6 * np.exp(-t / 0.004))
    stick = _stick(t, random, rate, 2500, 9000, 0.0035)
    if rim:
        hoop = np.array([510, 905, 1430, 2240.0]) * kit.tune
        stick = stick + _modes(t, hoop, np.array([0.06, 0.045, 0.03, 0.02]), np.array([0.9, 0.8, 0.5, 0.35]))
    return body + 0.34 * kit.snares * wires, stick


def _side(kit: Kit, rate: int, random: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    t = _time(0.3, rate)
    pitches = np.array([398, 862, 1310, 1905, 2780.0]) * kit.tune
    body = _modes(t, pitches, np.array([0.03, 0.026, 0.02, 0.014, 0.01]), np.array([0.5, 1.0, 0.7, 0.5, 0.3]))
    return body, _stick(t, random, rate, 1800, 6500, 0.003)


def _tom(kit: Kit, rate: int, random: np.random.Generator, pitch: float, rim: bool) -> tuple[np.ndarray, np.ndarray]:
    pitch *= kit.tune
    t = _time(1.1 * max(0.6, kit.damping), rate)
    ratios = np.array([1.0, 1.593, 2.135, 2.295, 2.653])
    body = _modes(
        t, pitch * ratios, np.array([0.27, 0.15, 0.1, 0.08, 0.06]) * kit.damping * (120 / pitch) ** 0.4,
        np.array([1.0, 0.45, 0.3, 0.22, 0.15]), 0.42 * kit.sweep, 0.03,
    )  # fmt: skip
    stick = 2.5 * _stick(t, random, rate, 900, 5200, 0.006)
    if rim:
        stick = stick + _modes(
            t, np.array([470, 980, 1720.0]), np.array([0.05, 0.04, 0.025]), np.array([0.7, 0.6, 0.4])
        )
    return body, stick


def _metal(
    t: np.ndarray, random: np.random.Generator, low: float, high: float, count: int, longest: float, shortest: float
) -> np.ndarray:
    """A cloud of inharmonic partials; the low ones ring longest."""
    place = np.sort(random.uniform(0, 1, count))
    pitches = low * (high / low) ** place
    decays = longest * (shortest / longest) ** place * random.uniform(0.7, 1.3, count)
    levels = random.uniform(0.4, 1.0, count) * (0.35 + np.sin(np.pi * np.clip(place * 1.1, 0, 1)))
    phases = random.uniform(0, 2 * np.pi, count)
    return np.asarray(_partials(t, pitches, decays, levels * np.exp(1j * phases)) / np.sqrt(count))


def _partials(t: np.ndarray, pitches: np.ndarray, decays: np.ndarray, levels: np.ndarray) -> np.ndarray:
    """The sum of many decaying partials with complex levels.

    A partial is a power series: its value at sample 256 k + j is a factor of k times a factor of j, so the sum over
    partials is one matrix product.
    """
    rate, part = 1 / t[1], 256
    turn = (2j * np.pi * pitches - 1 / decays) / rate
    blocks = -(-len(t) // part)
    far = levels * np.exp(turn * part * np.arange(blocks)[:, None])
    near = np.exp(turn[:, None] * np.arange(part))
    return np.asarray((far.imag @ near.real + far.real @ near.imag).reshape(-1)[: len(t)])


_HATS = {  # seconds the metal rings, level of its low partials
    "closed": (0.045, 0.3), "edge.closed": (0.07, 0.6), "half": (0.3, 0.5), "edge.half": (0.36, 0.7),
    "open": (0.75, 0.5), "edge.open": (0.85, 0.8), "pedal": (0.035, 0.15), "splash": (0.45, 0.35),
}  # fmt: skip


def _hat(kit: Kit, rate: int, random: np.random.Generator, way: str) -> tuple[np.ndarray, np.ndarray]:
    ring, low = _HATS.get(way, _HATS["closed"])
    ring *= kit.damping
    t = _time(min(2.4, ring * 5 + 0.08), rate)
    # The same pair of cymbals at every opening: the partials do not depend on the stroke.
    same = np.random.default_rng(17)
    metal = _metal(t, same, 3100 * kit.tune, 13_500, 46, ring, ring * 0.5)
    metal += low * _metal(t, same, 700 * kit.tune, 3000, 14, ring * 0.8, ring * 0.5)
    air = _noise(t, random, 5200, 15_000, rate) * np.exp(-t / (ring * 0.6)) * 0.5 * kit.air
    if way in ("pedal", "splash"):
        # Two cymbals that meet, without a stick.
        return metal + air * 0.6, 0.2 * _stick(t, random, rate, 900, 3000, 0.006)
    return metal + air, _stick(t, random, rate, 3500, 12_000, 0.003)


_CYMBALS = {  # lowest partial, seconds that low and high ones ring, level of the wash
    "crash1": (420.0, 1.5, 0.45, 1.0), "crash2": (340.0, 1.9, 0.55, 1.0), "ride": (360.0, 2.2, 0.7, 0.3),
}  # fmt: skip


def _cymbal(kit: Kit, rate: int, random: np.random.Generator, drum: str, way: str) -> tuple[np.ndarray, np.ndarray]:
    low, longest, shortest, wash = _CYMBALS.get(drum, (520.0, 1.0, 0.4, 0.9))
    longest, shortest = longest * kit.damping, shortest * kit.damping
    t = _time(min(4.5, longest * 2.4), rate)
    same = np.random.default_rng(zlib.crc32(drum.encode()))
    metal = _metal(t, same, low * kit.tune, 11_500, 70, longest, shortest)
    # The wash blooms: energy moves to the high partials within some milliseconds.
    bloom = (1 - np.exp(-t / 0.012)) * (0.7 * np.exp(-t / (0.35 * longest)) + 0.3 * np.exp(-t / longest))
    air = _noise(t, random, 3500, 14_500, rate) * bloom * 0.32 * kit.air
    if way == "bell":
        ratios = np.array([1.0, 1.52, 2.02, 2.74, 3.46, 4.9])
        ring = np.array([1.0, 0.8, 0.65, 0.5, 0.4, 0.25]) * longest * 0.55
        bell = _modes(t, 810 * kit.tune * ratios, ring, np.array([1.0, 0.7, 0.75, 0.5, 0.4, 0.3]))
        return bell + 0.25 * metal, _stick(t, random, rate, 3000, 9000, 0.003)
    if way == "bow" and drum == "ride":
        ping = _metal(t, same, 2600 * kit.tune, 6500, 10, 0.24, 0.1) * 1.3
        return ping + 0.35 * metal + wash * 0.5 * air, _stick(t, random, rate, 3500, 9500, 0.003)
    more = 1.35 if way == "edge" else 0.8
    return metal + wash * more * air, _stick(t, random, rate, 2500, 9000, 0.004)


def _claps(kit: Kit, rate: int, random: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    t = _time(0.45, rate)
    shape = np.zeros(len(t))
    for at in (0.0, 0.011, 0.021, 0.03):
        later = np.maximum(0.0, t - at)
        shape += (t >= at) * np.exp(-later / (0.006 if at < 0.03 else 0.09 * kit.damping))
    return _noise(t, random, 850 * kit.tune, 3200, rate) * shape, np.zeros(len(t))


def _block(kit: Kit, rate: int, random: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    """Anything else: a block of wood, each with a pitch of its own."""
    t = _time(0.35, rate)
    pitch = random.uniform(420, 1250) * kit.tune
    ratios = np.array([1.0, 2.57, 4.21])
    body = _modes(t, pitch * ratios, np.array([0.07, 0.03, 0.015]) * kit.damping, np.array([1.0, 0.4, 0.2]))
    return body, _stick(t, random, rate, 2000, 7000, 0.003)
