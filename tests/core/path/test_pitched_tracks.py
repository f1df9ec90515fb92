"""The cheapest path through the notes of a melody is the one a plain search finds."""

from __future__ import annotations

import numpy as np
import pytest

from puresignal.core.hearing.dsp import viterbi


def plainly(cost, silent, turns):
    """Cost of the cheapest path, by exhaustive search frame by frame."""
    best, rest = cost[0].copy(), silent[0]
    for i in range(1, len(cost)):
        change, enter = best.min() + turns[i, 0], rest + turns[i, 1]
        best, rest = (
            np.minimum(best, min(change, enter)) + cost[i],
            min(rest, best.min() + viterbi.LEAVES) + silent[i],
        )
    return min(best.min(), rest)


def cost_of(path, cost, silent, turns):
    total = 0.0
    for i, state in enumerate(path.tolist()):
        total += silent[i] if state < 0 else cost[i, state]
        before = path[i - 1] if i else state
        if state != before:
            total += viterbi.LEAVES if state < 0 else turns[i, 1] if before < 0 else turns[i, 0]
    return total


@pytest.mark.parametrize("seed", range(30))
def test_the_cheapest_path_is_optimal(seed):
    random = np.random.default_rng(seed)
    count, notes = int(random.integers(1, viterbi.STRETCH + 1)), int(random.integers(1, 12))
    # Mostly a line that keeps its note for a while, with some doubt; some of them nothing but doubt.
    line = np.repeat(random.integers(0, notes, 12), 9)[:count]
    cost = random.uniform(0.5 if seed % 3 else 0.0, 4.0, (count, notes))
    cost[np.arange(count), line] -= random.uniform(0, 2) * (seed % 3)
    near = random.uniform(0, 1, count) ** 3
    turns, silent = np.stack([3.4 - 2.6 * near, 1.9 - 1.5 * near], axis=1), random.uniform(0, 2.4, count)
    path = viterbi.path(cost, silent, turns, 0, count)
    assert len(path) == count
    # Notes that cost more than silence throughout may be left out of the search, and it is none the dearer for it.
    assert cost_of(path, cost, silent, turns) == pytest.approx(plainly(cost, silent, turns), abs=1e-3)


def test_distant_frames_do_not_change_the_path():
    random = np.random.default_rng(5)
    count = 7 * viterbi.STRETCH + 33
    near = random.uniform(0, 1, count) ** 3
    turns, silent = np.stack([3.4 - 2.6 * near, 1.9 - 1.5 * near], axis=1), np.full(count, 1.2)
    cost = random.uniform(0.8, 3.0, (count, 9))
    line = np.repeat(random.integers(0, 9, 50), 16)[:count]
    cost[np.arange(count), line] = random.uniform(0.0, 0.8, count)
    path = viterbi.path(cost, silent, turns, 0, count)
    assert cost_of(path, cost, silent, turns) == pytest.approx(plainly(cost, silent, turns), rel=1e-3)
    assert np.mean(path == line) > 0.9
