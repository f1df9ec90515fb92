"""Writer of Standard MIDI Files: one byte sequence per song.

Works on whole arrays: a hundred thousand notes take a few hundredths of a second.

Source  Standard MIDI Files 1.0 (RP-001)
"""

from __future__ import annotations

import struct

import numpy as np

from puresignal.core.midi import messages
from puresignal.core.midi.standard_midi_file import Song, SongTrack
from puresignal.core.midi.tempo_map import TempoMap

LONGEST_DELTA = 0x0FFFFFFF
_TEXT = 0x01


def to_bytes(song: Song, tempo: bool = True, running: bool = False, zero_ends: bool = False) -> bytes:
    """The bytes of the file.

    tempo      whether tempo and meter are written, on the first track
    running    whether a status byte is left out where the message before has the same
    zero_ends  whether notes end by a note-on of velocity 0; how fast they were let go is lost then
    """
    chunks = [b"MThd" + struct.pack(">LHHH", 6, song.format, len(song.tracks), song.tempo.ppq)]
    for i, track in enumerate(song.tracks):
        chunks.append(_chunk(track, song.tempo if tempo and i == 0 else None, running, zero_ends))
    return b"".join(chunks)


def _chunk(track: SongTrack, tempo: TempoMap | None, running: bool, zero_ends: bool) -> bytes:
    extras = []
    if track.name:
        extras.append((0, _meta(0x03, track.name.encode("utf-8", "replace"))))
    if track.port:
        extras.append((0, _meta(0x21, bytes([track.port & 0x7F]))))
    if tempo is not None:
        extras += [(t.tick, _meta(0x51, t.us_per_quarter.to_bytes(3, "big"))) for t in tempo.tempos]
        extras += [
            (m.tick, _meta(0x58, bytes([m.numerator, m.denominator.bit_length() - 1, m.clicks, m.quarters])))
            for m in tempo.meters
        ]
    extras += [(m.tick, _meta(m.kind, m.data)) for m in track.metas]
    extras.sort(key=lambda item: item[0])

    own = track.messages
    end = max(track.end_tick, int(own.tick[-1]) if len(own) else 0, extras[-1][0] if extras else 0)
    special = np.flatnonzero(own.payload >= 0)
    plain = own.take(own.payload < 0) if len(special) else own
    before = np.searchsorted(plain.tick, [tick for tick, _ in extras], side="left")
    placed = [(int(place), tick, data) for place, (tick, data) in zip(before, extras, strict=True)]
    # System messages keep their place among the others of their tick.
    placed += [
        (int(i) - k, int(own.tick[i]), bytes([own.status[i]]) + _vlq(len(data)) + data)
        for k, i in enumerate(special.tolist())
        for data in [track.payloads[int(own.payload[i])]]
    ]
    placed.sort(key=lambda item: item[:2])
    status, data2 = plain.status, plain.data2
    if zero_ends:
        off = messages.kinds(status) == messages.NOTE_OFF
        status, data2 = np.where(off, status | messages.NOTE_ON, status), np.where(off, 0, data2)
    body = _with_extras(plain.tick, status, plain.data1, data2, placed, end, running)
    return b"MTrk" + struct.pack(">L", len(body)) + body


def _meta(kind: int, data: bytes) -> bytes:
    return bytes([0xFF, kind]) + _vlq(len(data)) + data


def _vlq(value: int) -> bytes:
    out = [value & 0x7F]
    while value := value >> 7:
        out.append(value & 0x7F | 0x80)
    return bytes(reversed(out))


def _with_extras(
    tick: np.ndarray,
    status: np.ndarray,
    data1: np.ndarray,
    data2: np.ndarray,
    extras: list[tuple[int, int, bytes]],
    end: int,
    running: bool,
) -> bytes:
    """A track's body: channel messages from arrays, with other messages inserted.

    extras  (number of channel messages before it, tick, bytes), rising
    """
    body = bytearray()
    before, done = 0, 0
    for stop, at, data in extras:
        if stop > done:
            body += _encode(tick[done:stop], status[done:stop], data1[done:stop], data2[done:stop], before, running)
            before, done = int(tick[stop - 1]), stop
        body += _delta(at - before) + data
        before = at
    if done < len(tick):
        body += _encode(tick[done:], status[done:], data1[done:], data2[done:], before, running)
        before = int(tick[-1])
    body += _delta(max(0, end - before)) + b"\xff\x2f\x00"
    return bytes(body)


def _delta(ticks: int) -> bytes:
    """A delta time; empty text events bridge gaps that four bytes cannot express."""
    out = b""
    while ticks > LONGEST_DELTA:
        out += _vlq(LONGEST_DELTA) + _meta(_TEXT, b"")
        ticks -= LONGEST_DELTA
    return out + _vlq(ticks)


def _encode(
    tick: np.ndarray, status: np.ndarray, data1: np.ndarray, data2: np.ndarray, before: int, running: bool
) -> bytes:
    delta = np.diff(tick, prepend=before)
    if len(delta) and int(delta.max()) > LONGEST_DELTA:
        # Such a long gap is so rare that message by message is fine.
        parts = []
        for d, s, a, b in zip(delta.tolist(), status.tolist(), data1.tolist(), data2.tolist(), strict=True):
            parts.append(_delta(d) + bytes([s, a, b][: messages.length(s)]))
        return b"".join(parts)
    size = 1 + (delta >= 1 << 7).astype(np.int64) + (delta >= 1 << 14) + (delta >= 1 << 21)
    short = (status >= messages.PROGRAM) & (status < messages.BEND)
    # Another kind of message in between ends a running status, and is never among these.
    told = np.ones(len(status), bool)
    if running:
        told[1:] = status[1:] != status[:-1]
    length = size + told + np.where(short, 1, 2)
    at = np.cumsum(length) - length
    out = np.zeros(int(length.sum()), np.uint8)
    for i in range(4):
        rows = size > i
        # Byte i counted from the last: only the last one has its top bit clear.
        value = (delta[rows] >> 7 * i) & 0x7F
        out[at[rows] + size[rows] - 1 - i] = value | (0x80 if i else 0)
    out[(at + size)[told]] = status[told]
    out[at + size + told] = data1
    out[(at + size + told + 1)[~short]] = data2[~short]
    return out.tobytes()
