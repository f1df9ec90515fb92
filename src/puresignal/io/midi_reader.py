"""A tolerant reader of Standard MIDI Files: it uses everything readable and reports the rest.

Damage that real programs leave behind is repaired with a notice that names the place; an error is raised only if no
music can be read at all.

Source  Standard MIDI Files 1.0 (RP-001)
"""

from __future__ import annotations

import struct
from array import array
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from puresignal.core.errors import BadFileError
from puresignal.core.midi.events import Meta
from puresignal.core.midi.standard_midi_file import Messages, Song, SongTrack
from puresignal.core.midi.tempo_map import Meter, Tempo, TempoMap
from puresignal.io import limits
from puresignal.io.file_access import read_bytes
from puresignal.translation import tr

SEQUENCE_NUMBER, TRACK_NAME, PORT_PREFIX, END_OF_TRACK, SET_TEMPO, TIME_SIGNATURE = 0, 3, 0x21, 0x2F, 0x51, 0x58
MOST_NOTICES = 20
MOST_TICKS = 1 << 36
# Data bytes after each status, by its upper four bits.
_DATA_LENGTH = {0x8: 2, 0x9: 2, 0xA: 2, 0xB: 2, 0xC: 1, 0xD: 1, 0xE: 2}
# System common messages that may stray into a file with their data; real-time messages have none.
_SYSTEM_LENGTH = {0xF1: 1, 0xF2: 2, 0xF3: 1}


def read(path: Path) -> Song:
    """A song from a file.

    Raises FileAccessError if the system refuses, BadFileError if nothing can be read
    """
    return parse(read_bytes(path, limits.MIDI_BYTES), path.name)


def parse(content: bytes, name: str) -> Song:
    """A song from a file's bytes.

    name    of the file, for notices and errors
    Raises  BadFileError if it is not a MIDI file or nothing in it can be read
    """
    if len(content) > limits.MIDI_BYTES:
        what = tr("The file is larger than {n} MB", n=limits.MIDI_BYTES >> 20)
        raise BadFileError(what, name, tr("Choose a Standard MIDI File (.mid)."))
    return _Parser(content, name).song()


def decode_text(data: bytes) -> str:
    """Text of a meta event: UTF-8, else Latin-1, which accepts any byte. Control characters are dropped."""
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = data.decode("latin-1")
    return "".join(c for c in text if c.isprintable() or c == " ").strip()


@dataclass
class _RawTrack:
    """rows: one message each, with tick, status and two data bytes packed into one number for speed."""

    rows: array[int]
    payloads: list[bytes]
    metas: list[Meta]
    end_tick: int
    sequence: int = -1


class _Parser:
    """Walks through the chunks of one file."""

    def __init__(self, content: bytes, name: str):
        self._content = content
        self._name = name
        self._notices: list[str] = []
        self._left_out = 0
        self._metas = 0

    def notice(self, what: str, where: str) -> None:
        if len(self._notices) < MOST_NOTICES:
            self._notices.append(f"{self._name}, {where}: {what}")
        else:
            self._left_out += 1

    def song(self) -> Song:
        content, start = self._content, self._find_header()
        length = int.from_bytes(content[start + 4 : start + 8], "big")
        if len(content) < start + 14:
            raise BadFileError(tr("The file ends inside its header"), self._name, tr("Copy the file again."))
        form, promised, division = struct.unpack(">HHH", content[start + 8 : start + 14])
        if length < 6:
            self.notice(tr("the header says it has {length} bytes instead of 6; read as 6", length=length), "header")
            length = 6
        if form > 2:
            self.notice(tr("format {form} is unknown; read as format 1", form=form), "header")
            form = 1
        if length > 6 and content[start + 8 + length : start + 12 + length] != b"MTrk":
            found = content.find(b"MTrk", start + 14)
            if found >= 0:
                self.notice(
                    tr("the header says it has {length} bytes instead of 6; read as 6", length=length), "header"
                )
                length = found - start - 8
        raws = self._tracks(start + 8 + length)
        if not raws:
            raise BadFileError(tr("The file contains no track"), self._name, tr("Copy or export the file again."))
        if len(raws) != promised:
            self.notice(
                tr("the header promises {promised} tracks, but there are {count}", promised=promised, count=len(raws)),
                "header",
            )
        if self._left_out:
            self._notices.append(tr("{name}: and {left_out} more like these", name=self._name, left_out=self._left_out))
        tempo, scale = self._tempo_map(division, raws)
        tracks = tuple(self._track(raw, i, form, scale) for i, raw in enumerate(raws))
        if form == 2:
            tracks = _one_after_the_other(tracks, tempo)
        return Song(form, tempo, tracks, tuple(self._notices))

    def _find_header(self) -> int:
        content = self._content
        if content[:4] == b"MThd":
            return 0
        if content[:4] == b"RIFF" and content[8:12] == b"RMID":
            at = content.find(b"MThd", 12, 4096)
            if at >= 0:
                return at
        at = content.find(b"MThd", 0, 4096)
        if at >= 0:
            self.notice(tr("{at} bytes before the header were skipped", at=at), "start")
            return at
        if not content:
            raise BadFileError(tr("The file is empty"), self._name, tr("Copy or export the file again."))
        raise BadFileError(tr("This is not a MIDI file"), self._name, tr("Choose a Standard MIDI File (.mid)."))

    def _tracks(self, at: int) -> list[_RawTrack]:
        content = self._content
        raws: list[_RawTrack] = []
        while at + 8 <= len(content):
            kind, length = content[at : at + 4], int.from_bytes(content[at + 4 : at + 8], "big")
            where = tr("track {count}", count=len(raws) + 1) if kind == b"MTrk" else tr("byte {at}", at=at)
            begin, end = at + 8, at + 8 + length
            if kind == b"MTrk":
                if end > len(content):
                    self.notice(
                        tr(
                            "the chunk promises {length} bytes, but only {count} are left",
                            length=length,
                            count=len(content) - begin,
                        ),
                        where,
                    )
                raw, stopped = self._parse_track(begin, self._true_end(begin, end), where)
                raws.append(raw)
                end = self._next_chunk(end, stopped, where)
            elif _is_chunk_name(kind):
                self.notice(tr("a chunk of unknown type {value!r} was skipped", value=kind.decode("ascii")), where)
                if end > len(content):
                    found = content.find(b"MTrk", begin)
                    end = found if found >= 0 else len(content)
            else:
                found = content.find(b"MTrk", at)
                left = (found if found >= 0 else len(content)) - at
                self.notice(tr("{left} bytes outside any chunk were skipped", left=left), where)
                end = found if found >= 0 else len(content)
            at = end
        return raws

    def _true_end(self, begin: int, end: int) -> int:
        """The latest end of a track's bytes: as promised, or farther if no chunk follows there."""
        content = self._content
        if end >= len(content) or _is_chunk_name(content[end : end + 4]):
            return min(end, len(content))
        found = content.find(b"MTrk", max(begin, end))
        return found if found >= 0 else len(content)

    def _next_chunk(self, end: int, stopped: int, where: str) -> int:
        """The start of the next chunk: as promised, or searched for after the track's last event."""
        content = self._content
        if content[stopped : stopped + 4] == b"MTrk" and stopped != end:
            self.notice(tr("the chunk's length is wrong; the next track was found elsewhere"), where)
            return stopped
        if end >= len(content) or _is_chunk_name(content[end : end + 4]):
            return end
        found = content.find(b"MTrk", stopped)
        if found >= 0:
            self.notice(tr("the chunk's length is wrong; the next track was searched for"), where)
        return found if found >= 0 else max(end, stopped)

    def _parse_track(self, at: int, end: int, where: str) -> tuple[_RawTrack, int]:
        """The events between two offsets, and the offset after the last one read."""
        content = self._content
        # Eight bytes for each instead of Python's forty.
        rows = array("q")
        raw = _RawTrack(rows, [], [], 0)
        tick = running = 0
        add = rows.append
        ended = False
        try:
            while at < end:
                byte = content[at]
                at += 1
                if byte < 0x80:
                    tick += byte
                else:
                    delta = byte & 0x7F
                    for _ in range(4):
                        byte = content[at]
                        at += 1
                        delta = delta << 7 | byte & 0x7F
                        if byte < 0x80:
                            break
                    else:
                        self.notice(
                            tr("a delta time is longer than four bytes"), tr("{where}, byte {at}", where=where, at=at)
                        )
                    tick += delta & 0x0FFFFFFF
                    if tick > MOST_TICKS:
                        self.notice(tr("the times exceed any music"), tr("{where}, byte {at}", where=where, at=at))
                        tick = MOST_TICKS
                status = content[at]
                if status >= 0xF0:
                    at = self._system(raw, at, end, tick, where)
                    if raw.metas and raw.metas[-1].kind == END_OF_TRACK:
                        raw.metas.pop()
                        ended = True
                        break
                    continue
                if status >= 0x80:
                    running = status
                    at += 1
                elif not running:
                    self.notice(
                        tr("data without a status byte was skipped"), tr("{where}, byte {at}", where=where, at=at)
                    )
                    # On to the next status; the byte before it is its delta time.
                    begin = at
                    while at < end and content[at] < 0x80:
                        at += 1
                    at = max(begin + 1, at - 1)
                    continue
                data1 = content[at]
                if 0xC0 <= running < 0xE0:
                    at += 1
                    if data1 < 0x80:
                        add(tick << 24 | running << 16 | data1 << 8)
                        continue
                    data2 = 0
                else:
                    data2 = content[at + 1]
                    at += 2
                    if data1 < 0x80 and data2 < 0x80:
                        add(tick << 24 | running << 16 | data1 << 8 | data2)
                        continue
                at = self._mend(raw, at, tick, running, data1, data2, where)
            if at > end and end < len(content):
                self.notice(tr("the last message exceeds the chunk"), where)
        except IndexError:
            self.notice(
                tr("the track ends inside a message"), tr("{where}, byte {at}", where=where, at=min(at, len(content)))
            )
            at = len(content)
        if not ended and at <= end:
            self.notice(tr("the end-of-track event is missing"), where)
        raw.end_tick = tick
        return raw, at

    def _mend(self, raw: _RawTrack, at: int, tick: int, status: int, data1: int, data2: int, where: str) -> int:
        """A channel message whose data has its top bit set: real-time bytes inside it, or plain damage."""
        content = self._content
        length = _DATA_LENGTH[status >> 4]
        begin = at - length
        data: list[int] = []
        place = begin
        while len(data) < length:
            byte = content[place]
            if byte >= 0xF8:
                place += 1
                self.notice(
                    tr("a real-time byte {byte:#x} inside a message was skipped", byte=byte),
                    tr("{where}, byte {place}", where=where, place=place),
                )
            elif byte >= 0x80:
                # Treated as data with its top bit cleared, as receivers do.
                self.notice(
                    tr("a value above 127 ({byte}) was clipped to 7 bits", byte=byte),
                    tr("{where}, byte {place}", where=where, place=place),
                )
                data.append(byte & 0x7F)
                place += 1
            else:
                data.append(byte)
                place += 1
        raw.rows.append(tick << 24 | status << 16 | data[0] << 8 | (data[1] if length == 2 else 0))
        return place

    def _system(self, raw: _RawTrack, at: int, end: int, tick: int, where: str) -> int:
        """A meta event, system exclusive or stray system message. Returns the offset after it."""
        content = self._content
        status = content[at]
        if status == 0xFF:
            kind = content[at + 1]
            if kind < 0x80:
                length, begin = self._length(at + 2)
                if begin + length > len(content) or (begin + length > end and kind != END_OF_TRACK):
                    self.notice(
                        tr(
                            "a meta event promises {length} bytes, but only {end} are left",
                            length=length,
                            end=end - begin,
                        ),
                        tr("{where}, byte {at}", where=where, at=at),
                    )
                    length = max(0, end - begin)
                self._metas += 1
                if self._metas > 5 * limits.METAS:
                    what = tr("There are more than {n} texts and tempos", n=5 * limits.METAS)
                    raise BadFileError(what, self._name, tr("Choose a file with music in it."))
                if self._metas <= limits.METAS or kind == END_OF_TRACK:
                    raw.metas.append(Meta(tick, kind, content[begin : begin + length]))
                elif self._metas == limits.METAS + 1:
                    self.notice(
                        tr("there are more than {n} texts and tempos; the rest is skipped", n=limits.METAS),
                        tr("{where}, byte {at}", where=where, at=at),
                    )
                return begin + length
            self.notice(tr("a stray system reset was skipped"), tr("{where}, byte {at}", where=where, at=at))
            return at + 1
        if status in (0xF0, 0xF7):
            length, begin = self._length(at + 1)
            if begin + length > end:
                self.notice(
                    tr(
                        "a system exclusive message promises {length} bytes, but only {end} are left",
                        length=length,
                        end=end - begin,
                    ),
                    tr("{where}, byte {at}", where=where, at=at),
                )
                length = max(0, end - begin)
            raw.rows.append(tick << 24 | status << 16)
            raw.payloads.append(content[begin : begin + length])
            return begin + length
        self.notice(
            tr("a stray system message {status:#x} was skipped", status=status),
            tr("{where}, byte {at}", where=where, at=at),
        )
        at += 1
        for _ in range(_SYSTEM_LENGTH.get(status, 0)):
            if at < end and content[at] < 0x80:
                at += 1
        return at

    def _length(self, at: int) -> tuple[int, int]:
        value = 0
        for _ in range(4):
            byte = self._content[at]
            at += 1
            value = value << 7 | byte & 0x7F
            if byte < 0x80:
                break
        return value, at

    def _tempo_map(self, division: int, raws: list[_RawTrack]) -> tuple[TempoMap, int]:
        """The tempo map, and how many of its ticks make one tick of the file."""
        if division & 0x8000:
            frames, part = 256 - (division >> 8), max(1, division & 0xFF)
            if frames not in (24, 25, 29, 30):
                self.notice(
                    tr("{frames} frames per second is not a standard rate; read as 25", frames=frames), "header"
                )
                frames = 25
            # One quarter note per second (1.001 s for 29.97 frames) keeps every tick exactly in place.
            us = 1_001_000 if frames == 29 else 1_000_000
            return TempoMap((30 if frames == 29 else frames) * part, (Tempo(0, us),)), 1
        if not division:
            self.notice(tr("the header has no ticks per quarter note; read as 480"), "header")
            division = 480
        tempos, meters = [], []
        for number, raw in enumerate(raws):
            for meta in raw.metas:
                where = tr("track {number}, tick {tick}", number=number + 1, tick=meta.tick)
                if meta.kind == SET_TEMPO:
                    us = int.from_bytes(meta.data[:3], "big") if len(meta.data) >= 3 else 0
                    if us:
                        tempos.append(Tempo(meta.tick, us))
                    else:
                        self.notice(tr("a tempo event without a valid value was skipped"), where)
                elif meta.kind == TIME_SIGNATURE:
                    if len(meta.data) >= 2 and meta.data[0] and meta.data[1] <= 6:
                        clicks = (meta.data[2] or 24, meta.data[3] or 8) if len(meta.data) >= 4 else (24, 8)
                        meters.append(Meter(meta.tick, meta.data[0], 1 << meta.data[1], *clicks))
                    else:
                        self.notice(tr("an invalid meter was skipped"), where)
        tempos.sort(key=lambda t: t.tick)
        meters.sort(key=lambda m: m.tick)
        return TempoMap(division, tuple(tempos), tuple(meters)), 1

    def _track(self, raw: _RawTrack, number: int, form: int, scale: int) -> SongTrack:
        rows = np.array(raw.rows, np.int64)
        status = rows >> 16 & 0xFF
        payload = np.where(status >= 0xF0, np.cumsum(status >= 0xF0) - 1, -1)
        names = [decode_text(m.data) for m in raw.metas if m.kind == TRACK_NAME]
        ports = [m.data[0] for m in raw.metas if m.kind == PORT_PREFIX and m.data]
        kept = tuple(
            m for m in raw.metas if m.kind not in (TRACK_NAME, PORT_PREFIX, SET_TEMPO, TIME_SIGNATURE, SEQUENCE_NUMBER)
        )
        return SongTrack(
            name=next((n for n in names if n), ""),
            messages=Messages(rows >> 24, status, rows >> 8 & 0xFF, rows & 0xFF, payload),
            metas=kept,
            payloads=tuple(raw.payloads),
            end_tick=raw.end_tick,
            port=ports[0] if ports else 0,
        )


def _is_chunk_name(data: bytes) -> bool:
    return len(data) == 4 and all(0x20 <= b < 0x7F for b in data)


def _one_after_the_other(tracks: tuple[SongTrack, ...], tempo: TempoMap) -> tuple[SongTrack, ...]:
    """The patterns of a type 2 file, laid end to end so that all can be seen and cleaned."""
    moved, offset = [], 0
    for track in tracks:
        messages = track.messages.but(tick=track.messages.tick + offset)
        metas = tuple(replace(m, tick=m.tick + offset) for m in track.metas)
        moved.append(SongTrack(track.name, messages, metas, track.payloads, track.end_tick + offset, track.port))
        offset += track.end_tick
    return tuple(moved)
