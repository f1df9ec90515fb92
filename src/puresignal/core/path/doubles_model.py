"""How likely a soft second hit of a pad is a false one, from the gap, the loudness, the run it stands in and the take.

Two explanations are weighed for each. A double trigger comes after much the same time and with much the same part of
the stroke's loudness, as head, rim and stick of that pad have it. A stroke comes as fast as this player's other fast
strokes come, as loud as strokes in a row or taps after accents are, and mostly in a row that is even. The first is
fitted to the take by expectation-maximisation (Dempster, Laird and Rubin, 1977), each pad's values held near those of
the take, and those near the usual ones: three candidates are judged sensibly and three hundred sharply.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

GAP_MS, GAP_SPREAD = 22.0, 0.55
"""Usual gap of double triggers, and the spread of its logarithm."""
PART, PART_SPREAD = 0.25, 0.6
"""Usual part of the stroke's velocity, and the spread of its logarithm."""
NARROWEST = 0.12
LATER = 0.012
"""Loss of log part for each ms of the gap: what rings or bounces loses force."""
TAP_NARROWEST = 0.05
BROAD = 0.1
"""Weight of the usual spread beside the fitted one: a pad has several ways to trigger twice."""
LATEST, LOUDEST = float(np.log(42.0)), float(np.log(0.4))
"""No pad's double triggers are later or louder on average; what seems to be is played."""
HELD, PAD_HELD = 8.0, 12.0
"""Candidates that the usual values weigh as much as, for the take; and the take's for a pad."""
FAST_MS, FAST_SPREAD = 75.0, 0.4
"""Usual gap of the fastest strokes of one pad, and the spread of its logarithm."""
EVEN, EVEN_SPREAD = 0.0, 0.28
TAP, TAP_SPREAD = float(np.log(0.45)), 0.4
"""Log part of a stroke in a row, and of a tap after an accent."""
TAPS = 0.2
"""Usual share of taps among fast strokes."""
IN_A_ROW, ALONE = 6.0, 0.75
"""How much likelier strokes are found in an even row, and outside one, than double triggers are."""
LIKE = 0.33
"""Relative difference up to which two gaps are even."""
STEP = LIKE / 12
"""Of log gaps, between which densities are interpolated."""
ROUNDS = 10
_LEAST = 1e-6


@dataclass(frozen=True, eq=False)
class Seconds:
    """Soft second hits. gap_ms, part: (n,) gap and log part of the first one's velocity; pad: (n,) number; row: (n,) 1
    in an even row, 0 outside, -1 where that is unknown."""

    gap_ms: np.ndarray
    part: np.ndarray
    pad: np.ndarray
    row: np.ndarray


@dataclass(frozen=True, eq=False)
class DoublesModel:
    """gap, gap_spread, part, part_spread: (pads,) of double triggers; share: (pads,) of them among soft second hits;
    fast: (m,) log gaps in ms of strokes that surely were played; taps: (pads,) share of taps among fast strokes;
    tap: mean and spread of the log gap of soft strokes that were played."""

    gap: np.ndarray
    gap_spread: np.ndarray
    part: np.ndarray
    part_spread: np.ndarray
    share: np.ndarray
    fast: np.ndarray
    taps: np.ndarray
    tap: tuple[float, float] = (float(np.log(FAST_MS)), FAST_SPREAD)


def usual(pads: int) -> DoublesModel:
    """The model of a kit of which nothing is known."""
    one = np.ones(pads)
    return DoublesModel(
        np.log(GAP_MS) * one, GAP_SPREAD * one, np.log(PART) * one, PART_SPREAD * one, 0.6 * one, np.zeros(0),
        TAPS * one,
    )  # fmt: skip


def likely(seconds: Seconds, model: DoublesModel, as_fast: np.ndarray | None = None) -> np.ndarray:
    """(n,) probability that each is a double trigger. as_fast: as_fast_as(seconds, model.fast), where it is known"""
    share = model.share[seconds.pad]
    as_fast = as_fast_as(seconds, model.fast) if as_fast is None else as_fast
    odds = np.log(share) - np.log1p(-share) + log_false(seconds, model) - log_played(seconds, model, as_fast)
    return np.asarray(1 / (1 + np.exp(-np.clip(odds, -30, 30))))


def fitted(seconds: Seconds, pads: int, fast: np.ndarray, taps: np.ndarray, as_fast: np.ndarray) -> DoublesModel:
    """The model of a take.

    fast, taps  as in DoublesModel
    as_fast     as_fast_as(seconds, fast)
    """
    start = usual(pads)
    model = DoublesModel(start.gap, start.gap_spread, start.part, start.part_spread, start.share, fast, taps)
    if not len(seconds.pad):
        return model
    log_gap = np.log(seconds.gap_ms)
    for _ in range(ROUNDS):
        held = likely(seconds, model, as_fast)
        gap, gap_spread = _pooled(log_gap, held, seconds.pad, pads, (float(np.log(GAP_MS)), GAP_SPREAD, LATEST))
        prior = (float(np.log(PART)), PART_SPREAD, LOUDEST)
        part, part_spread = _pooled(_level(seconds), held, seconds.pad, pads, prior)
        whole = (held.sum() + 3) / (len(held) + 5)
        count = np.bincount(seconds.pad, minlength=pads)
        share = (np.bincount(seconds.pad, held, pads) + 4 * whole) / (count + 4)
        model = DoublesModel(
            gap, gap_spread, part, part_spread, np.clip(share, 0.02, 0.97), fast, taps, _tap(log_gap, 1 - held)
        )
    return model


def _tap(value: np.ndarray, played: np.ndarray) -> tuple[float, float]:
    """Mean and spread of the log gap of soft strokes, held near the usual ones."""
    weight = played.sum()
    mean = (played @ value + 2 * np.log(FAST_MS)) / (weight + 2)
    spread = np.sqrt((played @ (value - mean) ** 2 + 2 * FAST_SPREAD**2 * 0.5) / (weight + 2))
    return float(mean), float(max(TAP_NARROWEST, spread))


def _pooled(
    value: np.ndarray, held: np.ndarray, pad: np.ndarray, pads: int, prior: tuple[float, float, float]
) -> tuple[np.ndarray, np.ndarray]:  # fmt: skip
    """Mean and spread of each pad, held near the take's, which are held near the usual ones. prior: mean, spread and
    highest mean"""
    centre, spread, most = prior
    weight = held.sum()
    mean = (held @ value + HELD * centre) / (weight + HELD)
    broad = (held @ (value - mean) ** 2 + HELD * spread**2) / (weight + HELD)
    mine = np.bincount(pad, held, pads)
    means = np.minimum(most, (np.bincount(pad, held * value, pads) + PAD_HELD * mean) / (mine + PAD_HELD))
    off = np.bincount(pad, held * (value - means[pad]) ** 2, pads)
    spreads = np.sqrt((off + PAD_HELD * broad) / (mine + PAD_HELD))
    return means, np.maximum(NARROWEST, spreads)


def _normal(value: np.ndarray, mean: np.ndarray | float, spread: np.ndarray | float) -> np.ndarray:
    return np.asarray(np.exp(-0.5 * ((value - mean) / spread) ** 2) / (spread * np.sqrt(2 * np.pi)))


def _level(seconds: Seconds) -> np.ndarray:
    """(n,) log part, as it would be at the usual gap."""
    return np.asarray(seconds.part + LATER * (seconds.gap_ms - GAP_MS))


def log_false(seconds: Seconds, model: DoublesModel) -> np.ndarray:
    """Log density of a double trigger over log gap and log part."""
    pad, gap, part = seconds.pad, np.log(seconds.gap_ms), _level(seconds)
    own = _normal(gap, model.gap[pad], model.gap_spread[pad]) * _normal(part, model.part[pad], model.part_spread[pad])
    broad = _normal(gap, float(np.log(GAP_MS)), GAP_SPREAD) * _normal(part, float(np.log(PART)), PART_SPREAD)
    return np.asarray(np.log((1 - BROAD) * own + BROAD * broad + _LEAST))


def as_fast_as(seconds: Seconds, fast: np.ndarray) -> np.ndarray:
    """Density at each log gap of the log gaps of strokes that surely were played; (0,) where there are none."""
    if not len(fast) or not len(seconds.gap_ms):
        return np.zeros(0)
    log_gap = np.log(seconds.gap_ms)
    # It is smooth, and there may be thousands of gaps.
    places = np.arange(log_gap.min(), log_gap.max() + STEP, STEP)
    return np.asarray(np.interp(log_gap, places, _normal(places[:, None], fast[None, :], LIKE / 2).mean(axis=1)))


def log_played(seconds: Seconds, model: DoublesModel, as_fast: np.ndarray) -> np.ndarray:
    """Log density of a stroke over log gap and log part, with the row it stands in."""
    gap = np.log(seconds.gap_ms)
    played = 0.5 * _normal(gap, float(np.log(FAST_MS)), FAST_SPREAD) + 0.5 * _normal(gap, *model.tap)
    if len(as_fast):
        played = (2 * played + as_fast) / 3
    taps = model.taps[seconds.pad]
    part = (1 - taps) * _normal(seconds.part, EVEN, EVEN_SPREAD) + taps * _normal(seconds.part, TAP, TAP_SPREAD)
    row = np.where(seconds.row > 0, IN_A_ROW, np.where(seconds.row == 0, ALONE, 1.0))
    return np.asarray(np.log(played * part * row + _LEAST))
