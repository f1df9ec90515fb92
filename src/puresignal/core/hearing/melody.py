"""One voice to notes: several pitch candidates a frame, a path through them, notes from the path.

Candidates are the dips of the cumulative mean normalised difference (A. de Cheveigne and H. Kawahara,
YIN, 2002); the path is the cheapest through them, with silence as one more candidate, as in the
probabilistic YIN of M. Mauch and S. Dixon (2014). Notes are the cheapest staircase under the path: a
vibrato does not pay for steps, a new note does.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from puresignal.core.hearing import frames
from puresignal.core.hearing.frames import Onsets
from puresignal.core.hearing.heard import Heard, velocities

RATE, HOP, SIZE = 22_050, 220, 2048
LOWEST, HIGHEST = 40.0, 2200.0
CANDIDATES = 5
STEP = HOP / RATE


@dataclass(frozen=True, eq=False)
class MelodyAnalysis:
    """The slow part, kept.

    pitch    (frames, CANDIDATES) semitones of the candidates, NaN where there are fewer
    dip      (frames, CANDIDATES) how imperfect their periods are, 0 .. 1
    level    (frames,) decibels
    onsets   evidence for beginnings
    samples  the sound itself, for the exact moment of a beginning
    """

    pitch: np.ndarray
    dip: np.ndarray
    level: np.ndarray
    onsets: Onsets
    samples: np.ndarray


@dataclass(frozen=True)
class MelodySettings:
    """eagerness 0..1; shortest note s; floor dB below the loudest; range in MIDI numbers."""

    eagerness: float = 0.5
    shortest: float = 0.07
    floor: float = 38.0
    low: float = 28.0
    high: float = 96.0


def analyse(samples: np.ndarray) -> MelodyAnalysis:
    """samples: (n,) at RATE."""
    flat = frames.mono(samples)
    pitch, dip = _candidates(flat)
    level = frames.decibels(frames.loudness(flat, HOP, 2 * HOP))[: len(pitch)]
    magnitudes = frames.spectra(flat, 1024, HOP)
    return MelodyAnalysis(pitch, dip, level, frames.onsets(magnitudes, RATE, 1024, HOP, 36, 80.0), flat)


def _candidates(samples: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    longest, shortest = int(RATE / LOWEST), max(2, int(RATE / HIGHEST))
    padded = np.pad(samples, (SIZE // 2, SIZE + longest))
    count = 1 + len(samples) // HOP
    view = np.lib.stride_tricks.sliding_window_view(padded, SIZE)[::HOP][:count]
    pitch = np.full((len(view), CANDIDATES), np.nan)
    dip = np.ones((len(view), CANDIDATES))
    half = SIZE - longest
    size = 1 << (SIZE + half - 1).bit_length()
    for begin in range(0, len(view), 256):
        block = view[begin : begin + 256].astype(np.float64)
        spectrum = np.fft.rfft(block, size)
        head = np.fft.rfft(block[:, :half], size)
        # Correlation of the first part with the whole, for every lag at once.
        correlation = np.fft.irfft(spectrum * np.conj(head), size)[:, : longest + 1]
        power = np.cumsum(np.pad(block**2, ((0, 0), (1, 0))), axis=1)
        lags = np.arange(longest + 1)
        energy = power[:, lags + half] - power[:, lags]
        difference = np.maximum(0, energy[:, :1] + energy - 2 * correlation)
        total = np.cumsum(difference[:, 1:], axis=1)
        mean = np.ones_like(difference)
        mean[:, 1:] = difference[:, 1:] * lags[1:] / np.maximum(total, 1e-12)
        _pick(mean, shortest, pitch[begin : begin + 256], dip[begin : begin + 256])
    return pitch, dip


def _pick(mean: np.ndarray, shortest: int, pitch: np.ndarray, dip: np.ndarray) -> None:
    """The deepest dips of each row, into `pitch` and `dip`; between lags by a parabola."""
    inner = mean[:, 1:-1]
    low = (inner < mean[:, :-2]) & (inner <= mean[:, 2:]) & (inner < 0.7)
    low[:, : shortest - 1] = False
    # A longer period fits as well as the true one, so each octave down must fit a little better.
    lags = np.arange(1, mean.shape[1] - 1)
    cost = np.where(low, inner + 0.04 * np.log2(lags / shortest), np.inf)
    order = np.argsort(cost, axis=1)[:, :CANDIDATES]
    rows = np.arange(len(mean))[:, None]
    found = np.isfinite(cost[rows, order])
    lag = order + 1
    before, here, after = mean[rows, lag - 1], mean[rows, lag], mean[rows, lag + 1]
    bend = before - 2 * here + after
    shift = np.where(np.abs(bend) > 1e-9, 0.5 * (before - after) / np.where(np.abs(bend) > 1e-9, bend, 1), 0)
    exact = lag + np.clip(shift, -0.5, 0.5)
    pitch[:] = np.where(found, 69 + 12 * np.log2(RATE / exact / 440), np.nan)
    dip[:] = np.where(found, np.clip(here, 0, 1) + 0.04 * np.log2(lag / shortest), 1)


def track(analysis: MelodyAnalysis, settings: MelodySettings) -> np.ndarray:
    """(frames,) semitones, NaN where nobody sings: the cheapest path through the candidates and silence."""
    pitch = analysis.pitch
    count = len(pitch)
    if not count:
        return np.zeros(0)
    inside = (pitch >= settings.low - 0.7) & (pitch <= settings.high + 0.7)
    quiet = analysis.level < np.quantile(analysis.level, 0.98) - settings.floor
    voiced = np.where(inside, analysis.dip * 2.2, np.inf)
    voiced[quiet] = np.inf
    silent = np.where(quiet, 0.0, 0.75 + 0.5 * settings.eagerness)
    cost = np.column_stack([voiced, silent])
    here = np.where(np.isnan(pitch), 0, pitch)
    best = cost[0].copy()
    back = np.zeros((count, CANDIDATES + 1), np.int8)
    step = np.empty((CANDIDATES + 1, CANDIDATES + 1))
    step[-1, :], step[:, -1], step[-1, -1] = 0.35, 0.35, 0.0
    for t in range(1, count):
        step[:-1, :-1] = np.minimum(2.0, 0.22 * np.abs(here[t - 1][:, None] - here[t][None, :]))
        total = best[:, None] + step
        back[t] = np.argmin(total, axis=0)
        best = total[back[t], np.arange(CANDIDATES + 1)] + cost[t]
        best = np.minimum(best, 1e6)
    state = int(np.argmin(best))
    out = np.full(count, np.nan)
    for t in range(count - 1, -1, -1):
        if state < CANDIDATES:
            out[t] = pitch[t, state]
        state = int(back[t, state])
    return out


def tuning(path: np.ndarray) -> float:
    """How far the player is tuned from concert pitch, in semitones, -0.5..0.5."""
    steady = path[1:][np.abs(np.diff(path)) < 0.15]
    if len(steady) < 8:
        return 0.0
    turn = np.exp(2j * np.pi * steady).mean()
    return float(np.angle(turn) / (2 * np.pi)) if np.abs(turn) > 0.15 else 0.0


def decide(analysis: MelodyAnalysis, settings: MelodySettings | None = None) -> Heard:
    """The notes, from what was analysed."""
    settings = settings or MelodySettings()
    path = track(analysis, settings)
    if not np.isfinite(path).any():
        return Heard.empty()
    path = path - tuning(path)
    notes = []
    strength = analysis.onsets.strength
    strong = analysis.onsets.peaks(0.35 + 0.5 * settings.eagerness, 0.05)
    marks = np.zeros(len(path))
    marks[np.clip(np.rint(strong / STEP).astype(int), 0, len(path) - 1)] = 1.0
    for begin, end in _runs(np.isfinite(path), round(0.03 / STEP)):
        part = path[begin:end].copy()
        gaps = np.isnan(part)
        part[gaps] = np.interp(np.flatnonzero(gaps), np.flatnonzero(~gaps), part[~gaps])
        for first, last, number in _staircase(part, marks[begin:end]):
            notes.append((begin + first, begin + last, number))
    notes = _articulated(notes, analysis, strong, settings)
    return _finish(notes, path, analysis, strength, settings)


def _runs(voiced: np.ndarray, bridge: int) -> list[tuple[int, int]]:
    """Stretches of voice, over gaps of up to `bridge` frames."""
    edges = np.flatnonzero(np.diff(np.concatenate([[0], voiced.astype(np.int8), [0]])))
    runs: list[tuple[int, int]] = []
    for begin, end in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
        if runs and begin - runs[-1][1] <= bridge:
            runs[-1] = (runs[-1][0], end)
        else:
            runs.append((begin, end))
    return runs


def _staircase(part: np.ndarray, marks: np.ndarray) -> list[tuple[int, int, int]]:
    """The cheapest staircase of semitones under a stretch of pitch: (first frame, one after the last, number)."""
    low, high = int(np.floor(part.min())) - 1, int(np.ceil(part.max())) + 1
    numbers = np.arange(low, high + 1)
    off = np.minimum(1.2, np.abs(part[:, None] - numbers[None, :])) ** 1.5
    best = off[0].copy()
    back = np.zeros(off.shape, np.int16)
    own = np.arange(len(numbers))
    for t in range(1, len(part)):
        price = 2.6 - 1.6 * marks[max(0, t - 3) : t + 4].max()
        cheapest = int(np.argmin(best))
        change = best[cheapest] + price
        stays = best <= change
        back[t] = np.where(stays, own, cheapest)
        best = np.where(stays, best, change) + off[t]
    state = int(np.argmin(best))
    states = np.empty(len(part), np.int64)
    for t in range(len(part) - 1, -1, -1):
        states[t] = state
        state = int(back[t, state])
    cuts = np.flatnonzero(np.diff(states)) + 1
    edges = [0, *cuts.tolist(), len(part)]
    return [(a, b, int(numbers[states[a]])) for a, b in pairwise(edges)]


def _articulated(
    notes: list[tuple[int, int, int]], analysis: MelodyAnalysis, strong: np.ndarray, settings: MelodySettings
) -> list[tuple[int, int, int]]:
    """Notes struck or sung again at one pitch are parted where something begins and the level says so."""
    level = analysis.level
    out = []
    places = np.rint(strong / STEP).astype(int)
    for first, last, number in notes:
        inside = [p for p in places.tolist() if first + 0.06 / STEP < p < last - 0.05 / STEP]
        begin = first
        for p in inside:
            before = level[max(first, p - round(0.05 / STEP)) : p + 1].min()
            after = level[p : p + round(0.06 / STEP)].max()
            if after - before > 3.4 - 2.4 * settings.eagerness and (p - begin) * STEP > 0.06:
                out.append((begin, p, number))
                begin = p
        out.append((begin, last, number))
    return out


def _finish(
    notes: list[tuple[int, int, int]], path: np.ndarray, analysis: MelodyAnalysis, strength: np.ndarray,
    settings: MelodySettings,
) -> Heard:  # fmt: skip
    """Exact beginnings, loudness, and how sure each note is; what is too short or hardly there is left out."""
    kept = [n for n in notes if (n[1] - n[0]) * STEP >= 0.6 * settings.shortest]
    if not kept:
        return Heard.empty()
    begins = np.array([n[0] for n in kept]) * STEP
    ends = np.array([n[1] for n in kept]) * STEP
    strong = analysis.onsets.peaks(0.8, 0.03)
    moments = begins.copy()
    for i, begin in enumerate(begins.tolist()):
        near = strong[np.abs(strong - begin) < 0.06] if len(strong) else strong
        if len(near):
            moments[i] = near[int(np.argmin(np.abs(near - begin)))]
    exact = frames.rises(analysis.samples, RATE, moments)
    for i in range(1, len(exact)):
        exact[i] = max(exact[i], exact[i - 1] + 0.02)
        ends[i - 1] = min(ends[i - 1], exact[i]) if begins[i] - ends[i - 1] < 0.05 else ends[i - 1]
    ends = np.maximum(ends, exact + 0.03)
    level = np.array([analysis.level[n[0] : max(n[0] + 1, min(n[1], n[0] + round(0.2 / STEP)))].max() for n in kept])
    steady = np.array([np.nanmean(np.abs(path[n[0] : n[1]] - n[2]) < 0.6) if n[1] > n[0] else 0.0 for n in kept])
    length = ends - exact
    sure = np.clip(0.25 + 0.45 * steady + 0.3 * np.minimum(1, length / 0.15), 0, 1)
    sure *= np.clip(1 - (np.quantile(level, 0.9) - level - 24) / 20, 0.3, 1)
    enough = (length >= settings.shortest) & (sure >= 0.62 - 0.4 * settings.eagerness)
    pitch = np.array([n[2] for n in kept], float)
    return Heard(exact, ends, pitch, velocities(level), sure).take(enough)
