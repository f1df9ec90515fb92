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


@dataclass(frozen=True, eq=False)
class Changes:
    """log10 levels of what the moments before do not explain, relative to the loud moments, rows as in Levels.

    middle, short  (frames, SEMITONES)
    """

    middle: np.ndarray
    short: np.ndarray


def levels_and_changes(samples: np.ndarray, against: tuple[float, float]) -> tuple[Levels, Changes]:
    """Levels and changes of (n,) samples at RATE; against: as for levels()."""
    flat = np.asarray(samples, np.float32)
    (middle, middle_change), (short, short_change) = _changing(flat)
    return _levels(flat, middle, short, against), _changes(middle_change, short_change, against)


def changes(samples: np.ndarray, against: tuple[float, float]) -> Changes:
    """The changes of (n,) samples at RATE by themselves."""
    (_, middle), (_, short) = _changing(np.asarray(samples, np.float32))
    return _changes(middle, short, against)


def _changing(flat: np.ndarray) -> tuple[tuple[np.ndarray, np.ndarray], tuple[np.ndarray, np.ndarray]]:
    """Power and change in the middle window, every other frame, and in the short one."""
    middle = spectra.powers_and_changes(flat, MIDDLE, 2 * HOP, _MIDDLE_BANDS)
    return middle, spectra.powers_and_changes(flat, SHORT, HOP, multipitch.SHORT_BANDS)


def _changes(middle: np.ndarray, short: np.ndarray, against: tuple[float, float]) -> Changes:
    apart = spectra.with_those_between(multipitch.level_of(middle, against[0]), len(short))
    return Changes(apart, multipitch.level_of(short, against[1]))


def levels(samples: np.ndarray, against: tuple[float, float]) -> Levels:
    """The levels of (n,) samples at RATE; against: those of the loud moments (multipitch.loud)."""
    flat = np.asarray(samples, np.float32)
    return levels_of(flat, spectra.powers(flat, SHORT, HOP, multipitch.SHORT_BANDS)[0], against)


def levels_of(flat: np.ndarray, short: np.ndarray, against: tuple[float, float]) -> Levels:
    """The same, where the powers in the short window are known already."""
    return _levels(flat, spectra.powers(flat, MIDDLE, 2 * HOP, _MIDDLE_BANDS)[0], short, against)


def _levels(flat: np.ndarray, middle: np.ndarray, short: np.ndarray, against: tuple[float, float]) -> Levels:
    long, quick = multipitch.levels_of(multipitch.long_powers(flat), short, against)
    # In between the two windows whose loud moments are known.
    apart = spectra.with_those_between(multipitch.level_of(middle, against[0]), len(short))
    return Levels(long, apart, quick)
