"""Parts of an imported file that the result has no place for, as one sentence."""

from __future__ import annotations

from collections import Counter

from puresignal.core.export.song_builder import (
    CHANNEL_PREFIX,
    DEVICE,
    INSTRUMENT,
    OF_TRACK,
    PROGRAM_NAME,
    SEQUENCER,
    file_tracks,
    homes_of_metas,
)
from puresignal.core.midi.events import Take
from puresignal.core.path.cleaning_path import Outcome
from puresignal.translation import mark, tr

TRACK_NAME = 3
_NAMES = {
    TRACK_NAME: (mark("{n} track name"), mark("{n} track names")),
    INSTRUMENT: (mark("{n} instrument name"), mark("{n} instrument names")),
    PROGRAM_NAME: (mark("{n} program name"), mark("{n} program names")),
    DEVICE: (mark("{n} device name"), mark("{n} device names")),
    CHANNEL_PREFIX: (mark("{n} channel prefix"), mark("{n} channel prefixes")),
    SEQUENCER: (mark("{n} event for one sequencer"), mark("{n} events for one sequencer")),
}


def left_out(take: Take, outcome: Outcome) -> tuple[str, ...]:
    """A sentence about what belonged to tracks that became drum tracks; empty if everything has a place."""
    if take.ticks is None:
        return ()
    homes = homes_of_metas(file_tracks(outcome))
    gone = Counter(meta.kind for meta in take.metas if meta.kind in OF_TRACK and meta.port not in homes)
    with_events = set(take.events.port.tolist())
    gone[TRACK_NAME] = sum(1 for i, port in enumerate(take.ports) if port.name and i in with_events and i not in homes)
    told = [tr(_NAMES[kind][n > 1], n=n) for kind, n in sorted(gone.items()) if n]
    if not told:
        return ()
    return (tr("Not in the result, since their tracks became drum tracks: {what}.", what=", ".join(told)),)
