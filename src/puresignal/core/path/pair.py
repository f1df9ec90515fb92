"""Pairing: note-ons with their ends.

A note ends at the next note-off of its port, channel and note, or at the next note-on of the same key: a
repeated note-on is a real hit, and the first note ends there. Note-ons of one key at one moment do not end each other:
each takes one of the note-offs that follow. "All sound off" and "all notes off" end the
sounding notes of their channel. A note without an end stays held (end is NaN); a later stage decides.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from puresignal.core.midi import messages
from puresignal.core.midi.columns import distinct, note_keys, numbered
from puresignal.core.midi.events import (
    DEFAULT_RELEASE,
    NO_ARTICULATION,
    NO_EVENT,
    NO_TRACK,
    Controls,
    Events,
    Notes,
    playing_order,
)
from puresignal.core.midi.messages import BEND, CONTROL, NOTE_OFF, NOTE_ON, POLY_PRESSURE
from puresignal.core.path import live
from puresignal.core.path.live import LiveEvent, LiveStage

ALL_SOUND_OFF, ALL_NOTES_OFF = 120, 123
FINE = 88
"""High resolution velocity prefix (MIDI 1.0, CA-031): seven more bits for the next note of its channel."""


class Paired(NamedTuple):
    """Notes and controls of a take, and the number of note-offs without a note-on."""

    notes: Notes
    controls: Controls
    strays: int


def pair(events: Events) -> Paired:
    """Notes and controls from raw events, in playing order."""
    order = playing_order(events)
    status = events.status[order]
    kind = messages.kinds(status)
    data1, data2 = events.data1[order], events.data2[order]
    port, channel = events.port[order], messages.channels(status)
    at = events.arrived[order]

    is_on = (kind == NOTE_ON) & (data2 > 0)
    is_off = (kind == NOTE_OFF) | ((kind == NOTE_ON) & (data2 == 0))
    rows = np.flatnonzero(is_on | is_off)
    key = note_keys(port[rows].astype(np.int32) * 17 + channel[rows], data1[rows])
    by_key = np.argsort(key, kind="stable")
    rows, key = rows[by_key], key[by_key]
    followed = np.zeros(len(rows), bool)
    followed[:-1] = key[1:] == key[:-1]
    after = np.full(len(rows), NO_EVENT, np.int64)
    after[:-1] = np.where(followed[:-1], rows[1:], NO_EVENT)
    on = is_on[rows]
    _pair_same_moment(rows, key, on, at[rows], after)
    begins, ends = rows[on], after[on]
    strays = _strays(key, on)

    sort = np.argsort(begins)
    begins, ends = begins[sort], ends[sort]
    ends = _ended_by_channel_mode(kind, data1, port, channel, begins, ends)
    is_fine = (kind == CONTROL) & (data1 == FINE)
    velocity = _fine(data2, is_fine, is_on | is_off, port.astype(np.int64) * 17 + channel)
    held = ends < 0
    released = ~held & is_off[ends] & (kind[ends] == NOTE_OFF)
    notes = Notes(
        start=at[begins],
        end=np.where(held, np.nan, at[ends]),
        port=port[begins],
        channel=channel[begins],
        note=data1[begins],
        velocity=velocity[begins],
        release=np.where(released, data2[ends], DEFAULT_RELEASE),
        articulation=np.full(len(begins), NO_ARTICULATION),
        closedness=np.full(len(begins), np.nan),
        track=np.full(len(begins), NO_TRACK),
        origin=order[begins],
        branch=np.zeros(len(begins)),
        end_event=np.where(held, NO_EVENT, order[ends]),
        seq=begins,
    )
    rest = np.flatnonzero((kind >= POLY_PRESSURE) & (kind <= BEND) & ~is_fine)
    controls = Controls(
        at=at[rest], port=port[rest], channel=channel[rest], kind=kind[rest], number=data1[rest], value=data2[rest],
        track=np.full(len(rest), NO_TRACK), origin=order[rest], seq=rest,
    )  # fmt: skip
    return Paired(notes, controls, strays)


def _pair_same_moment(rows: np.ndarray, key: np.ndarray, on: np.ndarray, at: np.ndarray, after: np.ndarray) -> None:
    """Change `after` for keys with several note-ons at one moment. All arrays are by key, then in playing order."""
    together = on[1:] & on[:-1] & (key[1:] == key[:-1]) & (at[1:] == at[:-1])
    for one in distinct(key[1:][together]).tolist():
        first, last = np.searchsorted(key, (one, one + 1)).tolist()
        # Lists, because single values of arrays are slow to read.
        events, is_on, moment = (each[first:last].tolist() for each in (rows, on, at))
        ends = after[first:last].tolist()
        sounding: list[int] = []
        for i, event in enumerate(events):
            if not is_on[i]:
                if sounding:
                    ends[sounding.pop(0)] = event
                continue
            if sounding and moment[i] > moment[sounding[-1]]:
                for earlier in sounding:
                    ends[earlier] = event
                sounding = []
            ends[i] = NO_EVENT
            sounding.append(i)
        after[first:last] = ends


def whole_and_fine(velocity: float) -> tuple[int, int | None]:
    """A velocity as MIDI sends it: the note's own, and the prefix if it is fractional."""
    whole = max(1, min(127, round(velocity)))
    return whole, None if velocity == whole else max(0, min(127, round((velocity - whole) * 128 + 63.5)))


def with_fine(whole: int, fine: int) -> float:
    """The velocity of a note and the prefix before it.

    The prefix divides the step around the whole velocity, so that a receiver that ignores it rounds correctly.
    """
    return whole + (fine - 63.5) / 128


def _fine(data2: np.ndarray, is_fine: np.ndarray, is_note: np.ndarray, lane: np.ndarray) -> np.ndarray:
    """Velocities by message, with the prefix before each note added."""
    velocity = data2.astype(np.float32)
    prefixes = np.flatnonzero(is_fine)
    for one in distinct(lane[prefixes]):
        mine = prefixes[lane[prefixes] == one]
        notes = np.flatnonzero(is_note & (lane == one))
        place = np.searchsorted(notes, mine)
        # Of two prefixes before one note the later counts.
        counts = (place < len(notes)) & np.append(place[1:] != place[:-1], True)
        at = notes[place[counts]]
        velocity[at] = data2[at] + (data2[mine[counts]] - np.float32(63.5)) / 128
    return velocity


def _strays(key: np.ndarray, on: np.ndarray) -> int:
    """Note-offs without a note-on: keys with more ends than starts."""
    if not len(key):
        return 0
    _, lane = numbered(key)
    surplus = np.bincount(lane, weights=np.where(on, -1, 1))
    return int(surplus[surplus > 0].sum())


def _ended_by_channel_mode(
    kind: np.ndarray, data1: np.ndarray, port: np.ndarray, channel: np.ndarray, begins: np.ndarray, ends: np.ndarray
) -> np.ndarray:
    modes = np.flatnonzero((kind == CONTROL) & ((data1 == ALL_SOUND_OFF) | (data1 == ALL_NOTES_OFF)))
    if not len(modes):
        return ends
    ends = ends.copy()
    lane = port.astype(np.int64) * 16 + channel
    for one in distinct(lane[modes]):
        stops = modes[lane[modes] == one]
        mine = np.flatnonzero(lane[begins] == one)
        place = np.searchsorted(stops, begins[mine])
        found = place < len(stops)
        mine, stop = mine[found], stops[place[found]]
        sooner = (ends[mine] < 0) | (stop < ends[mine])
        ends[mine[sooner]] = stop[sooner]
    return ends


class LivePair(LiveStage):
    """The same, one raw message at a time. State: for each sounding key when it was last struck, and the origins."""

    def __init__(self) -> None:
        self._sounding: dict[int, tuple[float, list[int]]] = {}
        self._prefix: dict[int, int] = {}

    def message(self, at: float, port: int, status: int, data1: int, data2: int, event: int) -> list[LiveEvent]:
        """The events of a raw message. `event` is its number in the take."""
        kind, channel = status & messages.KIND, (status & messages.CHANNEL) + 1
        fine = self._prefix.pop(port * 17 + channel, None) if self._prefix and kind in (NOTE_ON, NOTE_OFF) else None
        if kind == NOTE_ON and data2:
            key = (port * 17 + channel) * 128 + data1
            velocity = float(data2) if fine is None else with_fine(data2, fine)
            begun = LiveEvent(live.ON, at, port, channel, data1, velocity, event)
            before = self._sounding.get(key)
            if before is None:
                self._sounding[key] = at, [event]
                return [begun]
            if before[0] == at:
                before[1].append(event)
                return [begun]
            self._sounding[key] = at, [event]
            ends = [self._end(at, port, channel, data1, one, event, event, DEFAULT_RELEASE) for one in before[1]]
            return [*ends, begun]
        if kind in (NOTE_OFF, NOTE_ON):
            key = (port * 17 + channel) * 128 + data1
            sounding = self._sounding.get(key)
            if sounding is None:
                return []
            origin = sounding[1].pop(0)
            if not sounding[1]:
                del self._sounding[key]
            release = data2 if kind == NOTE_OFF else DEFAULT_RELEASE
            return [self._end(at, port, channel, data1, origin, event, -1, release)]
        if not POLY_PRESSURE <= kind <= BEND:
            return []
        if kind == CONTROL and data1 == FINE:
            self._prefix[port * 17 + channel] = data2
            return []
        control = LiveEvent(live.CONTROL, at, port, channel, data1, float(data2), event)
        control.status = kind
        leaving = []
        if kind == CONTROL and data1 in (ALL_SOUND_OFF, ALL_NOTES_OFF):
            lane = port * 17 + channel
            for key in [key for key in self._sounding if key // 128 == lane]:
                for origin in self._sounding.pop(key)[1]:
                    leaving.append(self._end(at, port, channel, key % 128, origin, event, -1, DEFAULT_RELEASE))
        return [*leaving, control]

    @staticmethod
    def _end(
        at: float, port: int, channel: int, note: int, origin: int, event: int, by: int, release: int
    ) -> LiveEvent:
        end = LiveEvent(live.OFF, at, port, channel, note, 0.0, origin)
        end.end_event, end.by, end.release = event, by, release
        return end

    def sounding(self) -> list[tuple[int, int, int]]:
        """(port, channel, note) of every held note."""
        held = ((key, origins) for key, (_, origins) in self._sounding.items())
        return [(key // 128 // 17, key // 128 % 17, key % 128) for key, origins in held for _ in origins]

    def held(self) -> int:
        return sum(len(origins) for _, origins in self._sounding.values())
