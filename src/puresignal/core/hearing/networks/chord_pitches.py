"""Several pitches at once, for chords: three networks, of which the second judges what the first heard together.

The first sees the spectrum about one pitch, as in multipitch.py, with a window of middle length and a look before
and after. A harmonic of a sounding note looks like a softer note to it. The second also sees what the first said of
the pitches that share harmonics with this one, at this moment and around it, so that notes are tested against each
other: an octave that the note beneath it explains, a neighbour that is louder, a chord whose notes begin together.
Both are shared by all pitches. The third (harmonic.py) follows all pitches over time and hears most by itself; the
others make other mistakes, so the result is a mean. The first two are trained by training/train_chord_pairs.py, the
third by training/train_chords.py.

Sources  harmonic sums tested against each other: A. Klapuri, Multiple fundamental frequency estimation by summing
         harmonic amplitudes, 2006; onsets and frames: C. Hawthorne and others, 2018
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing.networks import harmonic, multipitch
from puresignal.core.hearing.networks.dense import Network
from puresignal.core.hearing.networks.harmonic import HarmonicNet
from puresignal.core.hearing.networks.multipitch import FIRST, LOWEST, PITCHES, SEMITONES
from puresignal.core.hearing.networks.pitch_levels import Changes, Levels

RELATED = multipitch.RELATED
QUICK, MOMENTS = multipitch.QUICK, multipitch.MOMENTS
FIRM, AROUND = (0, 12, 19, 24), (-8, -5, 5, 8)
"""Harmonics seen in the long window, and the frames in which they are seen."""
NEAR = (-12, -7, -5, 0, 7, 12, 19, 24, 28, 31, 34, 36)
"""Semitones seen in the window of middle length."""
TURNS = (-4, -2, 2, 4)
"""Further frames in which QUICK is seen in the window of middle length."""
INPUTS = 3 * len(RELATED) + len(FIRM) * len(AROUND) + len(NEAR) + len(QUICK) * (len(TURNS) + len(MOMENTS)) + 2
RIVALS = (
    -36, -31, -28, -24, -19, -16, -12, -9, -7, -5, -4, -3, -2, -1,
    0, 1, 2, 3, 4, 5, 7, 9, 12, 16, 19, 24, 28, 31, 36,
)  # fmt: skip
"""Semitones of the pitches whose first estimate the second network sees."""
SEEN_AT = (-6, -3, -1, 0, 1, 3, 6, 10)
"""Frames of those estimates."""
JUDGED = INPUTS + 2 * len(RIVALS) * len(SEEN_AT)
ASKED = 0.02
"""First estimate from which the second network is asked; below it the first one stands."""
AT_ONCE = 1024
"""Rows evaluated at once, so that they stay in the cache."""
PAIR_WEIGHT, RULED_OUT = 0.25, 0.02
"""Weight of the first two networks in the mean with the third; its estimate below which they are not asked."""


@dataclass(frozen=True, eq=False)
class ChordNetworks:
    """The three networks."""

    first: Network
    second: Network
    third: HarmonicNet


def rows(seen: Levels, frame: np.ndarray, pitch: np.ndarray) -> np.ndarray:
    """(n, INPUTS) float32: inputs of the first network for each (frame, MIDI note)."""
    count = len(seen)
    place = pitch - FIRST
    parts = []
    near = np.clip(place[:, None] + np.array(RELATED), 0, SEMITONES - 1)
    fine = (near[:, :, None] * 3 + np.arange(3)).reshape(len(frame), 3 * len(RELATED))
    parts.append(seen.long.ravel().take(frame[:, None] * seen.long.shape[1] + fine))
    at = np.clip(frame[:, None] + np.array(AROUND), 0, count - 1)
    bands = np.clip(place[:, None] + np.array(FIRM), 0, SEMITONES - 1) * 3 + 1
    parts.append(_taken(seen.long, at, bands))
    own = frame[:, None]
    parts.append(_taken(seen.middle, own, np.clip(place[:, None] + np.array(NEAR), 0, SEMITONES - 1)))
    quick = np.clip(place[:, None] + np.array(QUICK), 0, SEMITONES - 1)
    parts.append(_taken(seen.middle, np.clip(own + np.array(TURNS), 0, count - 1), quick))
    parts.append(_taken(seen.short, np.clip(own + np.array(MOMENTS), 0, count - 1), quick))
    first, last = (int(frame.min()), int(frame.max())) if len(frame) else (0, -1)
    top = seen.long[first : last + 1].max(axis=1)[frame - first][:, None]
    return np.concatenate([*(p - top for p in parts), top, place[:, None] / 60.0], axis=1).astype(np.float32)


def _taken(levels: np.ndarray, frames: np.ndarray, bands: np.ndarray) -> np.ndarray:
    """(n, frames * bands) values of each row's frames and bands."""
    found = levels.ravel().take(frames[:, :, None] * levels.shape[1] + bands[:, None, :])
    return np.asarray(found.reshape(len(frames), -1))


def first_estimate(network: Network, seen: Levels, among: np.ndarray | None = None) -> np.ndarray:
    """(frames, PITCHES, 2): probability that each pitch sounds, and begins, by itself; 0 if it is far too soft.

    among  (frames, PITCHES) bool: estimate only these
    """
    out = np.zeros((len(seen), PITCHES, 2), np.float32)
    loud = audible(seen)
    frame, pitch = np.nonzero(loud if among is None else loud & among)
    for begin in range(0, len(frame), AT_ONCE):
        part = slice(begin, begin + AT_ONCE)
        out[frame[part], pitch[part]] = network.probability(rows(seen, frame[part], pitch[part] + LOWEST))
    return out


def audible(seen: Levels) -> np.ndarray:
    """(frames, PITCHES) bool: whether the lowest or second harmonic of a pitch is there at all."""
    third = np.maximum(np.maximum(seen.long[:, 0::3], seen.long[:, 1::3]), seen.long[:, 2::3])
    own, second = (third[:, LOWEST + up - FIRST :][:, :PITCHES] for up in (0, 12))
    # A single missing low harmonic does not rule out a note.
    return np.asarray(np.maximum(own, second) > np.maximum(third.max(axis=1, keepdims=True) - 2.2, -3.2))


def judged_rows(seen: Levels, first: np.ndarray, frame: np.ndarray, pitch: np.ndarray) -> np.ndarray:
    """(n, JUDGED) float32: inputs of the second network; pitch: column of `first` (frames, PITCHES, 2)."""
    at = np.clip(frame[:, None] + np.array(SEEN_AT), 0, len(first) - 1)
    rival = pitch[:, None] + np.array(RIVALS)
    known = (rival >= 0) & (rival < PITCHES)
    near = first[at[:, :, None], np.clip(rival, 0, PITCHES - 1)[:, None, :]] * known[:, None, :, None]
    return np.concatenate([rows(seen, frame, pitch + LOWEST), near.reshape(len(frame), -1).astype(np.float32)], axis=1)


def probability(networks: ChordNetworks, seen: Levels, changes: Changes) -> np.ndarray:
    """(frames, PITCHES, 2): probability that each pitch sounds, and begins."""
    out = networks.third.probability(seen, changes, harmonic.possible(networks.third.gate, seen))
    # The other two cost more than the third; they are asked only where it does not rule a note out.
    asked = out.max(axis=2) > RULED_OUT
    first = first_estimate(networks.first, seen, asked)
    pair = first.copy()
    frame, pitch = np.nonzero(first.max(axis=2) > ASKED)
    for begin in range(0, len(frame), AT_ONCE):
        part = slice(begin, begin + AT_ONCE)
        pair[frame[part], pitch[part]] = networks.second.probability(judged_rows(seen, first, frame[part], pitch[part]))
    out[asked] += PAIR_WEIGHT * (pair - out)[asked]
    return out
