"""Train the ear on synthesised sound: `train_ear.py [NAME ...] [--clips N] [--further]`.

Writes src/puresignal/models/NAME.npz; the names are those in JOBS. All but strokes need PyTorch: onset and
drum_onset (train_convolutional.py), drum_attention (train_attention.py; needs drum_onset first), multipitch and
live_pitch (train_dense.py). --further continues from the existing networks. Nothing that the ear is measured on
(bench/hearing.py) is used here.
"""

from __future__ import annotations

import sys
from functools import partial
from multiprocessing import Pool
from pathlib import Path

import numpy as np
import paired_takes
import sampled_instruments
import soxr

from puresignal.core.hearing.networks import attention, live_pitch, multipitch, onset
from puresignal.core.hearing.percussion import drum_transcription
from puresignal.io import models
from puresignal.sim import beatbox, instrument_synthesis, random_kits, singer, sung_lines

MODELS = Path(__file__).parent.parent / "src" / "puresignal" / "models"
SECONDS = 9.0


def manner(random: np.random.Generator) -> singer.SingingStyle:
    """A random way of singing."""
    return singer.SingingStyle(
        vibrato=float(random.uniform(0, 0.8)), rate=float(random.uniform(4, 7)), scoop=float(random.uniform(-0.3, 2)),
        drift=float(random.uniform(0, 0.2)), consonant=float(random.choice([0, 0.02, 0.05, 0.1, 0.2])),
        tuned=float(random.uniform(-0.5, 0.5)), attack=float(np.exp(random.uniform(np.log(0.008), np.log(0.12)))),
        release=float(random.uniform(0.03, 0.2)), harmonics=float(random.uniform(0.9, 2.6)), noise_db=-80.0,
    )  # fmt: skip


Played = tuple[np.ndarray, instrument_synthesis.Notes, float]
"""A recording, what was played, and seconds for which each note may ring on after its end."""


def line(random: np.random.Generator, rate: int) -> Played:
    """A random line, on an instrument or sung."""
    low = int(random.integers(30, 70))
    seed = int(random.integers(1 << 30))
    kind = random.random()
    if kind < 0.4:
        notes = instrument_synthesis.a_line(random, SECONDS, max(40, low), max(40, low) + 17)
        if kind < 0.25:
            voices = int(random.integers(2, 5)) if random.random() < 0.2 else 1
            sound, notes = sung_lines.sing(notes, sung_lines.any_singer(random), rate, seed, voices)
            return instrument_synthesis.in_a_room(sound, rate, random), notes, 0.0
        return (
            instrument_synthesis.in_a_room(singer.perform(notes, manner(random), rate, seed), rate, random),
            notes,
            0.0,
        )
    notes = instrument_synthesis.a_line(random, SECONDS, low, low + int(random.integers(8, 28)))
    timbre = instrument_synthesis.any_timbre(random, 0.4)
    sound = instrument_synthesis.play(notes, timbre, rate, seed, random.random() < 0.5)
    return instrument_synthesis.in_a_room(sound, rate, random), notes, timbre.release


def chords(random: np.random.Generator, rate: int) -> Played:
    notes = instrument_synthesis.some_chords(random, SECONDS)
    seed = int(random.integers(1 << 30))
    timbre = instrument_synthesis.any_timbre(random, 0.6)
    sound = instrument_synthesis.play(notes, timbre, rate, seed)
    return instrument_synthesis.in_a_room(sound, rate, random, (-78.0, -42.0)), notes, timbre.release


def loop(random: np.random.Generator) -> tuple[np.ndarray, list[tuple[float, str, float]]]:
    """A random drum recording at 44.1 kHz."""
    kind = random.random()
    sampled = sampled_instruments.sampled_kit(random, 44_100) if kind > 0.6 else None
    if sampled is not None:
        kit = sampled
    else:
        kit = random_kits.built_kit(random, 44_100) if kind < 0.15 else random_kits.drawn_kit(random, 44_100)
    sound, truth = random_kits.groove(kit, SECONDS, 44_100, random)
    return instrument_synthesis.in_a_room(sound, 44_100, random, (-80.0, -45.0)), truth


def target(starts: np.ndarray, count: int, step: float) -> np.ndarray:
    """(count,) 1 at onsets, less beside them."""
    out = np.zeros(count, np.float32)
    if not len(starts):
        return out
    for k, value in ((0, 1.0), (1, 0.6), (-1, 0.6), (2, 0.15), (-2, 0.15)):
        at = np.clip(np.rint(starts / step).astype(int) + k, 0, count - 1)
        out[at] = np.maximum(out[at], value)
    return out


def begin_clip(seed: int) -> tuple[np.ndarray, np.ndarray]:
    """A random spectrogram and its onsets."""
    random = np.random.default_rng(seed)
    kind = random.random()
    if kind < 0.70:
        sound, notes, _ = line(random, onset.RATE)
        starts = np.array([n[0] for n in notes])
    elif kind < 0.78:
        sound, notes, _ = chords(random, onset.RATE)
        starts = np.array([n[0] for n in notes])
    elif kind < 0.87:
        loud, hits = loop(random)
        sound, starts = soxr.resample(loud, 44_100, onset.RATE), np.array([h[0] for h in hits])
    else:
        syllables = [beatbox.any_syllable(random) for _ in range(int(random.integers(2, 6)))]
        said, truth = beatbox.beat(syllables, SECONDS, onset.RATE, random)
        sound, starts = instrument_synthesis.in_a_room(said, onset.RATE, random), np.array([t for t, _ in truth])
    levels = onset.SPECTROGRAM.levels(sound)
    return levels.astype(np.float16), target(starts, len(levels), onset.STEP)[:, None].astype(np.float16)


def drum_clip(seed: int) -> tuple[np.ndarray, np.ndarray]:
    """A random drum spectrogram and the onsets of each drum; the toms count as one."""
    random = np.random.default_rng(seed)
    sound, truth = loop(random)
    levels = drum_transcription.SPECTROGRAM.levels(sound)
    tom = drum_transcription.KINDS[drum_transcription.TOM]
    named = [(t, tom if n.startswith("tom") else n) for t, n, _ in truth]
    wanted = [
        target(np.array([t for t, n in named if n == name]), len(levels), drum_transcription.STEP)
        for name in drum_transcription.LEARNT
    ]
    return levels.astype(np.float16), np.stack(wanted, axis=1).astype(np.float16)


def attention_clip(seed: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """The strokes of a random drum recording as found by drum_transcription.py: features, drums, and seconds."""
    random = np.random.default_rng(seed)
    sound, truth = loop(random)
    levels = drum_transcription.SPECTROGRAM.levels(sound)
    probability = models.conv_net("drum_onset").probability(levels)
    at = attention.candidates(probability)
    told, tom = (
        np.zeros((len(at), len(drum_transcription.LEARNT)), np.float32),
        drum_transcription.KINDS[drum_transcription.TOM],
    )
    for moment, name, _ in truth:
        nearest = int(np.argmin(np.abs(at * drum_transcription.STEP - moment))) if len(at) else -1
        if nearest >= 0 and abs(at[nearest] * drum_transcription.STEP - moment) < 0.035:
            told[nearest, drum_transcription.LEARNT.index(tom if name.startswith("tom") else name)] = 1
    return attention.about(levels, probability, at).astype(np.float16), told, at * drum_transcription.STEP


def tone_rows(seed: int) -> tuple[np.ndarray, np.ndarray]:
    random = np.random.default_rng(seed)
    sound, notes, rings = chords(random, multipitch.RATE) if random.random() < 0.8 else line(random, multipitch.RATE)
    long, short = multipitch.levels(sound)
    count = len(long)
    sounds, starts = (
        np.zeros((count, multipitch.PITCHES), np.float32),
        np.zeros((count, multipitch.PITCHES), np.float32),
    )
    ringing = np.zeros(sounds.shape, bool)
    for start, end, number, _ in notes:
        if not multipitch.LOWEST <= number <= multipitch.HIGHEST:
            continue
        column = number - multipitch.LOWEST
        first = round(start / multipitch.STEP)
        last = max(first + 1, round(end / multipitch.STEP))
        sounds[first:last, column] = 1
        if rings > RINGS:
            ringing[last : last + round(rings / multipitch.STEP), column] = True
        for k, value in ((0, 1.0), (1, 0.6), (-1, 0.6)):
            at = min(max(0, first + k), count - 1)
            starts[at, column] = max(starts[at, column], value)
    top = long.max(axis=1)
    own = (
        long[:, (multipitch.LOWEST - multipitch.FIRST) * 3 :][:, : multipitch.PITCHES * 3]
        .reshape(count, multipitch.PITCHES, 3)
        .max(axis=2)
    )
    audible = (own > np.maximum(top[:, None] - 1.6, -3)) & (random.random((count, multipitch.PITCHES)) < 0.25)
    chosen = (sounds > 0) & (random.random(sounds.shape) < 0.4) | (starts > 0) | audible
    chosen |= random.random(sounds.shape) < 0.01
    # What rings on neither sounds nor is silent.
    chosen &= ~ringing | (sounds > 0)
    frame, pitch = np.nonzero(chosen)
    rows = multipitch.rows(long, short, frame, pitch + multipitch.LOWEST)
    return rows.astype(np.float16), np.stack([sounds[frame, pitch], starts[frame, pitch]], axis=1).astype(np.float16)


RINGS = 0.4
"""Seconds of release beyond which a note is clearly audible after its end."""


def newest_rows(seed: int) -> tuple[np.ndarray, np.ndarray]:
    """Features of pitches just after onsets, with whether each has just begun and whether it sounds."""
    random = np.random.default_rng(seed)
    sound, notes, _ = line(random, live_pitch.RATE)
    looks = live_pitch.looked(np.pad(sound, (live_pitch.SEEN - live_pitch.HOP, 0)))
    look, number = live_pitch.asked(looks)
    since = (look[:, None] + 1) * (live_pitch.HOP / live_pitch.RATE) - np.array([n[0] for n in notes])
    lasts, own = np.array([n[1] - n[0] for n in notes]), number[:, None] == [n[2] for n in notes]
    new = (own & (since > NEW[0]) & (since <= NEW[1])).any(axis=1)
    sounds = (own & (since > NEW[0]) & (since < lasts)).any(axis=1)
    doubtful = (own & (since > 0) & (since < NEW[1] + 0.035)).any(axis=1) & ~new
    chosen = ~doubtful & (((since > -0.03) & (since < 0.15)).any(axis=1) | (random.random(len(look)) < 0.1))
    x = live_pitch.rows(looks, look[chosen], number[chosen])
    return x.astype(np.float16), np.stack([new, sounds], axis=1)[chosen].astype(np.float16)


NEW = (0.006, 0.095)
"""Range of seconds after its onset in which a note counts as just begun."""


def train_strokes(clips: int) -> None:
    """Make the feature spaces in which takes of one sound are equally close in every direction, whatever the room."""
    with Pool() as pool:
        made = list(pool.imap(paired_takes.rows, range(100_000, 100_000 + clips)))
    for k, name in enumerate(("strokes", "live_strokes")):
        np.savez_compressed(MODELS / f"{name}.npz", turn=turned([clip[k] for clip in made]).astype(np.float16))


def turned(made: list[tuple[np.ndarray, np.ndarray]]) -> np.ndarray:
    """(features, axes) transform from strokes (n, features) labelled with the names of their sounds."""
    count = made[0][0].shape[1]
    within, taken = np.zeros((count, count)), 0
    for x, names in made:
        for name in np.unique(names):
            own = x[names == name].astype(np.float64)
            if len(own) >= 3:
                off = own - own.mean(axis=0)
                within += off.T @ off * len(own) / (len(own) - 1)
                taken += len(own)
    within /= taken
    values, vectors = np.linalg.eigh(within)
    turn = vectors / np.sqrt(np.maximum(0, values) + SHRUNK)
    print(f"{taken} strokes; between takes {np.trace(within) / count:.3f} along each feature")
    # Of what varies between takes the mean along an axis is 1.
    return np.asarray(turn * np.sqrt(count / np.trace(turn.T @ within @ turn)))


SHRUNK = 0.2
"""Added to the variance in every direction: what hardly varies among our takes may vary in others."""


AFRESH = 200_000
"""Number of the first recording used for further training."""


def shipped(name: str) -> dict[str, np.ndarray]:
    """The arrays of the shipped network."""
    with np.load(MODELS / f"{name}.npz") as arrays:
        return dict(arrays)


def train_conv_net(name: str, clips: int, further: bool = False) -> None:
    """Train a convolutional network; rare targets have more weight."""
    import train_convolutional

    make, epochs, seed = {"onset": (begin_clip, 8, 13), "drum_onset": (drum_clip, 10, 1)}[name]
    before, first = (shipped(name), AFRESH) if further else (None, 3000)
    epochs = min(epochs, 7) if further else epochs
    with Pool() as pool:
        made = list(pool.imap(make, range(first, first + clips)))
    often = np.mean([y.astype(np.float32).mean(axis=0) for _, y in made], axis=0)
    weight = 1.5 * np.clip((often.max() / np.maximum(often, 1e-5)) ** 0.4, 1, 4)
    net = train_convolutional.train(made, weight, epochs, seed=seed, before=before)
    np.savez_compressed(MODELS / f"{name}.npz", **train_convolutional.arrays(net))


def train_drum_attention(clips: int, further: bool = False) -> None:
    import train_attention

    first, epochs = (AFRESH, 10) if further else (20_000, 20)
    with Pool() as pool:
        made = list(pool.imap(attention_clip, range(first, first + clips)))
    known = shipped("drum_attention") if further else {}
    own = [{n.removeprefix(f"net{k}_"): a for n, a in known.items() if n.startswith(f"net{k}_")} for k in (0, 1)]
    nets = [
        train_attention.train(made, drum_transcription.SPECTROGRAM.bands, epochs, seed=k, before=before or None)
        for k, before in enumerate(own)
    ]
    arrays = {
        f"net{k}_{name}": each for k, net in enumerate(nets) for name, each in train_attention.arrays(net).items()
    }
    np.savez_compressed(MODELS / "drum_attention.npz", **arrays)


def train_dense_net(name: str, clips: int) -> None:
    """Train a dense network."""
    from train_dense import train

    make, hidden, epochs, shown, important = {
        "multipitch": (tone_rows, (128, 64), 10, 3_000_000, 1.3),
        "live_pitch": (newest_rows, (320, 128), 14, 2_500_000, 1.0),
    }[name]  # fmt: skip
    xs, ys, groups = [], [], []
    with Pool() as pool:
        for number, (x, y) in enumerate(pool.imap(make, range(1000, 1000 + clips))):
            xs.append(x)
            ys.append(y)
            groups.append(np.full(len(x), number))
    x, y = np.concatenate(xs), np.concatenate(ys).astype(np.float32)
    print(f"{name}: {len(x)} rows of {x.shape[1]}", flush=True)
    arrays = train(x, y, np.concatenate(groups), hidden, epochs, shown, important)
    np.savez_compressed(MODELS / f"{name}.npz", **smaller(arrays))


def smaller(arrays: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
    """The arrays with weights in half precision: they are most of the file."""
    return {n: a.astype(np.float16) if n.startswith("weight") else a.astype(np.float32) for n, a in arrays.items()}


JOBS = {
    "onset": (partial(train_conv_net, "onset"), 8800), "drum_onset": (partial(train_conv_net, "drum_onset"), 6500),
    "drum_attention": (train_drum_attention, 6500), "multipitch": (partial(train_dense_net, "multipitch"), 900),
    "live_pitch": (partial(train_dense_net, "live_pitch"), 3400),
    "strokes": (train_strokes, 900),
}  # fmt: skip


FURTHER = {"onset": 3300, "drum_onset": 3700, "drum_attention": 7500}
"""Networks that can be trained further, and the number of recordings used for that so far."""


def main() -> None:
    clips = int(sys.argv[sys.argv.index("--clips") + 1]) if "--clips" in sys.argv else 0
    further = "--further" in sys.argv
    wanted = [a for a in sys.argv[1:] if a in JOBS] or list(FURTHER if further else JOBS)
    if further and set(wanted) - set(FURTHER):
        raise SystemExit(f"Only {', '.join(FURTHER)} can be trained further.")
    for name in wanted:
        job, usual = JOBS[name]
        if further:
            job(clips or FURTHER[name], further=True)
        else:
            job(clips or usual)


if __name__ == "__main__":
    main()
