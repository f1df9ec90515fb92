"""Pitch from the newest moments of a stream: whether each pitch sounds, and whether it has just begun.

For every pitch the sound is compared with itself one period earlier (yin.py), in windows from short, which show a
high note within milliseconds, to long, which show a low one. These values for a pitch, for pitches it is easily
confused with, and for both some frames ago, with its partials (semitone_levels.py) and the surrounding levels, go into
a small network (trained by training/train_ear.py), for plausible pitches only.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing.dsp import semitone_levels, spectral_flux, yin

RATE, HOP = 22_050, 110
SEEN = 1536
"""Newest samples that a frame uses; frames are HOP apart."""
LOWEST, HIGHEST = 28, 96
PITCHES = HIGHEST - LOWEST + 1
WINDOWS = ((260, 102), (420, 205), (800, 330), (SEEN, 560))
"""Samples of each window, and the longest period in samples that it can show."""
SHORTEST = 9
"""Samples of the shortest period considered."""
SILENT, DEEP = 1e-9 * SEEN, 0.9
"""Energy of a frame below which it is silent; highest aperiodicity of a repetition."""
PAST = semitone_levels.PAST
"""Number of earlier frames that are used."""
MAYBE = 0.35
"""Highest aperiodicity of a pitch, in its clearest window, at which the network is asked about it."""
MOST = 6
"""Pitches evaluated per frame: the clearest."""
PARTLY = 4
"""Further pitches evaluated per frame: those with the loudest partials, and as many whose partials grew most."""
# Frames ago at which the pitch, its confusable pitches, the levels and the bands are used again, and the semitones of
# the confusable pitches.
_AGO = np.array((0, 1, 2, 3, 5, 8, 12, 16))
_OTHERS = (-24, -19, -12, -7, -5, -2, -1, 1, 2, 5, 7, 12, 19, 24)
_LEVELS_AGO = np.array((1, 2, 3, 4, 6, 8, 12, 16))
_BANDS_AGO = np.array((2, 5, 10))
_THEN = 10
EDGE = 24
"""Pitches beyond the lowest and the highest, so that each has its neighbours, as far as the furthest of _OTHERS."""
_LAGS = np.concatenate([np.arange(longest + 1) for _, longest in WINDOWS])
_WINDOW_OF = np.repeat(np.arange(len(WINDOWS)), [longest + 1 for _, longest in WINDOWS])


@dataclass(frozen=True, eq=False)
class Looks:
    """The features of successive frames.

    depth   (frames, EDGE + PITCHES + EDGE, windows) aperiodicity at the period of each pitch: 0 exact repetition, 1
    none,
            or not available beyond the edges
    beside  (frames, PITCHES, windows) deviation in semitones
    bands   (frames, spectral_flux.BANDS) log10 power
    levels  (frames, 2, semitone_levels.SEMITONES) log10 amplitude
    loud    (frames, PITCHES) level of the partials of each pitch
    """

    depth: np.ndarray
    beside: np.ndarray
    bands: np.ndarray
    levels: np.ndarray
    loud: np.ndarray

    def __len__(self) -> int:
        return len(self.bands)

    def __getitem__(self, some: slice) -> Looks:
        return Looks(*(each[some] for each in self._all()))

    def __add__(self, after: Looks) -> Looks:
        return Looks(*(np.concatenate(each) for each in zip(self._all(), after._all(), strict=True)))

    def _all(self) -> tuple[np.ndarray, ...]:
        return self.depth, self.beside, self.bands, self.levels, self.loud


def nothing(looks: int) -> Looks:
    """The features of silence."""
    bands = np.full((looks, spectral_flux.BANDS), spectral_flux.NOISE_FLOOR_DB / 10 - 1, np.float32)
    levels = np.full(
        (looks, len(semitone_levels.SIZES), semitone_levels.SEMITONES), semitone_levels.NOTHING, np.float32
    )
    return Looks(*_unseen(looks), bands, levels, _loud(levels))


def _unseen(looks: int) -> tuple[np.ndarray, np.ndarray]:
    depth = np.ones((looks, EDGE + PITCHES + EDGE, len(WINDOWS)), np.float32)
    return depth, np.zeros((looks, PITCHES, len(WINDOWS)), np.float32)


def looked(samples: np.ndarray, tuning: float = 0.0) -> Looks:
    """The features of all frames in (n,) samples at RATE: the first uses the first SEEN of them, the next is HOP later.

    tuning  the player's tuning in semitones relative to 440 Hz
    """
    seen = np.lib.stride_tricks.sliding_window_view(samples, SEEN)[::HOP]
    bands = spectral_flux.rows(samples[SEEN - spectral_flux.SIZE :], RATE, HOP)
    levels = semitone_levels.levels(seen)
    return Looks(*_dips(seen, tuning), bands, levels, _loud(levels))


def _loud(levels: np.ndarray) -> np.ndarray:
    return semitone_levels.together(levels)[:, LOWEST - semitone_levels.FIRST :][:, :PITCHES]


def _dips(seen: np.ndarray, tuning: float) -> tuple[np.ndarray, np.ndarray]:
    """`depth` and `beside` of Looks. seen: (frames, SEEN) samples, the newest last."""
    depth, beside = _unseen(len(seen))
    for k, moment in enumerate(seen):
        turned = np.ascontiguousarray(moment[::-1], np.float32)
        sums = np.zeros(SEEN + 1)
        np.cumsum(turned.astype(np.float64) ** 2, out=sums[1:])
        if sums[-1] < SILENT:
            continue
        # All windows together: one search for the dips of all of them.
        mean = np.concatenate([yin.of_moment(turned[:size], sums, longest) for size, longest in WINDOWS])
        middle, lag_of, window_of = mean[1:-1], _LAGS[1:-1], _WINDOW_OF[1:-1]
        at = np.flatnonzero((middle < mean[:-2]) & (middle <= mean[2:]) & (middle < DEEP) & (lag_of >= SHORTEST))
        before, here, after = mean[at], middle[at], mean[at + 2]
        shift = yin.between(before, here, after)
        lowest = np.maximum(0, here - 0.25 * (before - after) * shift)
        exact = 69 + 12 * np.log2(RATE / 440 / (lag_of[at] + shift)) - tuning
        number = np.rint(exact)
        # The deepest comes last and is kept.
        order = np.argsort(-lowest, kind="stable")
        order = order[(number[order] >= LOWEST) & (number[order] <= HIGHEST)]
        pitch, window = number[order].astype(int) - LOWEST, window_of[at[order]]
        depth[k, pitch + EDGE, window] = lowest[order]
        beside[k, pitch, window] = exact[order] - number[order]
    return depth, beside


def asked(looks: Looks, low: float = LOWEST, high: float = HIGHEST) -> tuple[np.ndarray, np.ndarray]:
    """The frames, from PAST on, and MIDI notes that are worth evaluating, as two (n,) arrays."""
    numbers = np.arange(LOWEST, HIGHEST + 1)
    plainest = looks.depth[PAST:, EDGE:-EDGE].min(axis=2)
    beyond = (numbers < low) | (numbers > high)
    plainest[:, beyond] = 1
    limit = np.minimum(MAYBE, np.partition(plainest, MOST, axis=1)[:, MOST : MOST + 1])
    wanted = plainest < limit
    within = np.flatnonzero(~beyond)
    if len(within):
        wanted[:, within] |= semitone_levels.plainest(looks.loud[:, within], PAST, min(PARTLY, len(within)))
    look, pitch = np.nonzero(wanted)
    return look + PAST, numbers[pitch]


def rows(looks: Looks, look: np.ndarray, number: np.ndarray) -> np.ndarray:
    """(n, features) float32 of some frames, from PAST on, and MIDI notes."""
    depth, beside, bands = looks.depth, looks.beside, looks.bands
    pitch = number - LOWEST
    at = pitch + EDGE
    when, others, count = look[:, None], at[:, None] + np.array(_OTHERS), len(look)
    total = np.log10((10**bands).sum(axis=1))
    level, band, side = total[look][:, None], bands[look], beside[look, pitch]
    plainest = depth[:, EDGE:-EDGE].min(axis=1)
    parts = [
        depth[when - _AGO, at[:, None]].reshape(count, len(_AGO) * len(WINDOWS)),
        depth[when, others].reshape(count, len(_OTHERS) * len(WINDOWS)),
        depth[when - _THEN, others, len(WINDOWS) - 1],
        side, *(side - beside[look - k, pitch] for k in (1, 3)),
        plainest[look], plainest[look - _THEN],
        (pitch / 30)[:, None], level, level - total[when - _LEVELS_AGO],
        band - level, (band[:, None] - bands[when - _BANDS_AGO]).reshape(count, len(_BANDS_AGO) * spectral_flux.BANDS),
        semitone_levels.rows(looks.levels, look, number),
    ]  # fmt: skip
    return np.concatenate(parts, axis=1, dtype=np.float32)
