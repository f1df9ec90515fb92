"""One voice divided into notes: the cheapest path through notes and silence, cut at onsets.

The path runs through notes instead of pitches, with silence as one more state: vibrato is not penalised, a new note is,
less so where a network hears an onset.

Source  probabilistic YIN: M. Mauch and S. Dixon, 2014
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from puresignal.core.hearing.dsp import spectra, viterbi
from puresignal.core.hearing.melody.candidates import REMEMBERED, STEP, TRUST, MelodyAnalysis, note_costs
from puresignal.core.hearing.networks import multipitch
from puresignal.core.hearing.networks.dense import peaks, windowed_sum


@dataclass(frozen=True)
class MelodySettings:
    """sensitivity 0..1; shortest note in s; floor in dB below the loudest; range in MIDI notes; beneath: in a mix."""

    sensitivity: float = 0.5
    shortest: float = 0.07
    floor: float = 38.0
    low: float = 28.0
    high: float = 96.0
    beneath: bool = False


def track(analysis: MelodyAnalysis, settings: MelodySettings) -> np.ndarray:
    """(frames,) MIDI note of each frame, -1 for silence: the cheapest path through the notes.

    The cost of a frame grows with the distance of its candidates from the note, their aperiodicity, and the
    improbability of the note by the network; a change of note costs less where there is an onset.
    """
    count = len(analysis.pitch)
    low, high = (
        max(multipitch.LOWEST, int(np.ceil(settings.low))),
        min(multipitch.HIGHEST, int(np.floor(settings.high))),
    )
    if not count or high < low:
        return np.full(count, -1)
    asked = (settings.sensitivity, settings.floor, low, high, settings.beneath)
    if asked in analysis.paths:
        return analysis.paths[asked].copy()
    numbers = np.arange(low, high + 1, dtype=np.float32)
    quiet = analysis.level < analysis.loud - settings.floor
    near = windowed_sum(analysis.begins, 3)[:count]
    turns = np.stack([3.4 - 2.6 * near, 1.9 - 1.5 * near], axis=1)
    out = np.full(count, -1)
    for begin in range(0, count, viterbi.AT_ONCE * viterbi.STRETCH):
        end = min(count, begin + viterbi.AT_ONCE * viterbi.STRETCH)
        part = slice(max(0, begin - viterbi.LAP), min(count, end + viterbi.LAP))
        cost, silent = _costs(analysis, part, numbers, quiet[part], settings)
        state = viterbi.path(cost, silent, turns[part], begin - part.start, end - begin)
        out[begin:end] = np.where(state >= 0, low + state, -1)
    analysis.paths.clear()
    analysis.paths[asked] = out
    return out.copy()


def _costs(
    analysis: MelodyAnalysis, part: slice, numbers: np.ndarray, quiet: np.ndarray, settings: MelodySettings
) -> tuple[np.ndarray, np.ndarray]:
    """(frames, notes) cost of each note, and (frames,) cost of silence."""
    own = slice(round(float(numbers[0])) - multipitch.LOWEST, round(float(numbers[-1])) - multipitch.LOWEST + 1)
    short = len(analysis.pitch) <= REMEMBERED
    beneath = settings.beneath
    cost = analysis.costs(beneath)[part, own].copy() if short else note_costs(analysis, part, beneath)[:, own]
    cost[quiet] = 20.0
    # Non-negative half-precision floats have the same order as their bits; as integers they compare many times faster.
    likeliest = analysis.sounds[part, own].view(np.uint16).max(axis=1).view(np.float16).astype(np.float32)
    unlikely = -np.log(np.clip(1 - likeliest, 0.05, 1.0))
    return cost, np.where(quiet, 0.0, 0.9 + 0.6 * settings.sensitivity + TRUST * unlikely)


def segments(analysis: MelodyAnalysis, settings: MelodySettings) -> list[tuple[int, int, int]]:
    """(first frame, frame after the last, MIDI note) of each possible note, in sequence."""
    states = track(analysis, settings)
    if not len(states):
        return []
    limit = POSSIBLE - 0.3 * (settings.sensitivity - 0.5)
    places = _likely_onsets(peaks(analysis.near, LEAST, 6), analysis, limit)
    _bridge(states)
    _extend_attacks(states, places, analysis)
    cuts = _moved_to_onsets(np.flatnonzero(np.diff(states)) + 1, states, places, analysis.near)
    notes: list[tuple[int, int, int]] = []
    for first, last in pairwise([0, *cuts.tolist(), len(states)]):
        if first < last and states[first] >= 0:
            number = int(states[first])
            own = _own_onsets(places, analysis.starts[:, number - multipitch.LOWEST]) if settings.beneath else places
            notes += _split_at_onsets((first, last, number), own)
    return notes


POSSIBLE = 0.22
"""Probability of an onset from which a note may begin there, at medium sensitivity; the notes are judged later."""


def _likely_onsets(places: np.ndarray, analysis: MelodyAnalysis, limit: float) -> np.ndarray:
    """The possible onsets that are likely enough; the deeper the level dips, the less likely they need to be."""
    if not len(places):
        return places
    probability, steps = analysis.near, np.arange(-18, 13)
    at = np.minimum(np.rint(places).astype(int), len(probability) - 1)
    level, _ = spectra.windows(analysis.level, at, steps)
    high = np.minimum(level[:, steps >= 0].max(axis=1), level[:, steps <= 0].max(axis=1))
    deep = high - level[:, (steps >= -8) & (steps < 3)].min(axis=1)
    return np.asarray(places[probability[at] > limit - DEEP * np.clip(deep - 2.0, 0.0, 6.0)])


LEAST, DEEP = 0.15, 0.04
"""An onset less probable than LEAST is never accepted; DEEP is how much one decibel of dip counts."""


def _between(places: np.ndarray, low: float, high: float) -> np.ndarray:
    """The places above `low` and below `high` among sorted ones."""
    return places[places.searchsorted(low, side="right") : places.searchsorted(high)]


def _bridge(states: np.ndarray) -> None:
    """A short silence between two notes becomes the start of the second, whose pitch is not yet clear."""
    edges = [0, *(np.flatnonzero(np.diff(states)) + 1).tolist(), len(states)]
    for first, last in pairwise(edges):
        if states[first] < 0 and first > 0 and last < len(states) and last - first <= MOMENT:
            states[first:last] = states[last]


MOMENT = 3
"""Frames."""


def _extend_attacks(states: np.ndarray, places: np.ndarray, analysis: MelodyAnalysis) -> None:
    """A note begins with its attack, even if that has no pitch yet or seems to have another.

    The sound must continue from the onset to the first clear pitch, without another onset in between.
    """
    level, sounds = analysis.level, analysis.sounds
    for last in (np.flatnonzero(np.diff(states)) + 1).tolist():
        number = states[last]
        near = _between(places, last - LONGEST_ATTACK / STEP, last + 6)
        if number < 0 or not len(near) or near[-1] > last - 4:
            continue
        start = round(float(near[-1]))
        if level[start + 1 : last].min(initial=0.0) < level[last : last + 8].max() - FADES:
            continue
        between = states[start:last]
        if (between[4:] >= 0).any():
            wrong = np.flatnonzero(between >= 0)
            own = float(sounds[start + wrong, between[wrong] - multipitch.LOWEST].astype(np.float32).mean())
            aim = float(sounds[last : last + len(wrong), number - multipitch.LOWEST].astype(np.float32).mean())
            led = states[start - 4] == between[6] if start >= 4 and len(between) > 6 else False
            if len(wrong) > SHORT_ATTACK / STEP or own > aim or led:
                continue
        states[start:last] = number


LONGEST_ATTACK, SHORT_ATTACK, FADES = 0.4, 0.2, 14.0
"""Longest attack without a pitch and with a wrong one, in seconds; decibels it may be below its note."""


def _moved_to_onsets(cuts: np.ndarray, states: np.ndarray, places: np.ndarray, probability: np.ndarray) -> np.ndarray:
    """Changes of pitch moved to the onset just before: the old note still rings while the new one grows."""
    out = cuts.copy()
    for i, cut in enumerate(cuts.tolist()):
        if states[cut] < 0 or states[cut - 1] < 0:
            continue
        grows = GROWS if probability[cut] > UNHEARD else SWELLS
        first = max(cut - round(grows / STEP), (out[i - 1] if i else 0) + round(0.05 / STEP))
        near = _between(places, first, cut)
        if len(near):
            out[i] = round(float(near[-1]))
            states[out[i] : cut] = states[cut]
    return out


GROWS, WEAKEST = 0.15, 0.08
"""Seconds a new note may need to be heard through the old one; probability its onset then needs."""
SWELLS, UNHEARD = 0.3, 0.3
"""The same in seconds for a change without an audible onset, that is, with an onset probability below UNHEARD."""


def _own_onsets(places: np.ndarray, starts: np.ndarray) -> np.ndarray:
    """The onsets at which this note begins; other players' onsets may fall beneath it."""
    near = [float(starts[max(0, round(p) - 4) : round(p) + 5].max(initial=0)) / 255 for p in places.tolist()]
    return places[np.array(near) > ITS_OWN] if len(places) else places


ITS_OWN = 0.15
"""Probability with which a note must itself begin to count as repeated, in a mix."""


def _split_at_onsets(note: tuple[int, int, int], places: np.ndarray) -> list[tuple[int, int, int]]:
    """Split a note at onsets: struck or sung again at the same pitch."""
    first, last, number = note
    inside = _between(places, first + 0.07 / STEP, last - 0.04 / STEP)
    edges = [first, *np.rint(inside).astype(int).tolist(), last]
    return [(a, b, number) for a, b in pairwise(edges)]
