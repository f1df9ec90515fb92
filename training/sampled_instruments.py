"""Instruments of sampled banks, for training: half of the families of a general bank only.

The other half is kept for checking (bench/hearing.py), and so is every bank that is not named in BANKS. Families are
those of General MIDI, eight programs each.
"""

from __future__ import annotations

import os
from functools import lru_cache
from pathlib import Path

import numpy as np
import soxr

from puresignal.core.hearing.dsp import yin
from puresignal.sim.instrument_synthesis import Notes
from puresignal.sim.random_kits import Stroke, Strokes

RATE = 44_100
BANKS = ("TimGM6mb.sf2", "FluidR3_GM.sf2")
"""The banks of Debian's packages timgm6mb-soundfont and fluid-soundfont-gm."""
FOLDERS = [Path(p) for p in os.environ.get("SOUND_BANKS_FOR_TRAINING", "/usr/share/sounds/sf2").split(":")]
FAMILIES = (0, 2, 4, 6, 8, 10)
"""Pianos, organs, basses, ensembles, reeds and leads are trained on; chromatic percussion, guitars, strings, brass,
pipes, pads and plucked instruments of the world are kept for checking."""
IN_FIFTHS = (86, 87)
"""Leads of two pitches."""


class SampledInstrument:
    """One bank, opened once."""

    def __init__(self, path: Path) -> None:
        import fluidsynth

        self._synth = fluidsynth.Synth(samplerate=float(RATE), gain=0.4)
        self._font = self._synth.sfload(str(path))

    def render(self, notes: Notes, program: int, tail: float = 0.6) -> np.ndarray:
        """(n,) float32 of the notes on a program."""
        synth = self._synth
        synth.system_reset()
        synth.program_select(0, self._font, 0, program)
        events = sorted(
            [(s, 1, n, max(1, round(127 * v))) for s, _, n, v in notes] + [(e, 0, n, 0) for _, e, n, _ in notes]
        )
        out, now = [], 0
        for at, on, number, velocity in [*events, (max((e for _, e, _, _ in notes), default=0.0) + tail, 0, 0, 0)]:
            place = round(at * RATE)
            if place > now:
                out.append(np.asarray(synth.get_samples(place - now), np.float32).reshape(-1, 2).mean(axis=1) / 32768)
                now = place
            if on:
                synth.noteon(0, number, velocity)
            else:
                synth.noteoff(0, number)
        return np.concatenate(out)

    def strike(self, kit: int, note: int, velocity: int, seconds: float = 2.0) -> np.ndarray:
        """(n,) float32 of one stroke on a drum of a kit."""
        synth = self._synth
        synth.system_reset()
        synth.program_select(9, self._font, 128, kit)
        synth.noteon(9, note, velocity)
        sound = np.asarray(synth.get_samples(round(seconds * RATE)), np.float32).reshape(-1, 2).mean(axis=1) / 32768
        synth.noteoff(9, note)
        loud = np.flatnonzero(np.abs(sound) > 1e-4 * (np.abs(sound).max() + 1e-9))
        return sound[int(loud[0]) if len(loud) else 0 :]


@lru_cache(maxsize=4)
def opened(path: Path) -> SampledInstrument:
    return SampledInstrument(path)


def found() -> list[Path]:
    """The banks of BANKS that this machine has."""
    return [folder / name for name in BANKS for folder in FOLDERS if (folder / name).exists()][: len(BANKS)]


KIT_BANK = "FluidR3_GM.sf2"
"""The one bank whose drums are trained on; all others, and real kits, are kept for checking."""
KITS = (0, 8, 16, 24, 25, 32, 40, 48)
STRUCK = {
    "kick": (35, 36), "snare.head": (38, 40), "snare.side": (37,), "hat.closed": (42,), "hat.open": (46,),
    "hat.pedal": (44,), "tom1.head": (50,), "tom2.head": (47, 48), "tom3.head": (45,), "tom4.head": (41, 43),
    "crash1.bow": (49, 57, 52, 55), "ride.bow": (51, 59, 53),
}  # fmt: skip
"""Notes of General MIDI for each drum; chinas and splashes count as crashes, bells as rides."""
LAYERS = (30, 60, 90, 120)


def sampled_kit(random: np.random.Generator, rate: int) -> Strokes | None:
    """A kit whose drums come from any kits of the bank, each tuned and dulled by itself; None without the bank."""
    path = next((folder / KIT_BANK for folder in FOLDERS if (folder / KIT_BANK).exists()), None)
    if path is None:
        return None
    one = int(random.choice(KITS)) if random.random() < 0.5 else None
    return {name: _drum(path, random, rate, one, notes) for name, notes in STRUCK.items()}


def _drum(path: Path, random: np.random.Generator, rate: int, kit: int | None, notes: tuple[int, ...]) -> Stroke:
    program = int(random.choice(KITS)) if kit is None else kit
    note = int(random.choice(notes))
    tuned = 2 ** float(random.normal(0, 0.12))
    dull = float(random.uniform(4000, 22_000)) if random.random() < 0.4 else 0.0
    layers = []
    for velocity in LAYERS:
        sound = _struck(path, program, note, velocity)
        sound = soxr.resample(sound, RATE, rate * tuned) if abs(tuned * rate / RATE - 1) > 1e-3 else sound
        if dull:
            spectrum = np.fft.rfft(sound)
            spectrum /= 1 + (np.linspace(0, rate / 2, len(spectrum)) / dull) ** 2
            sound = np.fft.irfft(spectrum, len(sound))
        layers.append(np.asarray(sound, np.float64) / (np.abs(sound).max() + 1e-9))

    def stroke(loud: float, _: np.random.Generator) -> np.ndarray:
        return np.asarray(layers[int(np.argmin(np.abs(np.array(LAYERS) - 127 * loud)))] * loud**1.4)

    return stroke


@lru_cache(maxsize=600)
def _struck(path: Path, program: int, note: int, velocity: int) -> np.ndarray:
    return opened(path).strike(program, note, velocity)


@lru_cache(maxsize=1)
def programs() -> list[tuple[Path, int]]:
    """Programs of the trained families that sound the pitch they are asked for."""
    out = []
    for path in found():
        for family in FAMILIES:
            for program in range(8 * family, 8 * family + 8):
                if program not in IN_FIFTHS and _in_tune(opened(path), program):
                    out.append((path, program))
    return out


def _in_tune(instrument: SampledInstrument, program: int) -> bool:
    """Organs may sound an octave away: their notes would be wrong truth."""
    right = 0
    for number in (52, 60, 67):
        sound = instrument.render([(0.0, 0.5, number, 0.8)], program, 0.1)[::2].astype(np.float64)
        period = RATE / 2 / (440 * 2 ** ((number - 69) / 12))
        longest = round(3 * period)
        part = sound[round(0.15 * RATE / 2) :]
        if np.abs(part).max() < 1e-4:
            return False
        mean = yin.normalised(part[: 4 * 1024 + longest].astype(np.float32), 1, 1024, 4, longest)[0]
        low = np.flatnonzero(mean < mean[max(2, round(0.3 * period)) :].min() + 0.1)
        low = low[low > 0.3 * period]
        right += bool(len(low)) and abs(12 * np.log2(low[0] / period)) < 1.2
    return right >= 2
