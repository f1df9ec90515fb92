"""The groove of what is shown, or of a stretch of it."""

from __future__ import annotations

import numpy as np

from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.timing.groove import Groove, extracted
from puresignal.core.timing.quantise import Bars
from puresignal.core.timing.session_time import Timeline


def groove_of(
    name: str, outcome: Outcome, timeline: Timeline, shift: float, stretch: tuple[float, float] | None = None
) -> Groove | None:
    """The groove as it was played; None where there is too little.

    shift    seconds of the file before bar 1
    stretch  seconds of the file; None: all
    """
    played = outcome.input_notes
    mine = np.isin(played.origin, outcome.output_notes.origin)
    if stretch is not None:
        mine &= (played.start >= stretch[0] - 0.03) & (played.start < stretch[1] - 0.03)
    notes = played.take(mine)
    if len(notes) < 8:
        return None
    beats = timeline.seconds_to_beats(notes.start - shift)
    bars = Bars.of(timeline, beats)
    # A stroke a little before a bar line belongs to it.
    bar = bars.bar(beats + 0.1)
    first = int(bar.min())
    long = timeline.beats_to_seconds(beats + 0.5) - timeline.beats_to_seconds(beats - 0.5)
    key = notes.track.astype(np.int64) * 256 + notes.articulation
    length = float(bars.begin[first + 1] - bars.begin[first])
    return extracted(name, beats - bars.begin[bar], long, notes.velocity.astype(float), key, length)
