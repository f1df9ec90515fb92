"""Choosing notes by a condition, as a sentence with blanks says it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.kit.articulations import drum_of
from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.path.note_selection import doubtful
from puresignal.core.timing.quantise import Bars
from puresignal.core.timing.session_time import Timeline

ANY, SOFTER, LOUDER, SHORTER, LONGER = "any", "softer than", "louder than", "shorter than", "longer than"  # not shown
MEASURES = (ANY, SOFTER, LOUDER, SHORTER, LONGER)
ANYWHERE, ON_BEAT, OFF_BEAT, OFF_GRID = "anywhere", "on the beat", "off the beat", "off the grid by"  # not shown
PLACES = (ANYWHERE, ON_BEAT, OFF_BEAT, OFF_GRID)
NEAR = 0.125
"""Quarter notes from a beat within which a note is on it."""


@dataclass(frozen=True)
class Condition:
    """Which notes are meant.

    what     a track's key, an articulation, a drum ("snare") or empty for everything
    measure  one of MEASURES, `amount` a velocity, or milliseconds for lengths
    place    one of PLACES, `distance` milliseconds from the nearest sixteenth for OFF_GRID
    every, first  every n-th of what is left, beginning with which, from 1
    between  seconds of the file; None: everywhere
    doubtful only notes that were decided narrowly
    """

    what: str = ""
    measure: str = ANY
    amount: float = 64.0
    place: str = ANYWHERE
    distance: float = 10.0
    every: int = 1
    first: int = 1
    between: tuple[float, float] | None = None
    doubtful: bool = False


def chosen(outcome: Outcome, timeline: Timeline, shift: float, condition: Condition) -> np.ndarray:
    """Origins of the notes that leave for which a condition holds, in playing order.

    shift  seconds of the result before bar 1
    """
    notes = outcome.output_notes
    notes = notes.take(notes.branch == 0)
    good = np.ones(len(notes), bool)
    if condition.what:
        tracks = [i for i, one in enumerate(outcome.tracks) if one.key == condition.what]
        names = (condition.what,)
        codes = [i for i, one in enumerate(outcome.vocabulary) if one in names or drum_of(one) in names]
        good &= np.isin(notes.track, tracks) | np.isin(notes.articulation, codes)
    long = 1000 * (np.nan_to_num(notes.end, nan=1e9) - notes.start)
    measures = {
        SOFTER: notes.velocity < condition.amount, LOUDER: notes.velocity > condition.amount,
        SHORTER: long < condition.amount, LONGER: long > condition.amount,
    }  # fmt: skip
    good &= measures.get(condition.measure, np.ones(len(notes), bool))
    beat = timeline.seconds_to_beats(notes.start - shift)
    bars = Bars.of(timeline, beat)
    into = beat - bars.begin[bars.bar(beat)]
    on = np.abs(into - np.round(into)) <= NEAR
    off = np.round(into * 4) / 4 - into
    long_beat = timeline.beats_to_seconds(beat + 0.5) - timeline.beats_to_seconds(beat - 0.5)
    places = {ON_BEAT: on, OFF_BEAT: ~on, OFF_GRID: np.abs(off) * long_beat * 1000 > condition.distance}
    good &= places.get(condition.place, np.ones(len(notes), bool))
    if condition.between is not None:
        good &= (notes.start >= condition.between[0] - 1e-6) & (notes.start < condition.between[1] - 1e-6)
    if condition.doubtful:
        good &= np.isin(notes.origin, doubtful(outcome))
    found = notes.origin[good]
    return np.asarray(found[max(0, condition.first - 1) :: max(1, condition.every)])
