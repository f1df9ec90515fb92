"""A small trained network, run in plain NumPy, and the frames it looks at."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing import frames
from puresignal.core.hearing.pieces import Source, excerpts


@dataclass(frozen=True, eq=False)
class Network:
    """Layers one after the other. mean, scale (inputs,); weights[i] (in, out), biases[i] (out,)."""

    mean: np.ndarray
    scale: np.ndarray
    weights: tuple[np.ndarray, ...]
    biases: tuple[np.ndarray, ...]

    def likely(self, rows: np.ndarray) -> np.ndarray:
        """(n, inputs) to (n, outputs) likelihoods 0..1."""
        x = np.clip((rows - self.mean) / self.scale, -5, 5).astype(np.float32)
        for weight, bias in zip(self.weights[:-1], self.biases[:-1], strict=True):
            x = np.maximum(0, x @ weight + bias)
        x = x @ self.weights[-1] + self.biases[-1]
        return np.asarray(1 / (1 + np.exp(-np.clip(x, -30, 30))))


def from_arrays(arrays: dict[str, np.ndarray]) -> Network:
    """A network from the arrays of a model file: mean, scale, weight0, bias0, weight1 ..."""
    count = sum(name.startswith("weight") for name in arrays)
    flat = {name: np.asarray(array, np.float32) for name, array in arrays.items()}
    return Network(
        flat["mean"], flat["scale"], tuple(flat[f"weight{i}"] for i in range(count)),
        tuple(flat[f"bias{i}"] for i in range(count)),
    )  # fmt: skip


@dataclass(frozen=True)
class Look:
    """What a network is shown of each moment: loudness by band, in short and long windows, at moments around it.

    sizes    (window in samples, bands, lowest Hz, highest Hz) each
    offsets  frames from the moment
    """

    rate: int
    hop: int
    sizes: tuple[tuple[int, int, float, float], ...]
    offsets: tuple[int, ...]

    @property
    def inputs(self) -> int:
        return sum(size[1] for size in self.sizes) * len(self.offsets)

    def _power(self, samples: np.ndarray, hop: int) -> np.ndarray:
        flat = np.asarray(samples, np.float32)
        parts = []
        for size, count, low, high in self.sizes:
            magnitudes = frames.spectra(flat, size, hop)
            parts.append(magnitudes**2 @ frames.bands(self.rate, size, count, low, high))
        return np.concatenate(parts, axis=1)

    def loud(self, source: Source) -> float:
        """How loud the loud moments of a recording are."""
        parts = [self._power(part, 2 * self.hop).sum(axis=1) for part in excerpts(source)]
        return float(np.quantile(np.concatenate(parts), 0.97)) if parts else 0.0

    def levels(self, samples: np.ndarray, loud: float | None = None) -> np.ndarray:
        """(frames, bands) log10 of loudness against that of the loud moments; -4 where there is nothing."""
        loud = self.loud(samples) if loud is None else loud
        return np.asarray(0.5 * np.log10(self._power(samples, self.hop) / (loud + 1e-12) + 1e-8), np.float32)

    def rows(self, levels: np.ndarray, places: np.ndarray | None = None) -> np.ndarray:
        """(places, inputs): what is shown of each frame, or of all."""
        wanted = np.arange(len(levels)) if places is None else places
        at: np.ndarray = np.clip(wanted[:, None] + np.array(self.offsets), 0, max(0, len(levels) - 1))
        return np.asarray(levels[at].reshape(len(wanted), -1))

    def likely(self, network: Network, levels: np.ndarray) -> np.ndarray:
        """(frames, outputs), in blocks, so that memory stays bounded."""
        parts = [
            network.likely(self.rows(levels, np.arange(begin, min(len(levels), begin + 4096))))
            for begin in range(0, len(levels), 4096)
        ]
        return np.concatenate(parts) if parts else np.zeros((0, len(network.biases[-1])), np.float32)


def gathered(likely: np.ndarray, reach: int) -> np.ndarray:
    """How likely something begins within `reach` frames: what swells begins at no one moment, but it begins."""
    if not len(likely):
        return likely
    box = np.convolve(likely, np.ones(2 * reach + 1), "same") / TAUGHT_AREA
    # Where it is plain, the moment itself still stands out.
    return np.asarray(np.minimum(1.0, box) * 0.98 + 0.02 * likely)


TAUGHT_AREA = 2.5
"""The sum of what a network was taught about one beginning (bench/train_ear.py)."""


def peaks(likely: np.ndarray, limit: float, apart: int) -> np.ndarray:
    """Frames at which a likelihood has its peaks, as (n,) float with parts of frames; at least `apart` apart."""
    if len(likely) < 3:
        return np.zeros(0)
    smooth = likely.copy()
    smooth[1:-1] = 0.25 * likely[:-2] + 0.5 * likely[1:-1] + 0.25 * likely[2:]
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
    before, here, after = smooth[at - 1], smooth[at], smooth[at + 1]
    bend = before - 2 * here + after
    shift = np.where(np.abs(bend) > 1e-9, 0.5 * (before - after) / np.where(np.abs(bend) > 1e-9, bend, 1), 0)
    return np.asarray(at + np.clip(shift, -0.5, 0.5))
