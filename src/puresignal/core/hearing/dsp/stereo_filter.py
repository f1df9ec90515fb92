"""Extracts one place from a stereo picture."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator

import numpy as np

SIZE, HOP = 2048, 512
NEAR = 0.3
"""Distance in pan at which a sound is attenuated by half."""


def in_blocks(
    blocks: Iterable[np.ndarray], work: Callable[[np.ndarray], np.ndarray], margin: int
) -> Iterator[np.ndarray]:
    """Apply `work` block by block; each block gets `margin` extra samples on both sides."""
    before = held = None
    for block in blocks:
        if held is not None:
            yield _one_block(before, held, block[:margin], work, margin)
            before = held
        held = block
    if held is not None:
        yield _one_block(before, held, held[:0], work, margin)


def _one_block(
    before: np.ndarray | None, own: np.ndarray, after: np.ndarray, work: Callable[[np.ndarray], np.ndarray], margin: int
) -> np.ndarray:
    lead = own[:0] if before is None else before[-margin:]
    return work(np.concatenate([lead, own, after]))[len(lead) : len(lead) + len(own)]


def at_place(stereo: np.ndarray, pan: float) -> np.ndarray:
    """(n, 2) to (n,): the sound at `pan`, -1 left .. 1 right, selected by the balance in each part of the spectrum."""
    window = np.hanning(SIZE).astype(np.float32)
    length = len(stereo)
    padded = np.pad(stereo, ((SIZE, 2 * SIZE), (0, 0))).astype(np.float32)
    out = np.zeros(len(padded), np.float32)
    weight = np.zeros(len(padded), np.float32)
    for begin in range(0, len(padded) - SIZE, HOP):
        left, right = (np.fft.rfft(padded[begin : begin + SIZE, c] * window) for c in (0, 1))
        a, b = np.abs(left), np.abs(right)
        stands = (b - a) / np.maximum(a + b, 1e-9)
        mask = np.exp(-np.log(2) * ((stands - pan) / NEAR) ** 2)
        out[begin : begin + SIZE] += np.fft.irfft((left + right) * 0.5 * mask, SIZE).astype(np.float32) * window
        weight[begin : begin + SIZE] += window**2
    return np.asarray((out / np.maximum(weight, 1e-3))[SIZE : SIZE + length])


def above(samples: np.ndarray, rate: int, lowest: float) -> np.ndarray:
    """(n,) samples without anything below a frequency in Hz."""
    spectrum = np.fft.rfft(samples)
    frequency = np.maximum(1e-3, np.linspace(0, rate / 2, len(spectrum)))
    return np.asarray(np.fft.irfft(spectrum / (1 + (lowest / frequency) ** 8), len(samples)), np.float32)
