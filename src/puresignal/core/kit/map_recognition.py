"""Recognising the kit: note maps ranked by how well they explain a take."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from math import log

import numpy as np

from puresignal.core.kit.articulations import HAT_EDGE_HALF, canonical, family_of
from puresignal.core.kit.map_lookup import articulation_table, hat_channels
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi import messages
from puresignal.core.midi.events import Take

SHARES = {"kick": 0.22, "snare": 0.26, "hat": 0.28, "tom": 0.08, "cymbal": 0.13, "percussion": 0.02, "other": 0.01}
"""Rough share of hits on each family in ordinary drumming; a map that implies other shares is less likely."""

UNKNOWN = 2e-4
"""Likelihood of a hit on a note that the right map lacks: an added pad, a stray note."""

_WITHIN = {
    "snare.head": 6.0, "hat.closed": 4.0, "hat.open": 1.5, "hat.half": 1.0, "hat.pedal": 1.0, "hat.splash": 0.3,
    "ride.bow": 4.0, "crash1.bow": 1.0, "snare.side": 0.8, "snare.rim": 0.8,
}  # fmt: skip


@dataclass(frozen=True)
class Guess:
    """One map and how well it explains a take.

    explained  hits on notes that it knows, out of `hits`
    unknown    (channel, note) pairs that it lacks, most frequent first
    pedal      whether its hat pedal moved; None for a map without one
    score      mean log likelihood of a hit; higher is better
    """

    note_map: NoteMap
    explained: int
    hits: int
    unknown: tuple[tuple[int, int], ...]
    pedal: bool | None
    score: float


def recognise(take: Take, maps: Iterable[NoteMap]) -> tuple[Guess, ...]:
    """The maps ranked by how well they explain a take, best first.

    The likelihood of a hit is its family's share in ordinary drumming, split over the family's pads. A note that
    the map lacks is very unlikely, and so is a moving pedal that the map does not know.
    """
    events = take.events
    kind, channel = messages.kinds(events.status), messages.channels(events.status)
    on = (kind == messages.NOTE_ON) & (events.data2 > 0)
    key = channel[on].astype(np.int64) * 128 + events.data1[on]
    notes, counts = np.unique(key, return_counts=True)
    moved = {
        (int(c), int(n))
        for c, n in zip(channel[kind == messages.CONTROL], events.data1[kind == messages.CONTROL], strict=True)
    }  # fmt: skip
    busy = {
        pair
        for pair in moved
        if _travel(events.data2, (kind == messages.CONTROL) & (channel == pair[0]) & (events.data1 == pair[1]))
    }
    guesses = [_guess(note_map, notes, counts, busy) for note_map in maps]
    return tuple(sorted(guesses, key=lambda g: -g.score))


def _travel(values: np.ndarray, rows: np.ndarray) -> bool:
    """Whether a controller moves like a pedal: back and forth over part of its travel."""
    here = values[rows]
    return len(here) >= 4 and int(here.max()) - int(here.min()) >= 24


def _guess(note_map: NoteMap, notes: np.ndarray, counts: np.ndarray, busy: set[tuple[int, int]]) -> Guess:
    weights = _weights(note_map)
    names = list(dict.fromkeys(canonical(pad.articulation) for pad in note_map.pads))
    table = articulation_table(note_map, {name: code for code, name in enumerate(names)})
    total = int(counts.sum())
    score, explained = 0.0, 0
    unknown: list[tuple[int, tuple[int, int]]] = []
    for key, count in zip(notes.tolist(), counts.tolist(), strict=True):
        channel, note = divmod(key, 128)
        code = int(table[channel, note])
        if code < 0:
            unknown.append((count, (channel, note)))
            score += count * log(UNKNOWN)
        else:
            explained += count
            score += count * log(weights[names[code]])
    pedal: bool | None = None
    if note_map.hat is not None:
        channels = np.flatnonzero(hat_channels(note_map)).tolist()
        pedal = any((c, note_map.hat.controller) in busy for c in channels)
    others = {n for _, n in busy} - ({note_map.hat.controller} if note_map.hat is not None else set())
    # A moving pedal that the map does not know counts against it as much as one unknown hit in twenty.
    if pedal is False or (others & {1, 4} and not pedal):
        score += 0.05 * total * log(UNKNOWN)
    ordered = tuple(pair for _, pair in sorted(unknown, key=lambda item: (-item[0], item[1])))
    return Guess(note_map, explained, total, ordered, pedal, score / max(1, total))


def _weights(note_map: NoteMap) -> dict[str, float]:
    """Likelihood of a hit on each articulation; the articulations of one family share the family's likelihood."""
    names = {canonical(pad.articulation) for pad in note_map.pads}
    if note_map.hat is not None and not note_map.hat.notes_follow_pedal:
        names |= {HAT_EDGE_HALF} if "hat.edge.closed" in names else set()
    sums: dict[str, float] = {}
    for name in names:
        sums[family_of(name)] = sums.get(family_of(name), 0.0) + _WITHIN.get(name, 0.5)
    here = sum(SHARES[family] for family in sums)
    return {
        name: SHARES[family_of(name)] / here * _WITHIN.get(name, 0.5) / sums[family_of(name)] for name in names
    }  # fmt: skip
