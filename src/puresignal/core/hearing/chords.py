"""Several notes at once to notes, and to the names of chords.

Between two beginnings the spectrum is averaged, and notes are taken out of it one after the other: the one
whose harmonics hold most, then what it explains is removed, and so on (A. Klapuri, Multiple fundamental
frequency estimation based on harmonicity and spectral smoothness, 2003).
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from puresignal.core.hearing import frames
from puresignal.core.hearing.frames import Onsets
from puresignal.core.hearing.heard import Heard, velocities

RATE, HOP, SIZE = 22_050, 512, 8192
LOWEST, HIGHEST = 28, 98
HARMONICS = 10
MOST = 6
STEP = HOP / RATE


@dataclass(frozen=True, eq=False)
class ChordAnalysis:
    """spectra (frames, bins), evenly whitened; raw the same as they were; level dB; onsets; samples."""

    spectra: np.ndarray
    raw: np.ndarray
    level: np.ndarray
    onsets: Onsets
    samples: np.ndarray


@dataclass(frozen=True)
class ChordSettings:
    """eagerness 0..1; shortest note s; range in MIDI numbers."""

    eagerness: float = 0.5
    shortest: float = 0.08
    low: int = LOWEST
    high: int = HIGHEST


def analyse(samples: np.ndarray) -> ChordAnalysis:
    """samples: (n,) at RATE."""
    flat = frames.mono(samples)
    raw = frames.spectra(flat, SIZE, HOP)
    weights = frames.bands(RATE, SIZE, 30, 50.0, 10_000.0)
    # Each band as strong as the others, by a root: what is soft and high counts, and noise does not drown it.
    power = np.sqrt(raw**2 @ weights) + 1e-5
    spread = weights / (weights.sum(axis=1, keepdims=True) + 1e-9)
    white = raw * ((power ** (-0.67)) @ spread.T)
    level = frames.decibels(frames.loudness(flat, HOP, 2 * HOP))[: len(raw)]
    quick = frames.spectra(flat, 1024, 220)
    return ChordAnalysis(white.astype(np.float32), raw, level, frames.onsets(quick, RATE, 1024, 220, 40, 60.0), flat)


def _weights() -> tuple[np.ndarray, np.ndarray]:
    """For each note and harmonic its first and last bin, and its weight."""
    notes = np.arange(LOWEST, HIGHEST + 1)
    pitch = 440 * 2 ** ((notes - 69) / 12)
    h = np.arange(1, HARMONICS + 1)
    # Strings are a little stiff, so high harmonics are a little sharp.
    centre = pitch[:, None] * h * np.sqrt(1 + 0.0003 * h**2) * SIZE / RATE
    return centre, (pitch[:, None] + 27) / (h * pitch[:, None] + 320)


_CENTRE, _WEIGHT = _weights()


def _peaks(spectrum: np.ndarray, centre: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Strength and place of the strongest bin near each harmonic."""
    reach = np.maximum(1, np.rint(centre * 0.022)).astype(int)
    last = len(spectrum) - 2
    strength = np.zeros(centre.shape)
    place = np.zeros(centre.shape, int)
    for shift in range(-int(reach.max()), int(reach.max()) + 1):
        inside = np.abs(shift) <= reach
        at = np.clip(np.rint(centre).astype(int) + shift, 1, last)
        value = np.where(inside & (centre < last), spectrum[at], 0.0)
        better = value > strength
        strength, place = np.where(better, value, strength), np.where(better, at, place)
    return strength, place


def notes_in(spectrum: np.ndarray, settings: ChordSettings) -> list[tuple[int, float]]:
    """(note, salience) of the notes in a spectrum, strongest first."""
    left = spectrum.astype(np.float64).copy()
    allowed = np.arange(LOWEST, HIGHEST + 1)
    inside = (allowed >= settings.low) & (allowed <= settings.high)
    found: list[tuple[int, float]] = []
    first = 0.0
    for _ in range(MOST):
        strength, place = _peaks(left, _CENTRE)
        salience = (strength * _WEIGHT).sum(axis=1)
        # A note whose own fundamental and second harmonic are hardly there is the octave or twelfth of another.
        grounded = strength[:, 0] + strength[:, 1] + 0.5 * strength[:, 2] > 0.18 * strength.sum(axis=1)
        salience = np.where(inside & grounded, salience, 0)
        best = int(np.argmax(salience))
        value = float(salience[best])
        first = first or value
        if value <= (0.46 - 0.26 * settings.eagerness) * first or value < 1e-6:
            break
        found.append((int(allowed[best]), value / first))
        # What this note explains goes: each harmonic down to what its neighbours would have there.
        own = strength[best]
        smooth = np.minimum(own, np.convolve(np.pad(own, 1, mode="edge"), [0.3, 0.4, 0.3], "valid") * 1.1)
        for at, take in zip(place[best].tolist(), smooth.tolist(), strict=True):
            if take > 0:
                low, high = max(0, at - 3), min(len(left), at + 4)
                shape = left[low:high] / max(left[at], 1e-12)
                left[low:high] = np.maximum(0, left[low:high] - 0.92 * take * np.minimum(1, shape))
    return found


def decide(analysis: ChordAnalysis, settings: ChordSettings | None = None) -> Heard:
    """The notes, from what was analysed."""
    settings = settings or ChordSettings()
    if not len(analysis.raw):
        return Heard.empty()
    begins = analysis.onsets.peaks(0.3 + 0.6 * settings.eagerness, 0.06)
    begins = np.unique(np.round(frames.rises(analysis.samples, RATE, begins), 4))
    length = len(analysis.samples) / RATE
    loudest = float(np.quantile(analysis.level, 0.98))
    edges = [*begins.tolist(), length]
    rows: list[tuple[float, float, float, float, float]] = []
    sounding: dict[int, int] = {}
    for begin, end in pairwise(edges):
        if end - begin < 0.03:
            continue
        first = round((begin + 0.06) / STEP)
        last = max(first + 1, round(min(end - 0.06, begin + 0.4) / STEP))
        part = analysis.spectra[first:last]
        if not len(part):
            part = analysis.spectra[max(0, first - 1) : first + 1]
        near = analysis.level[max(0, first - 2) : last + 1]
        if not len(part) or not len(near) or near.max() < loudest - 45:
            continue
        here = notes_in(np.median(part, axis=0) if len(part) > 2 else part.mean(axis=0), settings)
        before = analysis.spectra[max(0, round((begin - 0.12) / STEP)) : max(1, round((begin - 0.05) / STEP))]
        for note, salience in here:
            now = _own(part, note)
            was = _own(before, note) if len(before) else 0.0
            if note in sounding and now < 1.25 * was:
                # It was there already and nothing was added: it goes on.
                i = sounding[note]
                rows[i] = (*rows[i][:1], end, *rows[i][2:])
                continue
            stop = _until(analysis, note, begin, end)
            sounding[note] = len(rows)
            rows.append((begin, stop, float(note), float(near.max()) + 8 * np.log10(max(salience, 0.05)), salience))
        sounding = {n: i for n, i in sounding.items() if rows[i][1] >= end - 0.05}
    if not rows:
        return Heard.empty()
    start, end_, pitch, level, salience_ = (np.array(c) for c in zip(*rows, strict=True))
    sure = np.clip(0.35 + 0.65 * salience_, 0, 1)
    found = Heard(start, end_, pitch, velocities(level), sure)
    return found.take(end_ - start >= settings.shortest)


def _own(part: np.ndarray, note: int) -> float:
    """How strongly a note's first harmonics sound in some frames."""
    if not len(part):
        return 0.0
    strength, _ = _peaks(part.mean(axis=0), _CENTRE[note - LOWEST : note - LOWEST + 1, :3])
    return float(strength.sum())


def _until(analysis: ChordAnalysis, note: int, begin: float, end: float) -> float:
    """When a note has died away, at the latest `end`."""
    first, last = round((begin + 0.05) / STEP), round(end / STEP)
    centre = _CENTRE[note - LOWEST, :2]
    bins = [slice(max(0, round(c) - 1), round(c) + 2) for c in centre.tolist() if c < SIZE // 2 - 2]
    own = np.array([sum(float(row[b].max()) for b in bins) for row in analysis.raw[first:last]])
    if len(own) < 3:
        return end
    gone = np.flatnonzero(own < 0.1 * own[:6].max())
    return begin + 0.05 + float(gone[0]) * STEP if len(gone) else end


QUALITIES = {
    "": (0, 4, 7), "m": (0, 3, 7), "dim": (0, 3, 6), "aug": (0, 4, 8), "7": (0, 4, 7, 10), "maj7": (0, 4, 7, 11),
    "m7": (0, 3, 7, 10), "sus4": (0, 5, 7), "sus2": (0, 2, 7), "6": (0, 4, 7, 9), "m6": (0, 3, 7, 9), "5": (0, 7),
}  # fmt: skip


def name_chord(notes: np.ndarray, weights: np.ndarray | None = None) -> str:
    """The likeliest name of notes that sound together; empty for fewer than two."""
    classes = np.zeros(12)
    weights = np.ones(len(notes)) if weights is None else weights
    np.add.at(classes, np.rint(notes).astype(int) % 12, weights)
    if np.count_nonzero(classes) < 2:
        return ""
    bass = int(np.rint(np.min(notes))) % 12
    names = ("C", "C♯", "D", "E♭", "E", "F", "F♯", "G", "A♭", "A", "B♭", "B")
    best, found = -np.inf, ""
    for root in range(12):
        for quality, steps in QUALITIES.items():
            tones = [(root + s) % 12 for s in steps]
            inside = classes[tones]
            score = inside.sum() - 1.1 * (classes.sum() - inside.sum()) - 0.9 * np.count_nonzero(inside == 0)
            score += 0.35 * (root == bass) - 0.06 * len(steps)
            if score > best:
                best, found = score, names[root] + quality
    return found
