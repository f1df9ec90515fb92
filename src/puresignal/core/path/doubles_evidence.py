"""What a take shows about each soft second hit of a pad: figures that trees ask about.

What the fitted model says (doubles_model), and what it leaves out: how like the other candidates of the pad and of the
take it is, how often hits as hard as the first one were followed by one, what lies before and after on the pad, what
else is struck at that moment, and how softly the pad is played otherwise.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.path import among_others, doubles_model
from puresignal.core.path.among_others import log_odds
from puresignal.core.path.doubles_model import GAP_MS, LATER, DoublesModel, Seconds

NEAREST, FAR = 0.0005, 4.0
"""Seconds to the next hit of a pad at least, and where it has none."""
BESIDE = 0.03
"""Seconds within which a hit of another pad lies beside one."""
LOOKED_AT = 4
"""Hits before and after that are looked at for that."""


@dataclass(frozen=True, eq=False)
class Strokes:
    """All hits, pad after pad and each pad's in order of time: seconds, velocity, and number of the pad."""

    start: np.ndarray
    loud: np.ndarray
    pad: np.ndarray

    @property
    def pads(self) -> int:
        """How many pads there are."""
        return int(self.pad[-1]) + 1 if len(self.pad) else 0


def evidence(
    strokes: Strokes, found: np.ndarray, first: np.ndarray, seconds: Seconds, model: DoublesModel, as_fast: np.ndarray
) -> np.ndarray:  # fmt: skip
    """(candidates, figures).

    found, first  places of the candidates among the strokes, and of the louder hit that each follows
    seconds       the candidates
    model         fitted to them
    as_fast       as_fast_as(seconds, model.fast)
    """
    start, loud, pad = strokes.start, strokes.loud, strokes.pad
    mine, pads, count = pad[found], len(model.gap), len(found)
    own, part, log_gap = model, seconds.part, np.log(seconds.gap_ms)
    gap = seconds.gap_ms / 1000
    level = part + LATER * (seconds.gap_ms - GAP_MS)
    likely = doubles_model.likely(seconds, model, as_fast)
    candidates, hits = (np.bincount(each, minlength=pads).astype(float)[mine] for each in (mine, pad))
    is_candidate = np.zeros(len(start), bool)
    is_candidate[found] = True

    # Before the first one, and after the second.
    before, after = np.maximum(first - 1, 0), np.minimum(found + 1, len(start) - 1)
    next_but_one = np.minimum(found + 2, len(start) - 1)
    has_before = (first > 0) & (pad[before] == mine)
    has_after = (found + 1 < len(start)) & (pad[after] == mine)
    has_other = (found + 2 < len(start)) & (pad[next_but_one] == mine)
    earlier = np.maximum(NEAREST, np.where(has_before, start[first] - start[before], FAR))
    later = np.maximum(NEAREST, np.where(has_after, start[after] - start[found], FAR))
    later_still = np.maximum(NEAREST, np.where(has_other, start[next_but_one] - start[found], FAR))

    # How often such hits were followed, and how softly the pad is played.
    followed = np.unique(first)
    hard = 0.9 * loud[first]
    as_hard = among_others.at_least(loud, pad, hard, mine, pads)
    so_followed = among_others.at_least(loud[followed], pad[followed], hard, mine, pads)
    followed_at_all = np.bincount(pad[followed], minlength=pads)[mine]
    played = ~is_candidate
    strokes_of_pad = np.bincount(pad[played], minlength=pads)[mine]
    as_soft = strokes_of_pad - among_others.at_least(loud[played], pad[played], 1.25 * loud[found], mine, pads)

    all_one = np.zeros(count, np.int64)
    closely = among_others.near(log_gap, level, mine, 0.08, 0.35)
    nearly = among_others.near(log_gap, level, mine, 0.25, 0.5)
    elsewhere = among_others.near(log_gap, level, all_one, 0.25, 0.4)
    by_time = np.argsort(start, kind="stable")
    with_second = _beside(strokes, by_time, start[found], loud[found], mine)
    with_first = _beside(strokes, by_time, start[first], loud[first], mine)
    apart = np.diff(np.unique(start))
    usual_gap = float(np.median(np.clip(apart, 0.02, 2.0))) if len(apart) else 0.2

    return np.column_stack([
        log_odds(likely),
        np.clip(doubles_model.log_false(seconds, model), -14, 3),
        np.clip(doubles_model.log_played(seconds, model, as_fast), -14, 3),
        log_gap, 20 * gap, part, np.log(loud[first] / 100), np.log(loud[found] / 30), np.log(loud[found] / loud.min()),
        seconds.row, has_before, np.clip(np.log(earlier / gap), -3, 3), np.log(np.clip(earlier, 0.02, 2)),
        np.where(has_before, np.log(loud[before] / loud[first]), 0),
        has_after, np.clip(np.log(later / gap), -3, 3), np.log(np.clip(later, 0.01, 2)),
        np.where(has_after, np.log(loud[after] / loud[found]), 0),
        np.where(has_after, np.log(loud[after] / loud[first]), 0),
        np.clip(np.log(later_still / gap), -3, 4), has_after & is_candidate[after], found - first,
        np.log(candidates), np.log(hits), np.log(candidates / hits),
        (np.minimum(so_followed, as_hard) - 0.7) / (as_hard + 0.5), (followed_at_all - 0.7) / (hits + 0.5),
        np.log1p(as_hard), np.log1p(as_soft), np.log((as_soft + 0.5) / (strokes_of_pad + 1)),
        np.log1p(closely), np.log1p(nearly), np.log1p(elsewhere), nearly / candidates,
        own.gap[mine] - log_gap, (own.gap[mine] - log_gap) / own.gap_spread[mine],
        (own.part[mine] - level) / own.part_spread[mine], own.gap[mine], own.part[mine], log_odds(own.share[mine]),
        own.taps[mine], np.full(count, own.tap[0]),
        np.log(as_fast + 0.02) if len(as_fast) else np.full(count, np.log(0.3)),
        np.full(count, np.log1p(len(own.fast))),
        with_second, with_first,
        among_others.shares(likely, mine, pads, 0.5, 2.0), among_others.shares(likely, all_one, 1, 0.5, 2.0),
        np.full(count, np.log(count)), np.full(count, np.log(count / len(start))),
        np.full(count, np.log(usual_gap)), np.clip(np.log(gap / usual_gap), -3, 3),
    ])  # fmt: skip


def _beside(strokes: Strokes, by_time: np.ndarray, at: np.ndarray, loud: np.ndarray, pad: np.ndarray) -> np.ndarray:
    """(n, 3) of the hit of another pad that is nearest to each: how near, how much louder, and how many there are."""
    start = strokes.start[by_time]
    place = np.searchsorted(start, at)
    nearest, louder, many = np.full(len(at), BESIDE), np.zeros(len(at)), np.zeros(len(at))
    for step in range(-LOOKED_AT, LOOKED_AT):
        beside = np.clip(place + step, 0, len(start) - 1)
        off = np.abs(start[beside] - at)
        which = by_time[beside]
        here = (strokes.pad[which] != pad) & (off < BESIDE)
        many += here
        here &= off < nearest
        nearest = np.where(here, off, nearest)
        louder = np.where(here, np.log(strokes.loud[which] / loud), louder)
    return np.column_stack([100 * nearest, louder, many])
