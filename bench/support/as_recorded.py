"""Takes with the ends that recordings have: few begin and stop with a whole bar."""

from __future__ import annotations

import numpy as np

from .played_free import Played, cut_off

ENDS_ON_A_BEAT, ENDS_ANYWHERE, BEGINS_ANYWHERE = 0.25, 0.3, 0.15
"""How many takes do."""
FEWEST_BARS = 6
"""Shorter takes are left as they are."""


def _between(chance: np.random.Generator, first: float, last: float) -> float:
    """Somewhere between two seconds; the first of them if a take falls silent before it."""
    return float(first + chance.random() * max(0.0, last - first))


def as_recorded(played: Played, seed: int) -> Played:
    """A take with the end, and sometimes the beginning, that recordings have: few stop with a whole bar."""
    chance = np.random.default_rng([seed, 5])
    lines, begin, end = played.bars, -np.inf, np.inf
    if len(lines) < FEWEST_BARS:
        return played
    way = chance.random()
    if way < ENDS_ON_A_BEAT:
        # A last stroke on the first beat of a bar, or on another.
        of = lines if way < 0.7 * ENDS_ON_A_BEAT else played.beats
        end = float(of[-int(chance.integers(1, 4))]) + 0.06
    elif way < ENDS_ON_A_BEAT + ENDS_ANYWHERE:
        end = _between(chance, lines[-3], played.rows[-1][0])
    if chance.random() < BEGINS_ANYWHERE:
        begin = _between(chance, lines[0], lines[2])
    return cut_off(played, begin, end)


def stopped_anywhere(played: Played, seed: int) -> Played:
    """A take that stops somewhere within its last two bars."""
    chance = np.random.default_rng([seed, 6])
    return cut_off(played, -np.inf, _between(chance, played.bars[-2], played.rows[-1][0]))


def cut_at_both_ends(played: Played, seed: int) -> Played:
    """A take of which the recording began late, within its first two bars, and that stops anywhere."""
    chance = np.random.default_rng([seed, 7])
    return cut_off(stopped_anywhere(played, seed), _between(chance, played.bars[0], played.bars[2]), np.inf)
