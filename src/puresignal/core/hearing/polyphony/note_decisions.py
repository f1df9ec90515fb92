"""Chords to notes.

A network estimates for every frame and pitch whether it sounds and begins (harmonic.py). A note starts at a
peak of its onset probability followed by sound, and lasts as long as it sounds.

Source  onsets and frames: C. Hawthorne and others, 2018
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from puresignal.core.hearing.dsp import spectra
from puresignal.core.hearing.dsp.chunks import Progress, Source, pieces
from puresignal.core.hearing.dsp.spectra import Envelope
from puresignal.core.hearing.networks import multipitch, pitch_levels
from puresignal.core.hearing.networks.dense import peaks
from puresignal.core.hearing.networks.harmonic import HarmonicNet
from puresignal.core.hearing.polyphony import strums
from puresignal.core.hearing.transcribed import TranscribedNotes, far_from_others, removal_reasons, velocities

RATE, STEP = multipitch.RATE, multipitch.STEP
SILENT, DOUBT = 0.5, 2
"""A note ends after DOUBT frames in which it sounds with less than this probability."""
SURE, DOUBTED = 0.4, 0.12
"""Confidence that a note needs at medium sensitivity; margin below it in which removal is proposed instead."""
FIRST_STRUCK, STRUCK_AGAIN, SOUNDING = 0.3, 0.25, 0.5
"""Onset probability that a note needs, and one whose pitch sounds already with at least this probability: choirs and
sections beat, which looks a little like being struck again."""
PLAIN, STEADY = 0.5, 5
"""Part of the confidence that the onset has; frames after it over which the sound is judged."""
LOWEST, HIGHEST = multipitch.LOWEST, multipitch.HIGHEST


@dataclass(frozen=True, eq=False)
class ChordAnalysis:
    """The analysis of a recording, kept for all decisions.

    probability  (frames, pitches, 2) that each pitch sounds, and begins
    own          (frames, pitches) level of each pitch's lowest harmonics in dB
    level        (frames,) decibels; envelope: for exact onsets
    """

    probability: np.ndarray
    own: np.ndarray
    level: np.ndarray
    envelope: Envelope

    @cached_property
    def _columns(self) -> np.ndarray:
        return np.ascontiguousarray(self.probability.transpose(1, 2, 0), np.float32)

    def column(self, pitch: int) -> tuple[np.ndarray, np.ndarray]:
        """(frames,) float32 twice: probability that a pitch sounds, and begins."""
        if len(self.probability) <= REMEMBERED:
            return self._columns[pitch, 0], self._columns[pitch, 1]
        return self.probability[:, pitch, 0].astype(np.float32), self.probability[:, pitch, 1].astype(np.float32)


REMEMBERED = 30_000
"""Frames (ten minutes) up to which columns are kept for later decisions."""


@dataclass(frozen=True)
class ChordSettings:
    """sensitivity 0..1; shortest note in s; floor in dB below the loudest; range in MIDI notes."""

    sensitivity: float = 0.5
    shortest: float = 0.08
    floor: float = 45.0
    low: int = LOWEST
    high: int = HIGHEST


FINE_HOP, FINE_REACH = 22, 220


def analyse(network: HarmonicNet, source: Source, progress: Progress | None = None) -> ChordAnalysis:
    """Analyse a recording at RATE, all at once or in blocks, with the network that hears chords."""
    against = multipitch.loud(source)
    first = LOWEST - multipitch.FIRST
    parts: list[tuple[np.ndarray, ...]] = []
    for piece in pieces(source, progress):
        flat, mine = piece.samples, piece.frames(multipitch.HOP)
        seen, changes = pitch_levels.levels_and_changes(flat, against)
        short = seen.short
        own = np.logaddexp(
            4.6 * short[:, first : first + multipitch.PITCHES], 4.6 * short[:, first + 12 :][:, : multipitch.PITCHES]
        )
        level = spectra.decibels(spectra.loudness(flat, multipitch.HOP, 2 * multipitch.HOP))
        envelope = spectra.envelope(flat, RATE, FINE_HOP, FINE_REACH).level[piece.frames(FINE_HOP)]
        probability = network.probability(seen, changes)
        parts.append(
            (probability[mine].astype(np.float16), (own * 10 / 2.3)[mine].astype(np.float16), level[mine], envelope)
        )
    if not parts:
        nothing = np.zeros((0, multipitch.PITCHES), np.float16)
        return ChordAnalysis(nothing[:, :, None], nothing, np.zeros(0), Envelope(np.zeros(0), FINE_HOP / RATE))
    probability, own, level, fine = (np.concatenate(each) for each in zip(*parts, strict=True))
    return ChordAnalysis(probability, own, level, Envelope(fine, FINE_HOP / RATE))


def decide(analysis: ChordAnalysis, settings: ChordSettings | None = None) -> TranscribedNotes:
    """Decide the notes from an analysis."""
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
    # Where the envelope shows the onset of another note, the network's estimate stays.
    exact = np.where(np.abs(exact - start) < 0.045, exact, start)
    for strum in strums.found(start, pitch):
        # The envelope shows where a strum begins; its strings follow as the networks hear them.
        exact[strum.notes] = start[strum.notes] + exact[strum.notes[0]] - start[strum.notes[0]]
    end = np.maximum(end, exact + 0.03)
    enough = SURE - 0.6 * lean
    far = far_from_others(pitch, exact, sure_) & (sure_ < enough + DOUBTED)
    # A doubtful note that is also short is not worth showing.
    shown = (end - exact >= settings.shortest) | (sure_ >= enough)
    removal_reason = removal_reasons(end - exact < settings.shortest, np.zeros(len(end), bool), far, sure_ < enough)
    found = TranscribedNotes(exact, end, pitch, velocities(level), sure_, removal_reason).take(shown)
    return found.take(np.argsort(found.start, kind="stable"))


def _peak(begins: np.ndarray, at: float) -> float:
    """The highest onset probability about a fractional frame."""
    return float(begins[max(0, round(at) - 1) : round(at) + 2].max())


def _notes(sounds: np.ndarray, begins: np.ndarray, lean: float) -> list[tuple[float, float, float]]:
    """(first, last, confidence) frames of one pitch's notes, including those of borderline confidence."""
    on = sounds > 0.45 - 0.5 * lean
    sums = np.concatenate([[0.0], np.cumsum(sounds, dtype=np.float64)])

    def mean(first: int, last: int) -> float:
        last = min(last, len(sounds))
        return float(sums[last] - sums[first]) / max(1, last - first)

    def is_new(at: float) -> bool:
        place = round(at)
        sounds_already = mean(max(0, place - 7), max(0, place - 2)) >= SOUNDING
        return not sounds_already or _peak(begins, at) > STRUCK_AGAIN - 0.5 * lean

    likely = peaks(begins, FIRST_STRUCK - 0.5 * lean, 3).tolist()
    starts = [p for p in likely if mean(round(p), round(p) + 5) > 0.35 - lean and is_new(p)]
    edges = np.flatnonzero(np.diff(np.concatenate([[0], on.astype(np.int8), [0]])))
    for first, last in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
        # A swelling note has no clear onset; if it sounds for long, it is a note nevertheless.
        if last - first >= 6 and mean(first, last) > 0.7 - lean and not any(first - 4 <= s < last for s in starts):
            starts.append(float(first))
    if not starts:
        return []
    starts.sort()
    # A brief gap is not an end.
    heard = np.concatenate([[0], np.cumsum(sounds >= SILENT)])
    ends = np.flatnonzero(heard[DOUBT:] == heard[:-DOUBT])
    notes = []
    for i, start in enumerate(starts):
        until = round(starts[i + 1]) if i + 1 < len(starts) else len(sounds)
        begin = round(start)
        next_ = int(np.searchsorted(ends, begin + 2))
        end = int(ends[next_]) if next_ < len(ends) and ends[next_] + DOUBT <= until else until
        plain = float(begins[max(0, begin - 1) : begin + 2].max())
        confidence = PLAIN * plain + (1 - PLAIN) * mean(begin, begin + STEADY)
        if confidence > SURE - DOUBTED - 0.6 * lean:
            notes.append((start, float(end), confidence))
    return notes
