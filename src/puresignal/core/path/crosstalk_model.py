"""A model of a kit's pads, learnt from a take: how softly each is played, how strongly each shakes another.

Two things that a take shows well separate crosstalk from ghost notes. A shaken pad sounds in proportion to
the hit that shook it, and a stand always passes on much the same proportion. A ghost note is as loud as that
pad's ghost notes are, whatever else is struck. Both are fitted together by expectation-maximisation over a
mixture (Dempster, Laird and Rubin, 1977): for each pair of pads the proportion, its spread and the share of
candidates that are crosstalk; for each pad the loudness of hits that stand alone.
"""

from __future__ import annotations

from dataclasses import dataclass
from math import lgamma

import numpy as np

LEVELS = 32
"""Loudness bins, four per octave: the bin of velocity v is 4 log2 v."""
USUAL_SHARE = float(np.log(0.15))
"""Log of the usual share of a hit's loudness that a neighbour shows."""
USUAL_SPREAD = 0.45
HAND_MS, TOGETHER, OTHERWISE = 7.0, 0.95, 0.2 / 36.0
"""Two hands usually meet within HAND_MS where they play for one moment; that is the share of strokes so close that do,
and the density of the others over a millisecond."""
HANDS_HELD, STEADIEST_HANDS, LOOSEST_HANDS = 20.0, 2.5, 9.0
"""Strokes that the usual spread weighs as much as, and what players keep to, in ms."""
SHAKEN_AT_MS, SHAKEN_SPREAD_MS = 2.0, 2.4
ACROSS_AT_MS, ACROSS_SPREAD_MS = 6.0, 5.0
"""A neighbour is shaken that much later, with that spread; through the floor, from stand to stand, later."""
SHARE_FIRST, ACROSS_FIRST = 0.6, 0.1
"""Usual share of candidates that are crosstalk, on a stand and from stand to stand."""
TIME_HELD, STEADIEST, LOOSEST = 3.0, 0.7, 2.8
PRIOR_SPREAD, WIDEST = 0.2, 0.24
FIRST_SPREAD = 0.25
"""Initial spread of one pair's share, which is less than the spread between pairs; and the widest allowed."""
MOST = 0.9
"""Highest prior probability of crosstalk for a pair's candidates."""
SOFTER = 0.6
"""Spread below the mean: a pad shaken less than usual is still crosstalk."""
ROUNDS, FEWER_ROUNDS = 10, 3
"""Rounds of the fit; and of the one before it, which says how much others shake a pad."""
_SMALLEST = 1e-5


@dataclass(frozen=True)
class KitModel:
    """Crosstalk statistics learnt for a kit. Pads are (channel, note).

    alone   (pad, numbers of its hits that surely were played, by loudness bin)
    shakes  (pad that shakes, pad that is shaken, log of the proportion, its spread, share of candidates shaken, ms
            after the hit, and their spread)
    hands_ms  spread of the time between two hands that play for one moment
    """

    alone: tuple[tuple[tuple[int, int], tuple[float, ...]], ...] = ()
    shakes: tuple[tuple[tuple[int, int], tuple[int, int], float, float, float, float, float], ...] = ()
    hands_ms: float = HAND_MS


def level_of(velocity: np.ndarray | float) -> np.ndarray:
    """The loudness bin of a velocity 1..127."""
    return np.asarray(np.minimum(LEVELS - 1, np.rint(4 * np.log2(np.maximum(velocity, 1)))), np.int64)


GHOSTS = {"snare": 0.28, "hat": 0.12, "percussion": 0.15}
FEW_GHOSTS = 0.05
"""Usual share of ghost notes: many on snares, some on hats, next to none on toms and cymbals."""


def usual_alone(ghosts: np.ndarray) -> np.ndarray:
    """(pads, LEVELS) prior loudness distribution of an unknown pad. ghosts: share of ghost notes by pad."""
    at = np.arange(LEVELS) / 4 * np.log(2)
    strokes = np.exp(-0.5 * ((at - np.log(82)) / 0.32) ** 2) / 0.32
    soft = np.exp(-0.5 * ((at - np.log(32)) / 0.38) ** 2) / 0.38
    found: np.ndarray = (1 - ghosts)[:, None] * strokes + ghosts[:, None] * soft + 0.002
    return np.asarray(found / found.sum(axis=1, keepdims=True))


def smoothed(counts: np.ndarray, usual: np.ndarray, weight: float = 4.0) -> np.ndarray:
    """(pads, LEVELS) counts to densities: spread over neighbouring bins and mixed with the prior."""
    spread = np.zeros_like(counts, float)
    for shift, part in ((-2, 0.1), (-1, 0.22), (0, 0.36), (1, 0.22), (2, 0.1)):
        spread += part * np.roll(counts, shift, axis=1)
    total = spread.sum(axis=1, keepdims=True)
    return np.asarray(np.maximum(_SMALLEST, (spread + weight * usual) / (total + weight)))


def hands_spread(gap_ms: np.ndarray) -> float:
    """Spread of the time between two hands, in ms, held near the usual one.

    gap_ms  (n,) times between strokes of a take that surely were played
    """
    near = gap_ms[np.abs(gap_ms) < 2.5 * HAND_MS]
    spread = np.sqrt((near @ near + HANDS_HELD * HAND_MS**2) / (len(near) + HANDS_HELD))
    return float(np.clip(spread, STEADIEST_HANDS, LOOSEST_HANDS))


def log_shaken(
    share: np.ndarray, gap_ms: np.ndarray, mean: np.ndarray, spread: np.ndarray, at: np.ndarray, about: np.ndarray,
    below: float = 0.0,
) -> np.ndarray:  # fmt: skip
    """Log density of a shaken pad's (log share, gap), up to a factor that `log_struck` has too.

    at, about  ms after the hit, and their spread

    below  least spread below the mean: a pad shaken less than usual is still crosstalk when judging; when fitting,
           that would let one mode swallow two
    """
    loud = -0.5 * ((share - mean) / np.where(share < mean, np.maximum(spread, below), spread)) ** 2 - np.log(spread)
    time = -0.5 * ((gap_ms - at) / about) ** 2 - np.log(about)
    # Bins of a quarter octave, against a density over the natural logarithm.
    return np.asarray(loud + time - 0.5 * np.log(2 * np.pi) + np.log(np.log(2) / 4))


def log_struck(alone: np.ndarray, gap_ms: np.ndarray, hands_ms: float) -> np.ndarray:
    """Log density of a real hit. alone: the density of its loudness among its pad's hits; hands_ms: as in KitModel"""
    together = TOGETHER / hands_ms * np.exp(-0.5 * (gap_ms / hands_ms) ** 2)
    return np.asarray(np.log(alone) + np.log(together + OTHERWISE * np.sqrt(2 * np.pi)))


def fit(
    pair: np.ndarray,
    pairs: int,
    share: np.ndarray,
    gap_ms: np.ndarray,
    pad: np.ndarray,
    level: np.ndarray,
    alone: np.ndarray,
    usual: np.ndarray,
    across: np.ndarray,
    velocity: np.ndarray,
    softest: float,
    hands_ms: float,
    shaken: np.ndarray,
    occurred: np.ndarray,
    by_hands: np.ndarray,
) -> tuple[tuple[np.ndarray, ...], np.ndarray]:
    """Mean and spread of the log share, the share of crosstalk, and mean and spread of the gap in ms, for each pair of
    pads; and whether each pair's candidates are strokes that are as soft as each other, (pairs,).

    pair, share, gap_ms, pad, level  of the candidates: pair number, log share, gap, shaken pad and its loudness bin
    alone, usual                     (pads, LEVELS) counts of lone hits, and the prior
    across                           (pairs,) whether the two pads are on different stands
    velocity, softest                of the candidates, and of the softest hit of all
    hands_ms                         as in KitModel
    shaken, occurred                 (pairs,) the pad that is shaken, and how much it speaks for crosstalk that hits of
                                     the other pad were often followed by a candidate (log_occurred)
    by_hands                         (pairs,) whether their time varies as between two hands (varies_as_hands)
    """
    struck = log_struck(smoothed(alone.astype(float), usual)[pad, level], gap_ms, hands_ms)
    seen = _Candidates(pair, pairs, share, gap_ms, struck, across, hands_ms, by_hands)
    first = np.where(across, ACROSS_FIRST, SHARE_FIRST)
    as_soft = seen.as_soft_strokes(np.log(velocity), np.log(softest)) + SOFT_STROKES
    hill = seen.highest(first, FEWER_ROUNDS)
    held = np.where((as_soft > seen.height(hill))[pair], 0.0, seen.held(hill))
    # A pad that others shake is shaken by this one too, and a pad that none shakes is not.
    hill = seen.highest(seen.pooled(first, held, shaken), ROUNDS)
    mean, spread, part, at, about = hill
    soft = as_soft > seen.height(hill)
    likelier = _logistic(np.log(part) - np.log1p(-part) + occurred)
    return (mean, spread, np.where(soft, np.minimum(FEW, part), likelier), at, about), soft


def varies_as_hands(gap_ms: np.ndarray) -> bool:
    """Whether the times between two notes vary as they do between two hands. A way through stand or floor always takes
    the same time."""
    return len(gap_ms) >= FEWEST_BY_HANDS and float(np.std(gap_ms)) > VARIES_MS


def log_occurred(candidates: np.ndarray, hits: np.ndarray) -> np.ndarray:
    """Log odds for crosstalk from how many hits of a pad were followed by a candidate on another, 0 or more.

    What a stand passes on, it passes on nearly every time; two hands meet now and then. A low share says nothing, since
    a module may send only some of the crosstalk.

    candidates, hits  (n,) of them, the hits as loud as those that were followed
    Source  beta-binomial: J. G. Skellam, 1948
    """
    again, others = candidates - 1.0, hits - 1.0
    shaken, played = (
        _log_beta(again + a, others - again + b) - _log_beta(np.array([a]), np.array([b]))
        for a, b in (OFTEN_SHAKEN, OFTEN_PLAYED)
    )
    return np.asarray(np.clip(OCCURRED * (shaken - played), 0.0, MOST_OCCURRED))


def _log_beta(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """Log of the beta function."""
    return np.array([lgamma(x) + lgamma(y) - lgamma(x + y) for x, y in zip(a.tolist(), b.tolist(), strict=True)])


FEWEST_BY_HANDS, VARIES_MS = 8, 3.0
"""From so many notes on the spread of the time between two pads is known; and the spread in ms from which they were
struck by two hands."""
OFTEN_SHAKEN, OFTEN_PLAYED = (0.5, 1.0), (0.7, 5.3)
"""Beta distributions of the share of hits that are followed by a candidate, where it is crosstalk and where not."""
OCCURRED, MOST_OCCURRED = 0.5, 3.0
"""Weight of that evidence, since hits of one take are much alike; and the most it counts."""
POOLED, FURTHEST = 6.0, 4.0
"""Candidates that a pair's usual share of crosstalk weighs as much as, against those of its shaken pad in other pairs;
and how far these may move it, in log odds."""


def _logistic(odds: np.ndarray) -> np.ndarray:
    return np.asarray(1 / (1 + np.exp(-odds)))


SOFT_STROKES, FEW = -6.0, 0.05
"""Log odds beforehand that soft hits beside loud ones are strokes of one loudness; and the share of crosstalk there."""
EQUAL_HELD, EQUAL_SPREAD, TIGHTEST = 3.0, 0.2, 0.05
"""Strokes that the usual spread of their logarithm weighs as much as, that spread, and the least one."""
UNEQUAL = 0.14
"""Spread of the logarithm from which soft strokes are not of one loudness."""
SO_EQUAL, MOSTLY = 0.45, 0.7
"""Distance of the logarithm from the pair's median beyond which a stroke is another matter; and the share of a pair's
candidates that are not."""
FEWEST_EQUAL, ABOVE_FLOOR = 3, 1.45
"""Fewer candidates are not known to be of one loudness; nor are those less than this many times as loud as a take's
softest hit, since a module sends nothing softer."""
Hill = tuple[np.ndarray, ...]
STARTS = (-0.45, 0.0, 0.4)
"""Where the fit of a pair's log share begins, from the usual one."""
LATER_MS = (0.0, 10.0)
"""Beyond the usual time at which pads are shaken: a long way through stand or floor."""
HIGHEST = float(np.log(0.23))
"""No stand passes on more of a stroke than this on average; pads that seem to are played together."""
APART_MS, HIGHEST_APART = 3.5, float(np.log(0.4))
"""The same where the time between the two is not that of two hands."""
BETWEEN_PAIRS = 0.65
"""Spread of the pairs' log shares around the usual one."""


@dataclass(frozen=True, eq=False)
class _Candidates:
    """The candidates, and computations over all pairs at once. A mode is (mean, spread, share, ms, their spread) by
    pair.

    struck  log density of each as a real hit
    """

    pair: np.ndarray
    pairs: int
    share: np.ndarray
    gap_ms: np.ndarray
    struck: np.ndarray
    across: np.ndarray
    hands_ms: float
    by_hands: np.ndarray

    def as_soft_strokes(self, loud: np.ndarray, softest: float) -> np.ndarray:
        """(pairs,) log likelihood that nearly all candidates were played, each pair's as loud as each other.

        loud, softest  (n,) log velocities, and that of the softest hit
        """
        count = np.bincount(self.pair, minlength=self.pairs)
        order = np.lexsort((loud, self.pair))
        middle = loud[order[np.cumsum(count) - count + count // 2]]
        near = np.abs(loud - middle[self.pair]) < SO_EQUAL
        alike = np.bincount(self.pair, near, self.pairs)
        mean = np.bincount(self.pair, near * loud, self.pairs) / np.maximum(1, alike)
        off = loud - mean[self.pair]
        about = np.bincount(self.pair, near * self.share, self.pairs) / np.maximum(1, alike)
        away = np.bincount(self.pair, near * (self.share - about[self.pair]) ** 2, self.pairs)
        squares = np.bincount(self.pair, near * off**2, self.pairs)
        # Their loudness is their own: it keeps nearer to itself than to that of the loud hits.
        equal = (squares <= away) & (squares < alike * UNEQUAL**2)
        spread = np.sqrt((squares + EQUAL_HELD * EQUAL_SPREAD**2) / (alike + EQUAL_HELD))
        # A velocity is a whole number.
        spread = np.maximum(np.maximum(spread, TIGHTEST)[self.pair], 0.5 / np.exp(loud))
        bins = np.exp(-0.5 * (off / spread) ** 2) / spread / np.sqrt(2 * np.pi) * np.log(2) / 4
        as_equal = np.log(0.9) + log_struck(np.maximum(bins, _SMALLEST**2), self.gap_ms, self.hands_ms)
        # Now and then there is another stroke among them.
        logs = np.where(near, as_equal, np.logaddexp(as_equal, np.log(0.1) + self.struck))
        enough = alike >= np.maximum(FEWEST_EQUAL, MOSTLY * count)
        known = enough & (self.by_hands | (equal & (mean > softest + np.log(ABOVE_FLOOR))))
        return np.where(known, np.bincount(self.pair, logs, self.pairs), -np.inf)

    def highest(self, first: np.ndarray, rounds: int) -> Hill:
        """The highest modes within reach after some rounds of the fit.

        first  (pairs,) the usual share of candidates that are crosstalk
        """
        # The likelihood has several modes: each pair takes the highest of those within reach.
        hills = [
            self.climb(np.full(self.pairs, USUAL_SHARE + start), later, first, rounds)
            for later in LATER_MS
            for start in STARTS
        ]
        best = np.argmax(np.stack([self.height(hill) for hill in hills]), axis=0)
        return tuple(np.stack(column)[best, np.arange(self.pairs)] for column in zip(*hills, strict=True))

    def pooled(self, first: np.ndarray, held: np.ndarray, shaken: np.ndarray) -> np.ndarray:
        """(pairs,) the usual share of crosstalk, given that of all other pairs with the same shaken pad.

        held  (n,) crosstalk probability of each candidate; shaken: (pairs,) the shaken pad
        """
        weight, count = np.bincount(self.pair, held, self.pairs), np.bincount(self.pair, minlength=self.pairs)
        others = [np.bincount(shaken, each)[shaken] - each for each in (weight, count)]
        share = (others[0] + POOLED * first) / (others[1] + POOLED)
        usual = np.log(first) - np.log1p(-first)
        moved = np.log(share) - np.log1p(-share) - usual
        return _logistic(usual + np.clip(moved, -FURTHEST, FURTHEST))

    def climb(self, mean: np.ndarray, later_ms: float, first: np.ndarray, rounds: int) -> Hill:
        """From a mean, at the usual time or later, towards the nearest mode. first, rounds: as in highest()"""
        pairs = self.pairs
        usual_at = np.where(self.across, ACROSS_AT_MS, SHAKEN_AT_MS)
        usual_about = np.where(self.across, ACROSS_SPREAD_MS, SHAKEN_SPREAD_MS)
        sure = np.where(self.across, 5.0, 2.0)
        at = usual_at + later_ms
        hill: Hill = (mean, np.full(pairs, FIRST_SPREAD), first, at, np.maximum(usual_about, later_ms / 3))
        count = np.bincount(self.pair, minlength=pairs).astype(float)
        for _ in range(rounds):
            held = self.held(hill)
            weight = np.bincount(self.pair, held, pairs)
            # A few pseudo-candidates hold each pair near the usual values until it has enough of its own.
            mean = (np.bincount(self.pair, held * self.share, pairs) + 3 * USUAL_SHARE) / (weight + 3)
            mean = np.minimum(mean, np.where(at > APART_MS, HIGHEST_APART, HIGHEST))
            off = np.bincount(self.pair, held * (self.share - mean[self.pair]) ** 2, pairs)
            spread = np.clip(np.sqrt((off + 3 * PRIOR_SPREAD**2) / (weight + 3)), 0.12, WIDEST)
            # The uncertainty that few candidates leave about a pair's share counts as spread too.
            spread = np.sqrt(spread**2 + BETWEEN_PAIRS**2 * 1.5 / (weight + 1.5))
            part = np.clip((weight + sure * first) / (count + sure), 0.02, MOST)
            at = (np.bincount(self.pair, held * self.gap_ms, pairs) + TIME_HELD * usual_at) / (weight + TIME_HELD)
            away = np.bincount(self.pair, held * (self.gap_ms - at[self.pair]) ** 2, pairs)
            about = np.sqrt((away + TIME_HELD * usual_about**2) / (weight + TIME_HELD))
            hill = mean, spread, part, at, np.clip(about, STEADIEST, LOOSEST)
        return hill

    def _logs(self, hill: Hill) -> tuple[np.ndarray, np.ndarray]:
        mean, spread, part, at, about = (column[self.pair] for column in hill)
        struck = np.log1p(-part) + self.struck
        return np.log(part) + log_shaken(self.share, self.gap_ms, mean, spread, at, about), struck

    def held(self, hill: Hill) -> np.ndarray:
        """Crosstalk probability of each candidate."""
        shaken, struck = self._logs(hill)
        return np.asarray(1 / (1 + np.exp(-np.clip(shaken - struck, -30, 30))))

    def height(self, hill: Hill) -> np.ndarray:
        """(pairs,) log likelihood of a mode, with the usual distribution over pairs as the prior."""
        shaken, struck = self._logs(hill)
        prior = -0.5 * ((hill[0] - USUAL_SHARE) / BETWEEN_PAIRS) ** 2
        return np.asarray(np.bincount(self.pair, np.logaddexp(shaken, struck), self.pairs) + prior)
