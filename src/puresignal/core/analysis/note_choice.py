"""Choosing notes of a result by a condition; the sentence itself is in puresignal.core.path.condition."""

from __future__ import annotations

import numpy as np

from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.path.condition import Condition, every_nth, holds
from puresignal.core.path.note_selection import doubtful, touched
from puresignal.core.path.stage_description import Stage
from puresignal.core.timing.session_time import Timeline


def chosen(
    outcome: Outcome, timeline: Timeline, shift: float, condition: Condition, rounds: np.ndarray | None = None
) -> np.ndarray:
    """Origins of the notes that leave for which a condition holds, in playing order.

    shift   seconds of the result before bar 1
    rounds  (notes that leave,) pass of a loop in which each was played, from 1; None: not known
    """
    notes = outcome.output_notes
    first = notes.branch == 0
    notes = notes.take(first)
    keys = tuple(one.key for one in outcome.tracks)
    good = holds(notes, keys, outcome.vocabulary, timeline, shift, condition)
    if condition.between is not None:
        good &= (notes.start >= condition.between[0] - 1e-6) & (notes.start < condition.between[1] - 1e-6)
    if condition.doubtful:
        good &= np.isin(notes.origin, doubtful(outcome))
    if condition.stage:
        good &= np.isin(notes.origin, touched(outcome, Stage.named(condition.stage)))
    if condition.round:
        good &= rounds[first] == condition.round if rounds is not None else False
    return every_nth(notes.origin[good], condition)
