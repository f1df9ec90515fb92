"""The notes of one voice: exact onset, end, pitch and velocity of each, and which are proposed for removal.

What may be a note is divided generously (segmentation.py) and then judged (note_judge.py).
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right

import numpy as np

from puresignal.core.hearing.dsp import spectra
from puresignal.core.hearing.melody import note_evidence, note_judge
from puresignal.core.hearing.melody.candidates import HARMONICS, STEP, MelodyAnalysis
from puresignal.core.hearing.melody.note_judge import PossibleNotes
from puresignal.core.hearing.melody.segmentation import GROWS, MOMENT, WEAKEST, MelodySettings, segments
from puresignal.core.hearing.networks.dense import peaks
from puresignal.core.hearing.transcribed import TranscribedNotes, far_from_others, removal_reasons, velocities


def decide(analysis: MelodyAnalysis, settings: MelodySettings | None = None) -> TranscribedNotes:
    """Decide the notes from an analysis."""
    settings = settings or MelodySettings()
    return _judged(possible(analysis, settings), analysis, settings)


def _joined(notes: list[tuple[int, int, int]], analysis: MelodyAnalysis) -> list[tuple[int, int, int]]:
    """Join notes that continue where the pitch was lost for a moment: a new note would have an onset.

    Also join notes that seem to jump to a harmonic: one of the two was mistaken for the other.
    """
    out: list[tuple[int, int, int]] = []
    for first, last, number in notes:
        leaps = out and abs(out[-1][2] - number) in HARMONICS and first - out[-1][1] <= MOMENT
        if leaps and analysis.near[max(0, first - 5) : first + 6].max(initial=0.0) < SILENT:
            out[-1] = (out[-1][0], last, number)
            continue
        if out and out[-1][2] == number and 0 < first - out[-1][1] <= LOST / STEP:
            begins = analysis.near[max(0, out[-1][1] - 4) : first + 6].max(initial=0.0)
            around = min(analysis.level[out[-1][1] - 1], analysis.level[first : first + 8].max(initial=-100.0))
            if begins < SILENT and analysis.level[out[-1][1] : first].min() > around - FAINTER:
                out[-1] = (out[-1][0], last, number)
                continue
        out.append((first, last, number))
    return out


LOST, SILENT, FAINTER = 0.2, 0.12, 16.0
"""Seconds for which the pitch may be lost within a note; highest onset probability; largest drop in level in dB."""


def possible(analysis: MelodyAnalysis, settings: MelodySettings) -> PossibleNotes:
    """All notes that may have been played, before they are judged."""
    return _timed(_joined(segments(analysis, settings), analysis), analysis, settings)


def _timed(notes: list[tuple[int, int, int]], analysis: MelodyAnalysis, settings: MelodySettings) -> PossibleNotes:
    """Exact onsets and ends."""
    kept = [n for n in notes if (n[1] - n[0]) * STEP >= 0.5 * settings.shortest]
    if not kept:
        return PossibleNotes.empty()
    ends = np.array([n[1] for n in kept]) * STEP
    exact, told = _onsets(np.array([n[0] for n in kept]) * STEP, analysis)
    near_exact = analysis.envelope.rises(exact)
    exact = np.where(np.abs(near_exact - exact) < 0.02, near_exact, exact)
    for i in range(1, len(exact)):
        exact[i] = max(exact[i], exact[i - 1] + 0.02)
        ends[i - 1] = min(ends[i - 1], exact[i])
    ends = np.maximum(_release_times(analysis.level, exact, ends), exact + 0.03)
    first, last, number = np.array(kept).T
    return PossibleNotes(first, last, number, exact, ends, told)


NEED, DOUBTED = 0.5, 0.25
"""Chance that a note needs at medium sensitivity; how far below it a note is proposed for removal instead of left out.
"""


def _judged(notes: PossibleNotes, analysis: MelodyAnalysis, settings: MelodySettings) -> TranscribedNotes:
    """The possible notes that were played, by the trees."""
    if not len(notes):
        return TranscribedNotes.empty()
    evidence = note_evidence.figures(analysis, notes, settings.beneath)
    judge, need = analysis.judge, NEED - 0.4 * (settings.sensitivity - 0.5)
    ends = judge.ends_later.estimate(note_evidence.end_figures(analysis, notes))
    notes = note_judge.moved(notes, judge.later.estimate(evidence), ends)
    notes, chance = note_judge.settled(notes, judge.chances(evidence), need)
    shown = chance > need - DOUBTED
    notes, chance = notes.take(shown), chance[shown]
    if not len(notes):
        return TranscribedNotes.empty()
    level = _loudest(analysis.level, notes.first, np.minimum(notes.last, notes.first + round(0.2 / STEP)))
    note, frame = _frames_of(notes.first, notes.last)
    pitch = _exact_pitch(notes.number, note, frame, analysis)
    removal_reason = removal_reasons(
        notes.end - notes.start < settings.shortest, level < np.quantile(level, 0.9) - SOFT,
        far_from_others(pitch, notes.start, chance), chance < need,
    )  # fmt: skip
    return TranscribedNotes(notes.start, notes.end, pitch, velocities(level), chance, removal_reason)


def _onsets(begins: np.ndarray, analysis: MelodyAnalysis) -> tuple[np.ndarray, np.ndarray]:
    """(notes,) seconds of the likeliest onset near the start of each note, and its probability.

    The note exists, so it has an onset somewhere, however weak.
    """
    strong = peaks(analysis.begins, WEAKEST, 3) * STEP
    probability = analysis.begins[np.rint(strong / STEP).astype(int)].tolist()
    moments, exact, told, before = strong.tolist(), begins.tolist(), [0.0] * len(begins), -1.06
    for i, begin in enumerate(begins.tolist()):
        # A period becomes clear some time after the onset, later for low notes.
        first = bisect_right(moments, max(begin - GROWS, before + 0.06))
        near = range(first, bisect_left(moments, begin + 0.05))
        if near:
            best = max(near, key=lambda k: probability[k] - 2.0 * abs(moments[k] - begin))
            exact[i], told[i] = moments[best], probability[best]
        before = exact[i]
    return np.array(exact), np.array(told)


SOFT = 32.0
"""Decibels below the loud notes at which a note counts as too soft."""


def levels(analysis: MelodyAnalysis, notes: TranscribedNotes) -> np.ndarray:
    """(notes,) level of the loudest of each note's first moments, in dB."""
    first = np.rint(notes.start / STEP).astype(int)
    return _loudest(analysis.level, first, np.rint(np.minimum(notes.end, notes.start + 0.2) / STEP).astype(int))


def _loudest(level: np.ndarray, first: np.ndarray, last: np.ndarray) -> np.ndarray:
    """(notes,) level of each note's loudest frame; at least one frame is used."""
    if not len(first):
        return np.zeros(0)
    steps = np.arange(max(1, int((last - first).max())))
    around, there = spectra.windows(level, first, steps)
    own = there & ((steps < (last - first)[:, None]) | (steps == 0))
    return np.asarray(np.where(own, around, -100.0).max(axis=1))


def _frames_of(first: np.ndarray, last: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """All frames of some notes, one note after the other: the number of the note, and the frame."""
    length = last - first
    note = np.repeat(np.arange(len(first)), length)
    return note, np.arange(len(note)) - np.repeat(np.cumsum(length) - length - first, length)


def _exact_pitch(number: np.ndarray, note: np.ndarray, frame: np.ndarray, analysis: MelodyAnalysis) -> np.ndarray:
    """(notes,) exact pitch of each note relative to the player's tuning; always rounds to its number.

    note, frame  of each frame of the notes
    """
    off = analysis.pitch[frame] - analysis.tuned - number[note][:, None]
    row, column = np.nonzero(np.abs(off) < 0.7)
    own, value = note[row], off[row, column]
    value = value[np.lexsort((value, own))]
    count = np.bincount(own, minlength=len(number))
    some = np.flatnonzero(count)
    out = number.astype(float)
    out[some] += np.clip(value[(np.cumsum(count) - count + count // 2)[some]], -0.45, 0.45)
    return out


def _release_times(level: np.ndarray, start: np.ndarray, end: np.ndarray) -> np.ndarray:
    """The start of each note's final decay: the ring after release is not part of it."""
    last = np.minimum(len(level) - 1, np.rint(end / STEP).astype(int))
    reach = round(FALLS_IN / STEP)
    first = np.maximum(np.rint(start / STEP).astype(int) + 4, last - reach)
    length = last - first + 1
    steps = np.arange(reach + 1)
    part, _ = spectra.windows(level, first, steps)
    half = np.maximum(3, length // 2)
    early = steps < half[:, None]
    body = np.take_along_axis(np.sort(np.where(early, part, np.inf), axis=1), (half // 2)[:, None], 1)
    # A plucked note decays all the time; after release it decays faster.
    off = np.where(early, steps - (half[:, None] - 1) / 2, 0.0)
    slope = (off * part).sum(axis=1) / np.maximum(1e-9, (off**2).sum(axis=1))
    slope = np.clip(slope, -RINGS * STEP, 0.0)[:, None]
    above = (part > body + slope * (steps - (half[:, None] - 1) / 2) - FALLS_BY) & (steps < length[:, None])
    falls = (first + len(steps) - above[:, ::-1].argmax(axis=1)) * STEP
    return np.where((length >= 5) & above.any(axis=1), np.minimum(end, falls), end)


FALLS_IN, FALLS_BY, RINGS = 0.35, 2.5, 25.0
"""Seconds and decibels of the decay after release; decibels per second that a held note may decay."""
