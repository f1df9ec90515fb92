"""Selecting notes by what they are or what happened to them. Notes are named by their origins."""

from __future__ import annotations

import numpy as np

from puresignal.core.midi.columns import distinct
from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.path.identify import UNMAPPED_NOTE
from puresignal.core.path.stage_description import Reason, Stage
from puresignal.core.path.tally import Action
from puresignal.core.path.target import NO_TARGET
from puresignal.core.path.timing import BETWEEN

UNMAPPED = (UNMAPPED_NOTE, NO_TARGET)
"""Reasons for which a hit is unmapped."""

DOUBTFUL_BELOW = 0.6
"""Confidence below which a note that was kept is shown as doubtful."""
REMOVED_BELOW = 0.93
"""The same for a note that was removed: what is taken away must be surer."""


def doubtful(outcome: Outcome) -> np.ndarray:
    """Notes that were kept or removed only narrowly, or that stand between two lines, in playing order."""
    e = outcome.tally.entries
    unsure = (e.confidence < DOUBTFUL_BELOW) & (e.action == Action.KEPT)
    unsure |= (e.confidence < REMOVED_BELOW) & (e.action == Action.REMOVED)
    unsure |= e.reason == int(BETWEEN)
    return in_order(outcome, distinct(e.origin[unsure]))


def touched(outcome: Outcome, stage: Stage) -> np.ndarray:
    """Notes that a stage did something to, in playing order."""
    return in_order(outcome, outcome.tally.touched_origins(stage))


def removed(outcome: Outcome, reason: Reason) -> np.ndarray:
    """Notes removed for a reason, in playing order."""
    return in_order(outcome, outcome.tally.origins(Action.REMOVED, reason))


def in_order(outcome: Outcome, origins: np.ndarray) -> np.ndarray:
    """The notes in playing order."""
    played = outcome.input_notes
    chosen: np.ndarray = played.origin[np.isin(played.origin, origins, kind="table")]
    return chosen


def reason_removed(outcome: Outcome, origin: int) -> Reason | None:
    """Why a note was removed, or None if it was not."""
    e = outcome.tally.entries
    rows = np.flatnonzero((e.origin == origin) & (e.action == Action.REMOVED) & (e.branch == 0))
    return Reason.of(int(e.reason[rows[0]])) if len(rows) else None


def alike(outcome: Outcome, origin: int) -> np.ndarray:
    """Notes of the same pad with the same outcome: removed for the same reason, or passed as doubtful."""
    played = outcome.input_notes
    row = np.flatnonzero(played.origin == origin)
    if not len(row):
        return np.zeros(0, np.int64)
    i = int(row[0])
    same_pad = (played.note == played.note[i]) & (played.channel == played.channel[i]) & (played.port == played.port[i])
    reason = reason_removed(outcome, origin)
    if reason is not None:
        alike_too = np.isin(played.origin, removed(outcome, reason))
    else:
        unsure = np.isin(played.origin, doubtful(outcome))
        gone = np.isin(played.origin, outcome.tally.origins(Action.REMOVED))
        alike_too = (unsure if unsure[i] else ~unsure) & ~gone
    chosen: np.ndarray = played.origin[same_pad & alike_too]
    return chosen
