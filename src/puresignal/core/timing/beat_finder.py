"""Beats, bars and meter found in playing without a click, from onsets alone.

Paths of beats at several speeds (`beat_paths`) are each read with every meter and first downbeat (`bar_readings`);
the reading that looks most like playing is taken. Two judges tell that: figures of the whole take, which were weighed
by bench/tempo.py --fit, and networks that see each beat and what is around it (`beat_network`). Playing that pauses
and goes on somewhere else is read in pieces, at nearly one speed and in one meter.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.timing.bar_readings import Readings
from puresignal.core.timing.beat_network import BeatNetworks
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
BY_FIGURES, BY_NETWORK = 0.5, 0.53
"""What each judge counts. bench/tempo.py --weigh gives the networks more, since it asks on playing of the kinds that
they learnt from; these were chosen on music by others that neither judge had learnt from (decision 45)."""
FASTER = 0.5
"""By how much, as a logarithm of odds, counting twice as fast is to be preferred. Where bars may be counted in two or
in four, both judges had learnt from much music that is written in two."""
HOPELESS = 8.0
"""By how much the figures of a path may be worth less than the best ones; others the network need not see."""
COUNTED_ON = 3.0
"""By how much, as a logarithm of odds, bars are to be preferred that count on after a beat that was held, however long,
or after a rest of whole beats: by judgement, as no pauses of players' own were at hand. The network expects playing to
begin with a bar, also after a pause."""
TOLD_BY = 3
"""Bars that playing needs to tell where they begin, if a rest before or after it was one of whole beats."""
IN_TIME = 0.12
"""Beats by which a rest may be off whole ones."""
STRUCK = 0.1
"""Beats by which the last event may be before a beat that it still is."""
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
    """A path as it was read: beats, how sure each is, downbeats, meter and which beat is the first downbeat, thirds,
    what is explained, confidence, usual seconds of a beat, and seconds of the first and the last event.
    """

    beats: np.ndarray
    sure: np.ndarray
    down: np.ndarray
    meter: int
    first: int
    thirds: bool
    explained: float
    confidence: float
    period: float
    begin: float
    end: float


def find(onsets: Onsets, networks: BeatNetworks) -> Beats:
    """The beats of a take; networks: `io.beat_model.shipped`.

    Fewer than four onsets, or nothing steady, gives beats of no confidence
    """
    pieces = [onsets.between(a, b) for a, b in pieces_of(onsets.time)]
    longest = max(pieces, key=lambda piece: len(piece.time))
    main = _read(longest, networks)
    if main is None:
        return NOTHING
    which = pieces.index(longest)
    read, beside = [main], main
    for piece in pieces[which + 1 :]:
        other = _read(piece, networks, main, beside)
        if other is not None:
            read.append(other)
            beside = other
    beside = main
    for piece in reversed(pieces[:which]):
        other = _read(piece, networks, main, beside)
        if other is not None:
            read.insert(0, other)
            beside = other
    time, sure, down = [], [], []
    last = -np.inf
    for i, one in enumerate(read):
        kept = one.beats > last + 0.4 * main.period
        if i < len(read) - 1:
            # The pause begins where playing ends: what a path foresees after it is not there.
            kept &= one.beats <= one.end + STRUCK * one.period
        time.append(one.beats[kept])
        sure.append(one.sure[kept])
        down.append(one.down[kept])
        last = float(one.beats[kept][-1]) if kept.any() else last
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


def _place(beats: np.ndarray, seconds: float) -> float:
    """Where in a path something is, in beats from its first one."""
    step = float(np.median(np.diff(beats)))
    if seconds < beats[0]:
        return float(seconds - beats[0]) / step
    if seconds > beats[-1]:
        return len(beats) - 1 + float(seconds - beats[-1]) / step
    return float(np.interp(seconds, beats, np.arange(len(beats))))


def _counted(beside: _Read, beats: np.ndarray, onsets: Onsets) -> list[int]:
    """Which beat of a path is its first downbeat by counting on over the pause before or after it: after a rest of
    whole beats, if it was one, and after a beat that was held.
    """
    after = onsets.time[0] > beside.end
    if after:
        at = _place(beside.beats, beside.end) - _place(beats, float(onsets.time[0]))
        rest = _place(beside.beats, float(beats[0]))
    else:
        at = _place(beats, float(onsets.time[-1])) - _place(beside.beats, beside.begin)
        rest = _place(beats, float(beside.beats[0]))

    steps = [round(rest)] if abs(rest - round(rest)) < IN_TIME else []
    steps.append(int(np.floor(at + STRUCK)) + 1)
    return [(beside.first + (-step if after else step)) % beside.meter for step in steps]


def _read(
    onsets: Onsets, networks: BeatNetworks, like: _Read | None = None, beside: _Read | None = None
) -> _Read | None:
    """The best reading; like: only those of nearly its speed, in its meter; beside: what was read next to it, on the
    other side of the pause.
    """
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
        seen = networks.ratings(picture(onsets, columns, one.beats), one.kinds, one.thirds)
        worth = BY_FIGURES * by_figures + BY_NETWORK * seen - FASTER * np.log2(one.period)
        rated += [(float(value), one, which) for which, value in enumerate(worth)]
    if not rated:
        return None
    if like is not None:
        # Playing of less than two bars has no reading in that meter.
        rated = [row for row in rated if row[1].kinds[row[2]][0] == like.meter] or rated
    values = np.array([value for value, _, _ in rated])
    first, best, which = rated[int(np.argmax(values))]
    if best.kinds[which][0] == 2 and onsets.back.any():
        four = [(value, i) for value, one, i in rated if one is best and one.kinds[i][0] == 4]
        value, i = max(four, default=(-np.inf, which))
        which = i if value > first - RARE_TWO else which
    meter, begins = best.kinds[which]
    if like is not None and beside is not None:
        # Which path it is, playing alone has told.
        counted = _counted(beside, best.beats, onsets)
        own = [(value + COUNTED_ON * (best.kinds[i][1] in counted), best.kinds[i]) for value, one, i in rated
               if one is best and best.kinds[i][0] == like.meter]  # fmt: skip
        # Two bars hardly show which of their beats is the first.
        brief = len(best.beats) < TOLD_BY * like.meter and len(counted) > 1
        meter, begins = max(own)[1] if own and not brief else (like.meter, counted[0])
    odds = np.exp(values - values.max())
    down = (np.arange(len(best.beats)) - begins) % meter == 0
    return _Read(
        best.beats, best.sure, down, meter, begins, best.thirds, best.explained,
        float(1 / odds.sum()), best.period, float(onsets.time[0]), float(onsets.time[-1]),
    )  # fmt: skip
