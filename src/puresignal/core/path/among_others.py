"""What the other values of a group are like, for each value: of a pad's candidates, or of a pair's.

Each value is left out of what it is compared with, so that one alone is never found to be usual.
"""

from __future__ import annotations

import numpy as np

SPAN = 1_000.0
"""More than the values of `at_least` and `near` are apart."""
FURTHEST = 32
"""Neighbours to each side that are counted at most."""


def log_odds(probability: np.ndarray) -> np.ndarray:
    """Log odds, 12 at most."""
    return np.asarray(np.clip(np.log(probability + 1e-9) - np.log(1 - probability + 1e-9), -12, 12))


def shares(held: np.ndarray, group: np.ndarray, groups: int, usual: np.ndarray | float, weight: float) -> np.ndarray:
    """(n,) mean of the others of each value's group, held near the usual one.

    held   (n,) values; group: (n,) numbers from 0; weight: others that the usual value counts as much as
    """
    total, count = np.bincount(group, held, groups), np.bincount(group, minlength=groups)
    return np.asarray((total[group] - held + weight * usual) / (count[group] - 1 + weight))


def spreads(value: np.ndarray, group: np.ndarray, groups: int, usual: float, weight: float) -> np.ndarray:
    """(n,) spread of the others around their mean, held near the usual one."""
    count = np.bincount(group, minlength=groups)[group] - 1
    first, second = np.bincount(group, value, groups)[group] - value, np.bincount(group, value**2, groups)[group]
    squares = second - value**2 - first**2 / np.maximum(1, count)
    return np.asarray(np.sqrt((np.maximum(0.0, squares) + weight * usual**2) / (count + weight)))


def medians(value: np.ndarray, group: np.ndarray, groups: int) -> np.ndarray:
    """(n,) median of the others; a value that has none: itself."""
    count = np.bincount(group, minlength=groups)
    begin = np.cumsum(count) - count
    order = np.lexsort((value, group))
    rising = value[order]
    rank = np.empty(len(value), np.int64)
    rank[order] = np.arange(len(value))
    own, others = rank - begin[group], count[group] - 1

    def one(which: np.ndarray) -> np.ndarray:
        """The others' value of a rank."""
        at = np.clip(which + (which >= own), 0, count[group] - 1)
        return np.asarray(rising[begin[group] + at])

    found = (one((others - 1) // 2) + one(others // 2)) / 2
    return np.where(others > 0, found, value)


def at_least(values: np.ndarray, group: np.ndarray, than: np.ndarray, of: np.ndarray, groups: int) -> np.ndarray:
    """(m,) how many values of a group are at least as high as each of some others.

    values, group  (n,) from 0 to 500, and numbers from 0
    than, of       (m,)
    """
    rising = np.sort(group * SPAN + values)
    ends = np.cumsum(np.bincount(group, minlength=groups))
    return np.asarray(ends[of] - np.searchsorted(rising, of * SPAN + than - 1e-9))


def near(x: np.ndarray, y: np.ndarray, group: np.ndarray, dx: float, dy: float) -> np.ndarray:
    """(n,) how many others of its group are as near as that in both; of very many, some.

    x  (n,) from -400 to 400
    """
    order = np.lexsort((x, group))
    key, height = group[order] * SPAN + x[order], y[order]
    found = np.zeros(len(x))
    for step in range(1, min(FURTHEST, len(x) - 1) + 1):
        beside = key[step:] - key[:-step] < dx
        if not beside.any():
            break
        beside &= np.abs(height[step:] - height[:-step]) < dy
        found[step:] += beside
        found[:-step] += beside
    out = np.empty(len(x))
    out[order] = found
    return out
