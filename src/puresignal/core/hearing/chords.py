"""Several notes at once to notes, and to the names of chords.

A network says for every pitch how likely it sounds and begins at each moment (tones.py). A note begins where its
beginning peaks and it sounds after that, and lasts as long as it sounds (the onsets and frames of C. Hawthorne and
others, 2018, with a network small enough for NumPy).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.hearing import frames, tones
from puresignal.core.hearing.heard import Heard, velocities
from puresignal.core.hearing.network import Network, peaks

RATE, STEP = tones.RATE, tones.STEP
LOWEST, HIGHEST = tones.LOWEST, tones.HIGHEST


@dataclass(frozen=True, eq=False)
class ChordAnalysis:
    """The slow part, kept.

    likely   (frames, pitches, 2) how likely each pitch sounds, and begins
    own      (frames, pitches) decibels of each pitch's lowest harmonics
    level    (frames,) decibels; samples the sound itself, for the exact moment of a beginning
    """

    likely: np.ndarray
    own: np.ndarray
    level: np.ndarray
    samples: np.ndarray


@dataclass(frozen=True)
class ChordSettings:
    """eagerness 0..1; shortest note s; floor dB below the loudest; range in MIDI numbers."""

    eagerness: float = 0.5
    shortest: float = 0.08
    floor: float = 45.0
    low: int = LOWEST
    high: int = HIGHEST


def analyse(network: Network, samples: np.ndarray) -> ChordAnalysis:
    """samples: (n,) at RATE."""
    flat = frames.mono(samples)
    long, short = tones.levels(flat)
    first = LOWEST - tones.FIRST
    own = np.logaddexp(4.6 * short[:, first : first + tones.PITCHES], 4.6 * short[:, first + 12 :][:, : tones.PITCHES])
    level = frames.decibels(frames.loudness(flat, tones.HOP, 2 * tones.HOP))[: len(long)]
    return ChordAnalysis(tones.likely(network, long, short), (own * 10 / 2.3).astype(np.float32), level, flat)


def decide(analysis: ChordAnalysis, settings: ChordSettings | None = None) -> Heard:
    """The notes, from what was analysed."""
    settings = settings or ChordSettings()
    rows: list[tuple[float, float, float, float, float]] = []
    if not len(analysis.likely):
        return Heard.empty()
    audible = analysis.level > np.quantile(analysis.level, 0.98) - settings.floor
    lean = 0.4 * (settings.eagerness - 0.5)
    for column in range(max(0, settings.low - LOWEST), min(tones.PITCHES, settings.high - LOWEST + 1)):
        sounds = np.where(audible, analysis.likely[:, column, 0], 0)
        if sounds.max() < 0.3:
            continue
        for first, last, sure in _notes(sounds, analysis.likely[:, column, 1], lean):
            loud = float(analysis.own[round(first) : round(first) + 6, column].max())
            rows.append((first * STEP, last * STEP, float(column + LOWEST), loud, sure))
    if not rows:
        return Heard.empty()
    start, end, pitch, level, sure_ = (np.array(c) for c in zip(*sorted(rows), strict=True))
    exact = frames.rises(analysis.samples, RATE, start)
    # Where the envelope as a whole tells of another beginning than this note's, the network's word stays.
    exact = np.where(np.abs(exact - start) < 0.045, exact, start)
    found = Heard(exact, np.maximum(end, exact + 0.03), pitch, velocities(level), sure_)
    found = found.take(found.end - found.start >= settings.shortest)
    return found.take(np.argsort(found.start, kind="stable"))


def _notes(sounds: np.ndarray, begins: np.ndarray, lean: float) -> list[tuple[float, float, float]]:
    """(first, last, sure) frames of one pitch's notes."""
    on = sounds > 0.45 - 0.5 * lean
    starts = [
        p for p in peaks(begins, 0.3 - 0.5 * lean, 3).tolist() if sounds[round(p) : round(p) + 5].mean() > 0.35 - lean
    ]
    edges = np.flatnonzero(np.diff(np.concatenate([[0], on.astype(np.int8), [0]])))
    for first, last in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
        # What swells has no beginning to speak of; where it sounds for long, it is a note all the same.
        if (
            last - first >= 6
            and sounds[first:last].mean() > 0.7 - lean
            and not any(first - 4 <= s < last for s in starts)
        ):
            starts.append(float(first))
    starts.sort()
    notes = []
    for i, start in enumerate(starts):
        until = starts[i + 1] if i + 1 < len(starts) else len(sounds)
        begin = round(start)
        quiet = np.flatnonzero(sounds[begin + 2 : round(until)] < 0.3)
        # A moment's doubt is no end.
        ends = [q for q in quiet.tolist() if sounds[begin + 2 + q : begin + 4 + q].max() < 0.3]
        end = float(begin + 2 + ends[0]) if ends else float(until)
        sure = 0.5 * float(begins[max(0, begin - 1) : begin + 2].max()) + 0.5 * float(sounds[begin : begin + 8].mean())
        notes.append((start, end, sure))
    return notes


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
