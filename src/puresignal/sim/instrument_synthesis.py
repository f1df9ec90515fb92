"""Imaginary instruments and their players: lines and chords with the truth, for tests and for training the ear.

Every timbre is drawn at random: its spectrum, attack, decay, noise and modulation. Shares no rule with the ear.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from puresignal.sim.percussion_synthesis import between

Notes = list[tuple[float, float, int, float]]
"""(start in s, end in s, MIDI note, loudness 0..1)"""


@dataclass(frozen=True, eq=False)
class Timbre:
    """The sound of an instrument.

    harmonics   amplitudes of the harmonics; inharmonic: their stretch, as of a stiff string
    attack, release  seconds; decay: seconds until a third of the level, inf if sustained
    dulling     how much faster high harmonics decay; bloom: how much later they come in, seconds
    noise       of breath or bow; strike: of the attack, for some milliseconds
    vibrato     semitones; tremolo: fraction of the level; rate: of both, Hz; sets_in: seconds
    scoop       semitones below at which a note starts; chorus: semitones between two voices, 0: one voice
    voices      of a choir or section, spread by the chorus; knock: noise of the release
    swells, fades  curvature of attack and release: below 1 fast first, 1 linear, above 1 slow first
    wander      decibels of each harmonic's own fluctuation; wanders: its rate per second
    apart       seconds between the onsets of the voices, each with a vibrato of its own
    loops       seconds repeated while a note is held, as samplers do; 0: none
    seam        seconds of crossfade at the loop point
    recorded    decibels of fluctuation of the looped part as a whole
    body        (n, 3) fixed resonances of the body: Hz, width in octaves, decibels
    bottom      Hz below which the body radiates less, 12 dB per octave
    vowels      octaves by which its resonances move between and within notes; 0: fixed
    bite        decibels by which the tenth harmonic is louder (or softer) initially, for `bites` seconds
    partials    of bars and bells, as multiples of the lowest; None: harmonics
    thump       of the body at the attack: two or three low tones that decay within `thumps` seconds
    chiff       of the breath or bow at the attack, for `chiffs` seconds
    """

    harmonics: np.ndarray
    inharmonic: float = 0.0
    attack: float = 0.01
    release: float = 0.08
    decay: float = np.inf
    dulling: float = 0.0
    bloom: float = 0.0
    noise: float = 0.0
    strike: float = 0.0
    vibrato: float = 0.0
    tremolo: float = 0.0
    rate: float = 5.5
    sets_in: float = 0.2
    scoop: float = 0.0
    chorus: float = 0.0
    voices: int = 2
    knock: float = 0.0
    swells: float = 0.7
    fades: float = 1.0
    wander: float = 0.0
    wanders: float = 3.0
    apart: float = 0.0
    loops: float = 0.0
    seam: float = 0.04
    recorded: float = 0.0
    body: np.ndarray = field(default_factory=lambda: np.zeros((0, 3)))
    bottom: float = 0.0
    vowels: float = 0.0
    bite: float = 0.0
    bites: float = 0.05
    partials: np.ndarray | None = None
    thump: float = 0.0
    thumps: float = 0.05
    chiff: float = 0.0
    chiffs: float = 0.05


def any_timbre(random: np.random.Generator, struck: float = 0.5) -> Timbre:
    """A random timbre; struck: probability that it is struck or plucked and decays.

    The ranges cover the measurements of sampled instruments: time to full level, ring after release, weakness of the
    lowest harmonics, and how much brighter or duller the attack is.
    """
    count = 30
    k = np.arange(1, count + 1)
    fall = random.uniform(0.4, 2.2) if random.random() < 0.8 else random.uniform(2.2, 5.0)
    envelope = k**-fall
    for _ in range(int(random.integers(0, 4))):
        centre, width = random.uniform(1, 12), random.uniform(0.7, 4)
        envelope *= 1 + random.uniform(-0.85, 3.0) * np.exp(-(((k - centre) / width) ** 2))
    if random.random() < 0.25:
        envelope[1::2] *= random.uniform(0.02, 0.4)
    if random.random() < 0.25:
        envelope[0] *= random.uniform(0.05, 0.5)
    envelope *= random.lognormal(0, random.uniform(0.1, 0.6), count)
    hit = random.random() < struck
    slow = between(random, 0.004, 0.06) if random.random() < 0.6 else between(random, 0.02, 0.5)
    wavers = not hit and random.random() < 0.7
    choir = not hit and random.random() < 0.15
    rings = hit and random.random() < 0.35
    bar = hit and random.random() < 0.12
    resounds = random.random() < 0.65
    body = np.stack([
        [between(random, 120, 5000), random.uniform(0.15, 1.0), random.uniform(-12, 22)]
        for _ in range(int(random.integers(1, 6)) if resounds else 0)
    ]) if resounds else np.zeros((0, 3))  # fmt: skip
    bars = np.cumsum(np.concatenate([[1.0], random.uniform(0.8, 4.5, 7)])) if bar else None
    return Timbre(
        np.abs(envelope), inharmonic=between(random, 1e-6, 8e-4) if hit else 0.0,
        attack=float(random.uniform(0.001, 0.012) if random.random() < 0.8 else random.uniform(0.01, 0.04)) if hit
        else slow,
        release=between(random, 0.5, 4.0) if rings else between(random, 0.02, 0.7),
        decay=between(random, 0.12, 4.0) if hit else np.inf,
        dulling=float(random.uniform(0, 0.5)) if hit else 0.0,
        bloom=float(random.uniform(0, 0.1)) if not hit and random.random() < 0.5 else 0.0,
        noise=float(10 ** random.uniform(-3.5, -1.2)) if not hit else 0.0,
        strike=float(10 ** random.uniform(-2.5, -0.5)) if hit or random.random() < 0.4 else 0.0,
        vibrato=between(random, 0.03, 0.8) if wavers else 0.0,
        tremolo=between(random, 0.02, 0.4) if wavers or random.random() < 0.15 else 0.0,
        rate=float(random.uniform(3.8, 7.2) if random.random() < 0.7 else random.uniform(0.7, 3.8)),
        sets_in=float(random.uniform(0.0, 0.5)),
        scoop=float(random.uniform(-0.3, 1.5)) if not hit and random.random() < 0.4 else 0.0,
        chorus=float(random.uniform(0.03, 0.3)) if choir or random.random() < 0.12 else 0.0,
        voices=int(random.integers(3, 7)) if choir else int(random.integers(2, 5)),
        knock=float(10 ** random.uniform(-3, -1)) if random.random() < 0.25 else 0.0,
        swells=float(random.uniform(0.35, 1.6)), fades=float(random.uniform(1.5, 5.0)),
        wander=between(random, 0.3, 5.0) if not hit and random.random() < 0.5 else 0.0,
        wanders=float(random.uniform(0.7, 9.0)), apart=float(random.uniform(0.0, 0.12)) if choir else 0.0,
        loops=between(random, 0.06, 1.5) if not hit and random.random() < 0.6 else 0.0,
        body=body, bottom=between(random, 80, 900) if random.random() < 0.3 else 0.0,
        vowels=float(random.uniform(0.1, 0.6)) if resounds and not hit and random.random() < 0.3 else 0.0,
        bite=float(random.uniform(-12, 18)) if random.random() < 0.6 else 0.0, bites=between(random, 0.01, 0.25),
        partials=bars, thump=float(10 ** random.uniform(-1.5, 0.1)) if hit and random.random() < 0.35 else 0.0,
        thumps=between(random, 0.015, 0.12),
        chiff=float(10 ** random.uniform(-2.3, -0.5)) if not hit and random.random() < 0.35 else 0.0,
        chiffs=between(random, 0.01, 0.12), seam=between(random, 0.0005, 0.04),
        recorded=between(random, 0.2, 4.0) if random.random() < 0.6 else 0.0,
    )  # fmt: skip


def _resounding(timbre: Timbre, frequency: np.ndarray, moved: float) -> np.ndarray:
    """Response of the body at some frequencies; moved: octaves by which its resonances are shifted."""
    gain = np.zeros(len(frequency))
    for centre, width, decibels in timbre.body.tolist():
        off = np.log2(np.maximum(frequency, 1.0) / centre) - moved
        gain += decibels * np.exp(-((off / width) ** 2))
    if timbre.bottom:
        gain -= 10 * np.log10(1 + (timbre.bottom / np.maximum(frequency, 1.0)) ** 4)
    return np.asarray(10 ** (np.maximum(gain, -45.0) / 20))


def sound_of(
    timbre: Timbre, seconds: float, number: int, loud: float, rate: int, random: np.random.Generator
) -> np.ndarray:
    """One note of `seconds`, followed by its release: (n,) float64."""
    count = round((seconds + timbre.release) * rate)
    t = np.arange(count) / rate
    frequency = 440 * 2 ** ((number - 69) / 12)
    sets_in = np.clip((t - timbre.sets_in) / 0.25 + 0.15, 0, 1)
    waver = np.sin(2 * np.pi * timbre.rate * t + random.uniform(0, 6)) * sets_in
    bend = timbre.vibrato * waver - timbre.scoop * np.exp(-t / 0.04)
    bend = bend + 0.03 * np.cumsum(random.normal(size=count)) / np.sqrt(rate)
    tone = np.zeros(count)
    voices = np.linspace(-0.5, 0.5, timbre.voices) * timbre.chorus if timbre.chorus else np.zeros(1)
    softness = 0.35 * (1 - loud)
    knots = np.arange(0, t[-1] + 1 / timbre.wanders, 1 / timbre.wanders)
    if timbre.partials is None:
        order = np.arange(1, len(timbre.harmonics) + 1)
        multiple = order * np.sqrt(1 + timbre.inharmonic * order**2)
    else:
        multiple = timbre.partials
    harmonics = timbre.harmonics[: len(multiple)]
    moved = timbre.vowels * random.normal(size=2) * [1.0, 0.5]
    early, late_on = (harmonics * _resounding(timbre, frequency * multiple, m) for m in (moved[0], moved.sum()))
    glide = np.clip(t / max(seconds, 0.05), 0, 1) if timbre.vowels else None
    bites = np.exp(-t / timbre.bites) * timbre.bite / 20 if timbre.bite else None
    for voice in voices.tolist():
        own = bend + voice
        if timbre.apart:
            own = own + timbre.vibrato * (
                np.sin(timbre.rate * random.uniform(5, 7.5) * t + 6 * random.random()) - waver
            )
        phase = 2 * np.pi * np.cumsum(frequency * 2 ** (own / 12)) / rate
        late = np.clip((t - random.uniform(0, timbre.apart)) / 0.02, 0, 1) if timbre.apart else 1.0
        for i, k in enumerate(multiple.tolist()):
            if k * frequency > 0.46 * rate:
                break
            part = np.exp(-softness * i) * np.sin(k * phase + random.uniform(0, 6))
            part *= early[i] if glide is None else early[i] + (late_on[i] - early[i]) * glide
            if bites is not None and i:
                part *= 10 ** (bites * (min(i, 18) / 9))
            if timbre.dulling and np.isfinite(timbre.decay):
                part = part * np.exp(-t * i * timbre.dulling / timbre.decay)
            if timbre.bloom and i:
                part = part * np.clip(t / (timbre.bloom * (1 + 0.3 * i)), 0, 1)
            if timbre.wander:
                part = part * 10 ** (np.interp(t, knots, random.normal(0, timbre.wander, len(knots))) / 20)
            tone += part * late
    # A body is not equally loud everywhere, but players even that out as far as they can.
    heard = np.sqrt(np.sum(early**2)) ** 0.7 * np.sqrt(np.sum(harmonics**2)) ** 0.3
    tone /= (heard + 1e-9) * len(voices)
    if timbre.noise:
        hiss = random.normal(size=count)
        tone += timbre.noise * (hiss - 0.6 * np.roll(hiss, 1))
    if timbre.loops:
        knots = np.arange(0, t[-1] + 0.3, 0.3)
        tone *= 10 ** (np.interp(t, knots, random.normal(0, timbre.recorded, len(knots))) / 20)
        # Whole periods, so that the wave continues.
        length = rate / frequency * max(1, round(timbre.loops * frequency))
        tone = _looped(tone, round((timbre.attack + 0.15) * rate), round(length), round(timbre.seam * rate))
    shape = np.clip(t / timbre.attack, 0, 1) ** timbre.swells
    shape *= np.clip((seconds + timbre.release - t) / timbre.release, 0, 1) ** timbre.fades
    if np.isfinite(timbre.decay):
        shape = shape * np.exp(-t / timbre.decay)
    shape = shape * (1 + timbre.tremolo * waver)
    tone *= shape
    if timbre.strike:
        burst = random.normal(size=min(count, round(0.03 * rate)))
        burst *= np.exp(-np.arange(len(burst)) / (random.uniform(0.001, 0.008) * rate)) * timbre.strike
        tone[: len(burst)] += burst
    if timbre.thump:
        tone += timbre.thump * _thump(t, timbre.thumps, random)
    if timbre.chiff:
        hiss = np.convolve(random.normal(size=count), np.ones(3) / np.sqrt(3), "same")
        tone += timbre.chiff * hiss * np.exp(-t / timbre.chiffs) * np.clip(t / 0.004, 0, 1)
    if timbre.knock:
        at = min(count - 1, round(seconds * rate))
        part = min(count - at, round(0.02 * rate))
        tone[at : at + part] += random.normal(size=part) * np.exp(-np.arange(part) / (0.004 * rate)) * timbre.knock
    return np.asarray(loud * tone)


def _thump(t: np.ndarray, seconds: float, random: np.random.Generator) -> np.ndarray:
    """The knock of an instrument's body when struck: short tones unrelated to the note."""
    tones = [np.sin(2 * np.pi * between(random, 45, 500) * t + random.uniform(0, 6)) for _ in range(3)]
    parts = [random.uniform(0.2, 1.0) * np.exp(-t / (seconds * random.uniform(0.5, 1.5))) * tone for tone in tones]
    return np.asarray(np.sum(parts, axis=0) * np.clip(t / 0.002, 0, 1))


def _looped(tone: np.ndarray, begin: int, length: int, seam: int) -> np.ndarray:
    """After `begin` and `length` samples that length repeats, crossfaded over `seam` samples."""
    seam = max(2, min(length // 3, begin, seam))
    if begin + length >= len(tone) or length < 2 * seam:
        return tone
    own = tone[begin : begin + length].copy()
    blend = np.linspace(0, 1, seam)
    # The end of the loop leads into what came before its start, so that the next round continues from it.
    own[-seam:] = own[-seam:] * (1 - blend) + tone[begin - seam : begin] * blend
    again = np.resize(own, len(tone) - begin)
    return np.concatenate([tone[:begin], again])


def play(notes: Notes, timbre: Timbre, rate: int, seed: int, damped: bool = False) -> np.ndarray:
    """The notes as (n,) float32. damped: each note cuts off the ring of the one before it, as on one string."""
    random = np.random.default_rng(seed)
    length = round((max((n[1] for n in notes), default=0.0) + 0.6) * rate)
    out = np.zeros(length)
    starts = sorted(n[0] for n in notes)
    for start, end, number, loud in notes:
        begin = round(start * rate)
        sound = sound_of(timbre, max(0.03, end - start), number, loud, rate, random)[: max(0, length - begin)]
        if damped:
            following = next((s for s in starts if s > start + 1e-6), None)
            if following is not None:
                cut = round((following - start) * rate)
                fade = round(0.03 * rate)
                if cut + fade < len(sound):
                    sound = sound[: cut + fade].copy()
                    sound[cut:] *= np.linspace(1, 0, fade)
        out[begin : begin + len(sound)] += sound
    return np.asarray(out, np.float32)


def in_a_room(
    sound: np.ndarray, rate: int, random: np.random.Generator, noise_db: tuple[float, float] = (-75.0, -36.0)
) -> np.ndarray:
    """The sound recorded somewhere: coloured, with some room and noise, and a peak below 1."""
    out = np.asarray(sound, np.float64)
    spectrum = np.fft.rfft(out)
    frequency = np.maximum(40.0, np.linspace(0, rate / 2, len(spectrum)))
    shape = (frequency / 1000) ** (random.normal(0, 2.5) / 6.02)
    for _ in range(int(random.integers(0, 3))):
        centre = between(random, 80, 8000)
        shape *= 10 ** (random.uniform(-9, 9) / 20 * np.exp(-((np.log2(frequency / centre) / 0.6) ** 2)))
    if random.random() < 0.3:
        shape /= 1 + (frequency / random.uniform(3000, 12_000)) ** 4
    out = np.fft.irfft(spectrum * shape, len(out))
    if random.random() < 0.6:
        tail = _tail(random, rate)
        size = 1 << (len(out) + len(tail)).bit_length()
        out = np.fft.irfft(np.fft.rfft(out, size) * np.fft.rfft(tail, size), size)[: len(out)]
    out = 0.8 * out / (np.abs(out).max() + 1e-9)
    if random.random() < 0.3:
        drive = random.uniform(1.2, 4)
        out = np.tanh(out * drive) / np.tanh(drive) * 0.8
    noise = random.normal(size=len(out))
    if random.random() < 0.5:
        noise = noise + random.uniform(0.2, 1) * np.convolve(noise, np.ones(40) / 8, "same")
    if random.random() < 0.2:
        noise = noise + np.sin(2 * np.pi * random.choice([50, 60, 100, 120]) * np.arange(len(out)) / rate)
    return np.asarray(out + 10 ** (random.uniform(*noise_db) / 20) * noise, np.float32)


def _tail(random: np.random.Generator, rate: int) -> np.ndarray:
    """A room's impulse response: (n,). It may be late, and have distinct echoes."""
    length = round(random.uniform(0.1, 0.9) * rate)
    tail = random.normal(size=length) * np.exp(-np.arange(length) / (length / 5)) * random.uniform(0.003, 0.03)
    if random.random() < 0.3:
        tail = np.concatenate([np.zeros(round(between(random, 0.01, 0.25) * rate)), tail])
    if random.random() < 0.4:
        for _ in range(int(random.integers(1, 6))):
            at, spread = round(random.uniform(0.03, 0.45) * rate), round(between(random, 0.0005, 0.04) * rate)
            dull = np.ones(int(random.integers(1, 12)))
            echo = np.convolve(random.normal(size=spread) * np.hanning(spread + 2)[1:-1], dull, "same")[:spread]
            tail = np.pad(tail, (0, max(0, at + spread - len(tail))))
            tail[at : at + spread] += 10 ** (random.uniform(-42, -16) / 20) * echo / (np.linalg.norm(echo) + 1e-9)
    tail[0] = 1.0
    return np.asarray(tail)


def a_line(random: np.random.Generator, seconds: float, low: int, high: int) -> Notes:
    """A monophonic line: repeats, runs, leaps, some notes legato, some detached."""
    notes: Notes = []
    at, number = float(random.uniform(0.1, 0.6)), int(random.integers(low, high + 1))
    pace = random.uniform(0.7, 1.8)
    repeats, led = random.uniform(0.05, 0.4), random.uniform(0.2, 0.9)
    while at < seconds - 0.3:
        length = float(random.choice([0.1, 0.15, 0.22, 0.3, 0.45, 0.7, 1.1])) * pace
        gap = 0.0 if random.random() < led else float(random.choice([0.015, 0.03, 0.06, 0.12, 0.3]))
        notes.append((at, at + length, number, float(random.uniform(0.35, 1.0))))
        at += length + gap
        if random.random() > repeats:
            step = int(random.choice([1, 2, 3, 4, 5, 7, 12], p=[0.25, 0.28, 0.15, 0.12, 0.1, 0.07, 0.03]))
            number = number + step * (1 if random.random() < 0.5 else -1)
            number = 2 * low - number if number < low else 2 * high - number if number > high else number
            number = int(np.clip(number, low, high))
    return notes


def some_chords(random: np.random.Generator, seconds: float) -> Notes:
    """Chords of one to six notes, struck together, strummed or broken, some notes held over."""
    notes: Notes = []
    at = float(random.uniform(0.1, 0.5))
    while at < seconds - 0.6:
        length = float(random.choice([0.25, 0.4, 0.6, 0.9, 1.4]))
        root = int(random.integers(31, 62))
        shape = [(0, 4, 7), (0, 3, 7), (0, 4, 7, 10), (0, 3, 7, 10), (0, 4, 7, 11), (0, 5, 7), (0, 3, 6), (0, 7)][
            int(random.integers(8))
        ]
        pitches = {root + int(12 * random.integers(0, 3)) + s for s in shape}
        if random.random() < 0.6:
            pitches.add(root)
        if random.random() < 0.3:
            pitches.add(root + 12 + shape[int(random.integers(len(shape)))])
        if random.random() < 0.15:
            pitches = {int(random.integers(33, 90)) for _ in range(int(random.integers(1, 5)))}
        spread = random.choice([0.0, 0.0, 0.012, 0.03, 0.15], p=[0.35, 0.2, 0.2, 0.15, 0.1])
        level = random.uniform(0.5, 1.0)
        for j, n in enumerate(sorted(pitches)[: int(random.integers(1, 7))]):
            start = at + j * spread + abs(random.normal(0, 0.004))
            loud = float(np.clip(level * random.uniform(0.6, 1.1), 0.2, 1))
            notes.append((start, max(start + 0.1, at + length * float(random.uniform(0.85, 1.0))), n, loud))
        at += length + float(random.choice([0.0, 0.03, 0.15]))
    return sorted(notes)
