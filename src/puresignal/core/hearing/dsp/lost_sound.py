"""Sound in place of blocks that a busy machine lost, so that neither a click nor a silence is taken for playing."""

from __future__ import annotations

import numpy as np

CONTEXT = 1536
"""Samples before a gap that are worth keeping for it: two periods of a low voice at 48 kHz."""
LIKE = 192
"""Samples whose like is looked for."""
LEAST = 48
"""Shortest period in samples: repeating less than that buzzes."""


def filler(before: np.ndarray, after: np.ndarray, count: int) -> np.ndarray:
    """Samples between two parts of a sound: its last period repeated, faded into its next one.

    before, after  (n,) and (m,) float32, the parts that lie directly beside the gap
    Returns        (count,) float32
    Source         D. J. Goodman et al., Waveform substitution techniques for recovering missing speech segments in
                   packet voice communications, 1986
    """
    if count <= 0 or not len(before) or not len(after):
        return np.zeros(max(0, count), np.float32)
    period = _period(before[-CONTEXT:].astype(float))
    places, fade = np.arange(count), np.arange(1, count + 1) / (count + 1)
    forth = before[len(before) - period + places % period]
    if period <= len(after):
        made: np.ndarray = (1.0 - fade) * forth + fade * after[(places - count) % period]
        return made.astype(np.float32)
    # There is too little after it: then it is only led to where that begins.
    step = float(after[0]) - float(before[len(before) - period + count % period])
    most = max(float(np.abs(before[-CONTEXT:]).max()), float(np.abs(after).max()))
    return np.clip(forth + fade * step, -most, most).astype(np.float32)


def _period(samples: np.ndarray) -> int:
    """Samples back from the end to where it was most like now."""
    size = len(samples)
    if size < 2 * LIKE:
        return size
    last = samples[-LIKE:]
    earlier = np.lib.stride_tricks.sliding_window_view(samples[: size - LEAST], LIKE)
    energy = np.einsum("ij,ij->i", earlier, earlier)
    likeness = (earlier @ last) / np.sqrt(energy + 1e-12)
    return size - LIKE - int(likeness.argmax())
