"""Time stretching at constant pitch with sharp attacks, for close listening or for playing along at another tempo.

Source  phase vocoder with phase locking around peaks: J. Laroche and M. Dolson, Improved phase vocoder time-scale
        modification, 1999; at onsets time runs unstretched and phases are reset, after A. Roebel, A new approach to
        transient processing in the phase vocoder, 2003
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np

SIZE, HOP = 2048, 256
BEFORE, AFTER = 0.012, 0.035
"""Seconds around an onset in which time runs unstretched."""
LEAST, MOST = 0.25, 2.0


def time_map(length: float, factor: float, begins: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Breakpoints of the map from input seconds to output seconds; around each onset its slope is 1.

    factor  ratio of output length to input length
    """
    before, after = [0.0], [0.0]
    for at in begins.tolist():
        first, last = max(before[-1], at - BEFORE), min(length, at + AFTER)
        if last - first < BEFORE:
            continue
        # The onset itself lands in its proper place; the unstretched stretch is taken from around it.
        new_first = max(after[-1], at * factor - (at - first))
        new_last = new_first + (last - first)
        before += [first, last]
        after += [new_first, new_last]
    before.append(length)
    after.append(max(after[-1], length * factor))
    return np.array(before), np.array(after)


def stretch(samples: np.ndarray, rate: int, factor: float, begins: np.ndarray) -> np.ndarray:
    """(n,) or (n, channels) samples, `factor` times as long, at the same pitch.

    rate    samples per second
    factor  LEAST .. MOST; 2 is half speed
    begins  onsets in seconds
    Raises  ValueError for another factor
    """
    if not LEAST <= factor <= MOST:
        raise ValueError(f"a factor from {LEAST} to {MOST} is expected")
    sound = np.asarray(samples, np.float32)
    columns = sound[:, None] if sound.ndim == 1 else sound
    if factor == 1.0 or not len(columns):
        return sound.copy()
    goal = round(len(columns) * factor)
    old, new = time_map(len(columns) / rate, factor, np.sort(begins))
    at = np.arange(0, goal + HOP, HOP)
    # Of two breakpoints at one place the later counts.
    centre = np.interp(at / rate, new + 1e-9 * np.arange(len(new)), old) * rate
    fresh = np.zeros(len(at), bool)
    for first, last in pairwise(zip(old, new, strict=True)):
        if abs((last[0] - first[0]) - (last[1] - first[1])) < 1e-9 and last[0] > first[0]:
            fresh[np.searchsorted(at / rate, first[1])] = True
    out = np.stack([_one(columns[:, c], centre, fresh, goal) for c in range(columns.shape[1])], axis=1)
    return out[:, 0] if sound.ndim == 1 else out


def _one(sound: np.ndarray, centre: np.ndarray, fresh: np.ndarray, goal: int) -> np.ndarray:
    window = np.hanning(SIZE + 1)[:-1].astype(np.float32)
    padded = np.pad(sound, (SIZE, 2 * SIZE))
    out, weight = np.zeros(goal + 3 * SIZE, np.float32), np.zeros(goal + 3 * SIZE, np.float32)
    advance = 2 * np.pi * HOP * np.arange(SIZE // 2 + 1) / SIZE
    phase = np.zeros(len(advance))
    for i, place in enumerate(centre.tolist()):
        # padded[k] is sound[k - SIZE], so a window centred on `place` begins there plus half a window.
        begin = round(place) + SIZE // 2
        here = np.fft.rfft(padded[begin : begin + SIZE] * window)
        size, angle = np.abs(here), np.angle(here)
        if i == 0 or fresh[min(i, len(fresh) - 1)]:
            phase = angle
        else:
            before = np.fft.rfft(padded[max(0, begin - HOP) : max(0, begin - HOP) + SIZE] * window)
            moved = np.angle(here * np.conj(before)) - advance
            steps = advance + moved - 2 * np.pi * np.rint(moved / (2 * np.pi))
            phase = _locked(size, angle, phase + steps)
        frame = np.fft.irfft(size * np.exp(1j * phase)).astype(np.float32) * window
        start = i * HOP + SIZE // 2
        out[start : start + SIZE] += frame
        weight[start : start + SIZE] += window**2
    return np.asarray((out / np.maximum(weight, 0.1))[SIZE : SIZE + goal])


def _locked(size: np.ndarray, angle: np.ndarray, phase: np.ndarray) -> np.ndarray:
    """Phases around each peak rotated with the peak."""
    inner = size[2:-2]
    peak = (inner > size[1:-3]) & (inner >= size[3:-1]) & (inner > size[:-4]) & (inner >= size[4:])
    places = np.flatnonzero(peak) + 2
    if not len(places):
        return phase
    middles = (places[1:] + places[:-1] + 1) // 2
    own = places[np.searchsorted(middles, np.arange(len(size)), side="right")]
    return np.asarray(angle + (phase - angle)[own])
