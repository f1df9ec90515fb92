"""The playback score of a take: messages by time, each with its output."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.export.song_builder import channels_of, file_tracks, fine_parts, levelled
from puresignal.core.midi.messages import CONTROL, NOTE_OFF, NOTE_ON
from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.path.pair import FINE
from puresignal.core.session.track_settings import Delivery


@dataclass(frozen=True, eq=False)
class Score:
    """The messages of playback.

    at     (events,) seconds, rising; at one moment note ends come first, then controls, then note-ons
    data   (events, 4) uint8: output, status, data 1, data 2
    first  (output, message): banks, programs and levels, sent before everything else
    """

    at: np.ndarray
    data: np.ndarray
    first: tuple[tuple[int, bytes], ...]


def outputs_of(outcome: Outcome, delivery: Delivery, sound: str) -> tuple[str, ...]:
    """The destinations of the tracks; `sound` is used for tracks without one."""
    return tuple(dict.fromkeys(entry.settings.port or sound for entry in file_tracks(outcome, delivery)))


def score(outcome: Outcome, delivery: Delivery, outputs: tuple[str, ...], sound: str) -> Score:
    """The output notes and controls of the tracks that are heard.

    outputs  names in the order of the score's output numbers; a track whose port is not among them is silent
    """
    clean, controls = levelled(outcome.output_notes, file_tracks(outcome, delivery)), outcome.controls
    times, ranks, orders, places, rows = [], [], [], [], []
    first: list[tuple[int, bytes]] = []
    for entry in file_tracks(outcome, delivery):
        port = entry.settings.port or sound
        if port not in outputs or not entry.out or not delivery.heard(entry.track.key):
            continue
        output = outputs.index(port)
        mine, moves = clean.take(clean.track == entry.index), controls.take(controls.track == entry.index)
        for channel in channels_of(entry, mine.channel):
            first += [(output, message) for message in entry.settings.first_messages(channel)]
        own, own_moves = mine.channel - 1, moves.channel - 1
        if entry.channel is not None:
            own, own_moves = np.full(len(mine), entry.channel - 1), np.full(len(moves), entry.channel - 1)
        velocity, prefix, exact = fine_parts(mine.velocity)
        place = np.arange(len(mine)) * 2 + 1
        late = entry.settings.offset / 1000.0
        begins = mine.start + late
        ends = np.maximum(mine.end, mine.start + SHORTEST) + late
        finer = (CONTROL | own[exact], np.full(len(exact), FINE), prefix[exact])
        for at, rank, order, within, columns in (
            (ends, 0, mine.seq, place, (NOTE_OFF | own, mine.note, mine.release)),
            (moves.at + late, 1, moves.seq, np.zeros(len(moves)), (moves.kind | own_moves, moves.number, moves.value)),
            (begins, 2, mine.seq, place, (NOTE_ON | own, mine.note, velocity)),
            (begins[exact], 2, mine.seq[exact], place[exact] - 1, finer),
        ):
            times.append(at)
            ranks.append(np.full(len(at), rank))
            orders.append(order)
            places.append(within)
            rows.append(np.column_stack([np.full(len(at), output), *columns]))
    if not times:
        return Score(np.zeros(0), np.zeros((0, 4), np.uint8), tuple(first))
    # Nothing comes before the beginning, however early its track is.
    at = np.maximum(np.concatenate(times), 0.0)
    order = np.lexsort((np.concatenate(places), np.concatenate(orders), np.concatenate(ranks), at))
    return Score(at[order], np.concatenate(rows)[order].astype(np.uint8), tuple(first))


SHORTEST = 0.001
"""Shortest note in seconds: one that ended at its own start would never be heard."""
