"""A small dense network in NumPy, and peak picking on network outputs."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing.dsp import yin


@dataclass(frozen=True, eq=False)
class Network:
    """Dense layers in sequence. mean, scale (inputs,); weights[i] (in, out), biases[i] (out,)."""

    mean: np.ndarray
    scale: np.ndarray
    weights: tuple[np.ndarray, ...]
    biases: tuple[np.ndarray, ...]

    def probability(self, rows: np.ndarray) -> np.ndarray:
        """(n, inputs) to (n, outputs) probabilities."""
        x = np.asarray(rows - self.mean, np.float32)
        x /= self.scale
        np.minimum(np.maximum(x, -5, out=x), 5, out=x)
        for layer, (weight, bias) in enumerate(zip(self.weights, self.biases, strict=True)):
            if layer:
                np.maximum(x, 0, out=x)
            x = x @ weight
            x += bias
        return np.asarray(1 / (1 + np.exp(-np.minimum(np.maximum(x, -30), 30))))


def from_arrays(arrays: dict[str, np.ndarray]) -> Network:
    """A network from the arrays of a model file: mean, scale, weight0, bias0, weight1 ..."""
    count = sum(name.startswith("weight") for name in arrays)
    flat = {name: np.ascontiguousarray(array, np.float32) for name, array in arrays.items()}
    return Network(
        flat["mean"], flat["scale"], tuple(flat[f"weight{i}"] for i in range(count)),
        tuple(flat[f"bias{i}"] for i in range(count)),
    )  # fmt: skip


def windowed_sum(probability: np.ndarray, reach: int) -> np.ndarray:
    """Probability of an onset within `reach` frames: a swelling sound has no single moment of onset, but it has one."""
    if not len(probability):
        return probability
    # Not "same", which is as long as the window where that is longer than a very short recording.
    box = np.convolve(probability, np.ones(2 * reach + 1))[reach : reach + len(probability)] / TAUGHT_AREA
    # A clear onset still peaks at its own frame.
    return np.asarray(np.minimum(1.0, box) * 0.98 + 0.02 * probability)


TAUGHT_AREA = 2.5
"""Sum of the training target over one onset (training/train_ear.py)."""


def peaks(probability: np.ndarray, limit: float, apart: int) -> np.ndarray:
    """(n,) fractional frames of the peaks of a probability, at least `apart` apart."""
    if len(probability) < 3:
        return np.zeros(0)
    smooth = probability.copy()
    smooth[1:-1] = 0.25 * probability[:-2] + 0.5 * probability[1:-1] + 0.25 * probability[2:]
    top = np.flatnonzero((smooth[1:-1] >= smooth[:-2]) & (smooth[1:-1] > smooth[2:]) & (smooth[1:-1] > limit)) + 1
    kept: list[int] = []
    for i in top.tolist():
        if not kept or i - kept[-1] >= apart:
            kept.append(i)
        elif smooth[i] > smooth[kept[-1]]:
            kept[-1] = i
    at = np.array(kept, int)
    if not len(at):
        return np.zeros(0)
    return np.asarray(at + yin.between(smooth[at - 1], smooth[at], smooth[at + 1]))
