"""Train the trees that judge the notes of one voice: `train_melody_notes.py FOLDER [--clips N]`.

Sound: singers, hummers and whistlers of sim/sung_lines.py, singers made of espeak-ng's syllables (spoken_lines.py),
drawn instruments and half of the families of two sampled banks (train_melody.py), a third of them above chords.
None of the clips is one that the networks learnt from. What was seen of each clip is kept in FOLDER, so that an
interrupted run goes on where it was. Writes src/puresignal/models/melody_notes.npz. Needs CatBoost.
"""

from __future__ import annotations

import argparse
from dataclasses import replace
from functools import partial
from multiprocessing import Pool
from pathlib import Path

import learn_trees
import numpy as np
import sampled_instruments
import soxr
import spoken_lines
import train_chords
import train_melody
from learn_trees import Manner
from train_ear import MODELS, line

from puresignal.core.hearing.melody import candidates, note_evidence, note_judge
from puresignal.core.hearing.melody import notes as melody_notes
from puresignal.core.hearing.melody.note_judge import PossibleNotes
from puresignal.core.hearing.melody.segmentation import MelodySettings
from puresignal.io import models
from puresignal.sim import instrument_synthesis, microphones
from puresignal.sim.instrument_synthesis import Notes

RATE = candidates.RATE
SECONDS = 9.0
FIRST = 93_000_000
A_SPEAKER = 12
"""Clips one after the other that have the same speaker."""
FAR, END_FAR = (0.10, 0.20), 0.35
"""Seconds before and after a possible note within which one may have been played; and from its end."""
HARDLY = 0.25
"""Part of the possible notes of a clip that were played, at least: less where an instrument sounds an octave away."""
PLAYED = Manner(trees=800, rate=0.04, held=20.0, chance=1.0)
LATER = Manner(trees=400, rate=0.06, chance=1.0, loss="RMSE")
ENDS = Manner(trees=400, rate=0.06, chance=1.0, loss="MAE")


def voice(random: np.random.Generator, number: int) -> tuple[np.ndarray, Notes]:
    """One voice: samples at RATE, and the notes."""
    kind, own = random.random(), int(random.integers(1 << 30))
    programs = sampled_instruments.programs()
    if kind < 0.4 and (said := spoken_lines.sung(random, number, SECONDS)) is not None:
        return np.asarray(soxr.resample(said[0], spoken_lines.spoken_singers.RATE, RATE)), said[1]
    if kind < 0.65:
        return train_melody.sung(random, RATE, own)
    if kind < 0.85 and programs:
        path, program = programs[int(random.integers(len(programs)))]
        low = int(random.integers(30, 70))
        notes = instrument_synthesis.a_line(random, SECONDS, low, low + int(random.integers(8, 26)))
        played = sampled_instruments.opened(path).render(notes, program)
        return np.asarray(soxr.resample(played, sampled_instruments.RATE, RATE)), notes
    sound, notes, _ = line(random, RATE)
    return sound, notes


def clip(seed: int) -> tuple[np.ndarray, Notes, bool]:
    """A recording at RATE, the notes of its voice, and whether others play beneath it."""
    random = np.random.default_rng(seed)
    sound, notes = voice(random, seed // A_SPEAKER)
    beneath = random.random() < 0.3
    if beneath:
        under, _, _ = train_chords.part(random)
        under = np.asarray(soxr.resample(under, train_chords.RATE, RATE))
        under = np.tile(under, 1 + len(sound) // max(1, len(under)))[: len(sound)]
        power = np.mean(sound**2) / (np.mean(under**2) + 1e-9)
        sound = sound + under * np.sqrt(power) * 10 ** (-random.uniform(0, 14) / 20)
    sound = instrument_synthesis.in_a_room(sound, RATE, random, (-75.0, -35.0))
    if random.random() < 0.35:
        sound = microphones.any_microphone(sound, RATE, random)
    return np.asarray(sound, np.float32), notes, beneath


def judged(start: np.ndarray, number: np.ndarray, notes: Notes) -> tuple[np.ndarray, np.ndarray]:
    """Which possible notes were played, (n,) bool, and how much later they were, (n,) seconds.

    Each note that was played is the nearest possible one of its pitch, and no two are the same one.
    """
    pairs = sorted(
        (abs(float(start[i]) - at), i, k)
        for k, (at, _, what, _) in enumerate(notes)
        for i in np.flatnonzero((number == what) & (start > at - FAR[1]) & (start < at + FAR[0])).tolist()
    )
    played, later, taken = np.zeros(len(start), bool), np.zeros(len(start)), set()
    for _, i, k in pairs:
        if not played[i] and k not in taken:
            played[i], later[i] = True, notes[k][0] - start[i]
            taken.add(k)
    return played, later


def ends_later(found: PossibleNotes, notes: Notes) -> np.ndarray:
    """(n,) seconds by which notes end later than the possible ones of their pitch; nan where none ends about then."""
    out = np.full(len(found), np.nan)
    for start, end, what, _ in notes:
        own = np.flatnonzero((found.number == what) & (found.end > start) & (np.abs(found.end - end) < END_FAR))
        if len(own):
            nearest = own[np.abs(found.end[own] - end).argmin()]
            out[nearest] = end - found.end[nearest]
    return out


def rows(seed: int) -> dict[str, np.ndarray]:
    """What a clip shows of its possible notes, which were played, and how much later they begin and end."""
    sound, notes, beneath = clip(seed)
    networks = replace(models.pitch_networks(beneath), judge=note_judge.UNTAUGHT)
    analysis = candidates.analyse(models.conv_net("onset"), networks, sound)
    numbers = [n[2] for n in notes]
    random = np.random.default_rng(seed + 1)
    low, high = min(numbers) - int(random.integers(0, 8)), max(numbers) + int(random.integers(0, 8))
    settings = MelodySettings(low=low, high=high, beneath=True) if beneath else MelodySettings()
    found = melody_notes.possible(analysis, settings)
    if not len(found):
        return {}
    played, later = judged(found.start, found.number, notes)
    return {
        "seen": note_evidence.figures(analysis, found, beneath), "end_seen": note_evidence.end_figures(analysis, found),
        "played": played, "later": later, "ends_later": ends_later(found, notes), "clip": np.full(len(found), seed),
    }  # fmt: skip


def kept(folder: Path, first: int) -> Path:
    """The rows of the clips of one speaker, in a file."""
    path = folder / f"{first}.npz"
    if not path.exists():
        made = [found for seed in range(first, first + A_SPEAKER) if (found := rows(seed))]
        part = path.with_suffix(".part.npz")
        np.savez(part, **{name: np.concatenate([each[name] for each in made]) for name in made[0]})
        part.rename(path)
    return path


def learnt(rows: dict[str, np.ndarray], seed: int) -> dict[str, np.ndarray]:
    """The arrays of the trees. Clips of which hardly anything is possible tell nothing about judging."""
    clips, own = np.unique(rows["clip"], return_inverse=True)
    usable = (np.bincount(own, rows["played"]) / np.bincount(own))[own] > HARDLY
    rows = {name: values[usable] for name, values in rows.items()}
    played, ends = rows["played"], np.isfinite(rows["ends_later"]) & rows["played"]
    print(f"{len(clips)} clips, {len(played)} possible notes, {played.sum()} of them played", flush=True)
    trees = {
        "played": learn_trees.learnt(rows["seen"], played, PLAYED, seed),
        "later": learn_trees.learnt(rows["seen"][played], rows["later"][played], LATER, seed),
        "ends_later": learn_trees.learnt(rows["end_seen"][ends], rows["ends_later"][ends], ENDS, seed),
    }
    return {f"{name}_{each}": values for name, one in trees.items() for each, values in one.arrays().items()}


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("folder", type=Path)
    parser.add_argument("--clips", type=int, default=2088)
    parser.add_argument("--seed", type=int, default=1, help="of the learning; that of the clips stays")
    parser.add_argument("--into", type=Path, default=MODELS)
    options = parser.parse_args()
    options.folder.mkdir(parents=True, exist_ok=True)
    sampled_instruments.programs()
    groups = range(FIRST, FIRST + options.clips, A_SPEAKER)
    with Pool() as pool:
        for number, _ in enumerate(pool.imap_unordered(partial(kept, options.folder), groups)):
            if number % 20 == 0:
                print(f"{number * A_SPEAKER} clips", flush=True)
    made = [dict(np.load(options.folder / f"{first}.npz")) for first in groups]
    rows = {name: np.concatenate([each[name] for each in made]) for name in made[0]}
    np.savez_compressed(options.into / "melody_notes.npz", **learnt(rows, options.seed))


if __name__ == "__main__":
    main()
