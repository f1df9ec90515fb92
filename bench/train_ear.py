"""Trains the networks of the ear on sound of our own synthesis: `train_ear.py [begin|drums|tones ...] [--clips N]`.

Writes src/puresignal/io/models/NAME.npz. Nothing that the ear is measured on (bench/hearing.py) is heard here.
"""

from __future__ import annotations

import sys
from multiprocessing import Pool

import numpy as np
import soxr
from training import MODELS, save, train

from puresignal.core.hearing import begin, drums, strokes, tones
from puresignal.io.modelfile import network
from puresignal.sim import anykit, mouth, players, singer

SECONDS = 9.0


def manner(random: np.random.Generator) -> singer.Manner:
    """Any way of singing."""
    return singer.Manner(
        vibrato=float(random.uniform(0, 0.8)), rate=float(random.uniform(4, 7)), scoop=float(random.uniform(-0.3, 2)),
        drift=float(random.uniform(0, 0.2)), consonant=float(random.choice([0, 0.02, 0.05, 0.1, 0.2])),
        tuned=float(random.uniform(-0.5, 0.5)), attack=float(np.exp(random.uniform(np.log(0.008), np.log(0.12)))),
        release=float(random.uniform(0.03, 0.2)), harmonics=float(random.uniform(0.9, 2.6)), noise_db=-80.0,
    )  # fmt: skip


def line(random: np.random.Generator, rate: int) -> tuple[np.ndarray, list[tuple[float, float, int, float]]]:
    """A line on some instrument, or sung."""
    low = int(random.integers(30, 70))
    seed = int(random.integers(1 << 30))
    if random.random() < 0.3:
        notes = players.a_line(random, SECONDS, max(40, low), max(40, low) + 17)
        return players.in_a_room(singer.perform(notes, manner(random), rate, seed), rate, random), notes
    notes = players.a_line(random, SECONDS, low, low + int(random.integers(8, 28)))
    timbre = players.any_timbre(random, 0.4)
    return players.in_a_room(players.play(notes, timbre, rate, seed, random.random() < 0.5), rate, random), notes


def chords(random: np.random.Generator, rate: int) -> tuple[np.ndarray, list[tuple[float, float, int, float]]]:
    notes = players.some_chords(random, SECONDS)
    seed = int(random.integers(1 << 30))
    sound = players.play(notes, players.any_timbre(random, 0.6), rate, seed)
    return players.in_a_room(sound, rate, random, (-78.0, -42.0)), notes


def loop(random: np.random.Generator) -> tuple[np.ndarray, list[tuple[float, str, float]]]:
    """Drumming at 44.1 kHz."""
    kit = anykit.built_kit(random, 44_100) if random.random() < 0.35 else anykit.drawn_kit(random, 44_100)
    sound, truth = anykit.groove(kit, SECONDS, 44_100, random)
    return players.in_a_room(sound, 44_100, random, (-80.0, -45.0)), truth


def target(starts: np.ndarray, count: int, step: float) -> np.ndarray:
    """(count,) 1 at beginnings, less beside them."""
    out = np.zeros(count, np.float32)
    for k, value in ((0, 1.0), (1, 0.6), (-1, 0.6), (2, 0.15), (-2, 0.15)):
        at = np.clip(np.rint(starts / step).astype(int) + k, 0, count - 1)
        out[at] = np.maximum(out[at], value)
    return out


def begin_rows(seed: int) -> tuple[np.ndarray, np.ndarray]:
    random = np.random.default_rng(seed)
    kind = random.random()
    if kind < 0.62:
        sound, notes = line(random, begin.RATE)
        starts = np.array([n[0] for n in notes])
    elif kind < 0.74:
        sound, notes = chords(random, begin.RATE)
        starts = np.array([n[0] for n in notes])
    elif kind < 0.86:
        loud, hits = loop(random)
        sound, starts = soxr.resample(loud, 44_100, begin.RATE), np.array([h[0] for h in hits])
    else:
        syllables = [mouth.any_syllable(random) for _ in range(int(random.integers(2, 6)))]
        said, truth = mouth.beat(syllables, SECONDS, begin.RATE, random)
        sound, starts = players.in_a_room(said, begin.RATE, random), np.array([t for t, _ in truth])
    levels = begin.LOOK.levels(sound)
    wanted = target(starts, len(levels), begin.STEP)
    # Frames where nothing happens at all teach little.
    some = np.flatnonzero((wanted > 0) | (random.random(len(levels)) < 0.6))
    return begin.LOOK.rows(levels, some).astype(np.float16), wanted[some, None].astype(np.float16)


def drum_rows(seed: int) -> tuple[np.ndarray, np.ndarray]:
    random = np.random.default_rng(seed)
    sound, truth = loop(random)
    levels = drums.LOOK.levels(sound)
    wanted = np.stack(
        [target(np.array([t for t, n, _ in truth if n == name]), len(levels), drums.STEP) for name in drums.SORTS],
        axis=1,
    )
    some = np.flatnonzero((wanted.max(axis=1) > 0) | (random.random(len(levels)) < 0.5))
    return drums.LOOK.rows(levels, some).astype(np.float16), wanted[some].astype(np.float16)


def tone_rows(seed: int) -> tuple[np.ndarray, np.ndarray]:
    random = np.random.default_rng(seed)
    sound, notes = chords(random, tones.RATE) if random.random() < 0.8 else line(random, tones.RATE)
    long, short = tones.levels(sound)
    count = len(long)
    sounds, starts = np.zeros((count, tones.PITCHES), np.float32), np.zeros((count, tones.PITCHES), np.float32)
    for start, end, number, _ in notes:
        if not tones.LOWEST <= number <= tones.HIGHEST:
            continue
        column = number - tones.LOWEST
        first = round(start / tones.STEP)
        sounds[first : max(first + 1, round(end / tones.STEP)), column] = 1
        for k, value in ((0, 1.0), (1, 0.6), (-1, 0.6)):
            at = min(max(0, first + k), count - 1)
            starts[at, column] = max(starts[at, column], value)
    top = long.max(axis=1)
    own = (
        long[:, (tones.LOWEST - tones.FIRST) * 3 :][:, : tones.PITCHES * 3].reshape(count, tones.PITCHES, 3).max(axis=2)
    )
    audible = (own > np.maximum(top[:, None] - 1.6, -3)) & (random.random((count, tones.PITCHES)) < 0.25)
    chosen = (sounds > 0) & (random.random(sounds.shape) < 0.4) | (starts > 0) | audible
    chosen |= random.random(sounds.shape) < 0.01
    frame, pitch = np.nonzero(chosen)
    rows = tones.rows(long, short, frame, pitch + tones.LOWEST)
    return rows.astype(np.float16), np.stack([sounds[frame, pitch], starts[frame, pitch]], axis=1).astype(np.float16)


def stroke_rows(seed: int) -> tuple[np.ndarray, np.ndarray]:
    """Strokes of one recording, and which sound each was."""
    random = np.random.default_rng(seed)
    if random.random() < 0.7:
        syllables = [mouth.any_syllable(random) for _ in range(int(random.integers(3, 8)))]
        sound, said = mouth.beat(syllables, SECONDS, strokes.RATE, random)
        truth = [(t, str(w)) for t, w in said]
        sound = players.in_a_room(sound, strokes.RATE, random, (-78.0, -42.0))
    else:
        sound, hits = loop(random)
        truth = [
            (t, n)
            for i, (t, n, _) in enumerate(hits)
            if all(abs(t - o[0]) > 0.04 for j, o in enumerate(hits) if j != i)
        ]
    at = np.array([t for t, _ in truth]) + random.normal(0, 0.003, len(truth))
    features = strokes.at(strokes.analyse(network("begin"), sound), at)
    return features, np.array([n for _, n in truth])


def train_strokes(clips: int, axes: int = 12) -> None:
    """Axes on which takes of one sound lie close together and the sounds of one recording far apart."""
    within, between = np.zeros((strokes.FEATURES,) * 2), np.zeros((strokes.FEATURES,) * 2)
    taken = sounds = 0
    with Pool() as pool:
        for x, labels in pool.imap(stroke_rows, range(5000, 5000 + clips)):
            middles = []
            for label in np.unique(labels):
                own = x[labels == label].astype(np.float64)
                if len(own) < 3:
                    continue
                middles.append(own.mean(axis=0))
                off = own - middles[-1]
                within += off.T @ off * len(own) / (len(own) - 1)
                taken += len(own)
            if len(middles) > 1:
                off = np.stack(middles) - np.mean(middles, axis=0)
                between += off.T @ off
                sounds += len(middles)
    within = within / taken + 1e-3 * np.eye(strokes.FEATURES)
    root = np.linalg.inv(np.linalg.cholesky(within))
    values, vectors = np.linalg.eigh(root @ (between / sounds) @ root.T)
    print("between against within, axis by axis:", np.round(values[::-1][:axes], 2))
    np.savez_compressed(MODELS / "strokes.npz", turn=(root.T @ vectors[:, ::-1][:, :axes]).astype(np.float32))


JOBS = {
    "begin": (begin_rows, 1600, (144, 48), 12, 1.5), "drums": (drum_rows, 1000, (192, 80), 12, 1.5),
    "tones": (tone_rows, 900, (128, 64), 10, 1.3),
}  # fmt: skip


def main() -> None:
    clips = int(sys.argv[sys.argv.index("--clips") + 1]) if "--clips" in sys.argv else 0
    named = [a for a in sys.argv[1:] if a in JOBS or a == "strokes"]
    for name in named or [*JOBS, "strokes"]:
        if name == "strokes":
            train_strokes(clips or 300)
            continue
        make, usual, hidden, epochs, important = JOBS[name]
        count = clips or usual
        xs, ys, groups = [], [], []
        with Pool() as pool:
            for number, (x, y) in enumerate(pool.imap(make, range(1000, 1000 + count))):
                xs.append(x)
                ys.append(y)
                groups.append(np.full(len(x), number))
                if number % 50 == 49:
                    print(f"{name}: {number + 1} clips", flush=True)
        x, y = np.concatenate(xs), np.concatenate(ys).astype(np.float32)
        print(f"{name}: {len(x)} rows of {x.shape[1]}", flush=True)
        save(name, train(x, y, np.random.default_rng(5), hidden, epochs, important, groups=np.concatenate(groups)))


if __name__ == "__main__":
    main()
