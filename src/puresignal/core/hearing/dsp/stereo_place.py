"""Where in the stereo picture each note of a recording stands: by how loud its partials are on either side."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np

PARTIALS = 4
LOOK_SECONDS = 0.4
"""Seconds of a note that are looked at; those of a stroke are fewer."""
STROKE_SECONDS = 0.06
UNKNOWN = 0.0


def places(blocks: Iterable[np.ndarray], rate: int, notes: Sequence[tuple[float, float, float]]) -> list[float]:
    """(notes,) places from -1, left, to 1, right; the middle for what is mono or silent.

    blocks  (samples, channels) one behind the other, at a rate
    notes   (start, end, frequency in Hz, or 0 for a stroke without a pitch), by rising start
    """
    found = [UNKNOWN] * len(notes)
    waiting = list(enumerate(notes))
    held, begin = np.zeros((0, 2), np.float32), 0
    for block in blocks:
        if block.shape[1] < 2:
            return found
        held = np.concatenate([held, block[:, :2]])
        until = begin + len(held)
        while waiting and _last(waiting[0][1], rate) <= until:
            number, note = waiting.pop(0)
            found[number] = _place(held, begin, rate, note)
        if not waiting:
            break
        first = max(0, min(int(waiting[0][1][0] * rate), until) - begin)
        held, begin = held[first:], begin + first
    for number, note in waiting:
        found[number] = _place(held, begin, rate, note)
    return found


def _long(note: tuple[float, float, float]) -> float:
    start, end, pitch = note
    return min(max(0.03, end - start), LOOK_SECONDS) if pitch else STROKE_SECONDS


def _last(note: tuple[float, float, float], rate: int) -> int:
    return int((note[0] + _long(note)) * rate) + 1


def _place(held: np.ndarray, begin: int, rate: int, note: tuple[float, float, float]) -> float:
    first = max(0, int(note[0] * rate) - begin)
    piece = held[first : max(first + 1, _last(note, rate) - begin)].astype(np.float64)
    if not len(piece):
        return UNKNOWN
    if note[2]:
        window = np.hanning(len(piece) + 2)[1:-1, None]
        turns = np.arange(len(piece)) * (2 * np.pi * note[2] / rate)
        partials = [k for k in range(1, PARTIALS + 1) if k * note[2] < 0.45 * rate]
        sides = np.array([np.abs((piece * window * np.exp(-1j * k * turns)[:, None]).sum(axis=0)) for k in partials])
        loud = sides.sum(axis=1)
        if not loud.sum() > 1e-9:
            return UNKNOWN
        # A partial that another note shares is out of line: the middle one of them counts, by how loud they are.
        each = (sides[:, 1] - sides[:, 0]) / np.maximum(loud, 1e-12)
        order = np.argsort(each)
        middle = int(np.searchsorted(np.cumsum(loud[order]), loud.sum() / 2))
        return float(round(each[order[min(middle, len(order) - 1)]], 3))
    left, right = np.sqrt((piece**2).sum(axis=0)).tolist()
    return UNKNOWN if left + right < 1e-9 else float(round((right - left) / (right + left), 3))
