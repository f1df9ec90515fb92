"""Removing a note: a note that it had cut short inherits its end."""

from __future__ import annotations

import numpy as np

from puresignal.core.midi.events import Notes
from puresignal.core.path.stage_description import Reason
from puresignal.translation import mark

BY_HAND = Reason(mark("by hand"), mark("Hits that you removed."))
USED_TO_CONTROL = Reason(mark("control"), mark("Hits that controlled the program: recorded, stopped, began again."))
NARROWLY_KEPT = Reason(mark("doubtful"), mark("Hits that were kept only narrowly."))
INHERITED_END = Reason(mark("double's end"))
"""A hit that got the end of a removed one after it."""


def inherit(
    notes: Notes, by_pad: np.ndarray, key: np.ndarray, removed: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """A note that a removed one had cut short inherits the removed one's end.

    by_pad   rows by pad, then by time; key: (notes,) number of each note's pad
    Returns  end, end_event and release of all notes, and the rows that inherited
    """
    end, end_event, release = notes.end.copy(), notes.end_event.copy(), notes.release.copy()
    places = np.flatnonzero(removed[by_pad])
    places = places[places > 0]
    rows, before = by_pad[places], by_pad[places - 1]
    cut = (key[rows] == key[before]) & (notes.end_event[before] == notes.origin[rows])
    heirs: set[int] = set()
    # From the last to the first, so that an end is passed on through several removed hits in a row.
    for row, heir in zip(rows[cut][::-1].tolist(), before[cut][::-1].tolist(), strict=True):
        end[heir], end_event[heir], release[heir] = end[row], end_event[row], release[row]
        heirs.discard(row)
        if not removed[heir]:
            heirs.add(heir)
    return end, end_event, release, np.array(sorted(heirs), np.int64)
