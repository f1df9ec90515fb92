"""What a take shows about each note that may be crosstalk: figures that trees ask about.

What the fitted model says (crosstalk_model), and what it leaves out: how like the other candidates of the pair of pads
it is, how often hits as hard were followed by one, how softly the shaken pad is played otherwise, what else that hit
may have shaken, what other pairs with the same pads show, and where the note stands among its pad's own.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.midi.columns import numbered
from puresignal.core.path import among_others
from puresignal.core.path.among_others import log_odds

FAR = 4.0
"""Seconds to the next hit of a pad that has none."""
AROUND, FORE, AFT, LOUDER = 6, 0.006, 0.028, 0.65
"""Hits to each side that may have shaken a note, in seconds before it and after, and how much louder they are."""
BESIDE = 0.03
"""Seconds within which hits lie beside a note."""


@dataclass(frozen=True, eq=False)
class Hits:
    """All hits of a take: seconds, velocity, and number of the pad, which may be -1 for none."""

    start: np.ndarray
    loud: np.ndarray
    pad: np.ndarray


@dataclass(frozen=True, eq=False)
class Suspects:
    """Notes that may be crosstalk, (n,) each, with what the model says of them and of their pairs of pads.

    row             of the note among the hits
    by, shaken      numbers of the pads: of the hit that may have shaken, and of the note
    louder          velocity of that hit
    gap_ms          from it to the note
    likely          probability of crosstalk
    as_shaken, as_struck  log densities as crosstalk and as a stroke
    alone           density of its loudness among its pad's strokes
    part            share of the pair's candidates that are crosstalk
    mean, spread    of the log share of a hit that is passed on
    at, about       ms after the hit, and their spread
    one_stand       whether both pads are on one
    ghosts          usual share of ghost notes of the shaken pad
    hands_ms        spread of the time between two hands, one value
    """

    row: np.ndarray
    by: np.ndarray
    shaken: np.ndarray
    louder: np.ndarray
    gap_ms: np.ndarray
    likely: np.ndarray
    as_shaken: np.ndarray
    as_struck: np.ndarray
    alone: np.ndarray
    part: np.ndarray
    mean: np.ndarray
    spread: np.ndarray
    at: np.ndarray
    about: np.ndarray
    one_stand: np.ndarray
    ghosts: np.ndarray
    hands_ms: float


def evidence(hits: Hits, suspects: Suspects) -> np.ndarray:
    """(suspects, figures)."""
    one, row, by, shaken, likely = suspects, suspects.row, suspects.by, suspects.shaken, suspects.likely
    count = len(row)
    pads = int(max(hits.pad.max(), by.max(), shaken.max())) + 2
    # Pads from 0, the first being none.
    pad, by, shaken = hits.pad + 1, by + 1, shaken + 1
    loud = hits.loud
    mine = loud[row]
    share, gap = np.log(mine / one.louder), one.gap_ms / 10
    used, pair = numbered(by * pads + shaken)
    pairs = len(used)
    members = np.bincount(pair, minlength=pairs)[pair].astype(float)
    is_suspect = np.zeros(len(loud), bool)
    is_suspect[row] = True
    played = ~is_suspect
    softly, steadily = np.log(mine), among_others.medians(gap, pair, pairs)
    usually = among_others.medians(share, pair, pairs)

    # How softly the shaken pad is played otherwise, and how often hits as hard were followed by a note of it.
    strokes = np.bincount(pad[played], minlength=pads)[shaken]
    as_soft = strokes - among_others.at_least(loud[played], pad[played], 1.25 * mine, shaken, pads)
    hard = 0.95 * one.louder
    as_hard = among_others.at_least(loud, pad, hard, by, pads)
    followed = np.minimum(as_hard, among_others.at_least(one.louder, pair, hard, pair, pairs))
    of_pad = np.bincount(pad, minlength=pads)[shaken]
    suspects_of_pad = np.bincount(shaken, minlength=pads)[shaken]

    return np.column_stack([
        log_odds(likely), np.clip(one.as_shaken, -14, 4), np.clip(one.as_struck, -14, 4), np.log(one.alone),
        share, gap, np.abs(gap), softly - 3, np.log(one.louder / 90), np.log(mine / loud.min()),
        np.log(members), usually - share, np.abs(usually - share), among_others.spreads(share, pair, pairs, 0.25, 1.0),
        steadily - gap, np.abs(steadily - gap), among_others.spreads(gap, pair, pairs, 0.25, 1.0), steadily,
        among_others.medians(softly, pair, pairs) - softly, among_others.spreads(softly, pair, pairs, 0.25, 1.0),
        *_follows(softly, np.log(one.louder), share, pair, pairs),
        (followed - 0.7) / (as_hard + 0.5), np.log1p(as_hard), np.log1p(as_soft),
        np.log((as_soft + 0.5) / (strokes + 1)), np.log1p(strokes), suspects_of_pad / of_pad,
        np.log1p(among_others.near(share, gap, pair, 0.2, 0.15)),
        among_others.near(share, gap, pair, 0.4, 0.3) / members,
        *_among_own(hits, row, shaken - 1),
        *_with_same_hit(hits, one, pads), *_by_steadiest(hits, one, pads),
        among_others.shares(likely, pair, pairs, 0.3, 2.0), _elsewhere(likely, shaken, pair, pads, pairs),
        _elsewhere(likely, by, pair, pads, pairs),
        among_others.shares(likely, np.zeros(count, np.int64), 1, 0.5, 2.0),
        np.full(count, np.log(count)), np.full(count, np.log(count / len(loud))),
        one.one_stand, one.ghosts, np.full(count, one.hands_ms / 7), log_odds(one.part), one.mean, one.spread,
        one.at / 10, one.about / 5,
    ])  # fmt: skip


def _follows(soft: np.ndarray, hard: np.ndarray, share: np.ndarray, pair: np.ndarray, pairs: int) -> list[np.ndarray]:
    """How the loudness of a pair's notes goes with that of the hits: slope, correlation, and whether it keeps nearer to
    the hits (below 0) or to itself.
    """
    count = np.bincount(pair, minlength=pairs)

    def off(value: np.ndarray) -> np.ndarray:
        return np.asarray(value - (np.bincount(pair, value, pairs) / count)[pair])

    def total(value: np.ndarray) -> np.ndarray:
        return np.bincount(pair, value, pairs)

    a, b, c = off(hard), off(soft), off(share)
    both, hards, softs = total(a * b), total(a * a), total(b * b)
    nearer = np.log((np.sqrt(total(c * c) / count) + 0.03) / (np.sqrt(softs / count) + 0.03))
    known = count >= 3
    figures = (both / (hards + 0.05), both / np.sqrt((hards + 0.02) * (softs + 0.02)), nearer)
    return [np.where(known, figure, 0.0)[pair] for figure in figures]


def _among_own(hits: Hits, row: np.ndarray, shaken: np.ndarray) -> list[np.ndarray]:
    """Where each note stands among those of its pad: time since the one before, to the next one, how much louder these
    are, and how uneven both times are.
    """
    start, loud, pad = hits.start, hits.loud, hits.pad
    order = np.lexsort((start, pad))
    place = np.empty(len(order), np.int64)
    place[order] = np.arange(len(order))
    at = place[row]
    before, after = order[np.maximum(at - 1, 0)], order[np.minimum(at + 1, len(order) - 1)]
    has_before, has_after = (at > 0) & (pad[before] == shaken), (at < len(order) - 1) & (pad[after] == shaken)
    since = np.clip(np.where(has_before, start[row] - start[before], FAR), 0.02, FAR)
    until = np.clip(np.where(has_after, start[after] - start[row], FAR), 0.02, FAR)
    return [
        np.log(since), np.log(until), np.where(has_before, np.log(loud[before] / loud[row]), 0),
        np.where(has_after, np.log(loud[after] / loud[row]), 0),
        np.where(has_before & has_after, np.abs(np.log(since / until)), 3.0),
    ]  # fmt: skip


def _with_same_hit(hits: Hits, one: Suspects, pads: int) -> list[np.ndarray]:
    """How many others the same hit may have shaken, how likely these are together, and how many hits lie beside."""
    start = hits.start[one.row]
    cause = np.rint((start - one.gap_ms / 1000) * 1e5).astype(np.int64) * pads + one.by + 1
    causes, which = numbered(cause)
    others = np.bincount(which, minlength=len(causes))[which] - 1.0
    likely = np.bincount(which, one.likely, len(causes))[which] - one.likely
    rising = np.sort(hits.start)
    beside = np.searchsorted(rising, start + BESIDE) - np.searchsorted(rising, start - BESIDE) - 1
    return [others, likely, beside]


def _by_steadiest(hits: Hits, one: Suspects, pads: int) -> list[np.ndarray]:
    """Of all louder hits that may have shaken each note, that of the pad which most steadily comes as long before: how
    unsteadily in time and in the share that is passed on, and how often it does. It need not be the loudest.
    """
    order = np.argsort(hits.start, kind="stable")
    place = np.empty(len(order), np.int64)
    place[order] = np.arange(len(order))
    at, number = place[one.row], np.arange(len(one.row))
    whose, causes = [], []
    for step in range(-AROUND, AROUND + 1):
        beside = at + step
        cause = order[np.clip(beside, 0, len(order) - 1)]
        gap = hits.start[one.row] - hits.start[cause]
        may = (beside >= 0) & (beside < len(order)) & (gap > -FORE) & (gap < AFT)
        may &= (hits.loud[one.row] < LOUDER * hits.loud[cause]) & (hits.pad[cause] != one.shaken)
        whose.append(number[may])
        causes.append(cause[may])
    mine, cause = np.concatenate(whose), np.concatenate(causes)
    row = one.row[mine]
    used, pair = numbered((hits.pad[cause] + 1) * pads + one.shaken[mine] + 1)
    gap = 100 * (hits.start[row] - hits.start[cause])
    share = np.log(hits.loud[row] / hits.loud[cause])
    time, level = (among_others.spreads(value, pair, len(used), 0.25, 1.0) for value in (gap, share))
    best = np.lexsort((time, mine))
    best = best[np.searchsorted(mine[best], number[np.isin(number, mine)])]
    found = [np.full(len(number), usual) for usual in (0.25, 0.25, 0.0)]
    for column, value in zip(found, (time, level, np.log(np.bincount(pair, minlength=len(used))[pair])), strict=True):
        column[mine[best]] = value[best]
    return found


def _elsewhere(likely: np.ndarray, pad: np.ndarray, pair: np.ndarray, pads: int, pairs: int) -> np.ndarray:
    """(n,) how likely crosstalk is in the other pairs that a pad is in."""
    held = np.bincount(pad, likely, pads)[pad] - np.bincount(pair, likely, pairs)[pair]
    count = np.bincount(pad, minlength=pads)[pad] - np.bincount(pair, minlength=pairs)[pair]
    return np.asarray((held + 0.5) / (count + 1.5))
