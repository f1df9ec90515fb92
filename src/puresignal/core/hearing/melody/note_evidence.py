"""What speaks for and against each possible note of one voice: figures for the trees of note_judge.py.

A note is seen with what was before it and what comes after: levels, the range of the vowels' formants, how likely an
onset is, whether its pitch sounds and begins, how steady it is, and the notes beside it. Levels are relative, so that
a soft recording is judged like a loud one.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from puresignal.core.hearing.dsp import spectra
from puresignal.core.hearing.melody import consonants
from puresignal.core.hearing.melody.candidates import STEP, MelodyAnalysis
from puresignal.core.hearing.melody.note_judge import PossibleNotes
from puresignal.core.hearing.networks import multipitch

LOOKS = (-30, -20, -14, -10, -7, -5, -3, -2, -1, 0, 1, 2, 3, 4, 5, 7, 9, 12, 15, 20, 28)
"""Frames from the onset at which levels are seen."""
SPANS = ((-30, -15), (-15, -8), (-8, -4), (-4, -1), (-1, 2), (2, 5), (5, 9), (9, 15), (15, 28))
"""Frames from the onset or the end over which other things are seen."""
REACH = (-30, 30)
"""Frames before and after that are looked at."""
RISEN = (-12.0, -6.0, -3.0)
"""Decibels below the loudest moment at which the rise is timed."""
END_LOOKS = (-30, -24, -18, -14, -11, -9, -7, -5, -3, -2, -1, 0, 1, 2, 3, 5, 7, 9, 12, 16, 20, 25, 30)
"""Frames from the end at which levels are seen."""
BESIDE = (-12, -7, -2, -1, 1, 2, 7, 12, 19)
"""Semitones to other notes that may be what sounds."""
STEPS = np.arange(REACH[0], REACH[1] + 1)


class _Around:
    """What an analysis shows around a frame of each note."""

    def __init__(self, analysis: MelodyAnalysis, number: np.ndarray, at: np.ndarray) -> None:
        self.analysis, self.at, self.number = analysis, at, number
        self._inside = np.clip(at[:, None] + STEPS, 0, len(analysis.level) - 1)
        self.sounds, self.starts = analysis.sounds[self._inside], analysis.starts[self._inside]
        self._column = number - multipitch.LOWEST

    def seen(self, values: np.ndarray) -> np.ndarray:
        """(n, steps) of (frames,) values; nan outside the recording."""
        around, there = spectra.windows(values, self.at, STEPS)
        return np.where(there, around, np.nan)

    def own(self, of: np.ndarray, away: int = 0) -> np.ndarray:
        """(n, steps) of (n, steps, pitches): that of a pitch so many semitones away from each note's."""
        column = self._column + away
        there = (column >= 0) & (column < multipitch.PITCHES)
        chosen = np.take_along_axis(of, np.clip(column, 0, multipitch.PITCHES - 1)[:, None, None], 2)[:, :, 0]
        return np.where(there[:, None], chosen.astype(np.float32), np.float32(0))

    def pitches(self) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """(n, steps) semitones of the candidate nearest to the note, its aperiodicity, and both of the best one."""
        dip = self.analysis.dip[self._inside]
        off = self.analysis.pitch[self._inside] - np.float32(self.analysis.tuned) - self.number[:, None, None]
        nearest = np.nan_to_num(np.abs(off), nan=99.0).argmin(axis=2)[:, :, None]
        of_nearest = np.nan_to_num(np.take_along_axis(off, nearest, 2)[:, :, 0], nan=6.0)
        best = np.nan_to_num(off[:, :, 0], nan=-9.0)
        return (
            np.clip(of_nearest, -6, 6), np.take_along_axis(dip, nearest, 2)[:, :, 0], np.clip(best, -25, 25),
            dip[:, :, 0],
        )  # fmt: skip


def _frames(begin: int, end: int) -> slice:
    """Where the frames from begin to before end, counted from the onset or end of a note, are among the steps."""
    return slice(begin - REACH[0], end - REACH[0])


def _spans(around: np.ndarray, most: bool = False) -> np.ndarray:
    """(n, SPANS) mean, or the most, over each of the spans."""
    known = np.isfinite(around)
    filled = np.where(known, around, 0.0)
    parts = [_frames(begin, end) for begin, end in SPANS]
    if most:
        return np.stack([filled[:, part].max(axis=1) for part in parts], axis=1)
    return np.stack([filled[:, part].sum(axis=1) / np.maximum(1, known[:, part].sum(axis=1)) for part in parts], axis=1)


def figures(analysis: MelodyAnalysis, notes: PossibleNotes, beneath: bool) -> np.ndarray:
    """(n, figures) float32 about whether and when each note begins. beneath: whether others play beneath the voice."""
    vowel, lead_in = consonants.vowels(notes.start, notes.end, notes.number, analysis.level, analysis.formants, STEP)
    whole = [*_beside(notes), vowel - notes.start, lead_in, np.full(len(notes), float(beneath))]
    return _columns([_some_at_once(_beginnings, analysis, notes, notes.start), *whole], len(notes))


def _beginnings(near: _Around) -> list[np.ndarray]:
    out = [*_rises(near), _spans(near.seen(near.analysis.begins), most=True)]
    out += [_spans(near.own(near.sounds)), _spans(near.own(near.starts) / 255, most=True)]
    out += [_spans(near.sounds.max(axis=2).astype(np.float32))]
    out += [_spans(near.starts.max(axis=2).astype(np.float32) / 255, most=True)]
    for away in BESIDE:
        other = near.own(near.sounds, away)
        out += [other[:, _frames(-15, -1)].mean(axis=1), other[:, _frames(3, 20)].mean(axis=1)]
    return out + [_spans(each) for each in near.pitches()]


AT_ONCE = 512
"""Notes whose surroundings are held together: those of hours would take a gigabyte."""


def _some_at_once(
    look: Callable[[_Around], list[np.ndarray]], analysis: MelodyAnalysis, notes: PossibleNotes, moments: np.ndarray
) -> np.ndarray:
    """(n, figures) of what is seen around a moment of each note, in seconds."""
    at, out = np.minimum(np.rint(moments / STEP).astype(int), len(analysis.level) - 1), []
    for begin in range(0, len(notes), AT_ONCE):
        part = np.arange(begin, min(begin + AT_ONCE, len(notes)))
        out.append(_columns(look(_Around(analysis, notes.number[part], at[part])), len(part)))
    return np.concatenate(out)


def _columns(out: list[np.ndarray], count: int) -> np.ndarray:
    return np.concatenate([np.reshape(each, (count, -1)) for each in out], axis=1).astype(np.float32)


def _rises(near: _Around) -> list[np.ndarray]:
    """How the level, and that of the formants, rises and dips about each onset."""
    out, after, looks = [], STEPS >= -2, np.array(LOOKS) - REACH[0]
    shapes = []
    for values in (near.analysis.level, near.analysis.formants):
        around = np.nan_to_num(near.seen(values), nan=-120.0)
        top = around[:, after].max(axis=1)
        shapes.append(np.maximum(around[:, looks] - top[:, None], -60.0))
        out += [shapes[-1], top - np.quantile(values, 0.98)]
        out += [((around >= top[:, None] + below) & after).argmax(axis=1) for below in RISEN]
        rise = around[:, 4:] - around[:, :-4]
        own = rise[:, _frames(-4, 20)]
        high = np.minimum(around[:, _frames(-12, 0)].max(axis=1), around[:, _frames(1, 13)].max(axis=1))
        out += [own.max(axis=1), own.argmax(axis=1), around[:, _frames(-1, 3)].min(axis=1) - high]
    return [*out, shapes[1] - shapes[0]]


def _beside(notes: PossibleNotes) -> list[np.ndarray]:
    """The notes beside each one, and how it fits among all."""
    count, length = len(notes), notes.last - notes.first
    before, following = np.full(count, 200.0), np.full(count, 200.0)
    before[1:] = np.minimum(200, notes.first[1:] - notes.last[:-1])
    following[:-1] = before[1:]
    out = []
    for way in (1, -1, 2, -2):
        known = (np.arange(count) >= way) & (np.arange(count) - way < count)
        apart = np.minimum(300, np.abs(np.roll(notes.first, way) - notes.first))
        out += [np.where(known, np.roll(notes.number, way) - notes.number, 60.0)]
        out += [np.where(known, np.roll(each, way), 0.0) for each in (length, notes.told)]
        out += [np.where(known, apart, 300.0)]
    typical = np.median(length)
    return [
        *out, length, before, following, notes.number, notes.told, notes.start / STEP - notes.first,
        np.full(count, typical), length / max(1.0, typical), np.full(count, np.mean(notes.told)),
    ]  # fmt: skip


def end_figures(analysis: MelodyAnalysis, notes: PossibleNotes) -> np.ndarray:
    """(n, figures) float32 about when each note ends."""
    seen = _some_at_once(_endings, analysis, notes, notes.end)
    return _columns([seen, *_beside(notes), notes.end / STEP - notes.last], len(notes))


def _endings(near: _Around) -> list[np.ndarray]:
    looks, out = np.array(END_LOOKS) - REACH[0], []
    for values in (near.analysis.level, near.analysis.formants):
        around = np.nan_to_num(near.seen(values), nan=-120.0)
        high = np.quantile(around[:, _frames(-30, -1)], 0.8, axis=1)
        fall = around[:, 4:] - around[:, :-4]
        out += [
            np.maximum(around[:, looks] - high[:, None], -60.0),
            high - np.quantile(values, 0.02),
            high - np.quantile(values, 0.98),
        ]
        out += [fall[:, _frames(-20, 20)].min(axis=1), fall[:, _frames(-20, 20)].argmin(axis=1)]
        out += [((around <= high[:, None] + below) & (STEPS >= -20)).argmax(axis=1) for below in (-3.0, -6.0, -12.0)]
        out += [around[:, _frames(-15, 0)].mean(axis=1) - around[:, _frames(-30, -15)].mean(axis=1)]
    out += [_spans(near.own(near.sounds)), _spans(near.sounds.max(axis=2).astype(np.float32))]
    out += [_spans(near.starts.max(axis=2).astype(np.float32) / 255, most=True)]
    return [*out, _spans(near.seen(near.analysis.begins), most=True), *(_spans(each) for each in near.pitches())]
