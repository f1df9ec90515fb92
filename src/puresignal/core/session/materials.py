"""The material of each take: stored events, or what its own values say."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

import numpy as np

from puresignal.core.midi.events import Events, Port, Take
from puresignal.core.midi.messages import NOTE_OFF, NOTE_ON
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.core.session.take_ref import DRAWN, GENERATED, IMPORTED, PLAYED, DrawnNote, TakeRef

DRAWN_PPQ = 9_600
"""Ticks a quarter note of what was drawn: quintuplets, triplets and 128ths fall on whole ones."""


def material_of(ref: TakeRef, stored: Mapping[str, Take]) -> Take:
    """The events that a take is made of; none for a recorded sound, which has no notes of its own.

    stored  by ident
    Raises KeyError if it is not there
    """
    if ref.kind in (PLAYED, IMPORTED):
        return stored[ref.material]
    if ref.kind in (DRAWN, GENERATED):
        return _drawn(ref.ident, ref.name, ref.drawn)
    return stored.get(ref.material) or _empty(ref.ident, ref.name)


@lru_cache(maxsize=256)
def _empty(ident: str, name: str) -> Take:
    return Take(ident, name, Events.empty(), (Port(name),), TempoMap.steady(120))


def numbers_of_drawn(ref: TakeRef) -> np.ndarray:
    """(events,) number of the drawn note that each event of a drawn take begins or ends."""
    return np.array([row[2] for row in _drawn_rows(ref.drawn)], np.int64)


@lru_cache(maxsize=64)
def _drawn_rows(notes: tuple[DrawnNote, ...]) -> list[tuple[int, int, int, tuple[int, int, int]]]:
    """(tick, 0 for ends and 1 for beginnings, number, message) of drawn notes, in order."""
    rows = []
    for one in notes:
        begin, end = round(one.beat * DRAWN_PPQ), round((one.beat + one.beats) * DRAWN_PPQ)
        velocity = max(1, min(127, round(one.velocity)))
        rows.append((begin, 1, one.number, (NOTE_ON | one.channel - 1, one.note, velocity)))
        rows.append((max(end, begin + 1), 0, one.number, (NOTE_OFF | one.channel - 1, one.note, 64)))
    rows.sort(key=lambda row: row[:3])
    return rows


@lru_cache(maxsize=64)
def _drawn(ident: str, name: str, notes: tuple[DrawnNote, ...]) -> Take:
    """Drawn notes as events, ends before beginnings of the same moment."""
    tempo, rows = TempoMap.steady(120, ppq=DRAWN_PPQ), _drawn_rows(notes)
    # Before the take's own beginning there is nothing: what was drawn there is moved up with it.
    ticks = np.array([max(0, row[0]) for row in rows], np.int64)
    data = np.array([row[3] for row in rows], np.int64).reshape(-1, 3)
    events = Events(
        tempo.ticks_to_seconds(ticks), np.zeros(len(rows), np.int64), data[:, 0], data[:, 1], data[:, 2],
        np.full(len(rows), -1),
    )  # fmt: skip
    return Take(ident, name, events, (Port(name),), tempo, ticks=ticks, end_tick=int(ticks.max(initial=0)))
