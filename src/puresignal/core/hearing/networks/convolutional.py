"""A small network of convolutions, run in plain NumPy, and the picture of sound that it looks at.

First it looks at small patches of the picture (moments by bands), then across all bands, then along time, further and
further apart, each layer adding to the one before it (temporal convolutions: S. Bai and others, An empirical
evaluation of generic convolutional networks for sequence modeling, 2018).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view

from puresignal.core.hearing.dsp import spectra
from puresignal.core.hearing.dsp.chunks import Source, excerpts

BATCH, PATCHED = 1024, 128
"""Frames worked on at once: bounds the memory, whatever the length. And in patches, which then stay in the cache."""


@dataclass(frozen=True)
class LogSpectrogram:
    """Loudness by moment and band, in windows of several sizes.

    rate, hop    of the sound; bands  between low and high Hz; sizes  of the windows, in samples
    seldom       the size from which on windows are worked out for every other frame alone, and by cubics between
    """

    rate: int
    hop: int
    bands: int
    low: float
    high: float
    sizes: tuple[int, ...]
    seldom: int = 1 << 30

    def bands_of(self, size: int) -> spectra.Bands:
        """The bands in the spectrum of a window."""
        return spectra.used_bands(self.rate, size, self.bands, self.low, self.high)

    def _power(self, samples: np.ndarray, hop: int) -> np.ndarray:
        flat = np.asarray(samples, np.float32)
        return np.stack([spectra.powers(flat, size, hop, self.bands_of(size))[0] for size in self.sizes], axis=2)

    def loud(self, source: Source) -> np.ndarray:
        """(sizes,) how loud the loud moments of a recording are."""
        return self.loud_of([self.loudness(part) for part in excerpts(source)])

    def loudness(self, samples: np.ndarray) -> np.ndarray:
        """(moments, sizes) of an excerpt."""
        return np.asarray(self._power(samples, 2 * self.hop).sum(axis=1))

    def loud_of(self, parts: list[np.ndarray]) -> np.ndarray:
        """(sizes,) how loud the loud moments among those of some excerpts are."""
        return np.quantile(np.concatenate(parts), 0.97, axis=0) if parts else np.zeros(len(self.sizes))

    def levels(
        self, samples: np.ndarray, loud: np.ndarray | None = None, known: dict[int, np.ndarray] | None = None
    ) -> np.ndarray:
        """(frames, bands, sizes) log10 of loudness against that of the loud moments; -4 where there is nothing.

        known  powers in the bands of windows that were worked out before, by their size
        """
        flat, loud = np.asarray(samples, np.float32), self.loud(samples) if loud is None else loud
        count = 1 + len(flat) // self.hop
        out = np.empty((count, self.bands, len(self.sizes)), np.float32)
        for k, size in enumerate(self.sizes):
            hop = self.hop * (2 if size >= self.seldom else 1)
            power = (known or {}).get(size)
            power = spectra.powers(flat, size, hop, self.bands_of(size))[0] if power is None else power
            own = self._against(power, loud[k])
            out[:, :, k] = spectra.with_those_between(own, count) if size >= self.seldom else own
        return out

    def _against(self, power: np.ndarray, loud: np.ndarray) -> np.ndarray:
        """The levels of windows of one size."""
        return np.asarray(0.5 * np.log10(power / (loud + 1e-12) + 1e-8), np.float32)


@dataclass(frozen=True, eq=False)
class ConvNet:
    """The network.

    mean, scale  (sizes,) what is taken from the picture, and what it is divided by
    planes       (moments, bands, in, out) and (out,) of each layer of patches; after each, bands are halved
    across       (bands * in, out) and (out,)
    along        (moments, in, out), (out,) and how many frames apart, of each layer along time
    out          (in, outputs) and (outputs,)
    """

    mean: np.ndarray
    scale: np.ndarray
    conv2d: tuple[tuple[np.ndarray, np.ndarray], ...]
    dense: tuple[np.ndarray, np.ndarray]
    conv1d: tuple[tuple[np.ndarray, np.ndarray, int], ...]
    out: tuple[np.ndarray, np.ndarray]

    @property
    def reach(self) -> int:
        """Frames before and after a moment that bear on it."""
        return sum(len(w) // 2 for w, _ in self.conv2d) + sum(len(w) // 2 * dilation for w, _, dilation in self.conv1d)

    def probability(self, levels: np.ndarray) -> np.ndarray:
        """(frames, bands, sizes) of a picture to (frames, outputs) likelihoods 0..1."""
        reach, parts = self.reach, []
        for begin in range(0, len(levels), BATCH):
            first, last = max(0, begin - reach), min(len(levels), begin + BATCH + reach)
            parts.append(self._run(levels[first:last])[begin - first :][:BATCH])
        return np.concatenate(parts) if parts else np.zeros((0, len(self.out[1])), np.float32)

    def _run(self, levels: np.ndarray) -> np.ndarray:
        reach = sum(len(w) // 2 for w, _ in self.conv2d)
        parts = []
        for begin in range(0, len(levels), PATCHED):
            first = max(0, begin - reach)
            parts.append(self._dense(levels[first : begin + PATCHED + reach])[begin - first :][:PATCHED])
        x = np.concatenate(parts)
        for weight, bias, dilation in self.conv1d:
            half = len(weight) // 2 * dilation
            padded = np.pad(x, ((half, half), (0, 0)))
            around = np.concatenate([padded[k * dilation : k * dilation + len(x)] for k in range(len(weight))], axis=1)
            x += _above(around @ weight.reshape(-1, weight.shape[2]), bias)
        weight, bias = self.out
        return np.asarray(1 / (1 + np.exp(-np.clip(x @ weight + bias, -30, 30))))

    def _dense(self, levels: np.ndarray) -> np.ndarray:
        x = np.asarray((levels - self.mean) / self.scale, np.float32)
        for weight, bias in self.conv2d:
            # Of two bands the greater: the bias and the floor after that are the same, and half as many.
            x = _patches(x, weight)
            x = _above(np.maximum(x[:, 0::2], x[:, 1::2]), bias)
        weight, bias = self.dense
        return _above(x.reshape(len(x), -1) @ weight, bias)


def _above(x: np.ndarray, bias: np.ndarray) -> np.ndarray:
    """x with its bias, nothing below 0; in place."""
    x += bias
    return np.asarray(np.maximum(x, 0, out=x))


def _patches(x: np.ndarray, weight: np.ndarray) -> np.ndarray:
    """(moments, bands, in) to (moments, bands, out), nothing beyond the edges."""
    tall, wide, inputs, outputs = weight.shape
    padded = np.pad(x, ((tall // 2, tall // 2), (wide // 2, wide // 2), (0, 0)))
    seen = sliding_window_view(padded, (tall, wide), axis=(0, 1)).transpose(0, 1, 3, 4, 2)
    flat = seen.reshape(x.shape[0] * x.shape[1], tall * wide * inputs)
    return np.asarray((flat @ weight.reshape(-1, outputs)).reshape(x.shape[0], x.shape[1], outputs))


def from_arrays(arrays: dict[str, np.ndarray]) -> ConvNet:
    """A network from the arrays of a model file: mean, scale, plane0, plane0_bias ..."""
    flat = {name: np.asarray(array, np.float32) for name, array in arrays.items()}
    conv2d = sum(name.startswith("plane") for name in flat) // 2
    return ConvNet(
        flat["mean"], flat["scale"],
        tuple((flat[f"plane{i}"], flat[f"plane{i}_bias"]) for i in range(conv2d)),
        (flat["across"], flat["across_bias"]),
        tuple((flat[f"along{i}"], flat[f"along{i}_bias"], int(dilation)) for i, dilation in enumerate(flat["apart"])),
        (flat["out"], flat["out_bias"]),
    )  # fmt: skip
