"""Train what hears one voice: `train_melody.py FOLDER [--clips N] [--only NAME]`.

Clips are made once and kept in FOLDER, so that an interrupted run goes on where it was. Sound: singers, hummers and
whistlers of sim/sung_lines.py, synthesised instruments, half of the families of two sampled banks, drums and mouths;
through rooms, telephones and noise. Writes src/puresignal/models/melody_pitch.npz, and goes on training onset.npz.
Needs PyTorch.
"""

from __future__ import annotations

import sys
from functools import partial
from multiprocessing import Pool
from pathlib import Path

import numpy as np
import pitch_targets
import sampled_instruments
import soxr
from train_ear import MODELS, SECONDS, line, loop, manner, shipped, smaller, target

from puresignal.core.hearing.networks import multipitch, onset, pitch_levels, single_pitch
from puresignal.core.hearing.networks.multipitch import LOWEST, RATE
from puresignal.core.hearing.networks.pitch_levels import Levels
from puresignal.sim import beatbox, instrument_synthesis, microphones, singer, sung_lines
from puresignal.sim.instrument_synthesis import Notes

RINGS = 0.4
HIDDEN = (192, 96)
PITCHED = 0.88
"""Part of the clips that have pitches."""


def sung(random: np.random.Generator, rate: int, seed: int) -> tuple[np.ndarray, Notes]:
    """A line by a random voice."""
    voice = sung_lines.any_voice(random)
    low = int(random.integers(64, 80)) if voice.whistles else int(random.integers(38, 68))
    notes = instrument_synthesis.a_line(random, SECONDS, low, low + int(random.integers(8, 20)))
    if random.random() < 0.15:
        return singer.perform(notes, manner(random), rate, seed), notes
    return sung_lines.sing(notes, voice, rate, seed)


def clip(seed: int) -> tuple[np.ndarray, Notes, list[float], float]:
    """A recording: samples at RATE, pitched notes, onsets of everything, and seconds that notes may ring on."""
    random = np.random.default_rng(seed)
    own = int(random.integers(1 << 30))
    kind = random.random()
    rings = 0.0
    programs = sampled_instruments.programs()
    if kind < 0.50:
        sound, notes = sung(random, RATE, own)
    elif kind < 0.68 and programs:
        path, program = programs[int(random.integers(len(programs)))]
        low = int(random.integers(30, 70))
        notes = instrument_synthesis.a_line(random, SECONDS, low, low + int(random.integers(8, 26)))
        played = sampled_instruments.opened(path).render(notes, program)
        sound, rings = np.asarray(soxr.resample(played, sampled_instruments.RATE, RATE)), RINGS
    elif kind < PITCHED:
        sound, notes, rings = line(random, RATE)
        return _recorded(sound, random), notes, [n[0] for n in notes], rings
    elif kind < 0.93:
        loud, hits = loop(random)
        return np.asarray(soxr.resample(loud, 44_100, RATE)), [], [h[0] for h in hits], 0.0
    else:
        syllables = [beatbox.any_syllable(random) for _ in range(int(random.integers(2, 6)))]
        sound, truth = beatbox.beat(syllables, SECONDS, RATE, random)
        heard = instrument_synthesis.in_a_room(sound, RATE, random)
        return _recorded(heard, random), [], [t for t, _ in truth], 0.0
    heard = instrument_synthesis.in_a_room(sound, RATE, random, (-75.0, -30.0))
    return _recorded(heard, random), notes, [n[0] for n in notes], rings


def _recorded(sound: np.ndarray, random: np.random.Generator) -> np.ndarray:
    return microphones.any_microphone(sound, RATE, random) if random.random() < 0.5 else sound


def made(folder: Path, seed: int) -> Path:
    """The clip's levels, spectrogram and truth, in a file."""
    path = folder / f"{seed}.npz"
    if path.exists():
        return path
    sound, notes, begins, rings = clip(seed)
    seen = pitch_levels.levels(sound, multipitch.loud(sound))
    picture = onset.SPECTROGRAM.levels(sound)
    part = path.with_suffix(".part.npz")
    np.savez(
        part, long=seen.long.astype(np.float16), middle=seen.middle.astype(np.float16),
        short=seen.short.astype(np.float16), **pitch_targets.targets(notes, [rings] * len(notes), len(seen)),
        picture=picture.astype(np.float16),
        begins=target(np.array(begins), len(picture), onset.STEP).astype(np.float16),
    )  # fmt: skip
    part.rename(path)
    return path


def pitch_rows(path: Path) -> tuple[np.ndarray, np.ndarray]:
    """Inputs and targets of the pitch network from a clip."""
    with np.load(path) as a:
        seen = Levels(a["long"].astype(np.float32), a["middle"].astype(np.float32), a["short"].astype(np.float32))
        sounds, starts, ringing = a["sounds"].astype(np.float32), a["starts"].astype(np.float32) / 100, a["ringing"]
    random = np.random.default_rng(int(path.stem))
    chosen = (sounds > 0) & (random.random(sounds.shape) < 0.5) | (starts > 0)
    chosen |= single_pitch.audible(seen) & (random.random(sounds.shape) < 0.12)
    # An octave and a fifth are what it is mostly asked about.
    for up in (-24, -19, -12, 12, 19, 24):
        chosen |= (np.roll(sounds, up, axis=1) > 0) & (random.random(sounds.shape) < 0.08)
    chosen &= ~ringing
    frame, pitch = np.nonzero(chosen)
    x = single_pitch.rows(seen, frame, pitch + LOWEST)
    return x.astype(np.float16), np.stack([sounds[frame, pitch], starts[frame, pitch]], axis=1).astype(np.float16)


def onset_rows(path: Path) -> tuple[np.ndarray, np.ndarray]:
    with np.load(path) as a:
        return a["picture"], a["begins"][:, None]


def train_pitch(paths: list[Path]) -> None:
    import train_dense

    xs, ys, groups = [], [], []
    with Pool() as pool:
        for number, (x, y) in enumerate(pool.imap(pitch_rows, paths, chunksize=8)):
            xs.append(x)
            ys.append(y)
            groups.append(np.full(len(x), number))
    x, y = np.concatenate(xs), np.concatenate(ys).astype(np.float32)
    print(f"melody_pitch: {len(x)} rows of {x.shape[1]}", flush=True)
    arrays = train_dense.train(x, y, np.concatenate(groups), HIDDEN, 9, 2_000_000, 1.2)
    np.savez_compressed(MODELS / "melody_pitch.npz", **smaller(arrays))


def train_onset(paths: list[Path]) -> None:
    import train_convolutional

    clips = [onset_rows(path) for path in paths]
    net = train_convolutional.train(clips, np.array([1.5]), 8, seed=14, before=shipped("onset"))
    np.savez_compressed(MODELS / "onset.npz", **train_convolutional.arrays(net))


def main() -> None:
    folder = Path(sys.argv[1])
    folder.mkdir(parents=True, exist_ok=True)
    clips = int(sys.argv[sys.argv.index("--clips") + 1]) if "--clips" in sys.argv else 2000
    only = sys.argv[sys.argv.index("--only") + 1] if "--only" in sys.argv else ""
    sampled_instruments.programs()
    with Pool() as pool:
        paths = list(pool.imap(partial(made, folder), range(500_000, 500_000 + clips)))
    print(f"{len(paths)} clips", flush=True)
    if only in ("", "pitch"):
        train_pitch(paths)
    if only in ("", "onset"):
        train_onset(paths)


if __name__ == "__main__":
    main()
