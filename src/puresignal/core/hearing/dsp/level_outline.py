"""The level of a recording in the steps of its outline."""

from __future__ import annotations

import numpy as np

from puresignal.core.hearing.dsp import chunks
from puresignal.core.hearing.dsp.chunks import Source
from puresignal.core.hearing.sound_outline import PER_DB, STEP


def levels(source: Source, rate: int) -> np.ndarray:
    """(n,) level of a recording. rate: samples per second"""
    size, rest, parts = round(STEP * rate), np.zeros(0, np.float32), []
    for block in chunks.blocks(source):
        rest = np.concatenate([rest, block])
        whole = len(rest) // size * size
        parts.append(np.abs(rest[:whole].reshape(-1, size)).max(axis=1, initial=0.0))
        rest = rest[whole:]
    if len(rest):
        parts.append(np.abs(rest).max(keepdims=True))
    peak = np.concatenate(parts) if parts else np.zeros(0)
    # A step of the sample rate is no whole number of samples; the difference is made up for here.
    step = size / rate
    if step != STEP:
        places = np.arange(int(len(peak) * step / STEP)) * STEP / step
        peak = peak[np.minimum(len(peak) - 1, np.rint(places).astype(int))] if len(peak) else peak
    decibels = 20 * np.log10(np.maximum(peak, 1e-9))
    return np.clip(np.rint(255 + PER_DB * decibels), 0, 255).astype(np.uint8)
