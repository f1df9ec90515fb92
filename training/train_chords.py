"""Train the network that hears chords: `train_chords.py FOLDER [--clips N]`.

Clips and what was learnt after each epoch are kept in FOLDER, so that an interrupted run goes on where it was. Sound:
our own synthesis, and half of the families of two sampled banks (sampled_instruments.py); music: part_writing.py and
chords. Writes src/puresignal/models/chords.npz. Needs PyTorch.
"""

from __future__ import annotations

import sys
from dataclasses import replace
from functools import partial
from multiprocessing import Pool
from pathlib import Path

import numpy as np
import pitch_targets
import sampled_instruments
import soxr
import train_dense
import train_harmonic
from train_ear import MODELS, smaller

from puresignal.core.hearing.networks import dense, harmonic, multipitch, pitch_levels
from puresignal.core.hearing.networks.multipitch import RATE
from puresignal.core.hearing.networks.pitch_levels import Changes, Levels
from puresignal.sim import instrument_synthesis, part_writing
from puresignal.sim.instrument_synthesis import Notes, Timbre
from puresignal.sim.percussion_synthesis import between

SECONDS = 8.0
RINGS = 0.5
"""Seconds after a note's end in which it may ring on: such frames are neither sounding nor silent."""
FIRST_SEED, FOR_GATE = 500_000, 240
"""Seed of the first clip, and clips that the gate is trained on."""
GATE, WIDTH, NARROW, EPOCHS = 24, 56, 20, 10


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
    timbre = _wider(instrument_synthesis.any_timbre(random, 0.6), random)
    if kind < 0.88:
        notes = part_writing.any_texture(random, SECONDS)
    elif kind < 0.96:
        notes = instrument_synthesis.some_chords(random, SECONDS)
    else:
        low = int(random.integers(30, 70))
        notes = instrument_synthesis.a_line(random, SECONDS, low, low + 20)
    return instrument_synthesis.play(notes, timbre, RATE, seed), notes, timbre.release


def _wider(timbre: Timbre, random: np.random.Generator) -> Timbre:
    """Some timbres made into what chords are often played on: pads that swell, tuned bars, motors and speakers that
    turn."""
    kind = random.random()
    if kind < 0.10:
        swell, release = between(random, 0.15, 1.3), between(random, 0.2, 2.0)
        return replace(timbre, attack=swell, decay=np.inf, bite=0.0, release=release)
    if kind < 0.20:
        # A bar is tuned so that its second mode, and often its third, are whole multiples.
        bar = np.array([1.0, *random.choice([3, 4, 5], 1), *random.uniform(6, 20, int(random.integers(0, 4)))])
        ring = between(random, 0.15, 5.0)
        release = between(random, 0.05, ring)
        timbre = replace(timbre, partials=np.sort(bar), decay=ring, attack=0.002, release=release)
    if kind < 0.30:
        deep, rate = float(random.uniform(0.2, 0.8)), float(random.uniform(2.0, 8.0))
        return replace(timbre, tremolo=deep, rate=rate, sets_in=0.0)
    return timbre


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
    seen, changes = pitch_levels.levels_and_changes(sound, multipitch.loud(sound))
    part = path.with_suffix(".part.npz")
    np.savez(
        part, long=seen.long.astype(np.float16), middle=seen.middle.astype(np.float16),
        short=seen.short.astype(np.float16), middle_change=changes.middle.astype(np.float16),
        short_change=changes.short.astype(np.float16), **pitch_targets.targets(notes, rings, len(seen)),
    )  # fmt: skip
    part.rename(path)
    return path


def loaded(path: Path) -> tuple[Levels, Changes, np.ndarray, np.ndarray, np.ndarray]:
    """Levels, changes, whether each pitch sounds, 0..1 that it begins, and whether neither is known."""
    with np.load(path) as a:
        seen = Levels(*(a[name].astype(np.float32) for name in ("long", "middle", "short")))
        changes = Changes(*(a[name].astype(np.float32) for name in ("middle_change", "short_change")))
        return seen, changes, a["sounds"].astype(np.float32), a["starts"].astype(np.float32) / 100, a["ringing"]


def gate_rows(path: Path) -> tuple[np.ndarray, np.ndarray]:
    """Some inputs of a clip, and whether each may be a note."""
    seen, _, sounds, starts, ringing = loaded(path)
    random = np.random.default_rng(int(path.stem))
    frame, pitch = np.nonzero(~ringing & (random.random(sounds.shape) < 0.12))
    wanted = (sounds[frame, pitch] > 0) | (starts[frame, pitch] > 0)
    return harmonic.inputs(seen, frame, pitch).astype(np.float16), wanted[:, None].astype(np.float32)


def gate(paths: list[Path]) -> dict[str, np.ndarray]:
    """The network that says what may be a note."""
    with Pool() as pool:
        rows = pool.map(gate_rows, paths)
    groups = np.concatenate([np.full(len(x), k) for k, (x, _) in enumerate(rows)])
    x, y = (np.concatenate(each) for each in zip(*rows, strict=True))
    return train_dense.train(x, y, groups, (GATE,), 6, 1_000_000)


def all_clips(folder: Path) -> list[Path]:
    """The files of all clips, made where they are missing."""
    folder.mkdir(parents=True, exist_ok=True)
    clips = int(sys.argv[sys.argv.index("--clips") + 1]) if "--clips" in sys.argv else 2000
    sampled_instruments.programs()
    with Pool() as pool:
        paths = list(pool.imap(partial(made, folder), range(FIRST_SEED, FIRST_SEED + clips)))
    print(f"{len(paths)} clips", flush=True)
    return paths


def main() -> None:
    folder = Path(sys.argv[1])
    paths = all_clips(folder)
    kept = folder / "gate.npz"
    if not kept.exists():
        np.savez(kept, **gate(paths[:FOR_GATE]))  # type: ignore[arg-type]
    with np.load(kept) as arrays:
        first = {name: np.asarray(arrays[name], np.float32) for name in arrays.files}
    found = train_harmonic.train(
        paths, loaded, dense.from_arrays(first), WIDTH, NARROW, EPOCHS, folder / "chords.checkpoint"
    )
    found |= {f"gate_{name}": array for name, array in first.items()}
    np.savez_compressed(MODELS / "chords.npz", **smaller(found))  # type: ignore[arg-type]


if __name__ == "__main__":
    main()
