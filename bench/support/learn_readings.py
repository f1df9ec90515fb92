"""Learns by what the right reading of beats stands out, from takes drawn by chance and from music by others.

A small network (one hidden layer, plus a straight part) gives each reading a number; it is fitted so that the softmax
over all readings of a take puts its weight on those with the right beats, and on those with the right bars.
"""

from __future__ import annotations

from collections.abc import Sequence
from multiprocessing import Pool
from pathlib import Path
from typing import NamedTuple

import numpy as np
from scipy.optimize import minimize
from support import composed_takes, random_styles
from support.as_recorded import as_recorded
from support.composed_takes import Piece
from support.played_free import CRASH, KICK, SNARE, Played, f_measure
from support.random_playing import random_take

from puresignal.core.timing.bar_readings import Readings
from puresignal.core.timing.beat_finder import pieces_of, scores
from puresignal.core.timing.beat_paths import paths
from puresignal.core.timing.beat_pictures import columns_of, picture
from puresignal.core.timing.onsets import Onsets, onsets_of
from puresignal.io import beat_model

FIRST_SEED, JUDGES_SEED = 50_000, 700_000
KEPT_ASIDE = 0.15
UNITS, DECAY, STEPS = 24, 1e-2, 120
DRAWN_COUNT = 2
"""Takes drawn by chance count twice: they have every meter, music by others is mostly in four."""
WRONG_KEPT = 220
"""About so many wrong readings of a take are learnt from; most have thousands, which tell nothing new."""
GOOD_BEATS, GOOD_BARS = 0.9, 0.8
TAKES = 300
"""Takes of each kind of part (drums, one part, all parts) in each folder of music by others that is learnt from."""
FEWEST_ONSETS = 8


class Case(NamedTuple):
    """A take's readings: (readings, figures), and how right the beats and the bars of each are."""

    figures: np.ndarray
    beats: np.ndarray
    bars: np.ndarray


class Weights(NamedTuple):
    MEAN: np.ndarray
    SPREAD: np.ndarray
    HIDDEN: np.ndarray
    BIAS: np.ndarray
    OUT: np.ndarray
    WEIGHTS: np.ndarray


SAID = {
    "MEAN": "(figures,) their usual values.",
    "SPREAD": "(figures,) how far they spread.",
    "HIDDEN": "(figures, units)",
    "BIAS": "(units,)",
    "OUT": "(units,)",
    "WEIGHTS": "(figures,) what each is worth by itself.",
}


def onsets(played: Played) -> Onsets:
    rows = np.array([row[:4] for row in played.rows])
    start, note, velocity, long = rows.T
    drums = np.full(len(rows), played.kind.drums)
    return onsets_of(
        start, velocity, note, start + long, drums & (note == KICK), drums & (note == SNARE), ~drums,
        drums & (note == CRASH),
    )  # fmt: skip


class Stretch(NamedTuple):
    """What was played without a pause, and the seconds of its true beats and bars."""

    onsets: Onsets
    beats: np.ndarray
    bars: np.ndarray


def longest_stretch(played: Played) -> Stretch | None:
    """The longest stretch of a take without a pause; None if hardly anything is played in it."""
    if len(played.rows) < FEWEST_ONSETS:
        return None
    heard = onsets(played)
    if len(heard.time) < FEWEST_ONSETS:
        return None
    heard = heard.between(*max(pieces_of(heard.time), key=lambda ends: ends[1] - ends[0]))
    if len(heard.time) < FEWEST_ONSETS:
        return None
    begin, end = heard.time[0] - 0.1, heard.time[-1] + 0.1
    beats, bars = (row[(row >= begin) & (row <= end)] for row in (played.beats, played.bars))
    return Stretch(heard, beats, bars)


def case(played: Played) -> Case | None:
    """A take's readings; None if it is too short to be read."""
    stretch = longest_stretch(played)
    if stretch is None or len(stretch.beats) < FEWEST_ONSETS:
        return None
    heard, beats, bars = stretch
    figures, right, right_bars = [], [], []
    for path in paths(heard):
        read = Readings(heard, path)
        worth = f_measure(beats, path)
        for which in range(len(read.kinds)):
            figures.append(read.features[which])
            right.append(worth)
            right_bars.append(f_measure(bars, path[read.down(which)]) if worth > 0.85 else 0.0)
    made = Case(np.array(figures, np.float32), np.array(right), np.array(right_bars))
    good = (made.beats > GOOD_BEATS) & (made.bars > GOOD_BARS)
    chance = np.random.default_rng(len(good))
    keep = good | (chance.random(len(good)) < min(1.0, WRONG_KEPT / len(good)))
    return Case(*(column[keep] for column in made))


def _drawn(seed: int) -> Case | None:
    return case(as_recorded(random_take(seed), seed))


def _composed(asked: tuple[Piece, int]) -> Case | None:
    played = composed_takes.take(*asked)
    return None if played is None else case(as_recorded(played, asked[1]))


def cases(count: int) -> list[Case]:
    """Of takes drawn by chance."""
    with Pool() as pool:
        found = pool.map(_drawn, range(FIRST_SEED, FIRST_SEED + count), chunksize=8)
    return [one for one in found if one is not None]


def composed_cases(pieces: Sequence[Piece]) -> list[Case]:
    """Of takes of the music by others that is learnt from."""
    asked = []
    for source in sorted({piece.source for piece in pieces}):
        mine = [piece for piece in pieces if piece.source == source]
        asked += [(mine[i % len(mine)], i) for i in range(TAKES if source.startswith(composed_takes.TAUGHT) else 0)]
    with Pool() as pool:
        found = pool.map(_composed, asked, chunksize=8)
    return [one for one in found if one is not None]


class _Aims:
    """What the readings of takes should be worth: the softmax over a take's on those with the right beats, and bars."""

    def __init__(self, learnt_from: Sequence[Case]):
        beats, bars = (np.concatenate([one[i] for one in learnt_from]) for i in (1, 2))
        self._sizes = np.array([len(one.beats) for one in learnt_from])
        self._firsts = np.concatenate([[0], np.cumsum(self._sizes)])[:-1]
        right = beats > GOOD_BEATS
        self._aims = (right * 1.0, 0.5), ((right & (bars > GOOD_BARS)) * 1.0, 1.0)

    def missed(self, score: np.ndarray) -> tuple[float, np.ndarray]:
        """The loss of all takes, and its slope by the score of each reading."""
        sizes, firsts = self._sizes, self._firsts
        odds = np.exp(score - np.repeat(np.maximum.reduceat(score, firsts), sizes))
        chance = odds / np.repeat(np.add.reduceat(odds, firsts), sizes)
        total, slope = 0.0, np.zeros(len(score))
        for good, weight in self._aims:
            mass = np.add.reduceat(chance * good, firsts)
            known = np.add.reduceat(good, firsts) > 0
            total -= weight * float(np.log(mass[known] + 1e-9).sum())
            wanted = np.where(np.repeat(known, sizes), chance * good / np.repeat(mass + 1e-9, sizes), chance)
            slope += weight * (chance - wanted)
        return total, slope


def learn(learnt_from: Sequence[Case]) -> Weights:
    """Fit by L-BFGS; gradients worked out by hand, since readings are many and the network is small."""
    figures = np.concatenate([one.figures for one in learnt_from])
    mean, spread = figures.mean(0), figures.std(0) + 1e-3
    x = np.clip((figures - mean) / spread, -4, 4).astype(np.float32)
    sizes, aims = [len(one.beats) for one in learnt_from], _Aims(learnt_from)
    wide = x.shape[1]

    def parts(values: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        hidden, bias, out, straight = np.split(values, np.cumsum([wide * UNITS, UNITS, UNITS]))
        return hidden.reshape(wide, UNITS), bias, out, straight

    def loss(values: np.ndarray) -> tuple[float, np.ndarray]:
        hidden, bias, out, straight = (part.astype(np.float32) for part in parts(values))
        active = np.tanh(x @ hidden + bias)
        total, slope = aims.missed((active @ out + x @ straight).astype(float))
        down = (slope / len(sizes)).astype(np.float32)
        back = np.outer(down, out) * (1 - active * active)
        gradient = np.concatenate([(x.T @ back).ravel(), back.sum(0), active.T @ down, x.T @ down]).astype(float)
        return total / len(sizes) + DECAY * float(values @ values), gradient + 2 * DECAY * values

    first = np.random.default_rng(0).standard_normal(wide * UNITS + 2 * UNITS + wide) * 0.1
    found = minimize(loss, first, jac=True, method="L-BFGS-B", options={"maxiter": STEPS})
    return Weights(mean, spread, *parts(found.x))


def judges_case(asked: tuple[str, object]) -> Case | None:
    """A take's readings, of which the figures are what each of the finder's two judges says."""
    kind, what = asked
    played = random_styles.random_take(what) if kind == "style" else composed_takes.take(*what)  # type: ignore
    number = what if kind == "style" else what[1]  # type: ignore[index]
    stretch = None if played is None else longest_stretch(as_recorded(played, number))  # type: ignore[arg-type]
    if stretch is None or len(stretch.beats) < FEWEST_ONSETS:
        return None
    columns = columns_of(stretch.onsets)
    said, right, right_bars = [], [], []
    for path in paths(stretch.onsets):
        read, worth = Readings(stretch.onsets, path), f_measure(stretch.beats, path)
        seen = beat_model.shipped().ratings(picture(stretch.onsets, columns, path), read.kinds, read.thirds)
        said.append(np.column_stack([scores(read.features), seen]))
        right += [worth] * len(read.kinds)
        downs = (path[read.down(which)] for which in range(len(read.kinds)))
        right_bars += [f_measure(stretch.bars, bars) if worth > 0.85 else 0.0 for bars in downs]
    return Case(np.concatenate(said), np.array(right), np.array(right_bars))


def weigh_judges(count: int, pieces: Sequence[Piece]) -> np.ndarray:
    """What the figures and the network count (beat_finder.BY_FIGURES, BY_NETWORK), by takes with seeds of their own."""
    taught = [piece for piece in pieces if piece.source.startswith(composed_takes.TAUGHT)]
    chosen = np.random.default_rng(0).integers(0, len(taught), count // 2).tolist()
    asked: list[tuple[str, object]] = [("style", JUDGES_SEED + i) for i in range(count - count // 2)]
    asked += [("composed", (taught[k], JUDGES_SEED + i)) for i, k in enumerate(chosen)]
    with Pool() as pool:
        found = [one for one in pool.map(judges_case, asked, chunksize=8) if one is not None]
    said, aims = np.concatenate([one.figures for one in found]), _Aims(found)

    def loss(values: np.ndarray) -> tuple[float, np.ndarray]:
        total, slope = aims.missed(said @ values)
        return total / len(found), said.T @ slope / len(found)

    return np.asarray(minimize(loss, np.full(2, 0.5), jac=True, method="L-BFGS-B").x)


def judge(weights: Weights, aside: Sequence[Case]) -> tuple[float, float]:
    """Mean F1 of beats, and the share of takes with the right bars."""
    right, right_bars = [], []
    for one in aside:
        x = np.clip((one.figures - weights.MEAN) / weights.SPREAD, -4, 4)
        best = int(np.argmax(np.tanh(x @ weights.HIDDEN + weights.BIAS) @ weights.OUT + x @ weights.WEIGHTS))
        right.append(one.beats[best])
        right_bars.append(one.bars[best] > GOOD_BARS)
    return float(np.mean(right)), float(np.mean(right_bars))


def write(weights: Weights, path: Path) -> None:
    """Write the module that holds them."""

    def row(values: np.ndarray) -> str:
        return "[" + ", ".join(f"{value:.4g}" for value in values) + "]"

    lines = [
        '"""Weights that choose the reading of beats that looks most like playing, learnt by bench/tempo.py --fit.',
        "",
        'Written by it."""',
        "",
        "# ruff: noqa: E501",
        "",
        "from __future__ import annotations",
        "",
        "import numpy as np",
        "",
        "# fmt: off",
    ]
    for name, said in SAID.items():
        values = getattr(weights, name)
        if values.ndim == 1:
            lines.append(f"{name} = np.array({row(values)})")
        else:
            lines += [f"{name} = np.array([", *(f"    {row(one)}," for one in values), "])"]
        lines.append(f'"""{said}"""')
    path.write_text("\n".join([*lines, "# fmt: on", ""]))
