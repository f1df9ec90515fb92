"""Session files: one zip with `session.json` and the takes as MIDI files (docs/formats.md).

Written beside and renamed; the last good copy is kept. Names and sizes in a zip are checked before use.
"""

from __future__ import annotations

import io
import lzma
import os
import re
import reprlib
import struct
import zipfile
import zlib
from collections.abc import Callable
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

from puresignal.core.errors import BadFileError, PureSignalError
from puresignal.core.kit import note_map
from puresignal.core.kit.articulations import is_articulation
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi.events import Take
from puresignal.core.midi.standard_midi_file import to_take
from puresignal.core.midi.tempo_map import Meter, Tempo, TempoMap
from puresignal.core.path import settings_json
from puresignal.core.path.context import Verdict
from puresignal.core.path.several_takes import BEATS, CLOCK
from puresignal.core.session.backing_track import Backing
from puresignal.core.session.live_input import ALL, ALL_CHANNELS, CONTROL, NOTES, LiveInput
from puresignal.core.session.session import Session, TakeRef, with_backing, with_inputs, with_sound, with_timeline
from puresignal.core.session.sound_settings import SoundSettings
from puresignal.core.session.track_settings import COLOURS, Delivery, TrackSettings, with_tracks
from puresignal.core.sound.drums import KITS, Drum
from puresignal.core.timing.session_time import FASTEST, SLOWEST, MeterPoint, TempoPoint, Timeline
from puresignal.io import file_access, json_file, limits, midi_reader, take_file
from puresignal.translation import tr

FORMAT = "pure-signal/session"
VERSION = 1
ENDING = ".puresignal"
MOST_EVENTS = 1 << 32
_SHORT = reprlib.Repr()
_IDENT = re.compile(r"[A-Za-z0-9][A-Za-z0-9_-]{0,63}\Z")


@dataclass(frozen=True)
class Opened:
    """A session from a file. `notice` says why it is read-only, else None."""

    session: Session
    takes: tuple[Take, ...]
    notice: str | None = None


def is_ident(text: str) -> bool:
    """Whether a text can be the key of a take."""
    return bool(_IDENT.match(text))


def to_bytes(session: Session, takes: dict[str, Take]) -> bytes:
    """The zip of a session; equal sessions give equal bytes."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        _put(archive, "session.json", json_file.to_bytes(to_json(session, takes)))
        for ident in (*(ref.ident for ref in session.takes), *(take.ident for take in _removed(session, takes))):
            _put(archive, f"takes/{ident}.mid", take_file.to_bytes(takes[ident]))
    return buffer.getvalue()


def _removed(session: Session, takes: dict[str, Take]) -> list[Take]:
    """The takes that are not in the session any more: they stay in the file until the player deletes them."""
    used = {ref.ident for ref in session.takes}
    return [take for ident, take in takes.items() if ident not in used]


def write(path: Path, session: Session, takes: dict[str, Take]) -> None:
    """Save a session; the previous file is kept as `NAME.puresignal.last`.

    Raises FileAccessError if the system refuses; the previous file is unharmed
    """
    file_access.write_bytes(path, to_bytes(session, takes), keep_as=_last(Path(os.path.realpath(path))))


def read(path: Path) -> Opened:
    """A session from a file.

    Raises FileAccessError, or BadFileError if it is not a session or is damaged
    """
    last = _last(path)
    if not path.exists() and last.exists():
        # A run of an earlier version was killed between its two renames: the last copy is the whole session.
        path = last
    return parse(file_access.read_bytes(path), path.name)


def _last(path: Path) -> Path:
    """Where the previous copy of a session is kept."""
    return path.with_name(path.name + ".last")


def parse(content: bytes, name: str) -> Opened:
    """A session from a zip's bytes."""
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            return _Archive(archive, name).opened()
    except PureSignalError:
        raise
    except (
        zipfile.BadZipFile,
        LookupError,
        lzma.LZMAError,
        zlib.error,
        ValueError,
        OSError,
        struct.error,
        EOFError,
        NotImplementedError,
        RuntimeError,
    ) as error:
        # With a damaged directory the library reads nonsense offsets, and raises many kinds of errors.
        raise BadFileError(
            tr("This is not a Pure Signal session, or it is damaged"), name, _last_copy_hint(name)
        ) from error


def _last_copy_hint(name: str) -> str:
    return tr(
        "Choose a {ending} file; the copy before the last save is beside it as {name}.last.", ending=ENDING, name=name
    )


def _put(archive: zipfile.ZipFile, name: str, content: bytes) -> None:
    # A fixed date, so that saving twice gives the same bytes.
    info = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
    info.compress_type = zipfile.ZIP_DEFLATED
    info.external_attr = 0o644 << 16
    archive.writestr(info, content)


def _take_json(take: Take, name: str) -> dict[str, Any]:
    if take.original is not None:
        return {"ident": take.ident, "name": name, "kind": "imported"}
    return {"ident": take.ident, "name": name, "kind": "captured", "tempo": _tempo_json(take.tempo)}


def _timeline_json(timeline: Timeline) -> dict[str, Any]:
    return {
        "tempos": [[p.beat, p.bpm, p.glides] for p in timeline.tempos],
        "meters": [[m.bar, m.numerator, m.denominator] for m in timeline.meters],
    }


def to_json(session: Session, takes: dict[str, Take]) -> dict[str, Any]:
    """The session as plain JSON data; it refers to takes, which are stored beside it."""
    rows = []
    for ref in session.takes:
        rows.append(
            {
                **_take_json(takes[ref.ident], ref.name),
                "source": None if ref.source is None else note_map.to_json(ref.source),
                "beat": ref.beat,
                "follows": ref.follows or None,
                "in": ref.is_in,
                "verdicts": [
                    {"origin": origin, "keep": verdict.keep, "articulation": verdict.articulation}
                    for origin, verdict in ref.verdicts
                ],
            }
        )
    return {
        "format": FORMAT,
        "version": VERSION,
        "name": session.name,
        "takes": rows,
        "removed_takes": [_take_json(take, take.name) for take in _removed(session, takes)],
        "current": session.current,
        "timeline": None if session.timeline is None else _timeline_json(session.timeline),
        "target": None if session.target is None else note_map.to_json(session.target),
        "path": settings_json.to_json(session.path),
        "tracks": [
            {
                "key": t.key,
                "title": t.title,
                "colour": t.colour,
                "channel": t.channel,
                "out": t.out,
                "port": t.port,
                "bank": t.bank,
                "program": t.program,
                "level": t.level,
                "muted": t.muted,
                "solo": t.solo,
            }
            for t in session.delivery.tracks
        ],
        "order": list(session.delivery.order),
        "with_tempo": session.delivery.with_tempo,
        "inputs": [
            {
                "port": one.port,
                "channel": one.channel or None,
                "source": None if one.source is None else note_map.to_json(one.source),
                "output": one.output,
                "armed": one.armed,
                "heard": one.monitor,
                "takes": one.takes,
            }
            for one in session.inputs
        ],
        "sound": {
            "kit": session.sound.kit,
            "level": session.sound.level,
            "drums": {name: asdict(drum) for name, drum in session.sound.drums},
            "font": session.sound.font,
        },
        "backing": None if session.backing is None else asdict(session.backing),
    }


def _is_number(value: object, least: float, most: float) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and least <= value <= most


def _is_whole(value: object) -> bool:
    return isinstance(value, int) and not isinstance(value, bool)


def _is_within(value: object, most: int) -> bool:
    """None, or a whole number from 0 to `most`."""
    return value is None or (isinstance(value, int) and not isinstance(value, bool) and 0 <= value <= most)


def _is_channel(value: object) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and 1 <= value <= 16


def _tempo_json(tempo: TempoMap) -> dict[str, Any]:
    return {
        "ppq": tempo.ppq,
        "tempos": [[t.tick, t.us_per_quarter] for t in tempo.tempos],
        "meters": [[m.tick, m.numerator, m.denominator] for m in tempo.meters],
    }


class _Archive:
    """Reads one zip and trusts nothing in it."""

    def __init__(self, archive: zipfile.ZipFile, name: str):
        self._archive = archive
        self._name = name
        self._entries: dict[str, zipfile.ZipInfo] = {}
        total = 0
        for info in archive.infolist():
            plain = re.fullmatch(r"session\.json|(takes|audio)/[A-Za-z0-9][A-Za-z0-9_.-]{0,99}", info.filename)
            if info.is_dir():
                continue
            if not plain or ".." in info.filename:
                raise BadFileError(
                    tr("It contains a file that no session has, {filename!r}", filename=info.filename[:80]),
                    name,
                    tr("Do not use it; ask the sender for another copy."),
                )
            total += info.file_size
            most = limits.JSON_BYTES if info.filename == "session.json" else limits.MIDI_BYTES
            if info.file_size > most or total > limits.SESSION_BYTES:
                raise BadFileError(
                    tr("{filename} claims to be larger than any session's file", filename=info.filename),
                    name,
                    tr("Ask for another copy."),
                )
            self._entries[info.filename] = info

    def content(self, entry: str) -> bytes:
        info = self._entries.get(entry)
        if info is None:
            raise BadFileError(tr("{entry} is missing", entry=entry), self._name, _last_copy_hint(self._name))
        try:
            with self._archive.open(info) as file:
                content = file.read(limits.MIDI_BYTES + 1)
        except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError, OSError) as error:
            raise BadFileError(
                tr("{entry} is damaged", entry=entry), self._name, _last_copy_hint(self._name)
            ) from error
        if len(content) != info.file_size:
            raise BadFileError(
                tr("{entry} is not as long as it claims", entry=entry), self._name, _last_copy_hint(self._name)
            )
        return content

    def opened(self) -> Opened:
        data = json_file.parse(self.content("session.json"), f"{self._name}, session.json", "session")
        return from_json(data, self._name, self.content)


def from_json(data: object, name: str, content: Callable[[str], bytes]) -> Opened:
    """A session from plain JSON data.

    name     of the file, for messages
    content  returns the bytes of an entry such as `takes/take1.mid`
    Raises   BadFileError and the errors of its parts, each naming the field
    """
    return _Reader(name, content).opened(data)


class _Reader:
    """Checks one field at a time and names its exact place in errors."""

    def __init__(self, name: str, content: Callable[[str], bytes]):
        self._name = name
        self.content = content

    def opened(self, data: object) -> Opened:
        if not isinstance(data, dict) or data.get("format") != FORMAT:
            raise BadFileError(
                tr("This is not a Pure Signal session"), self._name, tr("Choose a {ending} file.", ending=ENDING)
            )
        version = data.get("version")
        if isinstance(version, bool) or not isinstance(version, int) or version < 1:
            raise self._wrong("version", version)
        try:
            session, takes = self._session(data)
        except PureSignalError as error:
            if version > VERSION:
                raise BadFileError(
                    tr(
                        "This session has version {version}; this program reads versions up to {version2}",
                        version=version,
                        version2=VERSION,
                    ),
                    self._name,
                    tr("Update the program."),
                ) from error
            raise
        except (TypeError, ValueError, AttributeError, LookupError, OverflowError, RecursionError) as error:
            # A value of a kind that nothing here expects.
            raise BadFileError(
                tr("This is not a Pure Signal session, or it is damaged"), self._name, _last_copy_hint(self._name)
            ) from error
        notice = None
        if version > VERSION:
            notice = tr(
                "{name} was saved by a later version of the program. "
                "You can look at it; save under another name to keep changes.",
                name=self._name,
            )
        return Opened(session, takes, notice)

    def _wrong(self, field: str, value: object) -> BadFileError:
        shown = _SHORT.repr(value)[:40]
        return BadFileError(
            tr('"{field}" is {shown}', field=field, shown=shown),
            f"{self._name}, session.json",
            _last_copy_hint(self._name),
        )

    def _session(self, data: dict[str, Any]) -> tuple[Session, tuple[Take, ...]]:
        rows = data.get("takes")
        if not isinstance(rows, list) or len(rows) > limits.TAKES:
            raise self._wrong("takes", rows)
        refs: list[TakeRef] = []
        takes: list[Take] = []
        for i, row in enumerate(rows):
            ref, take = self._take(row, f"takes[{i}]")
            if any(other.ident == ref.ident for other in refs):
                raise self._wrong(f"takes[{i}].ident", ref.ident)
            refs.append(ref)
            takes.append(take)
        removed = data.get("removed_takes", [])
        if not isinstance(removed, list) or len(removed) > limits.TAKES:
            raise self._wrong("removed_takes", removed)
        for i, row in enumerate(removed):
            _, take = self._take(row, f"removed_takes[{i}]")
            if any(other.ident == take.ident for other in takes):
                raise self._wrong(f"removed_takes[{i}].ident", take.ident)
            takes.append(take)
        name, current = data.get("name"), data.get("current")
        if not isinstance(name, str) or len(name) > limits.TEXT:
            raise self._wrong("name", name)
        if current is not None and (not isinstance(current, str) or current not in {ref.ident for ref in refs}):
            raise self._wrong("current", current)
        if not any(isinstance(row, dict) and "in" in row for row in rows):
            # Before takes could be heard together, the chosen one was the result.
            refs = [replace(ref, is_in=ref.ident == current) for ref in refs]
        path = settings_json.from_json(data.get("path"), f"{self._name}, session.json, path")  # not shown
        target = self._map(data.get("target"), "target")
        session = Session(name, tuple(refs), current, target, path, self._delivery(data))
        session = with_timeline(session, self._timeline(data.get("timeline")))
        session = with_sound(session, self._sound(data.get("sound", {})))
        session = with_backing(session, self._backing(data.get("backing")))
        return with_inputs(session, self._inputs(data.get("inputs", []))), tuple(takes)

    def _timeline(self, data: object) -> Timeline | None:
        if data is None:
            return None
        tempos, meters = (data.get("tempos"), data.get("meters")) if isinstance(data, dict) else (None, None)
        for field, rows in (("tempos", tempos), ("meters", meters)):
            if not isinstance(rows, list) or len(rows) > limits.TEMPOS:
                raise self._wrong(f"timeline.{field}", rows)
        assert isinstance(tempos, list)
        assert isinstance(meters, list)
        for i, row in enumerate(tempos):
            good = isinstance(row, list) and len(row) == 3 and _is_number(row[0], -limits.BEATS, limits.BEATS)
            if not good or not _is_number(row[1], SLOWEST, FASTEST) or not isinstance(row[2], bool):
                raise self._wrong(f"timeline.tempos[{i}]", row)
        for i, row in enumerate(meters):
            good = isinstance(row, list) and len(row) == 3 and all(_is_whole(value) for value in row)
            if (
                not good
                or not 1 <= row[0] <= limits.BEATS
                or not 1 <= row[1] <= 255
                or row[2] not in (1, 2, 4, 8, 16, 32, 64)
            ):
                raise self._wrong(f"timeline.meters[{i}]", row)
        return Timeline(
            tuple(TempoPoint(float(row[0]), float(row[1]), row[2]) for row in tempos),
            tuple(MeterPoint(*row) for row in meters),
        )

    def _backing(self, data: object) -> Backing | None:
        if data is None:
            return None
        good = isinstance(data, dict) and isinstance(data.get("path"), str) and _is_number(data.get("level"), -60, 24)
        if not isinstance(data, dict) or not good or not _is_number(data.get("offset"), -86_400, 86_400):
            raise self._wrong("backing", data)
        return Backing(data["path"], float(data["level"]), float(data["offset"]))

    def _sound(self, data: object) -> SoundSettings:
        if not isinstance(data, dict):
            raise self._wrong("sound", data)
        kit, level, drums = data.get("kit", KITS[0].name), data.get("level", 0.7), data.get("drums", {})
        if not isinstance(kit, str) or not _is_number(level, 0, 1) or not isinstance(drums, dict):
            raise self._wrong("sound", data)
        found = []
        for name, row in sorted(drums.items()):
            spans = {"level": (-60, 24), "place": (-1, 1), "tune": (-24, 24), "damping": (0.05, 4)}
            good = isinstance(row, dict) and all(_is_number(row.get(key), *span) for key, span in spans.items())
            if not good:
                raise self._wrong(f"sound.drums.{name}", row)
            found.append((name, Drum(**{key: float(row[key]) for key in spans})))
        font = data.get("font", "")
        if not isinstance(font, str):
            raise self._wrong("sound.font", font)
        return SoundSettings(kit, float(level), tuple(found), font)

    def _inputs(self, rows: object) -> tuple[LiveInput, ...]:
        if not isinstance(rows, list) or len(rows) > limits.INPUTS:
            raise self._wrong("inputs", rows)
        found = []
        for i, row in enumerate(rows):
            if not isinstance(row, dict):
                raise self._wrong(f"inputs[{i}]", row)
            port, channel, output = row.get("port"), row.get("channel"), row.get("output")
            armed, heard, takes = row.get("armed", True), row.get("heard", True), row.get("takes", ALL)
            good = isinstance(port, str) and (output is None or isinstance(output, str))
            good = good and isinstance(armed, bool) and isinstance(heard, bool)
            good = good and takes in (ALL, NOTES, CONTROL)
            if not good or not (channel is None or _is_channel(channel)):
                raise self._wrong(f"inputs[{i}]", row)
            assert isinstance(port, str)
            source = self._map(row.get("source"), f"inputs[{i}].source")
            found.append(LiveInput(port, channel or ALL_CHANNELS, source, output, armed, heard, takes))
        return tuple(found)

    def _delivery(self, data: dict[str, Any]) -> Delivery:
        rows, order, with_tempo = data.get("tracks", []), data.get("order", []), data.get("with_tempo", True)
        if not isinstance(rows, list) or len(rows) > limits.TRACKS:
            raise self._wrong("tracks", rows)
        settings: list[TrackSettings] = []
        for i, row in enumerate(rows):
            if not isinstance(row, dict):
                raise self._wrong(f"tracks[{i}]", row)
            key, title, colour = row.get("key"), row.get("title", ""), row.get("colour", "")
            channel, out = row.get("channel"), row.get("out", True)
            whole = _is_channel(channel)
            good = isinstance(title, str) and colour in ("", *COLOURS) and isinstance(out, bool)
            port, muted, solo = row.get("port", ""), row.get("muted", False), row.get("solo", False)
            bank, program, level = row.get("bank"), row.get("program"), row.get("level")
            good = good and isinstance(port, str) and isinstance(muted, bool) and isinstance(solo, bool)
            good = good and _is_within(bank, 16383) and _is_within(program, 127) and _is_within(level, 127)
            if not isinstance(key, str) or not good or not (channel is None or whole):
                raise self._wrong(f"tracks[{i}]", row)
            settings.append(TrackSettings(key, title, colour, channel, out, port, bank, program, level, muted, solo))
        delivery = with_tracks(Delivery(), settings)
        if not isinstance(order, list) or not all(isinstance(key, str) for key in order):
            raise self._wrong("order", order)
        if not isinstance(with_tempo, bool):
            raise self._wrong("with_tempo", with_tempo)
        return Delivery(delivery.tracks, tuple(order), with_tempo)

    def _map(self, data: object, field: str) -> NoteMap | None:
        return None if data is None else note_map.from_json(data, f"{self._name}, session.json, {field}")  # not shown

    def _take(self, row: object, field: str) -> tuple[TakeRef, Take]:
        if not isinstance(row, dict):
            raise self._wrong(field, row)
        ident, name, kind = row.get("ident"), row.get("name"), row.get("kind")
        if not isinstance(ident, str) or not _IDENT.match(ident):
            raise self._wrong(f"{field}.ident", ident)
        if not isinstance(name, str) or len(name) > limits.TEXT:
            raise self._wrong(f"{field}.name", name)
        content = self.content(f"takes/{ident}.mid")
        if kind == "imported":
            take = to_take(midi_reader.parse(content, f"{self._name}, takes/{ident}.mid"), ident, name, content)
        elif kind == "captured":
            take = take_file.captured(content, ident, name, self._tempo(row.get("tempo"), f"{field}.tempo"))
        else:
            raise self._wrong(f"{field}.kind", kind)
        source = self._map(row.get("source"), f"{field}.source")
        if source is not None:
            note_map.check_source(source, f"{self._name}, session.json, {field}.source")  # not shown
        beat, follows, is_in = row.get("beat", 0.0), row.get("follows"), row.get("in", True)
        if not _is_number(beat, -limits.BEATS, limits.BEATS):
            raise self._wrong(f"{field}.beat", beat)
        if follows not in (None, BEATS, CLOCK):
            raise self._wrong(f"{field}.follows", follows)
        if not isinstance(is_in, bool):
            raise self._wrong(f"{field}.in", is_in)
        verdicts = self._verdicts(row.get("verdicts", []), f"{field}.verdicts")
        return TakeRef(ident, name, source, verdicts, float(beat), follows or "", is_in), take

    def _verdicts(self, rows: object, field: str) -> tuple[tuple[int, Verdict], ...]:
        if not isinstance(rows, list):
            raise self._wrong(field, rows)
        verdicts = {}
        for row in rows:
            origin = row.get("origin") if isinstance(row, dict) else None
            if not isinstance(row, dict) or isinstance(origin, bool) or not isinstance(origin, int):
                raise self._wrong(field, row)
            if not 0 <= origin < MOST_EVENTS:
                raise self._wrong(field, row)
            keep, articulation = row.get("keep"), row.get("articulation")
            if keep not in (True, False, None) or not (
                articulation is None or (isinstance(articulation, str) and is_articulation(articulation))
            ):
                raise self._wrong(field, row)
            verdicts[origin] = Verdict(keep, articulation)
        return tuple(sorted(verdicts.items(), key=lambda item: item[0]))

    def _tempo(self, data: object, field: str) -> TempoMap:
        def whole(value: object, low: int, high: int) -> int:
            if isinstance(value, bool) or not isinstance(value, int) or not low <= value <= high:
                raise self._wrong(field, value)
            return value

        if not isinstance(data, dict):
            raise self._wrong(field, data)
        for rows in (data.get("tempos", []), data.get("meters", [])):
            if not isinstance(rows, list) or len(rows) > limits.TEMPOS:
                raise self._wrong(field, rows)
        try:
            tempos = tuple(Tempo(whole(t, 0, 1 << 40), whole(us, 1, 0xFFFFFF)) for t, us in data.get("tempos", []))
            meters = tuple(
                Meter(whole(t, 0, 1 << 40), whole(n, 1, 255), 1 << (whole(d, 1, 64).bit_length() - 1))
                for t, n, d in data.get("meters", [])
            )
        except (TypeError, ValueError) as error:
            raise self._wrong(field, data) from error
        return TempoMap(whole(data.get("ppq"), 1, 0x7FFF), tempos, meters)
