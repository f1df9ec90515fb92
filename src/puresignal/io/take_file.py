"""Recorded takes as Standard MIDI Files: a tick is 20 µs, so every time is exact.

An imported take is kept as the original file, byte for byte.
"""

from __future__ import annotations

import numpy as np

from puresignal.core.midi.events import Events, Port, Take
from puresignal.core.midi.messages import SYSEX
from puresignal.core.midi.standard_midi_file import Messages, Song, SongTrack, to_take
from puresignal.core.midi.tempo_map import Tempo, TempoMap
from puresignal.io import midi_reader, midi_writer

_CLOCK = TempoMap(25_000, (Tempo(0, 500_000),))
_ESCAPE = 0xF7


def to_bytes(take: Take) -> bytes:
    """The take as the bytes of a file."""
    if take.original is not None:
        return take.original
    events = take.events
    ticks = _CLOCK.seconds_to_ticks(events.arrived)
    tracks = []
    for number, port in enumerate(take.ports):
        rows = np.flatnonzero(events.port == number)
        payloads: list[bytes] = []
        status = events.status[rows].copy()
        payload = np.full(len(rows), -1)
        for i in np.flatnonzero(status >= SYSEX).tolist():
            row = rows[i]
            payload[i] = len(payloads)
            if events.payload[row] >= 0:
                payloads.append(take.payloads[int(events.payload[row])])
            else:
                # A file holds system messages only behind an escape.
                payloads.append(bytes([int(status[i]), int(events.data1[row]), int(events.data2[row])]))
                status[i] = _ESCAPE
        messages = Messages(ticks[rows], status, events.data1[rows], events.data2[rows], payload)
        tracks.append(SongTrack(port.name, messages, (), tuple(payloads), 0, port.device & 0x7F))
    return midi_writer.to_bytes(Song(1, _CLOCK, tuple(tracks)))


def from_bytes(content: bytes, ident: str, name: str) -> Take:
    """A take from its file's bytes alone: what was recorded is told by its clock, and has no tempo then.

    Raises BadFileError if the bytes are no MIDI file
    """
    song = midi_reader.parse(content, f"{ident}.mid")
    if song.tempo.ppq == _CLOCK.ppq:
        return captured(content, ident, name, TempoMap.steady(120))
    return to_take(song, ident, name, content)


def captured(content: bytes, ident: str, name: str, tempo: TempoMap) -> Take:
    """A recorded take from its file's bytes and the tempo map it was played to.

    Raises BadFileError if the bytes are no such file
    """
    read = to_take(midi_reader.parse(content, f"{ident}.mid"), ident, name)
    events = read.events
    status, data1, data2, payload = (
        events.status.copy(), events.data1.copy(), events.data2.copy(), events.payload.copy(),
    )  # fmt: skip
    for row in np.flatnonzero(status == _ESCAPE).tolist():
        data = read.payloads[int(payload[row])]
        if len(data) == 3 and data[0] > SYSEX:
            status[row], data1[row], data2[row], payload[row] = data[0], data[1], data[2], -1
    carries = np.flatnonzero(payload >= 0)
    payloads = tuple(read.payloads[int(i)] for i in payload[carries])
    payload[carries] = np.arange(len(carries))
    return Take(
        ident=ident,
        name=name,
        events=Events(events.arrived, events.port, status, data1, data2, payload),
        ports=tuple(Port(p.name, p.device) for p in read.ports),
        tempo=tempo,
        payloads=payloads,
    )
