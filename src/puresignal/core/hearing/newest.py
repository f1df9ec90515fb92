"""What the newest moments of a stream say of each pitch: whether it sounds, and whether it has just begun.

For every pitch the sound is compared with itself one period earlier (period.py), in windows from short, which tell
a high note after some milliseconds, to long, which tell a low one at last. What that says of a pitch, of those that
are easily taken for it, and of both some moments ago, with the levels about it, goes to a small network
(bench/train_ear.py trains it), for those pitches alone that may sound at all.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing import period, rises

RATE, HOP = 22_050, 110
SEEN = 1536
"""Samples of the newest that a look sees; looks are HOP apart."""
LOWEST, HIGHEST = 28, 96
PITCHES = HIGHEST - LOWEST + 1
WINDOWS = ((260, 102), (420, 205), (800, 330), (SEEN, 560))
"""Samples seen, and the longest period in samples that they can show."""
SHORTEST = 9
"""Samples of the shortest period that is looked at."""
SILENT, DEEP = 1e-9 * SEEN, 0.9
"""Energy of a look in which nothing sounds; how imperfect a repetition may be to be one at all."""
PAST = 16
"""Looks before one that bear on it."""
MAYBE = 0.35
"""How imperfect the repetition of a pitch may be, in its plainest window, that it is asked after."""
MOST = 6
"""Pitches that are asked after in one look: the plainest."""
# Looks ago at which the pitch, those easily taken for it, the levels and the bands are looked at again, and how many
# semitones off those are.
_AGO = (1, 2, 3, 5, 8, 12, 16)
_OTHERS = (-24, -19, -12, -7, -5, -2, -1, 1, 2, 5, 7, 12, 19, 24)
_LEVELS_AGO = (1, 2, 3, 4, 6, 8, 12, 16)
_BANDS_AGO = (2, 5, 10)
_THEN = 10
EDGE = 24
"""Pitches beyond the lowest and the highest, so that each has its neighbours: as far as the furthest of _OTHERS."""
_LAGS = np.concatenate([np.arange(longest + 1) for _, longest in WINDOWS])
_WINDOW_OF = np.repeat(np.arange(len(WINDOWS)), [longest + 1 for _, longest in WINDOWS])


@dataclass(frozen=True, eq=False)
class Looks:
    """What some looks that follow each other see.

    depth   (looks, EDGE + PITCHES + EDGE, windows) how well the newest repeats itself at the period of each pitch: 0
            exactly, 1 not at all, or not to be seen, as beyond the edges
    beside  (looks, PITCHES, windows) how many semitones beside the pitch that is
    bands   (looks, rises.BANDS) log10 of power
    """

    depth: np.ndarray
    beside: np.ndarray
    bands: np.ndarray

    def __len__(self) -> int:
        return len(self.bands)

    def __getitem__(self, some: slice) -> Looks:
        return Looks(self.depth[some], self.beside[some], self.bands[some])

    def __add__(self, after: Looks) -> Looks:
        return Looks(
            np.concatenate([self.depth, after.depth]), np.concatenate([self.beside, after.beside]),
            np.concatenate([self.bands, after.bands]),
        )  # fmt: skip


def nothing(looks: int) -> Looks:
    """What looks see while nothing sounds."""
    bands = np.full((looks, rises.BANDS), rises.SOFTEST_DB / 10 - 1, np.float32)
    return Looks(*_unseen(looks), bands)


def _unseen(looks: int) -> tuple[np.ndarray, np.ndarray]:
    depth = np.ones((looks, EDGE + PITCHES + EDGE, len(WINDOWS)), np.float32)
    return depth, np.zeros((looks, PITCHES, len(WINDOWS)), np.float32)


def looked(samples: np.ndarray, tuning: float = 0.0) -> Looks:
    """All looks that fit into some samples (n,) at RATE: the first sees the first SEEN of them, the next is HOP later.

    tuning  semitones that the player is above 440 Hz
    """
    seen = np.lib.stride_tricks.sliding_window_view(samples, SEEN)[::HOP]
    bands = rises.rows(samples[SEEN - rises.SIZE :], RATE, HOP)
    return Looks(*_dips(seen, tuning), bands)


def _dips(seen: np.ndarray, tuning: float) -> tuple[np.ndarray, np.ndarray]:
    """Depth and beside of Looks. seen: (looks, SEEN) samples, the newest last."""
    depth, beside = _unseen(len(seen))
    for k, moment in enumerate(seen):
        turned = np.ascontiguousarray(moment[::-1], np.float32)
        sums = np.zeros(SEEN + 1)
        np.cumsum(turned.astype(np.float64) ** 2, out=sums[1:])
        if sums[-1] < SILENT:
            continue
        # All windows one after the other: one search for the dips of all of them.
        mean = np.concatenate([period.of_moment(turned[:size], sums, longest) for size, longest in WINDOWS])
        middle, lag_of, window_of = mean[1:-1], _LAGS[1:-1], _WINDOW_OF[1:-1]
        at = np.flatnonzero((middle < mean[:-2]) & (middle <= mean[2:]) & (middle < DEEP) & (lag_of >= SHORTEST))
        before, here, after = mean[at], middle[at], mean[at + 2]
        shift = period.between(before, here, after)
        lowest = np.maximum(0, here - 0.25 * (before - after) * shift)
        exact = 69 + 12 * np.log2(RATE / 440 / (lag_of[at] + shift)) - tuning
        number = np.rint(exact)
        # The deepest comes last and stays.
        order = np.argsort(-lowest, kind="stable")
        order = order[(number[order] >= LOWEST) & (number[order] <= HIGHEST)]
        pitch, window = number[order].astype(int) - LOWEST, window_of[at[order]]
        depth[k, pitch + EDGE, window] = lowest[order]
        beside[k, pitch, window] = exact[order] - number[order]
    return depth, beside


def asked(looks: Looks, low: float = LOWEST, high: float = HIGHEST) -> tuple[np.ndarray, np.ndarray]:
    """Which looks, from PAST on, and which MIDI numbers are worth a question, as two (n,) arrays."""
    numbers = np.arange(LOWEST, HIGHEST + 1)
    plainest = looks.depth[PAST:, EDGE:-EDGE].min(axis=2)
    plainest[:, (numbers < low) | (numbers > high)] = 1
    limit = np.minimum(MAYBE, np.partition(plainest, MOST, axis=1)[:, MOST : MOST + 1])
    look, pitch = np.nonzero(plainest < limit)
    return look + PAST, numbers[pitch]


def rows(looks: Looks, look: np.ndarray, number: np.ndarray) -> np.ndarray:
    """(n, features) float32 of some looks, from PAST on, and MIDI numbers."""
    depth, beside, bands = looks.depth, looks.beside, looks.bands
    pitch = number - LOWEST
    at = pitch + EDGE
    now, then = depth[look], depth[look - _THEN]
    every = np.arange(len(look))
    others = at[:, None] + np.array(_OTHERS)
    total = np.log10((10**bands).sum(axis=1))
    side = beside[look, pitch]
    parts = [
        now[every, at], *(depth[look - k, at] for k in _AGO),
        now[every[:, None], others].reshape(len(look), len(_OTHERS) * len(WINDOWS)),
        then[every[:, None], others][:, :, -1],
        side, *(side - beside[look - k, pitch] for k in (1, 3)),
        now[:, EDGE:-EDGE].min(axis=1), then[:, EDGE:-EDGE].min(axis=1),
        (pitch / 30)[:, None], total[look][:, None],
        *((total[look] - total[look - k])[:, None] for k in _LEVELS_AGO),
        bands[look] - total[look][:, None], *(bands[look] - bands[look - k] for k in _BANDS_AGO),
    ]  # fmt: skip
    return np.concatenate(parts, axis=1, dtype=np.float32)
