"""Beats, bars and meter found in playing without a click, from onsets alone.

Paths of beats at several speeds (`beat_paths`) are each read with every meter and first downbeat (`bar_readings`);
the reading that looks most like playing is taken. Two judges tell that: figures of the whole take, which were weighed
by bench/tempo.py --fit, and a network that sees each beat and what is around it (`beat_network`). Playing that pauses
and goes on somewhere else is read in pieces, at nearly one speed and in one meter.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.timing.bar_readings import Readings
from puresignal.core.timing.beat_network import BeatNetwork
from puresignal.core.timing.beat_paths import SHORTEST, paths
from puresignal.core.timing.beat_pictures import columns_of, picture
from puresignal.core.timing.onsets import Onsets
from puresignal.core.timing.reading_weights import BIAS, HIDDEN, MEAN, OUT, SPREAD, WEIGHTS

PAUSE, LONGER = 0.5, 1.4
"""A gap is a pause if it is longer than the usual longest by this factor and by so many seconds."""
NEARLY = 0.25
"""By how much, as a logarithm, the speed after a pause may be another one."""
RARE_TWO = 1.0
"""By how much, as a logarithm of odds, drums in bars of four are to be preferred to bars of two with the same beats:
drums are hardly ever counted in two, and a bar of two in the wrong place costs more."""
BY_FIGURES, BY_NETWORK = 0.27, 0.53
"""What each judge counts: near what bench/tempo.py --weigh gives."""
HOPELESS = 8.0
"""By how much the figures of a path may be worth less than the best ones; others the network need not see."""
LEAST = 0.02
"""Confidence below which found beats are none."""
FEWEST = 4
"""Events of which something can be said."""


@dataclass(frozen=True, eq=False)
class Beats:
    """The beats found in a take.

    time        (n,) seconds of the beats, rising
    sure        (n,) 0..1, how well each is told by what was played
    down        (n,) bool, which of them begin a bar
    meter       beats in a bar
    thirds      whether beats are divided in three
    confidence  0..1, of speed and meter together
    """

    time: np.ndarray
    sure: np.ndarray
    down: np.ndarray
    meter: int
    thirds: bool
    confidence: float

    @property
    def bars(self) -> np.ndarray:
        """Seconds of the downbeats."""
        return np.asarray(self.time[self.down])


NOTHING = Beats(np.zeros(0), np.zeros(0), np.zeros(0, bool), 4, False, 0.0)


@dataclass(frozen=True, eq=False)
class _Read:
    """A path as it was read: beats, how sure each is, downbeats, meter, thirds, what is explained, confidence."""

    beats: np.ndarray
    sure: np.ndarray
    down: np.ndarray
    meter: int
    thirds: bool
    explained: float
    confidence: float
    period: float


def find(onsets: Onsets, network: BeatNetwork) -> Beats:
    """The beats of a take; network: `io.beat_model.shipped`.

    Fewer than four onsets, or nothing steady, gives beats of no confidence
    """
    pieces = [onsets.between(a, b) for a, b in pieces_of(onsets.time)]
    longest = max(pieces, key=lambda piece: len(piece.time))
    main = _read(longest, network)
    if main is None:
        return NOTHING
    read: list[_Read] = []
    for piece in pieces:
        if piece is longest:
            read.append(main)
            continue
        other = _read(piece, network, main)
        if other is not None:
            read.append(other)
    time, sure, down = [], [], []
    last = -np.inf
    for one in read:
        later = one.beats > last + 0.4 * main.period
        time.append(one.beats[later])
        sure.append(one.sure[later])
        down.append(one.down[later])
        last = float(one.beats[-1])
    steady = float(np.clip(main.explained * 1.4 - 0.4, 0, 1))
    return Beats(
        np.concatenate(time), np.concatenate(sure), np.concatenate(down), main.meter, main.thirds,
        main.confidence * steady,
    )  # fmt: skip


def pieces_of(time: np.ndarray) -> list[tuple[int, int]]:
    """(first event, event after the last) of what was played without a pause."""
    if len(time) < FEWEST:
        return [(0, len(time))]
    gap = np.diff(time)
    usual = float(np.quantile(gap, 0.97, method="lower"))
    cuts = np.flatnonzero(gap > LONGER * usual + PAUSE) + 1
    return list(zip([0, *cuts.tolist()], [*cuts.tolist(), len(time)], strict=True))


def scores(features: np.ndarray) -> np.ndarray:
    """(readings,) how much each looks like playing, as the logarithm of odds."""
    scaled = np.clip((features - MEAN) / SPREAD, -4, 4)
    return np.asarray(np.tanh(scaled @ HIDDEN + BIAS) @ OUT + scaled @ WEIGHTS)


def _read(onsets: Onsets, network: BeatNetwork, like: _Read | None = None) -> _Read | None:
    """The best reading; like: only those of nearly its speed, in its meter."""
    if len(onsets.time) < FEWEST or onsets.time[-1] - onsets.time[0] < 2 * SHORTEST:
        return None
    tried: list[tuple[Readings, np.ndarray]] = []
    for beats in paths(onsets):
        if like is not None and abs(np.log(float(np.median(np.diff(beats))) / like.period)) > NEARLY:
            continue
        one = Readings(onsets, beats)
        tried.append((one, scores(one.features)))
    most = max((float(worth.max()) for _, worth in tried), default=0.0)
    columns = columns_of(onsets)
    rated: list[tuple[float, Readings, int]] = []
    for one, by_figures in tried:
        if by_figures.max() < most - HOPELESS:
            continue
        seen = network.ratings(picture(onsets, columns, one.beats), one.kinds, one.thirds)
        worth = BY_FIGURES * by_figures + BY_NETWORK * seen
        rated += [
            (float(value), one, which)
            for which, value in enumerate(worth)
            if like is None or one.kinds[which][0] == like.meter
        ]
    if not rated:
        return None
    values = np.array([value for value, _, _ in rated])
    first, best, which = rated[int(np.argmax(values))]
    if best.kinds[which][0] == 2 and onsets.back.any():
        four = [(value, i) for value, one, i in rated if one is best and one.kinds[i][0] == 4]
        value, i = max(four, default=(-np.inf, which))
        which = i if value > first - RARE_TWO else which
    odds = np.exp(values - values.max())
    return _Read(
        best.beats, best.sure, best.down(which), best.kinds[which][0], best.thirds, best.explained,
        float(1 / odds.sum()), best.period,
    )  # fmt: skip
