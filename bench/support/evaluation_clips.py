"""Recordings with ground truth, for checking the ear: sampled sound banks, speech, recorded speakers, our own singer.

None of it is what the ear was trained on. Banks are whatever SoundFonts the machine has (in
/usr/share/sounds/sf2, or named in SOUND_BANKS), syllables come from espeak-ng, flite and Festival where these are
installed.
"""

from __future__ import annotations

import os
import subprocess
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import product
from pathlib import Path

import numpy as np
import soundfile
from support import composed_takes, glottal_voice, other_voices, recorded_speakers, spoken_singers
from support.played_chords import PROGRAMS, TEXTURES, one_key

from puresignal.sim import singer

RATE = 44_100
FOLDER = Path("/usr/share/sounds/sf2")


@dataclass
class Clip:
    """A recording.

    notes  (start, end, MIDI number or drum's name, loudness)
    alone  what plays one of them by itself at a second, where that can be done
    """

    name: str
    samples: np.ndarray
    notes: list[tuple[float, float, object, float]]
    rate: int = RATE
    alone: Callable[[tuple[float, float, int, float]], np.ndarray] | None = None

    def sounds_after(self) -> list[float]:
        """Seconds from the start of each note until it is within 20 dB of its own loudest level."""
        out = []
        for start, end, number, loud in self.notes:
            assert self.alone is not None
            own = self.alone((0.1, 0.1 + min(end - start, 0.6), int(str(number)), loud))
            level = np.sqrt(np.convolve(own.astype(float) ** 2, np.ones(220) / 220, "same"))[round(0.1 * self.rate) :]
            out.append(float(np.argmax(level > 0.1 * level.max())) / self.rate)
        return out


def banks() -> list[Path]:
    named = os.environ.get("SOUND_BANKS", "")
    found = [Path(p) for p in named.split(":") if p] or sorted(FOLDER.glob("*.sf2"))
    return [p for p in found if not p.is_symlink() and not p.match(RECORDED_KITS)]


def room(samples: np.ndarray, random: np.random.Generator, wet: float, noise_db: float) -> np.ndarray:
    """The sound in a small room with some noise."""
    tail = round(random.uniform(0.15, 0.5) * RATE)
    answer = random.normal(size=tail) * np.exp(-np.arange(tail) / (tail / 6)) * wet * 0.03
    answer[0] = 1.0
    size = 1 << (len(samples) + tail).bit_length()
    out = np.fft.irfft(np.fft.rfft(samples, size) * np.fft.rfft(answer, size), size)[: len(samples)]
    out = 0.7 * out / (np.abs(out).max() + 1e-9)
    noise = np.cumsum(random.normal(size=len(out)))
    noise = random.normal(size=len(out)) + 0.02 * (noise - np.convolve(noise, np.ones(999) / 999, "same"))
    return (out + 10 ** (noise_db / 20) * noise / noise.std()).astype(np.float32)


class SampleBank:
    """A SoundFont that renders lists of notes."""

    def __init__(self, path: Path):
        import fluidsynth

        self.name = path.stem
        self._synth = fluidsynth.Synth(samplerate=float(RATE), gain=0.5)
        self._font = self._synth.sfload(str(path))

    def has(self, program: int, drums: bool = False) -> bool:
        """Whether it has this instrument or kit: some banks have only drums."""
        return bool(self._synth.sfpreset_name(self._font, 128 if drums else 0, program))

    def render(self, notes: list[tuple[float, float, int, float]], program: int, drums: bool = False) -> np.ndarray:
        synth, channel = self._synth, 9 if drums else 0
        synth.system_reset()
        synth.program_select(channel, self._font, 128 if drums else 0, program)
        events = sorted(
            [(start, 1, n, round(1 + 126 * loud)) for start, _, n, loud in notes]
            + [(end, 0, n, 0) for _, end, n, _ in notes]
        )
        out, now = [], 0
        for at, on, n, velocity in [*events, (max(e for _, e, _, _ in notes) + 1.0, 0, 0, 0)]:
            place = round(at * RATE)
            if place > now:
                block = np.asarray(synth.get_samples(place - now), np.float32).reshape(-1, 2)
                out.append(block.mean(axis=1) / 32768)
                now = place
            if on:
                synth.noteon(channel, n, velocity)
            else:
                synth.noteoff(channel, n)
        return np.concatenate(out)


INSTRUMENTS = {
    "piano": (0, 48, 84), "vibes": (11, 60, 86), "nylon guitar": (24, 45, 76), "jazz guitar": (26, 45, 76),
    "upright bass": (32, 28, 50), "bass guitar": (33, 28, 52), "violin": (40, 57, 88), "cello": (42, 40, 67),
    "trumpet": (56, 56, 82), "trombone": (57, 43, 68), "alto sax": (65, 52, 79), "oboe": (68, 60, 86),
    "clarinet": (71, 52, 84), "flute": (73, 62, 92), "lead": (81, 50, 84), "recorder": (74, 62, 90),
}  # fmt: skip


ORCHESTRA = {
    "electric piano": (4, 48, 84), "plucked keys": (7, 44, 76), "marimba": (12, 55, 86), "mouth harp": (22, 60, 84),
    "steel guitar": (25, 45, 76), "clean guitar": (27, 45, 76), "muted guitar": (28, 45, 76), "driven": (30, 45, 76),
    "picked bass": (34, 28, 52), "fretless bass": (35, 28, 52), "synth bass": (38, 28, 52), "viola": (41, 50, 80),
    "double bass": (43, 31, 55), "pizzicato": (45, 50, 84), "harp": (46, 48, 84), "tuba": (58, 32, 55),
    "muted trumpet": (59, 56, 82), "horn": (60, 45, 74), "brass": (61, 50, 80), "soprano sax": (64, 58, 84),
    "tenor sax": (66, 46, 74), "baritone sax": (67, 38, 67), "english horn": (69, 54, 80), "bassoon": (70, 36, 66),
    "piccolo": (72, 74, 96), "pan flute": (75, 60, 88), "ocarina": (79, 62, 86), "square": (80, 50, 84),
    "sitar": (104, 48, 76), "banjo": (105, 50, 80), "koto": (107, 50, 80), "fiddle": (110, 57, 86),
    "whistle": (78, 72, 95), "steam organ": (82, 55, 84), "voice lead": (85, 50, 80), "shawm": (111, 57, 84),
}  # fmt: skip
"""Other melodic instruments of a general bank; not organs, which sound an octave away."""


def melodies(seconds: float = 14.0) -> Iterator[Clip]:
    """Lines on sampled instruments, dry and in rooms."""
    yield from _lines(INSTRUMENTS, seconds, 0)


def orchestra(seconds: float = 14.0) -> Iterator[Clip]:
    """Lines on other instruments of the banks."""
    yield from _lines(ORCHESTRA, seconds, 77_000)


SILENT = 1e-3
"""Peak below which an instrument does not sound."""


def _lines(instruments: dict[str, tuple[int, int, int]], seconds: float, seed: int) -> Iterator[Clip]:
    for k, path in enumerate(banks()):
        # Single notes use a synthesiser of their own, so that they do not change the recording.
        bank, other = SampleBank(path), SampleBank(path)
        for i, (name, (program, low, high)) in enumerate(instruments.items()):
            # One bank's whistle is silent in its upper octaves.
            if not bank.has(program) or np.abs(other.render([(0.1, 0.5, high, 0.8)], program)).max() < SILENT:
                continue
            random = np.random.default_rng(seed + 1000 * k + i)
            notes = singer.line(random, seconds, low, high, 0.25)
            samples = bank.render(notes, program)
            samples = room(samples, random, random.choice([0.0, 0.5, 1.0]), random.uniform(-70, -42))
            yield Clip(
                f"{bank.name[:5]} {name}", samples, list(notes),
                alone=lambda note, bank=other, program=program: bank.render([note], program),
            )  # fmt: skip


MANNERS = {
    "sung": singer.SUNG, "hummed": singer.HUMMED,
    "trained": singer.SingingStyle(vibrato=0.6, rate=5.2, scoop=1.2, drift=0.1, consonant=0.08, tuned=0.2, attack=0.05),
    "plain": singer.SingingStyle(vibrato=0.08, scoop=0.3, drift=0.15, consonant=0.12, tuned=-0.35, attack=0.02),
    "soft": singer.SingingStyle(
        vibrato=0.2, scoop=0.5, drift=0.12, consonant=0.02, harmonics=2.4, attack=0.09, release=0.1, tuned=0.1
    ),
    "in a room": singer.SingingStyle(noise_db=-40, echo=0.4, consonant=0.08),
}  # fmt: skip


def singing(seconds: float = 14.0) -> Iterator[Clip]:
    """The simulated singer in several styles and rooms, and the voices of the banks."""
    for k, (name, manner) in enumerate(MANNERS.items()):
        for low, high in ((45, 62), (57, 76)):
            random = np.random.default_rng(500 + k * 10 + low)
            notes = singer.line(random, seconds, low, high, 0.2)
            samples = singer.perform(notes, manner, RATE, 70 + k)
            yield Clip(
                f"{name} {low}", samples, list(notes),
                alone=lambda note, manner=manner, k=k: singer.perform([note], manner, RATE, 70 + k),
            )  # fmt: skip
    for path in banks():
        bank, other = SampleBank(path), SampleBank(path)
        for program, name in ((52, "choir"), (53, "voice"), (54, "synth voice")):
            if not bank.has(program):
                continue
            random = np.random.default_rng(900 + program)
            # Voices of a bank swell; nobody would play shorter notes with them.
            notes = singer.line(random, seconds, 50, 76, 0.2)
            notes = [(2 * s, 2 * e, n, v) for s, e, n, v in notes if e < seconds / 2]
            samples = room(bank.render(notes, program), random, 0.5, -55)
            yield Clip(
                f"{bank.name[:5]} {name}", samples, list(notes),
                alone=lambda note, bank=other, program=program: bank.render([note], program),
            )  # fmt: skip


def voices(seconds: float = 14.0) -> Iterator[Clip]:
    """Singers by another synthesis (glottal_voice.py), low and high, on words and in rooms."""
    for k in range(24):
        random = np.random.default_rng(4000 + k)
        low = (41, 45, 48, 52, 57, 60)[k % 6]
        notes = glottal_voice.line(random, seconds, low, low + int(random.integers(12, 20)))
        samples = room(
            glottal_voice.sing(notes, random), random, random.choice([0.0, 0.5, 1.0]), random.uniform(-70, -45)
        )
        yield Clip(f"voice {k + 1}, {low}", samples, list(notes))


def manners(seconds: float = 14.0) -> Iterator[Clip]:
    """Humming, whistling, quiet, trained, growling and phoned voices by a third synthesis (other_voices.py)."""
    for k in range(24):
        random = np.random.default_rng(14_000 + k)
        manner = other_voices.MANNERS[k % len(other_voices.MANNERS)]
        low = 74 if manner == "whistled" else (43, 48, 55, 60)[k // len(other_voices.MANNERS)]
        notes = other_voices.line(random, seconds, low, low + int(random.integers(10, 17)))
        samples = room(
            other_voices.sing(notes, random, manner), random, random.choice([0.0, 0.5]), random.uniform(-70, -50)
        )
        yield Clip(f"{manner} {k + 1}, {low}", samples, list(notes))


def speakers(seconds: float = 14.0) -> Iterator[Clip]:
    """Singers made of speech (spoken_singers.py), three lines each; none where espeak-ng is missing.

    Other speakers of the same synthesiser were trained on (training/spoken_lines.py).
    """
    for k, speaker in enumerate(spoken_singers.SPEAKERS):
        for take in range(3):
            random = np.random.default_rng(19_000 + 10 * k + take)
            low = (52, 55) if "+f" in speaker else (41, 45)
            first = int(random.integers(low[0], low[1] + 4))
            notes = other_voices.line(random, seconds, first, first + int(random.integers(9, 15)))
            sung = spoken_singers.sing(notes, speaker, random, lambda text, who: spoken(text, who, 50, 120, 100))
            if sung is None:
                return
            samples = room(sung[0], random, random.choice([0.0, 0.5]), random.uniform(-70, -45))
            yield Clip(f"{speaker} {take + 1}, {first}", samples, list(sung[1]))


def people(seconds: float = 14.0) -> Iterator[Clip]:
    """Singers made of speech by people (recorded_speakers.py), two lines each; those whose voices are installed."""
    for k, speaker in enumerate((*recorded_speakers.HIGH, *recorded_speakers.LOW)):
        for take in range(2):
            random = np.random.default_rng(23_000 + 10 * k + take)
            low = (52, 55) if speaker in recorded_speakers.HIGH else (41, 45)
            first = int(random.integers(low[0], low[1] + 4))
            notes = other_voices.line(random, seconds, first, first + int(random.integers(9, 15)))
            sung = spoken_singers.sing(
                notes, speaker, random, lambda text, who: recorded_speakers.say(text.strip("[:]"), who)
            )
            if sung is None:
                break
            samples = room(sung[0], random, random.choice([0.0, 0.5]), random.uniform(-70, -45))
            yield Clip(f"{speaker} {take + 1}, {first}", samples, list(sung[1]))


DRUMS = {
    36: "kick", 38: "snare.head", 37: "snare.side", 42: "hat.closed", 46: "hat.open", 44: "hat.pedal", 41: "tom4.head",
    45: "tom3.head", 47: "tom2.head", 50: "tom1.head", 49: "crash1.bow", 51: "ride.bow",
}  # fmt: skip


def loops() -> Iterator[Clip]:
    """Grooves and fills on sampled kits, three on each."""
    for k, path in enumerate(banks()):
        bank = SampleBank(path)
        for i, (kit, take) in enumerate(product((0, 8, 16, 24, 25, 32, 40), range(3))):
            if not bank.has(kit, drums=True):
                continue
            random = np.random.default_rng(3000 + 100 * k + i)
            notes = _groove(random)
            samples = room(
                bank.render(notes, kit, drums=True), random, random.choice([0.0, 0.6]), random.uniform(-70, -45)
            )
            yield Clip(f"{bank.name[:5]} kit {kit}, {take + 1}", samples, [(s, e, DRUMS[n], v) for s, e, n, v in notes])


RECORDED_KITS = "*_4_LV2.sf2"
"""Banks of the Debian package avldrums.lv2-soundfont: drums recorded in a room, with a rack tom and a floor tom."""
TWO_TOMS = {50: 45, 47: 45, 45: 41}


def kits() -> Iterator[Clip]:
    """The grooves on two kits that were recorded in a room, eight on each; every tom counts as one."""
    found = sorted(FOLDER.glob(RECORDED_KITS))
    for k, path in enumerate(found):
        bank = SampleBank(path)
        for take in range(8):
            random = np.random.default_rng(3900 + 100 * k + take)
            notes = [(s, e, TWO_TOMS.get(n, n), v) for s, e, n, v in _groove(random)]
            samples = room(bank.render(notes, 0), random, random.choice([0.0, 0.6]), random.uniform(-70, -45))
            yield Clip(
                f"recorded kit {k + 1}, {take + 1}", samples,
                [(s, e, "tom" if DRUMS[n].startswith("tom") else DRUMS[n], v) for s, e, n, v in notes],
            )  # fmt: skip


CYMBALS = {49: "crash1.bow", 57: "crash1.bow", 51: "ride.bow", 53: "ride.bell", 52: "china", 55: "splash"}


def cymbals() -> Iterator[Clip]:
    """The grooves with bells, chinas and splashes, two on each kit that has some of its own."""
    for k, path in enumerate(banks()):
        bank = SampleBank(path)
        for i, (kit, take) in enumerate(product((0, 8, 16, 32, 40), range(2))):
            if not bank.has(kit, drums=True):
                continue
            random = np.random.default_rng(21_000 + 100 * k + i)
            notes = []
            accents = (49, 57, 52, 55)
            for s, e, n, v in _groove(random):
                if n == 49 or (n in (42, 46) and random.random() < 0.07):
                    n, v = int(random.choice(accents)), max(v, 0.7)
                elif n == 51 and random.random() < 0.3:
                    n = 53
                notes.append((s, e, n, v))
            samples = room(
                bank.render(notes, kit, drums=True), random, random.choice([0.0, 0.6]), random.uniform(-70, -45)
            )
            names = DRUMS | CYMBALS
            yield Clip(f"{bank.name[:5]} kit {kit}, {take + 1}", samples, [(s, e, names[n], v) for s, e, n, v in notes])


def _groove(random: np.random.Generator) -> list[tuple[float, float, int, float]]:
    step = 60 / random.uniform(80, 150) / 4
    notes = []
    cymbal = int(random.choice([42, 42, 51]))
    for bar in range(6):
        kicks = {0, *random.choice(16, 3).tolist()}
        fill = bar in (2, 5)
        for i in range(16):
            at = 0.3 + (bar * 16 + i) * step
            hits: list[tuple[int, float]] = []
            if fill and i >= 8:
                if random.random() < 0.85:
                    hits.append((int([50, 50, 47, 47, 45, 45, 41, 41][i - 8]), random.uniform(0.55, 0.95)))
            else:
                if i in kicks:
                    hits.append((36, random.uniform(0.6, 0.95)))
                if i in (4, 12):
                    hits.append((38, random.uniform(0.7, 1.0)) if random.random() < 0.85 else (37, 0.7))
                elif random.random() < 0.12:
                    hits.append((38, random.uniform(0.15, 0.35)))
                if i % 2 == 0:
                    choice = cymbal
                    if cymbal == 42 and i == 14 and random.random() < 0.6:
                        choice = 46
                    hits.append((choice, random.uniform(0.45, 0.85)))
                if i == 0 and bar in (0, 3):
                    hits = [h for h in hits if h[0] not in (42, 51)] + [(49, 0.85)]
                if cymbal == 51 and i in (4, 12):
                    hits.append((44, 0.6))
            for note, loud in hits:
                start = max(0.05, at + float(random.normal(0, 0.003)))
                notes.append((start, start + 0.1, note, float(loud)))
    return notes


CHORDS = {"piano": 0, "electric piano": 4, "organ": 20, "nylon guitar": 24, "steel guitar": 25, "strings": 48}
SHAPES = {
    "": (0, 4, 7),
    "m": (0, 3, 7),
    "7": (0, 4, 7, 10),
    "m7": (0, 3, 7, 10),
    "maj7": (0, 4, 7, 11),
    "sus4": (0, 5, 7),
}


def harmony() -> Iterator[Clip]:
    """Chords of three to six notes, held, broken and strummed."""
    for k, path in enumerate(banks()):
        bank = SampleBank(path)
        for i, (name, program) in enumerate(CHORDS.items()):
            if not bank.has(program):
                continue
            random = np.random.default_rng(6000 + 100 * k + i)
            notes: list[tuple[float, float, int, float]] = []
            at = 0.3
            for _ in range(9):
                root = int(random.integers(40, 56))
                shape = list(SHAPES.values())[int(random.integers(len(SHAPES)))]
                voicing = sorted(
                    {root, *(root + 12 + s for s in shape[1:]), root + 12}
                    - (set() if random.random() < 0.5 else {root + 12})
                )
                length = float(random.choice([0.5, 0.8, 1.2]))
                strum = 0.012 if "guitar" in name else 0.0
                for j, n in enumerate(voicing):
                    start = at + j * strum + abs(float(random.normal(0, 0.003)))
                    notes.append((start, at + length, n, float(random.uniform(0.55, 0.85))))
                at += length + 0.1
            samples = room(bank.render(notes, program), random, 0.4, -55)
            yield Clip(f"{bank.name[:5]} {name}", samples, list(notes))


TRAINED_BANKS, TRAINED_FAMILIES = ("TimGM6mb", "FluidR3_GM", "MuseScore_General_Lite"), (0, 2, 4, 6, 8, 10)
"""Banks, and families of eight programs, of which the ear has heard something (training/); the last bank shares samples
with the one before."""

TRAINED_KITS = ("Fluid", "MuseS")
"""Beginnings of the names of banks whose drums were trained on; the second shares its samples with the first."""


def played_chords() -> Iterator[tuple[Clip, bool]]:
    """Chords as hands play them, and whether the ear was trained on this bank's family of instruments."""
    for k, path in enumerate(banks()):
        bank = SampleBank(path)
        for j, (texture, (write, names)) in enumerate(TEXTURES.items()):
            for i, name in enumerate(names):
                program = PROGRAMS[name]
                if not bank.has(program):
                    continue
                random = np.random.default_rng(16_000 + 100 * k + 10 * j + i)
                notes = [n for n in one_key(write(random)) if n[1] - n[0] > 0.05]
                samples = room(
                    bank.render(notes, program), random, random.choice([0.0, 0.4, 0.8]), random.uniform(-68, -45)
                )
                known = bank.name in TRAINED_BANKS and program // 8 in TRAINED_FAMILIES
                yield Clip(f"{bank.name[:7]} {name}, {texture}", samples, list(notes)), known


CHORDAL = 1.6
"""Notes for each onset from which a part counts as chords."""


def composed_chords(folder: Path, count: int = 24, seconds: float = 14.0) -> Iterator[tuple[Clip, bool]]:
    """Chords that others wrote (composed_takes), on the same instruments, and whether the ear was trained on these."""
    pieces = [
        piece for piece in composed_takes.pieces(folder)
        if not piece.drums and len(piece.rows) > CHORDAL * len(np.unique(piece.rows[:, 0].round(2)))
    ]  # fmt: skip
    names = list(PROGRAMS)
    for k, path in enumerate(banks()):
        bank = SampleBank(path)
        random = np.random.default_rng(19_000 + k)
        for i, which in enumerate(random.permutation(len(pieces))[:count].tolist()):
            program = PROGRAMS[names[i % len(names)]]
            played = composed_takes.take(pieces[which], 1)
            if played is None or not bank.has(program):
                continue
            notes = one_key(
                [
                    (start, start + max(0.06, long), number, velocity / 127)
                    for start, number, velocity, long, _ in played.rows
                    if start < seconds and 28 <= number <= 98
                ]
            )
            samples = room(
                bank.render(notes, program), random, random.choice([0.0, 0.4, 0.8]), random.uniform(-68, -45)
            )
            known = bank.name in TRAINED_BANKS and program // 8 in TRAINED_FAMILIES
            yield Clip(f"{bank.name[:7]} {names[i % len(names)]}, {pieces[which].name}", samples, list(notes)), known


def leads() -> Iterator[tuple[Clip, float, int, int]]:
    """Lines 3 dB above chords and a bass, right of centre: (stereo clip, pan, range)."""
    for k, path in enumerate(banks()):
        bank = SampleBank(path)
        for i, name in enumerate(("trumpet", "alto sax", "clarinet", "flute", "violin", "lead")):
            program, low, high = INSTRUMENTS[name]
            if not bank.has(program):
                continue
            random = np.random.default_rng(7000 + 100 * k + i)
            notes = singer.line(random, 14.0, max(low, 60), high, 0.2)
            line = bank.render(notes, program)
            beneath: list[tuple[float, float, int, float]] = []
            roots = random.integers(36, 48, 7).tolist()
            for bar, root in enumerate(roots):
                shape = list(SHAPES.values())[int(random.integers(len(SHAPES)))]
                beneath += [(0.3 + 2 * bar, 2.2 + 2 * bar, root + 12 + s, 0.6) for s in (0, *shape[1:])]
            chords = bank.render(beneath, CHORDS["piano"])
            bass = bank.render([(0.3 + j / 2, 0.7 + j / 2, roots[j // 4], 0.7) for j in range(28)], 33)
            count = min(len(line), len(chords), len(bass))
            under = chords[:count] + bass[:count]
            line = line[:count] * np.sqrt(2 * np.mean(under**2) / np.mean(line[:count] ** 2))
            both = np.column_stack([0.7 * under + 0.5 * line, 0.7 * under + 0.87 * line])
            samples = np.asarray(0.7 * both / np.abs(both).max(), np.float32)
            yield Clip(f"{bank.name[:5]} {name}", samples, list(notes)), 0.33, max(low, 60), high


SYLLABLES = {
    "kick": "[[bu]]", "snare.head": "[[ka]]", "hat.closed": "[[ts]]", "hat.open": "[[tSS]]", "tom1.head": "[[dUN]]",
}  # fmt: skip
FURTHER_SYLLABLES = (
    SYLLABLES,
    {"kick": "[[pf]]", "snare.head": "[[kS]]", "hat.closed": "[[t]]", "crash1.bow": "[[S]]", "tom1.head": "[[dm]]"},
    {
        "kick": "[[bu:m]]", "snare.head": "[[pSa]]", "hat.closed": "[[ts]]", "hat.open": "[[ss]]",
        "snare.side": "[[k]]", "tom2.head": "[[do:]]",
    },
)  # fmt: skip
"""Phonemes in the notation of espeak-ng."""
Spoken = tuple[Clip, dict[str, list[np.ndarray]]]
"""A clip, and examples of each sound at RATE."""


def beats() -> Iterator[Spoken]:
    """Spoken syllables in a rhythm with breaths between, and examples of each."""
    for speaker in ("en", "en+f3", "en+m5"):
        said = _takes(speaker, SYLLABLES)
        for number in range(2 if said else 0):
            random = np.random.default_rng(8000 + number + 7 * len(speaker))
            yield _spoken(f"{speaker} {number + 1}", said, random)


def mouths() -> Iterator[Spoken]:
    """Other speakers and syllables: slow, in two parts, or similar."""
    for speaker in ("en+f1", "en+m2", "de", "it", "fr", "en+Andy", "en+linda"):
        for k, syllables in enumerate(FURTHER_SYLLABLES):
            said = _takes(speaker, syllables)
            for number in range(2 if said else 0):
                random = np.random.default_rng(9000 + 10 * k + number + sum(map(ord, speaker)) * 37)
                yield _spoken(f"{speaker} {' '.join(syllables.values())} {number + 1}", said, random)


RECORDED_SYLLABLES = (
    {"kick": "bu", "snare.head": "ka", "hat.closed": "ts", "tom1.head": "dun"},
    {"kick": "pf", "snare.head": "kx", "hat.closed": "t", "crash1.bow": "x", "tom1.head": "dm"},
    {"kick": "bum", "snare.head": "pxa", "hat.closed": "ts", "hat.open": "ss", "snare.side": "k"},
)  # fmt: skip


def people_mouths() -> Iterator[Spoken]:
    """Sounds said by recorded speakers (recorded_speakers.py), two rhythms of each set."""
    voices = [name for name, program in (recorded_speakers.HIGH | recorded_speakers.LOW).items() if program == "flite"]
    for speaker in voices:
        for k, syllables in enumerate(RECORDED_SYLLABLES):
            said: dict[str, list[np.ndarray]] = {}
            for name, text in syllables.items():
                for take in range(12):
                    sound = recorded_speakers.say(text, speaker, 0.4 + 0.06 * (take % 5), 85 + 8.0 * take)
                    if sound is not None:
                        # A mouth makes one sound at a time.
                        sound = sound[: round(0.2 * RATE)]
                        sound[-500:] *= np.linspace(1, 0, len(sound[-500:]))
                        said.setdefault(name, []).append(sound * (0.7 + 0.1 * (take % 4)))
            for number in range(2 if said else 0):
                random = np.random.default_rng(9500 + 10 * k + number + sum(map(ord, speaker)) * 37)
                yield _spoken(f"{speaker} {' '.join(syllables.values())} {number + 1}", said, random)


def _takes(speaker: str, syllables: dict[str, str]) -> dict[str, list[np.ndarray]]:
    """Twelve of each, varied in pitch and speed; none where espeak-ng is missing."""
    said: dict[str, list[np.ndarray]] = {}
    for name, text in syllables.items():
        for take in range(12):
            sound = spoken(text, speaker, 40 + 3 * take, 250 + 15 * (take % 5), 70 + 10 * (take % 4))
            if sound is not None:
                said.setdefault(name, []).append(sound)
    return said


def _spoken(name: str, said: dict[str, list[np.ndarray]], random: np.random.Generator) -> Spoken:
    """The last six takes in a rhythm, the first six as examples."""
    samples = np.zeros(RATE * 16, np.float32)
    notes: list[tuple[float, float, object, float]] = []
    at = 0.5
    while at < 15:
        if random.random() < 0.12:
            breath = random.normal(size=round(0.25 * RATE)) * np.hanning(round(0.25 * RATE)) * 0.03
            begin = round(at * RATE)
            samples[begin : begin + len(breath)] += np.convolve(breath, np.ones(4) / 4, "same")
        else:
            which = str(random.choice(list(said)))
            sound = said[which][int(random.integers(6, 12))] * random.uniform(0.5, 1.0)
            sound = sound[: round(0.3 * RATE)]
            begin = round(at * RATE)
            end = min(len(samples), begin + len(sound))
            samples[begin:end] += sound[: end - begin]
            notes.append((at, at + 0.1, which, 0.8))
        at += float(random.choice([0.22, 0.3, 0.4]))
    samples = room(samples, random, 0.5, -50)
    return Clip(name, samples, notes), {each: sounds[:6] for each, sounds in said.items()}


def spoken(text: str, voice: str, pitch: int, speed: int, loud: int) -> np.ndarray | None:
    """What a voice of espeak-ng says, (n,) float32 at RATE; None where it is missing. The numbers are its settings."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "said.wav"
        command = ["espeak-ng", "-v", voice, "-p", str(pitch), "-s", str(speed), "-a", str(loud), "-w", str(path), text]
        try:
            subprocess.run(command, check=True, capture_output=True)
        except (OSError, subprocess.CalledProcessError):
            return None
        samples, rate = soundfile.read(path, dtype="float32")
    import soxr

    samples = np.asarray(soxr.resample(samples, rate, RATE), np.float32)
    level = np.convolve(np.abs(samples), np.ones(200) / 200, "same")
    loud_at = np.flatnonzero(level > 0.1 * level.max())
    return samples[max(0, int(loud_at[0]) - 40) :] if len(loud_at) else None
