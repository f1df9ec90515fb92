"""Several notes at once to notes, and to the names of chords.

A network says for every pitch how likely it sounds and begins at each moment (tones.py). A note begins where its
beginning peaks and it sounds after that, and lasts as long as it sounds (the onsets and frames of C. Hawthorne and
others, 2018, with a network small enough for NumPy).
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise

import numpy as np

from puresignal.core.hearing.dsp import spectra
from puresignal.core.hearing.dsp.chunks import Progress, Source, pieces
from puresignal.core.hearing.dsp.spectra import Envelope
from puresignal.core.hearing.networks import multipitch
from puresignal.core.hearing.networks.dense import Network, peaks
from puresignal.core.hearing.transcribed import TranscribedNotes, far_from_others, removal_reasons, velocities

RATE, STEP = multipitch.RATE, multipitch.STEP
SILENT, DOUBT = 0.2, 3
"""A note ends where it sounds less likely than this for so many frames."""
SURE, DOUBTED = 0.55, 0.12
"""What is less sure than this is no note, at the usual eagerness; what is by so little is proposed for removal."""
LOWEST, HIGHEST = multipitch.LOWEST, multipitch.HIGHEST


@dataclass(frozen=True, eq=False)
class ChordAnalysis:
    """The slow part, kept.

    likely   (frames, pitches, 2) how likely each pitch sounds, and begins
    own      (frames, pitches) decibels of each pitch's lowest harmonics
    level    (frames,) decibels; envelope for the exact moment of a beginning
    """

    probability: np.ndarray
    own: np.ndarray
    level: np.ndarray
    envelope: Envelope

    @cached_property
    def _columns(self) -> np.ndarray:
        return np.ascontiguousarray(self.probability.transpose(1, 2, 0), np.float32)

    def column(self, pitch: int) -> tuple[np.ndarray, np.ndarray]:
        """(frames,) float32 twice: how likely a pitch sounds, and begins."""
        if len(self.probability) <= REMEMBERED:
            return self._columns[pitch, 0], self._columns[pitch, 1]
        return self.probability[:, pitch, 0].astype(np.float32), self.probability[:, pitch, 1].astype(np.float32)


REMEMBERED = 30_000
"""Frames, ten minutes, up to which the columns are kept as they are needed for the next decision."""


@dataclass(frozen=True)
class ChordSettings:
    """eagerness 0..1; shortest note s; floor dB below the loudest; range in MIDI numbers."""

    sensitivity: float = 0.5
    shortest: float = 0.08
    floor: float = 45.0
    low: int = LOWEST
    high: int = HIGHEST


FINE_HOP, FINE_REACH = 22, 220


def analyse(network: Network, source: Source, progress: Progress | None = None) -> ChordAnalysis:
    """The network of tones.py; the recording at RATE, all at once or in blocks."""
    against = multipitch.loud(source)
    first = LOWEST - multipitch.FIRST
    parts: list[tuple[np.ndarray, ...]] = []
    for piece in pieces(source, progress):
        flat, mine = piece.samples, piece.frames(multipitch.HOP)
        long, short = multipitch.levels(flat, against)
        own = np.logaddexp(
            4.6 * short[:, first : first + multipitch.PITCHES], 4.6 * short[:, first + 12 :][:, : multipitch.PITCHES]
        )
        level = spectra.decibels(spectra.loudness(flat, multipitch.HOP, 2 * multipitch.HOP))
        envelope = spectra.envelope(flat, RATE, FINE_HOP, FINE_REACH).level[piece.frames(FINE_HOP)]
        probability = multipitch.probability(network, long, short)
        parts.append(
            (probability[mine].astype(np.float16), (own * 10 / 2.3)[mine].astype(np.float16), level[mine], envelope)
        )
    if not parts:
        nothing = np.zeros((0, multipitch.PITCHES), np.float16)
        return ChordAnalysis(nothing[:, :, None], nothing, np.zeros(0), Envelope(np.zeros(0), FINE_HOP / RATE))
    probability, own, level, fine = (np.concatenate(each) for each in zip(*parts, strict=True))
    return ChordAnalysis(probability, own, level, Envelope(fine, FINE_HOP / RATE))


def decide(analysis: ChordAnalysis, settings: ChordSettings | None = None) -> TranscribedNotes:
    """The notes, from what was analysed."""
    settings = settings or ChordSettings()
    rows: list[tuple[float, float, float, float, float]] = []
    if not len(analysis.probability):
        return TranscribedNotes.empty()
    audible = analysis.level > np.quantile(analysis.level, 0.98) - settings.floor
    lean = 0.4 * (settings.sensitivity - 0.5)
    for column in range(max(0, settings.low - LOWEST), min(multipitch.PITCHES, settings.high - LOWEST + 1)):
        sounds, begins = analysis.column(column)
        if sounds.max() < 0.3:
            continue
        for first, last, confidence in _notes(np.where(audible, sounds, np.float32(0)), begins, lean):
            loud = float(analysis.own[round(first) : round(first) + 6, column].max())
            rows.append((first * STEP, last * STEP, float(column + LOWEST), loud, confidence))
    if not rows:
        return TranscribedNotes.empty()
    start, end, pitch, level, sure_ = (np.array(c) for c in zip(*sorted(rows), strict=True))
    exact = analysis.envelope.rises(start)
    # Where the envelope as a whole tells of another beginning than this note's, the network's word stays.
    exact = np.where(np.abs(exact - start) < 0.045, exact, start)
    end = np.maximum(end, exact + 0.03)
    enough = SURE - 0.6 * lean
    far = far_from_others(pitch, exact, sure_) & (sure_ < enough + DOUBTED)
    # What is doubtful by itself is not worth showing when it is short as well.
    shown = (end - exact >= settings.shortest) | (sure_ >= enough)
    removal_reason = removal_reasons(end - exact < settings.shortest, np.zeros(len(end), bool), far, sure_ < enough)
    found = TranscribedNotes(exact, end, pitch, velocities(level), sure_, removal_reason).take(shown)
    return found.take(np.argsort(found.start, kind="stable"))


def _notes(sounds: np.ndarray, begins: np.ndarray, lean: float) -> list[tuple[float, float, float]]:
    """(first, last, sure) frames of one pitch's notes, also of those that are hardly sure enough."""
    on = sounds > 0.45 - 0.5 * lean
    sums = np.concatenate([[0.0], np.cumsum(sounds, dtype=np.float64)])

    def mean(first: int, last: int) -> float:
        last = min(last, len(sounds))
        return float(sums[last] - sums[first]) / max(1, last - first)

    starts = [p for p in peaks(begins, 0.3 - 0.5 * lean, 3).tolist() if mean(round(p), round(p) + 5) > 0.35 - lean]
    edges = np.flatnonzero(np.diff(np.concatenate([[0], on.astype(np.int8), [0]])))
    for first, last in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
        # What swells has no beginning to speak of; where it sounds for long, it is a note all the same.
        if last - first >= 6 and mean(first, last) > 0.7 - lean and not any(first - 4 <= s < last for s in starts):
            starts.append(float(first))
    if not starts:
        return []
    starts.sort()
    # A moment's doubt is no end.
    heard = np.concatenate([[0], np.cumsum(sounds >= SILENT)])
    ends = np.flatnonzero(heard[DOUBT:] == heard[:-DOUBT])
    notes = []
    for i, start in enumerate(starts):
        until = round(starts[i + 1]) if i + 1 < len(starts) else len(sounds)
        begin = round(start)
        next_ = int(np.searchsorted(ends, begin + 2))
        end = int(ends[next_]) if next_ < len(ends) and ends[next_] + DOUBT <= until else until
        plain = float(begins[max(0, begin - 1) : begin + 2].max())
        confidence = 0.4 * plain + 0.6 * mean(begin, begin + 8)
        if confidence > SURE - DOUBTED - 0.6 * lean:
            notes.append((start, float(end), confidence))
    return notes


def named(notes: TranscribedNotes) -> list[tuple[float, float, str]]:
    """(start, end, name) of the chords that notes make, one after the other; the same name again goes on."""
    out: list[tuple[float, float, str]] = []
    if not len(notes):
        return out
    starts = np.sort(notes.start)
    changes = starts[np.concatenate([[True], np.diff(starts) > TOGETHER])]
    for begin, end in pairwise([*changes.tolist(), float(notes.end.max())]):
        # What is struck a little later belongs to the chord as well.
        sounds = (notes.start < begin + TOGETHER) & (notes.end > begin + TOGETHER)
        name = name_chord(notes.pitch[sounds]) if sounds.any() else ""
        last = min(end, float(notes.end[sounds].max())) if sounds.any() else end
        if not name:
            continue
        if out and out[-1][2] == name and begin - out[-1][1] < 2 * TOGETHER:
            out[-1] = (out[-1][0], last, name)
        else:
            out.append((begin, last, name))
    return out


TOGETHER = 0.09
"""Seconds within which notes are struck together."""

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
