"""Compares the strokes of a drum recording with each other to decide which drums each one is.

A kit does not change within a recording, so ambiguous strokes can be resolved by others. A small network sees all
strokes of a stretch at once, each by the sound around it and by its own drum probabilities. An ensemble of two is
used. Trained by training/train_ear.py; runs in NumPy.

Source  attention: A. Vaswani and others, Attention is all you need, 2017; ensembles: L. K. Hansen and P. Salamon,
        Neural network ensembles, 1990
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing.networks.dense import peaks, windowed_sum

ABOUT = (
    *((k, k + 1) for k in (-5, -3, -2, -1, 0, 1, 2, 3, 4, 5, 6)),
    (7, 9), (9, 12), (12, 16), (16, 22), (22, 30), (30, 40),
)  # fmt: skip
"""Frames around a stroke that are used, from and up to: fine at its onset, coarse in its decay."""
LEAST, APART = 0.04, 4
"""Onset probability from which a stroke is considered; frames between two strokes at least."""
STRETCH, AROUND = 128, 48
"""Strokes compared at once, and strokes of context before and after them."""


def candidates(probability: np.ndarray) -> np.ndarray:
    """(n,) fractional frames at which any drum may begin. probability: (frames, drums)."""
    any_drum = np.max([windowed_sum(column, 3) for column in probability.T.astype(np.float32)], axis=0)
    return peaks(any_drum, LEAST, APART)


def about(levels: np.ndarray, probability: np.ndarray, frames: np.ndarray) -> np.ndarray:
    """(n, features) float32 of the strokes at some frames.

    levels       (frames, bands, sizes) spectrogram
    probability  (frames, drums) from each frame alone
    """
    at, last = np.rint(frames).astype(int), len(levels) - 1
    parts = []
    for begin, end in ABOUT:
        rows = [levels[np.clip(at + k, 0, last)] for k in range(begin, end)]
        parts.append(np.mean(rows, axis=0, dtype=np.float32).reshape(len(at), levels.shape[1] * levels.shape[2]))
    near = np.max([probability[np.clip(at + k, 0, last)] for k in range(-2, 3)], axis=0).astype(np.float32)
    confidence = np.clip(near, 1e-3, 1 - 1e-3)
    return np.concatenate([*parts, np.log(confidence / (1 - confidence))], axis=1)


@dataclass(frozen=True, eq=False)
class Layer:
    """One attention layer; weights (in, out), biases (out,).

    lean  (heads,) decrease of attention with distance in time
    """

    gain: np.ndarray
    offset: np.ndarray
    ask: np.ndarray
    answer: np.ndarray
    lean: np.ndarray
    gain2: np.ndarray
    offset2: np.ndarray
    wide: np.ndarray
    wide_bias: np.ndarray
    narrow: np.ndarray
    narrow_bias: np.ndarray


@dataclass(frozen=True, eq=False)
class AttentionNet:
    """One network. embedding (features, width) and (width,), layers, head (width, drums) and (drums,)."""

    embedding: tuple[np.ndarray, np.ndarray]
    layers: tuple[Layer, ...]
    head: tuple[np.ndarray, np.ndarray]
    output: tuple[np.ndarray, np.ndarray]

    def embed(self, features: np.ndarray) -> np.ndarray:
        """(n, features) of strokes to (n, width), the part that has to be kept."""
        return np.asarray(np.maximum(0, features @ self.embedding[0] + self.embedding[1]))

    def probability(self, features: np.ndarray, seconds: np.ndarray) -> np.ndarray:
        """(n, width) and (n,) rising seconds to (n, drums) probabilities."""
        out = np.zeros((len(features), len(self.head[1])), np.float32)
        for begin in range(0, len(features), STRETCH):
            first, last = max(0, begin - AROUND), min(len(features), begin + STRETCH + AROUND)
            told = self._run(features[first:last], seconds[first:last])[begin - first :][:STRETCH]
            out[begin : begin + len(told)] = told
        return out

    def _run(self, x: np.ndarray, seconds: np.ndarray) -> np.ndarray:
        away = np.log1p(np.abs(seconds[:, None] - seconds) / 0.1).astype(np.float32)
        for layer in self.layers:
            x = x + _looked(_even(x, layer.gain, layer.offset), away, layer)
            y = _even(x, layer.gain2, layer.offset2)
            x = x + np.maximum(0, y @ layer.wide + layer.wide_bias) @ layer.narrow + layer.narrow_bias
        odds = _even(x, *self.output) @ self.head[0] + self.head[1]
        return np.asarray(1 / (1 + np.exp(-np.clip(odds, -30, 30))))


def _even(x: np.ndarray, gain: np.ndarray, offset: np.ndarray) -> np.ndarray:
    middle = x - x.mean(axis=1, keepdims=True)
    return np.asarray(middle / np.sqrt((middle**2).mean(axis=1, keepdims=True) + 1e-5) * gain + offset)


def _looked(x: np.ndarray, away: np.ndarray, layer: Layer) -> np.ndarray:
    heads, width = len(layer.lean), x.shape[1]
    query, key, value = (x @ layer.ask).reshape(len(x), 3, heads, width // heads).transpose(1, 2, 0, 3)
    # In place: most of the time is spent here.
    weight = (query / np.float32(np.sqrt(width // heads))) @ key.transpose(0, 2, 1)
    weight -= layer.lean[:, None, None] * away
    weight -= weight.max(axis=2, keepdims=True)
    np.exp(weight, out=weight)
    seen = (weight @ value) / weight.sum(axis=2, keepdims=True)
    return np.asarray(seen.transpose(1, 0, 2).reshape(len(x), width) @ layer.answer)


@dataclass(frozen=True, eq=False)
class AttentionEnsemble:
    """Networks trained separately; their mean is better than each, since their errors differ."""

    members: tuple[AttentionNet, ...]

    def embed(self, features: np.ndarray) -> np.ndarray:
        """(n, features) of strokes to (n, members, width), the part that has to be kept."""
        return np.stack([member.embed(features) for member in self.members], axis=1)

    def probability(self, features: np.ndarray, seconds: np.ndarray) -> np.ndarray:
        """(n, members, width) and (n,) rising seconds to (n, drums) mean probabilities of the members."""
        told = [member.probability(features[:, k], seconds) for k, member in enumerate(self.members)]
        return np.asarray(np.mean(told, axis=0))


def from_arrays(arrays: dict[str, np.ndarray]) -> AttentionEnsemble:
    """The networks from the arrays of a model file: net0_take, net0_take_bias, net0_layer0_gain ..., net1_take ..."""
    count = sum(name.endswith("_take") for name in arrays)
    own = [{n.removeprefix(f"net{k}_"): a for n, a in arrays.items() if n.startswith(f"net{k}_")} for k in range(count)]
    return AttentionEnsemble(tuple(_member(each) for each in own))


def _member(arrays: dict[str, np.ndarray]) -> AttentionNet:
    flat = {name: np.asarray(array, np.float32) for name, array in arrays.items()}
    count = sum(name.endswith("_ask") for name in flat)
    names = list(Layer.__dataclass_fields__)
    return AttentionNet(
        (flat["take"], flat["take_bias"]),
        tuple(Layer(*(flat[f"layer{i}_{name}"] for name in names)) for i in range(count)),
        (flat["tell"], flat["tell_bias"]),
        (flat["gain"], flat["offset"]),
    )
