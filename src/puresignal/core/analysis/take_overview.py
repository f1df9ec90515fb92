"""An overview of a take: one line for each note that arrived, and figures of the whole."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.kit.articulations import sort_key
from puresignal.core.midi import messages
from puresignal.core.midi.columns import distinct
from puresignal.core.midi.events import Take
from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.path.context import Context

BINS = 16
"""Bins of the velocity histogram, eight velocities each."""


@dataclass(frozen=True)
class Arrival:
    """All hits of one note on one channel.

    articulations   what they were identified as, most frequent first; empty if unmapped or outside the kit's channels
    unmapped        the source map covers the channel but lacks the note
    softest, loudest, middle   velocities; `middle` is the median
    histogram       (BINS,) hits by velocity
    leaves          notes that they leave as, most frequent first
    """

    channel: int
    note: int
    count: int
    articulations: tuple[str, ...]
    unmapped: bool
    softest: int
    middle: int
    loudest: int
    histogram: tuple[int, ...]
    leaves: tuple[int, ...] = ()


@dataclass(frozen=True)
class Facts:
    """Figures of the whole take. Messages are counted by kind, in words."""

    seconds: float
    notes: int
    messages: int
    kinds: tuple[tuple[str, int], ...]
    channels: tuple[int, ...]


_KINDS = {
    messages.NOTE_OFF: "note-off",
    messages.NOTE_ON: "note-on",
    messages.POLY_PRESSURE: "key pressure",  # not shown
    messages.CONTROL: "controller",
    messages.PROGRAM: "program",
    messages.PRESSURE: "pressure",
    messages.BEND: "bend",
    messages.SYSTEM: "system message",  # not shown
}
"""Kinds of messages, worded for the player by `text_format.counted`."""


def arrivals(outcome: Outcome, context: Context) -> tuple[Arrival, ...]:
    """Every note that arrived: unmapped ones first, then the most frequent, equals in the order of the kit."""
    played, clean = outcome.input_notes, outcome.output_notes
    if not len(played):
        return ()
    key = played.channel.astype(np.int64) * 128 + played.note
    rows = []
    for one in distinct(key).tolist():
        mine = np.flatnonzero(key == one)
        channel, note = divmod(one, 128)
        codes, counts = np.unique(played.articulation[mine], return_counts=True)
        by_count = [int(codes[i]) for i in np.argsort(-counts, kind="stable")]
        names = tuple(outcome.vocabulary[code] for code in by_count if code >= 0)
        velocity = played.velocity[mine]
        rows.append(
            Arrival(
                channel=channel,
                note=note,
                count=len(mine),
                articulations=names,
                unmapped=not names and bool(context.mapped_channels[channel]),
                softest=int(velocity.min()),
                middle=int(np.median(velocity)),
                loudest=int(velocity.max()),
                leaves=_leaves(clean.note[np.isin(clean.origin, played.origin[mine])]),
                histogram=tuple(np.bincount((velocity // 8).astype(int), minlength=BINS).tolist()),
            )
        )
    # Where the pedal decides the opening, one pad is several articulations; it is listed with its first.
    return tuple(
        sorted(
            rows,
            key=lambda r: (
                not r.unmapped,
                -r.count,
                not r.articulations,
                min(map(sort_key, r.articulations)) if r.articulations else (0, "", 0, ""),
                r.channel,
                r.note,
            ),
        )
    )


def _leaves(notes: np.ndarray) -> tuple[int, ...]:
    found, counts = np.unique(notes, return_counts=True)
    return tuple(int(found[i]) for i in np.argsort(-counts, kind="stable"))


def facts(take: Take, outcome: Outcome) -> Facts:
    """Figures of the take as it arrived."""
    status = take.events.status
    kind = messages.kinds(status)
    kind = np.where((kind == messages.NOTE_ON) & (take.events.data2 == 0), messages.NOTE_OFF, kind)
    found, counts = np.unique(kind, return_counts=True)
    return Facts(
        seconds=take.length,
        notes=outcome.tally.arrived,
        messages=len(status),
        kinds=tuple((_KINDS[int(k)], int(n)) for k, n in zip(found, counts, strict=True)),
        channels=tuple(int(c) for c in distinct(outcome.input_notes.channel)),
    )
