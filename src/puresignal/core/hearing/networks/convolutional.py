"""A small convolutional network in NumPy, and the spectrogram it looks at.

First two-dimensional convolutions over time and frequency, then a layer across all bands, then convolutions along
time with growing dilation and residual connections.

Source  temporal convolutions: S. Bai and others, An empirical evaluation of generic convolutional networks for
        sequence modeling, 2018
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view

from puresignal.core.hearing.dsp import spectra
from puresignal.core.hearing.dsp.chunks import Source, excerpts

BATCH, PATCHED = 1024, 128
"""Frames processed at once, which bounds the memory; and in two-dimensional layers, which keeps them in the cache."""


@dataclass(frozen=True)
class LogSpectrogram:
    """Log spectrogram with windows of several sizes.

    rate, hop    of the sound; bands: between low and high Hz; sizes: of the windows, in samples
    seldom       window size from which only every other frame is computed, the rest interpolated
    """

    rate: int
    hop: int
    bands: int
    low: float
    high: float
    sizes: tuple[int, ...]
    seldom: int = 1 << 30

    def bands_of(self, size: int) -> spectra.Bands:
        """The bands in the spectrum of a window size."""
        return spectra.used_bands(self.rate, size, self.bands, self.low, self.high)

    def _power(self, samples: np.ndarray, hop: int) -> np.ndarray:
        flat = np.asarray(samples, np.float32)
        return np.stack([spectra.powers(flat, size, hop, self.bands_of(size))[0] for size in self.sizes], axis=2)

    def loud(self, source: Source) -> np.ndarray:
        """(sizes,) level of the loud moments of a recording."""
        return self.loud_of([self.loudness(part) for part in excerpts(source)])

    def loudness(self, samples: np.ndarray) -> np.ndarray:
        """(moments, sizes) levels of an excerpt."""
        return np.asarray(self._power(samples, 2 * self.hop).sum(axis=1))

    def loud_of(self, parts: list[np.ndarray]) -> np.ndarray:
        """(sizes,) level of the loud moments among some excerpts."""
        return np.quantile(np.concatenate(parts), 0.97, axis=0) if parts else np.zeros(len(self.sizes))

    def levels(
        self, samples: np.ndarray, loud: np.ndarray | None = None, known: dict[int, np.ndarray] | None = None
    ) -> np.ndarray:
        """(frames, bands, sizes) log10 level relative to the loud moments; -4 for silence.

        known  band powers by window size, if already computed
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
        """The levels for windows of one size."""
        return np.asarray(0.5 * np.log10(power / (loud + 1e-12) + 1e-8), np.float32)


@dataclass(frozen=True, eq=False)
class ConvNet:
    """The network.

    mean, scale  (sizes,) normalisation of the spectrogram
    conv2d       (moments, bands, in, out) and (out,) of each two-dimensional layer; after each, bands are halved
    dense        (bands * in, out) and (out,)
    conv1d       (moments, in, out), (out,) and dilation in frames of each layer along time
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
        """Frames of context before and after a moment."""
        return sum(len(w) // 2 for w, _ in self.conv2d) + sum(len(w) // 2 * dilation for w, _, dilation in self.conv1d)

    def probability(self, levels: np.ndarray) -> np.ndarray:
        """(frames, bands, sizes) spectrogram to (frames, outputs) probabilities."""
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
            # Maximum over pairs of bands first: bias and ReLU afterwards give the same, on half as many values.
            x = _patches(x, weight)
            x = _above(np.maximum(x[:, 0::2], x[:, 1::2]), bias)
        weight, bias = self.dense
        return _above(x.reshape(len(x), -1) @ weight, bias)


def _above(x: np.ndarray, bias: np.ndarray) -> np.ndarray:
    """ReLU of x plus bias, in place."""
    x += bias
    return np.asarray(np.maximum(x, 0, out=x))


def _patches(x: np.ndarray, weight: np.ndarray) -> np.ndarray:
    """(moments, bands, in) to (moments, bands, out), zero padding."""
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
