"""Levels of a recording in windows of three lengths, a semitone or a third of one apart: what the networks that hear
pitches look at."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy.sparse

from puresignal.core.hearing.dsp import spectra
from puresignal.core.hearing.networks import multipitch
from puresignal.core.hearing.networks.multipitch import HOP, SHORT

MIDDLE = 4096
_MIDDLE_BANDS = spectra.Bands(scipy.sparse.csr_array(multipitch.grid(MIDDLE, 1).T))


@dataclass(frozen=True, eq=False)
class Levels:
    """log10 levels relative to the loud moments, a row for each frame of HOP samples.

    long  (frames, SEMITONES * 3); middle, short  (frames, SEMITONES)
    """

    long: np.ndarray
    middle: np.ndarray
    short: np.ndarray

    def __len__(self) -> int:
        return len(self.short)


def levels(samples: np.ndarray, against: tuple[float, float]) -> Levels:
    """The levels of (n,) samples at RATE; against: those of the loud moments (multipitch.loud)."""
    flat = np.asarray(samples, np.float32)
    return levels_of(flat, spectra.powers(flat, SHORT, HOP, multipitch.SHORT_BANDS)[0], against)


def levels_of(flat: np.ndarray, short: np.ndarray, against: tuple[float, float]) -> Levels:
    """The same, where the powers in the short window are known already."""
    middle = spectra.powers(flat, MIDDLE, 2 * HOP, _MIDDLE_BANDS)[0]
    long, quick = multipitch.levels_of(multipitch.long_powers(flat), short, against)
    # In between the two windows whose loud moments are known.
    apart = spectra.with_those_between(multipitch.level_of(middle, against[0]), len(short))
    return Levels(long, apart, quick)
