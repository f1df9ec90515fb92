"""Raw events, and the notes and controls made of them: the types that all code passes around.

Times are seconds from the start of the take, multiples of 20 µs. Channels run from 1 to 16. `origin` is the
number of the event that a note came from; verdicts, edits and random draws refer to notes by it.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np

from puresignal.core.midi import messages
from puresignal.core.midi.columns import Columns
from puresignal.core.midi.tempo_map import TempoMap

NO_EVENT = -1
NO_ARTICULATION = -1
NO_TRACK = -1
DEFAULT_RELEASE = 64
"""Release velocity where the instrument sent none (MIDI 1.0 specification, note off)."""


@dataclass(frozen=True, eq=False)
class Events(Columns):
    """Raw messages in the order of arrival.

    arrived  (n,) float64 seconds, never decreasing
    port     (n,) index into the take's ports
    status   (n,) status byte with its channel bits; 0xF0 and above are system messages
    data1    (n,) 0..127
    data2    (n,) 0..127, 0 where the message has none
    payload  (n,) index into the take's payloads, -1 for a message without one
    """

    arrived: np.ndarray
    port: np.ndarray
    status: np.ndarray
    data1: np.ndarray
    data2: np.ndarray
    payload: np.ndarray

    DTYPES: ClassVar[dict[str, Any]] = {
        "arrived": "f8", "port": "i2", "status": "u1", "data1": "u1", "data2": "u1", "payload": "i4",
    }  # fmt: skip


@dataclass(frozen=True, eq=False)
class Notes(Columns):
    """Notes in the order of their starts; row i of every column is one note.

    start, end    (n,) float64 seconds; end is NaN while a note is held
    port          (n,) index into the take's ports
    channel       (n,) 1..16
    note          (n,) 0..127
    velocity      (n,) float, 1..127; fractions carry high-resolution velocity
    release       (n,) 0..127
    articulation  (n,) index into the vocabulary, -1 for none
    closedness    (n,) position of the hat pedal from open 0 to closed 1; NaN where none was received
    track         (n,) index into the path's tracks, -1 before the split
    origin        (n,) number of the event that started the note
    branch        (n,) 0, or 1, 2 .. for further notes that one hit is sent as
    end_event     (n,) number of the event that ended the note, -1 where the path made the end
    seq           (n,) position in playing order, rising with start
    """

    start: np.ndarray
    end: np.ndarray
    port: np.ndarray
    channel: np.ndarray
    note: np.ndarray
    velocity: np.ndarray
    release: np.ndarray
    articulation: np.ndarray
    closedness: np.ndarray
    track: np.ndarray
    origin: np.ndarray
    branch: np.ndarray
    end_event: np.ndarray
    seq: np.ndarray

    DTYPES: ClassVar[dict[str, Any]] = {
        "start": "f8", "end": "f8", "port": "i2", "channel": "u1", "note": "u1", "velocity": "f4", "release": "u1",
        "articulation": "i2", "closedness": "f4", "track": "i2", "origin": "i8", "branch": "i2", "end_event": "i8",
        "seq": "i8",
    }  # fmt: skip


@dataclass(frozen=True, eq=False)
class Controls(Columns):
    """Controllers, bend, pressure and programs in playing order.

    at       (n,) float64 seconds
    port     (n,) index into the take's ports
    channel  (n,) 1..16
    kind     (n,) status byte without its channel: 0xA0 .. 0xE0
    number   (n,) controller or note number; low byte of a bend; program or pressure
    value    (n,) 0..127; high byte of a bend; 0 for program and pressure
    track    (n,) index into the path's tracks, -1 before the split
    origin   (n,) number of the event
    seq      (n,) position in playing order
    """

    at: np.ndarray
    port: np.ndarray
    channel: np.ndarray
    kind: np.ndarray
    number: np.ndarray
    value: np.ndarray
    track: np.ndarray
    origin: np.ndarray
    seq: np.ndarray

    DTYPES: ClassVar[dict[str, Any]] = {
        "at": "f8", "port": "i2", "channel": "u1", "kind": "u1", "number": "u1", "value": "u1", "track": "i2",
        "origin": "i8", "seq": "i8",
    }  # fmt: skip


@dataclass(frozen=True)
class Port:
    """A source of events.

    name    the name that the device or the file's track gives itself; may be empty
    device  ports of one device share a hat pedal and cymbals; tracks of one file share a device
    """

    name: str
    device: int = 0


@dataclass(frozen=True)
class Meta:
    """A meta event of a MIDI file that is kept: text, lyric, marker, key.

    tick  in the take's own ticks
    kind  0..127, as the Standard MIDI File specification numbers them
    port  index into the take's ports: the file's track
    event number of the event that starts the note that it goes with, wherever that note goes; NO_EVENT: none
    """

    tick: int
    kind: int
    data: bytes
    port: int = 0
    event: int = NO_EVENT


@dataclass(frozen=True, eq=False)
class Take:
    """A performance as it arrived. Never edited.

    ident      short unique name, letters and digits
    ticks      (n,) the events' own ticks for an imported file; None for a recorded take
    metas      texts and keys of an imported file
    end_tick   end of the track in an imported file
    original   an imported file, byte for byte; None for a recorded take
    notices    the reader's warnings about the file
    lasts      seconds that it lasts, where that is not told by its events
    begun      seconds of the computer's clock at its start, on the 20 µs grid, for a recorded take; None if not known
    """

    ident: str
    name: str
    events: Events
    ports: tuple[Port, ...]
    tempo: TempoMap
    payloads: tuple[bytes, ...] = ()
    ticks: np.ndarray | None = None
    metas: tuple[Meta, ...] = ()
    end_tick: int = 0
    original: bytes | None = field(default=None, repr=False)
    notices: tuple[str, ...] = ()
    begun: float | None = None
    lasts: float | None = None

    @property
    def length(self) -> float:
        """Seconds from the start to the last event, or to the end that the file states."""
        if self.lasts is not None:
            return self.lasts
        last = float(self.events.arrived[-1]) if len(self.events) else 0.0
        if self.ticks is None:
            return last
        return max(last, float(self.tempo.ticks_to_seconds(np.array([self.end_tick]))[0]))


def playing_order(events: Events) -> np.ndarray:
    """The order in which the path reads events: by arrival, controllers before notes of the same moment.

    Returns (n,) int64 indices. A hat pedal value counts for a hit of the same moment, whichever of the two a
    device happens to send first. Banks, programs, bends and controllers keep their order among each other. Channel
    mode messages (controllers 120 to 127) keep their place, since they end notes.
    """
    kind = messages.kinds(events.status)
    controls = (kind == messages.CONTROL) & (events.data1 < 120)
    controls |= (kind == messages.PROGRAM) | (kind == messages.BEND)
    if len(events) and np.all(np.diff(events.arrived) > 0):
        return np.arange(len(events))
    return np.lexsort((~controls, events.arrived))
