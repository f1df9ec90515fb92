"""Train the networks that hear chords: `train_chords.py FOLDER [--clips N]`.

Clips are made once and kept in FOLDER, so that an interrupted run goes on where it was. Sound: our own synthesis, and
half of the families of two sampled banks (sampled_instruments.py); music: part_writing.py and chords. Writes
src/puresignal/models/chord_first.npz and chord_second.npz. Needs PyTorch. About 40 minutes on two cores.
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
from train_ear import MODELS, smaller

from puresignal.core.hearing.networks import chord_pitches, dense, multipitch
from puresignal.core.hearing.networks.chord_pitches import Levels
from puresignal.core.hearing.networks.multipitch import LOWEST, RATE
from puresignal.sim import instrument_synthesis, part_writing
from puresignal.sim.instrument_synthesis import Notes

SECONDS = 8.0
RINGS = 0.5
"""Seconds after a note's end in which it may ring on: such frames are neither sounding nor silent."""
FIRST_HIDDEN, SECOND_HIDDEN = (192, 96), (160, 64)


def part(random: np.random.Generator) -> tuple[np.ndarray, Notes, float]:
    """One player: samples at RATE, the notes, and how long they may ring on."""
    seed = int(random.integers(1 << 30))
    programs = sampled_instruments.programs()
    kind = random.random()
    if programs and kind < 0.5:
        path, program = programs[int(random.integers(len(programs)))]
        notes = part_writing.any_texture(random, SECONDS)
        sound = sampled_instruments.opened(path).render(notes, program)
        return np.asarray(soxr.resample(sound, sampled_instruments.RATE, RATE)), notes, RINGS
    timbre = instrument_synthesis.any_timbre(random, 0.6)
    if kind < 0.88:
        notes = part_writing.any_texture(random, SECONDS)
    elif kind < 0.96:
        notes = instrument_synthesis.some_chords(random, SECONDS)
    else:
        low = int(random.integers(30, 70))
        notes = instrument_synthesis.a_line(random, SECONDS, low, low + 20)
    return instrument_synthesis.play(notes, timbre, RATE, seed), notes, timbre.release


def clip(seed: int) -> tuple[np.ndarray, Notes, list[float]]:
    """A recording of one player or two: samples, the notes, and how long each may ring on."""
    random = np.random.default_rng(seed)
    sound, notes, rings = part(random)
    all_rings = [rings] * len(notes)
    if random.random() < 0.15:
        other, more, ring = part(random)
        size = max(len(sound), len(other))
        level = np.sqrt(np.mean(sound**2) / (np.mean(other**2) + 1e-9)) * 10 ** (random.uniform(-9, 3) / 20)
        sound = np.pad(sound, (0, size - len(sound))) + level * np.pad(other, (0, size - len(other)))
        notes, all_rings = [*notes, *more], [*all_rings, *[ring] * len(more)]
    return instrument_synthesis.in_a_room(sound, RATE, random, (-78.0, -40.0)), notes, all_rings


def made(folder: Path, seed: int) -> Path:
    """The clip's levels and truth, in a file."""
    path = folder / f"{seed}.npz"
    if path.exists():
        return path
    sound, notes, rings = clip(seed)
    seen = chord_pitches.levels(sound, multipitch.loud(sound))
    part = path.with_suffix(".part.npz")
    np.savez(
        part, long=seen.long.astype(np.float16), middle=seen.middle.astype(np.float16),
        short=seen.short.astype(np.float16), **pitch_targets.targets(notes, rings, len(seen)),
    )  # fmt: skip
    part.rename(path)
    return path


def loaded(path: Path) -> tuple[Levels, np.ndarray, np.ndarray, np.ndarray]:
    """Levels, whether each pitch sounds, 0..1 that it begins, and whether neither is known."""
    with np.load(path) as a:
        seen = Levels(a["long"].astype(np.float32), a["middle"].astype(np.float32), a["short"].astype(np.float32))
        return seen, a["sounds"].astype(np.float32), a["starts"].astype(np.float32) / 100, a["ringing"]


def first_rows(path: Path) -> tuple[np.ndarray, np.ndarray]:
    """Inputs and targets of the first network from a clip."""
    seen, sounds, starts, ringing = loaded(path)
    random = np.random.default_rng(int(path.stem))
    chosen = (sounds > 0) & (random.random(sounds.shape) < 0.3) | (starts > 0)
    chosen |= chord_pitches.audible(seen) & (random.random(sounds.shape) < 0.11)
    chosen &= ~ringing
    frame, pitch = np.nonzero(chosen)
    x = chord_pitches.rows(seen, frame, pitch + LOWEST)
    return x.astype(np.float16), np.stack([sounds[frame, pitch], starts[frame, pitch]], axis=1).astype(np.float16)


def second_rows(network: dense.Network, path: Path) -> tuple[np.ndarray, np.ndarray]:
    """Inputs and targets of the second network from a clip."""
    seen, sounds, starts, ringing = loaded(path)
    random = np.random.default_rng(int(path.stem) + 1)
    first = chord_pitches.first_estimate(network, seen)
    asked = (first.max(axis=2) > chord_pitches.ASKED) & ~ringing
    asked &= (random.random(sounds.shape) < 0.22) | (starts > 0)
    frame, pitch = np.nonzero(asked)
    x = chord_pitches.judged_rows(seen, first, frame, pitch)
    return x.astype(np.float16), np.stack([sounds[frame, pitch], starts[frame, pitch]], axis=1).astype(np.float16)


def taught(name: str, make: partial | object, paths: list[Path], hidden: tuple[int, ...], epochs: int) -> None:
    import train_dense

    xs, ys, groups = [], [], []
    with Pool() as pool:
        for number, (x, y) in enumerate(pool.imap(make, paths, chunksize=8)):  # type: ignore[arg-type]
            xs.append(x)
            ys.append(y)
            groups.append(np.full(len(x), number))
    x, y = np.concatenate(xs), np.concatenate(ys).astype(np.float32)
    print(f"{name}: {len(x)} rows of {x.shape[1]}", flush=True)
    arrays = train_dense.train(x, y, np.concatenate(groups), hidden, epochs, 2_500_000, 1.2)
    np.savez_compressed(MODELS / f"{name}.npz", **smaller(arrays))


def main() -> None:
    folder = Path(sys.argv[1])
    folder.mkdir(parents=True, exist_ok=True)
    clips = int(sys.argv[sys.argv.index("--clips") + 1]) if "--clips" in sys.argv else 2000
    sampled_instruments.programs()
    with Pool() as pool:
        paths = list(pool.imap(partial(made, folder), range(300_000, 300_000 + clips)))
    print(f"{len(paths)} clips", flush=True)
    if "--second" not in sys.argv:
        taught("chord_first", first_rows, paths, FIRST_HIDDEN, 10)
    with np.load(MODELS / "chord_first.npz") as arrays:
        network = dense.from_arrays(dict(arrays))
    taught("chord_second", partial(second_rows, network), paths, SECOND_HIDDEN, 8)


if __name__ == "__main__":
    main()
