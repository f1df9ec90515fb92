"""The contents of a Standard MIDI File as values, as the reader and writer in `io` use them."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any, ClassVar

import numpy as np

from puresignal.core.midi import messages
from puresignal.core.midi.columns import Columns
from puresignal.core.midi.events import Events, Meta, Port, Take
from puresignal.core.midi.tempo_map import TempoMap, on_arrival_grid


@dataclass(frozen=True, eq=False)
class Messages(Columns):
    """A track's channel and system messages in the order of their ticks.

    tick     (n,) int64 ticks from the start
    status   (n,) status byte, 0x80 .. 0xF7
    data1    (n,) 0..127
    data2    (n,) 0..127, 0 where the message has none
    payload  (n,) index into the track's payloads, -1 for a channel message
    """

    tick: np.ndarray
    status: np.ndarray
    data1: np.ndarray
    data2: np.ndarray
    payload: np.ndarray

    DTYPES: ClassVar[dict[str, Any]] = {
        "tick": "i8", "status": "u1", "data1": "u1", "data2": "u1", "payload": "i4",
    }  # fmt: skip


@dataclass(frozen=True, eq=False)
class SongTrack:
    """One track: name, messages, meta events and end.

    port  MIDI port number of the track (meta event 0x21), 0 by default
    """

    name: str
    messages: Messages
    metas: tuple[Meta, ...] = ()
    payloads: tuple[bytes, ...] = ()
    end_tick: int = 0
    port: int = 0


@dataclass(frozen=True, eq=False)
class Song:
    """A whole file. `tempo` holds the ticks per quarter note, all tempos and all meters."""

    format: int
    tempo: TempoMap
    tracks: tuple[SongTrack, ...]
    notices: tuple[str, ...] = field(default=())

    @property
    def note_count(self) -> int:
        """Number of note-ons that start a note."""
        return sum(
            int(np.count_nonzero((messages.kinds(t.messages.status) == messages.NOTE_ON) & (t.messages.data2 > 0)))
            for t in self.tracks
        )


def to_take(song: Song, ident: str, name: str, original: bytes | None = None) -> Take:
    """A take from a file: all tracks merged by time, each track a port of its own.

    Messages of one tick keep the order of their tracks, which is the order in which sequencers play them.
    """
    tracks = song.tracks
    ticks = np.concatenate([t.messages.tick for t in tracks]) if tracks else np.zeros(0, np.int64)
    order = np.argsort(ticks, kind="stable")
    offsets = np.cumsum([0, *(len(t.payloads) for t in tracks)])
    payload = [np.where(t.messages.payload >= 0, t.messages.payload + offsets[i], -1) for i, t in enumerate(tracks)]

    def column(parts: list[np.ndarray]) -> np.ndarray:
        return np.concatenate(parts)[order] if parts else np.zeros(0)

    events = Events(
        arrived=on_arrival_grid(song.tempo.ticks_to_seconds(ticks[order])),
        port=column([np.full(len(t.messages), i) for i, t in enumerate(tracks)]),
        status=column([t.messages.status for t in tracks]),
        data1=column([t.messages.data1 for t in tracks]),
        data2=column([t.messages.data2 for t in tracks]),
        payload=column(payload),
    )
    own = ticks[order]
    own.flags.writeable = False
    return Take(
        ident=ident,
        name=name,
        events=events,
        ports=tuple(Port(t.name, t.port) for t in tracks) or (Port(""),),
        tempo=song.tempo,
        payloads=tuple(p for t in tracks for p in t.payloads),
        ticks=own,
        metas=tuple(sorted((replace(m, port=i) for i, t in enumerate(tracks) for m in t.metas), key=lambda m: m.tick)),
        end_tick=max((t.end_tick for t in tracks), default=0),
        original=original,
        notices=song.notices,
    )
