"""The notes of a result as a list of events with exact values."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.timing.session_time import Timeline

TICKS = 960
"""Ticks of a quarter note in the list."""


@dataclass(frozen=True, eq=False)
class EventList:
    """Columns of the notes that leave, in playing order.

    origin    (n,) numbers of the events that started them
    beat      (n,) quarter notes from bar 1
    bar, into (n,) bar, and quarter notes from its line
    second    (n,) from bar 1
    track     (n,) index into the result's tracks
    articulation (n,) index into its vocabulary, -1 for none
    note, channel, velocity (n,)
    length    (n,) quarter notes; NaN while held
    """

    origin: np.ndarray
    beat: np.ndarray
    bar: np.ndarray
    into: np.ndarray
    second: np.ndarray
    track: np.ndarray
    articulation: np.ndarray
    note: np.ndarray
    channel: np.ndarray
    velocity: np.ndarray
    length: np.ndarray

    def __len__(self) -> int:
        return len(self.origin)


def events_of(outcome: Outcome, timeline: Timeline, shift: float) -> EventList:
    """All notes of a result, each hit once: what it is sent as further stands on its own tracks.

    shift  seconds of the result before bar 1
    """
    notes = outcome.output_notes
    notes = notes.take(notes.branch == 0)
    second = notes.start - shift
    beat = timeline.seconds_to_beats(second)
    # A hair before a bar line, as rounding to ticks has it, is on it.
    steady = beat + 0.5 / TICKS
    first = timeline.beats_to_bar(float(steady.min(initial=0.0)))[0]
    last = timeline.beats_to_bar(float(steady.max(initial=0.0)))[0] + 1
    begins = np.array([timeline.bar_to_beats(bar) for bar in range(first, last + 1)])
    place = np.clip(np.searchsorted(begins, steady, "right") - 1, 0, len(begins) - 1)
    end = timeline.seconds_to_beats(np.nan_to_num(notes.end) - shift)
    length = np.where(np.isnan(notes.end), np.nan, end - beat)
    return EventList(
        notes.origin, beat, place + first, np.maximum(0.0, beat - begins[place]), second, notes.track,
        notes.articulation, notes.note, notes.channel, notes.velocity, length,
    )  # fmt: skip


def place_text(bar: int, into: float, beat_long: float) -> str:
    """bar.beat.tick, beats counted from 1. beat_long: quarter notes of a beat."""
    ticks = round(into * TICKS)
    of_beat = round(beat_long * TICKS)
    return f"{bar}.{ticks // of_beat + 1}.{ticks % of_beat:03d}"


def place_of(text: str, beat_long: float) -> tuple[int, float]:
    """Bar, and quarter notes from its line, of a place like "5.2.480".

    Raises ValueError for anything else
    """
    parts = text.strip().split(".")
    if not 1 <= len(parts) <= 3:
        raise ValueError(text)
    bar, beat, tick = (int(part) for part in (*parts, *["1", "0"][len(parts) - 1 :]))
    if beat < 1 or tick < 0:
        raise ValueError(text)
    return bar, (beat - 1) * beat_long + tick / TICKS
