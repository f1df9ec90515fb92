"""Several pitches at once: one network over pitches and moments.

Every pitch of every frame starts as the levels at its first harmonics, in windows of three lengths, and how much of
them the moments before do not explain. A small gate drops what cannot be a note. For the others, several times over,
what is known of the pitches that share harmonics with it is mixed in, and then what is known of the moments around it.
So notes are tested against each other, and against what came before and comes after. All pitches share one network.
Trained by training/train_chords.py.

Sources  harmonics stacked as channels: R. Bittner and others, Deep salience representations for F0 estimation in
         polyphonic music, 2017; related pitches mixed within each layer: W. Wei and others, HarmoF0: logarithmic scale
         dilated convolution for pitch estimation, 2022; residual layers along time: S. Bai and others, An empirical
         evaluation of generic convolutional networks for sequence modeling, 2018
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing.networks import dense
from puresignal.core.hearing.networks.multipitch import FIRST, LOWEST, PITCHES, SEMITONES
from puresignal.core.hearing.networks.pitch_levels import Changes, Levels

LONG_SEEN = (-12, 0, 12, 19, 24, 28, 31, 34, 36)
"""Semitones from a pitch at which its long window is seen, in thirds of a semitone: an octave below, and harmonics."""
SEEN = (0, 12, 19, 24, 28, 31, 34, 36)
"""The same for the two shorter windows."""
LEVELS = 3 * len(LONG_SEEN) + 2 * len(SEEN) + 2
"""Inputs of the gate,"""
INPUTS = LEVELS + 2 * len(SEEN)
"""and of the network."""
MIXED = np.array((-24, -19, -12, -7, -5, -2, -1, 0, 1, 2, 5, 7, 12, 19, 24))
"""Semitones to the pitches that are mixed in."""
APART = (1, 2, 4, 8)
"""Frames between the moments that each block sees."""
TURNS = np.arange(-2, 3)
"""Moments that it sees, in these steps."""
POSSIBLE = 0.01
"""Chance from which the gate lets a pitch through,"""
BEFORE, AFTER = 4, 2
"""and for this many frames before and after."""
AT_ONCE, FRAMES_AT_ONCE = 2048, 64
"""Rows evaluated at once, and frames by the gate, so that they stay in the cache."""

_PLACE = np.arange(LOWEST - FIRST, LOWEST - FIRST + PITCHES)
_FINE = (3 * np.clip(_PLACE[:, None, None] + np.array(LONG_SEEN)[:, None], 0, SEMITONES - 1) + np.arange(3)).reshape(
    PITCHES, -1
)
_PLAIN = np.clip(_PLACE[:, None] + np.array(SEEN), 0, SEMITONES - 1)


def inputs(seen: Levels, frame: np.ndarray, pitch: np.ndarray) -> np.ndarray:
    """(n, LEVELS) float32: the levels of each (frame, column of a pitch)."""
    out = np.empty((len(frame), LEVELS), np.float32)
    _write_levels(out, seen, frame, pitch)
    return out


def inputs_and_changes(seen: Levels, changes: Changes, frame: np.ndarray, pitch: np.ndarray) -> np.ndarray:
    """(n, INPUTS) float32: the same, and how much of the levels the moments before do not explain."""
    out = np.empty((len(frame), INPUTS), np.float32)
    top = _write_levels(out, seen, frame, pitch)
    at, bands = frame[:, None], _PLAIN[pitch]
    np.subtract(changes.middle[at, bands], top, out=out[:, LEVELS : LEVELS + len(SEEN)])
    np.subtract(changes.short[at, bands], top, out=out[:, LEVELS + len(SEEN) :])
    return out


def _write_levels(out: np.ndarray, seen: Levels, frame: np.ndarray, pitch: np.ndarray) -> np.ndarray:
    """Fill the first LEVELS columns; gives the (n, 1) level of the loudest of each frame."""
    top = np.asarray(seen.long.max(axis=1)[frame, None])
    at, bands = frame[:, None], _PLAIN[pitch]
    fine, plain = 3 * len(LONG_SEEN), len(SEEN)
    np.subtract(seen.long[at, _FINE[pitch]], top, out=out[:, :fine])
    np.subtract(seen.middle[at, bands], top, out=out[:, fine : fine + plain])
    np.subtract(seen.short[at, bands], top, out=out[:, fine + plain : LEVELS - 2])
    out[:, LEVELS - 2] = top[:, 0]
    out[:, LEVELS - 1] = _PLACE[pitch] / 60.0
    return top


def possible(gate: dense.Network, seen: Levels) -> np.ndarray:
    """(frames, PITCHES) bool: what may be a note."""
    chance = np.empty((len(seen), PITCHES), bool)
    everywhere = np.arange(PITCHES)
    for begin in range(0, len(seen), FRAMES_AT_ONCE):
        here = np.arange(begin, min(begin + FRAMES_AT_ONCE, len(seen)))
        frame, pitch = np.repeat(here, PITCHES), np.tile(everywhere, len(here))
        chance[here] = (gate.probability(inputs(seen, frame, pitch)) > POSSIBLE).reshape(len(here), PITCHES)
    out = chance.copy()
    for frames in range(1, BEFORE + 1):
        out[:-frames] |= chance[frames:]
    for frames in range(1, AFTER + 1):
        out[frames:] |= chance[:-frames]
    return out


@dataclass(frozen=True, eq=False)
class Rows:
    """The (frame, pitch) cells that are looked at, and where their neighbours are among them.

    place  (frames, PITCHES) row of each cell; the number of rows where it is not looked at
    """

    frame: np.ndarray
    pitch: np.ndarray
    place: np.ndarray

    @classmethod
    def of(cls, asked: np.ndarray) -> Rows:
        frame, pitch = np.nonzero(asked)
        place = np.full(asked.shape, len(frame))
        place[frame, pitch] = np.arange(len(frame))
        return cls(frame, pitch, place)

    def at(self, frames: np.ndarray | int, semitones: np.ndarray | int) -> np.ndarray:
        """(n, k) rows of the cells some frames and semitones away; the number of rows where there is none."""
        frame, pitch = self.frame[:, None] + frames, self.pitch[:, None] + semitones
        known = (frame >= 0) & (frame < len(self.place)) & (pitch >= 0) & (pitch < PITCHES)
        found = self.place[np.where(known, frame, 0), np.where(known, pitch, 0)]
        return np.where(known, found, len(self.frame))


Layer = tuple[np.ndarray, np.ndarray]
"""(inputs, outputs) weights and (outputs,) biases."""


@dataclass(frozen=True, eq=False)
class HarmonicNet:
    """The network.

    gate         what may be a note at all
    gain, shift  (INPUTS,) normalisation of the inputs
    blocks       of each: the layer that narrows, the one over related pitches, the one over moments
    """

    gate: dense.Network
    gain: np.ndarray
    shift: np.ndarray
    first: Layer
    blocks: tuple[tuple[Layer, Layer, Layer], ...]
    out: Layer

    def probability(self, seen: Levels, changes: Changes, asked: np.ndarray | None = None) -> np.ndarray:
        """(frames, PITCHES, 2): probability that each pitch sounds, and begins.

        asked  (frames, PITCHES) bool: what may be a note; by default what the gate lets through
        """
        out = np.zeros((len(seen), PITCHES, 2), np.float32)
        rows = Rows.of(possible(self.gate, seen) if asked is None else asked)
        if not len(rows.frame):
            return out
        seen_of = inputs_and_changes(seen, changes, rows.frame, rows.pitch) * self.gain + self.shift
        np.clip(seen_of, -5, 5, out=seen_of)
        # The last row stands for all cells that are not looked at.
        x = np.zeros((len(rows.frame) + 1, self.first[0].shape[1]), np.float32)
        x[:-1] = _above(seen_of @ self.first[0], self.first[1])
        related = rows.at(0, MIXED)
        for (narrow, mixed, along), apart in zip(self.blocks, APART, strict=True):
            few = _above(x @ narrow[0], narrow[1])
            few[-1] = 0
            _add_gathered(x, few, related, mixed)
            _add_gathered(x, x.copy(), rows.at(apart * TURNS, 0), along)
        odds = x[:-1] @ self.out[0] + self.out[1]
        out[rows.frame, rows.pitch] = 1 / (1 + np.exp(-np.clip(odds, -30, 30)))
        return out


def _above(x: np.ndarray, bias: np.ndarray) -> np.ndarray:
    """ReLU of x plus bias, in place."""
    x += bias
    return np.asarray(np.maximum(x, 0, out=x))


def _add_gathered(x: np.ndarray, known: np.ndarray, where: np.ndarray, layer: Layer) -> None:
    """Add to each row of x what a layer makes of the rows of `known` at `where`."""
    for begin in range(0, len(where), AT_ONCE):
        part = slice(begin, min(begin + AT_ONCE, len(where)))
        around = known.take(where[part], axis=0).reshape(part.stop - begin, -1)
        x[part] += _above(around @ layer[0], layer[1])


def from_arrays(arrays: dict[str, np.ndarray]) -> HarmonicNet:
    """A network from the arrays of a model file."""
    flat = {name: np.ascontiguousarray(array, np.float32) for name, array in arrays.items()}

    def layer(name: str) -> Layer:
        return flat[name], flat[f"{name}_bias"]

    gate = dense.from_arrays({name[5:]: array for name, array in flat.items() if name.startswith("gate_")})
    blocks = tuple((layer(f"narrow{i}"), layer(f"mixed{i}"), layer(f"along{i}")) for i in range(len(APART)))
    return HarmonicNet(gate, flat["gain"], flat["shift"], layer("first"), blocks, layer("out"))
