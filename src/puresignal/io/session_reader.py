"""A session from plain JSON data: each field is checked by itself, and named exactly where it is wrong.

What is wrong costs only itself: the rest opens, with a sentence for each, and read-only so that the file keeps what
this program could not read.
"""

from __future__ import annotations

import reprlib
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any, TypeVar

import numpy as np

from puresignal.core.errors import BadFileError, PureSignalError
from puresignal.core.generators import held_pattern
from puresignal.core.generators.recipe import from_text
from puresignal.core.kit import note_map
from puresignal.core.kit.articulations import is_articulation
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi import sound_names
from puresignal.core.midi.events import Events, Port, Take
from puresignal.core.midi.standard_midi_file import to_take
from puresignal.core.midi.tempo_map import Meter, Tempo, TempoMap
from puresignal.core.path import condition, settings_json
from puresignal.core.path.cleaning_path import CleaningPath
from puresignal.core.path.heard_notes import HeardNotes
from puresignal.core.path.note_edits import NO_EDITS, NoteEdits
from puresignal.core.path.several_takes import BEATS, CLOCK
from puresignal.core.path.verdicts import NO_VERDICTS, Verdict, Verdicts
from puresignal.core.session import sync
from puresignal.core.session.arrangement import Alternatives, Loop, NamedSelection, Section
from puresignal.core.session.backing_track import Backing
from puresignal.core.session.destination import Destination
from puresignal.core.session.held_generator import HeldGenerator
from puresignal.core.session.live_input import ALL, ALL_CHANNELS, CONTROL, NOTES, LiveInput
from puresignal.core.session.recording import RecordingSettings
from puresignal.core.session.session import Session
from puresignal.core.session.sound_settings import SoundSettings
from puresignal.core.session.sync import Sync
from puresignal.core.session.take_ref import DRAWN, GENERATED, IMPORTED, KINDS, PLAYED, SOUND, DrawnNote, Pass, TakeRef
from puresignal.core.session.track_settings import (
    BY_CONTROLLER,
    COLOURS,
    LEVELS,
    MOST_OFFSET,
    Delivery,
    Frozen,
    TrackSettings,
    with_tracks,
)
from puresignal.core.session.viewing import View
from puresignal.core.sound.drums import KITS, Drum
from puresignal.core.timing.session_time import FASTEST, SLOWEST, MeterPoint, TempoPoint, Timeline
from puresignal.io import edits_json, heard_json, limits, midi_reader, ports, recording_json, session_upgrade, take_file
from puresignal.io.session_json import FORMAT, VERSION
from puresignal.translation import tr

ENDING = ".puresignal"
MOST_EVENTS = 1 << 32
_PORTS_BEFORE = {"Arpeggio of held keys": ports.HELD}  # not shown
"""Names that ports of our own had in earlier files."""
_IDENT_CHARACTERS = 64
_SHORT = reprlib.Repr()
Value = TypeVar("Value")


@dataclass(frozen=True)
class Opened:
    """A session from a file.

    takes     its materials, also of removed takes
    notice    why it is read-only, else None
    problems  a sentence for each part that could not be read
    """

    session: Session
    takes: tuple[Take, ...]
    notice: str | None = None
    problems: tuple[str, ...] = ()


def is_ident(text: object) -> bool:
    """Whether a value can be the key of a take or a material."""
    if not isinstance(text, str) or not 0 < len(text) <= _IDENT_CHARACTERS:
        return False
    return text.isascii() and text[0].isalnum() and all(c.isalnum() or c in "_-" for c in text)


def last_copy_hint(name: str) -> str:
    """The remedy for a damaged session."""
    return tr(
        "Choose a {ending} file; the copy before the last save is beside it as {name}.last.", ending=ENDING, name=name
    )


def from_json(data: object, name: str, content: Callable[[str], bytes]) -> Opened:
    """A session from plain JSON data, of version 1 or 2.

    name     of the file, for messages
    content  returns the bytes of an entry such as `takes/take1.mid`
    Raises   BadFileError if it is no session, or nothing of it can be read
    """
    return _Reader(name, content).opened(data)


def timeline_from(data: object, name: str) -> Timeline | None:
    """A timeline alone. Raises BadFileError"""
    return _Reader(name, lambda entry: b"")._timeline(data, "timeline")


def inputs_from(rows: object, name: str) -> tuple[LiveInput, ...]:
    """Live inputs alone; those that cannot be read are left out. Raises BadFileError if they are no list"""
    return _Reader(name, lambda entry: b"")._inputs(rows)


def _is_number(value: object, least: float, most: float) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and least <= value <= most


def _is_whole(value: object, least: int = -(1 << 53), most: int = 1 << 53) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and least <= value <= most


def _is_within(value: object, most: int) -> bool:
    """None, or a whole number from 0 to `most`."""
    return value is None or _is_whole(value, 0, most)


def _is_channel(value: object) -> bool:
    return _is_whole(value, 1, 16)


def _is_text(value: object) -> bool:
    return isinstance(value, str) and len(value) <= limits.TEXT


def _gone(ident: str, name: str, why: str) -> Take:
    """A material that is not there: it has no events, and says so."""
    return Take(ident, name, Events.empty(), (Port(""),), TempoMap.steady(120), notices=(why,))


class _Reader:
    def __init__(self, name: str, content: Callable[[str], bytes]):
        self._name = name
        self.content = content
        self.problems: list[str] = []

    def opened(self, data: object) -> Opened:
        if not isinstance(data, dict) or data.get("format") != FORMAT:
            raise BadFileError(
                tr("This is not a Pure Signal session"), self._name, tr("Choose a {ending} file.", ending=ENDING)
            )
        version = data.get("version")
        if isinstance(version, bool) or not isinstance(version, int) or version < 1:
            raise self._wrong("version", version)
        try:
            session, takes = self._session(session_upgrade.upgraded(data) if version == 1 else data)
            if version == 1:
                session = _as_chosen(session, takes)
        except PureSignalError as error:
            if version > VERSION:
                raise self._too_new(version) from error
            raise
        except (TypeError, ValueError, AttributeError, LookupError, OverflowError, RecursionError) as error:
            # A value of a kind that nothing here expects.
            raise BadFileError(
                tr("This is not a Pure Signal session, or it is damaged"), self._name, last_copy_hint(self._name)
            ) from error
        notice = None
        if self.problems:
            notice = tr(
                "{name} could not be read completely: {what} "
                "You can look at the rest; save under another name to keep changes.",
                name=self._name,
                what=self.problems[0],
            )
        if version > VERSION:
            notice = tr(
                "{name} was saved by a later version of the program. "
                "You can look at it; save under another name to keep changes.",
                name=self._name,
            )
        return Opened(session, takes, notice, tuple(self.problems))

    def _too_new(self, version: int) -> BadFileError:
        return BadFileError(
            tr(
                "This session has version {version}; this program reads versions up to {version2}",
                version=version,
                version2=VERSION,
            ),
            self._name,
            tr("Update the program."),
        )

    def _wrong(self, field: str, value: object) -> BadFileError:
        shown = _SHORT.repr(value)[:40]
        return BadFileError(
            tr('"{field}" is {shown}', field=field, shown=shown),
            f"{self._name}, session.json",
            last_copy_hint(self._name),
        )

    def _part(self, read: Callable[[], Value], otherwise: Value) -> Value:
        """A part of the session, or what stands for it where it is wrong."""
        try:
            return read()
        except PureSignalError as error:
            self.problems.append(str(error))
            return otherwise

    def _session(self, data: dict[str, Any]) -> tuple[Session, tuple[Take, ...]]:
        materials = self._materials(data.get("materials"))
        refs = self._takes(data.get("takes"), materials)
        name = data.get("name")
        if not _is_text(name):
            self.problems.append(str(self._wrong("name", name)))
            name = Session().name
        assert isinstance(name, str)
        part, where = self._part, f"{self._name}, session.json, path"  # not shown
        numbers = data.get("numbers", 0)
        session = Session(
            name,
            refs,
            part(lambda: self._map(data.get("target"), "target"), None),
            part(lambda: settings_json.from_json(data.get("path"), where), CleaningPath()),
            part(lambda: self._delivery(data), Delivery()),
            part(lambda: self._inputs(data.get("inputs", [])), ()) or (LiveInput(),),
            part(lambda: self._sound(data.get("sound", {})), SoundSettings()),
            part(lambda: self._timeline(data.get("timeline"), "timeline"), None),
            part(lambda: self._text(data.get("key"), "key"), ""),
            part(lambda: self._sections(data.get("sections", [])), ()),
            part(lambda: self._texts(data.get("order", []), "order"), ()),
            part(lambda: self._loop(data.get("loop")), None),
            part(lambda: self._destinations(data.get("destinations", [])), ()),
            part(lambda: self._sends(data.get("sends", [])), ()),
            part(lambda: self._alternatives(data.get("alternatives", [])), ()),
            max([numbers if _is_whole(numbers, 0) else 0, *(ref.number for ref in refs)]),
            part(lambda: self._recording(data.get("recording", {})), RecordingSettings()),
            part(lambda: self._sync(data.get("sync", {})), Sync()),
            part(lambda: self._held(data.get("held")), HeldGenerator()),
            part(lambda: self._selections(data.get("selections", [])), ()),
            part(lambda: self._markers(data.get("markers", [])), ()),
            part(lambda: self._view(data.get("view", {}), refs), View()),
        )
        return session, tuple(materials.values())

    def _materials(self, rows: object) -> dict[str, Take]:
        if not isinstance(rows, list) or len(rows) > limits.TAKES:
            raise self._wrong("materials", rows)
        found: dict[str, Take] = {}
        for i, row in enumerate(rows):
            take = self._part(lambda row=row, i=i: self._material(row, f"materials[{i}]"), None)  # type: ignore[misc]
            if take is not None and take.ident in found:
                self.problems.append(str(self._wrong(f"materials[{i}].ident", take.ident)))
            elif take is not None:
                found[take.ident] = take
        return found

    def _material(self, row: object, field: str) -> Take:
        if not isinstance(row, dict):
            raise self._wrong(field, row)
        ident, name, kind = row.get("ident"), row.get("name"), row.get("kind")
        if not is_ident(ident):
            raise self._wrong(f"{field}.ident", ident)
        if not _is_text(name):
            raise self._wrong(f"{field}.name", name)
        if kind not in (PLAYED, IMPORTED):
            raise self._wrong(f"{field}.kind", kind)
        begun = row.get("begun")
        if begun is not None and not _is_number(begun, 0, limits.CLOCK_SECONDS):
            raise self._wrong(f"{field}.begun", begun)
        tempo = self._tempo(row.get("tempo"), f"{field}.tempo") if kind == PLAYED else None
        assert isinstance(ident, str)
        assert isinstance(name, str)
        try:
            content = self.content(f"takes/{ident}.mid")
            if tempo is None:
                return to_take(midi_reader.parse(content, f"{self._name}, takes/{ident}.mid"), ident, name, content)
            take = take_file.captured(content, ident, name, tempo)
            return take if begun is None else replace(take, begun=float(begun))
        except PureSignalError as error:
            # The take keeps its place and settings; its material may turn up again.
            self.problems.append(str(error))
            return _gone(ident, name, str(error))

    def _takes(self, rows: object, materials: dict[str, Take]) -> tuple[TakeRef, ...]:
        if not isinstance(rows, list) or len(rows) > limits.TAKES:
            raise self._wrong("takes", rows)
        refs: list[TakeRef] = []
        for i, row in enumerate(rows):
            ref = self._part(lambda row=row, i=i: self._take(row, f"takes[{i}]"), None)  # type: ignore[misc]
            if ref is None:
                continue
            if any(other.ident == ref.ident for other in refs):
                self.problems.append(str(self._wrong(f"takes[{i}].ident", ref.ident)))
                continue
            if ref.kind in (PLAYED, IMPORTED) and ref.material not in materials:
                said = self._wrong(f"takes[{i}].material", ref.material)
                self.problems.append(str(said))
                materials[ref.material] = _gone(ref.material, ref.name, str(said))
            refs.append(ref)
        used = {ref.number for ref in refs}
        free = iter(n for n in range(1, 1 << 53) if n not in used)
        return tuple(ref if ref.number else replace(ref, number=next(free)) for ref in refs)

    def _take(self, row: object, field: str) -> TakeRef:
        if not isinstance(row, dict):
            raise self._wrong(field, row)
        checks: tuple[tuple[str, object, bool], ...] = (
            ("ident", row.get("ident"), is_ident(row.get("ident"))),
            ("name", row.get("name"), _is_text(row.get("name"))),
            ("kind", row.get("kind"), row.get("kind") in KINDS),
            ("number", row.get("number", 0), _is_whole(row.get("number", 0), 0, limits.TAKE_NUMBERS)),
            ("material", row.get("material", row.get("ident")), is_ident(row.get("material", row.get("ident")))),
            ("beat", row.get("beat", 0.0), _is_number(row.get("beat", 0.0), -limits.BEATS, limits.BEATS)),
            ("follows", row.get("follows"), row.get("follows") in (None, "", BEATS, CLOCK)),
            ("in", row.get("in", True), isinstance(row.get("in", True), bool)),
            ("open", row.get("open", False), isinstance(row.get("open", False), bool)),
            ("rings", row.get("rings", False), isinstance(row.get("rings", False), bool)),
            ("delay", row.get("delay", 0.0), _is_number(row.get("delay", 0.0), -limits.DELAY, limits.DELAY)),
            ("input", row.get("input", ""), _is_text(row.get("input", ""))),
            ("own", row.get("own", ""), _is_text(row.get("own", ""))),
            ("channels", row.get("channels", ""), _is_text(row.get("channels", ""))),
            ("recipe", row.get("recipe", ""), _is_text(row.get("recipe", ""))),
        )
        for key, value, good in checks:
            if not good:
                raise self._wrong(f"{field}.{key}", value)
        for key in ("begin", "end"):
            if row.get(key) is not None and not _is_number(row[key], -limits.CLOCK_SECONDS, limits.CLOCK_SECONDS):
                raise self._wrong(f"{field}.{key}", row[key])
        source = self._map(row.get("source"), f"{field}.source")
        if source is not None:
            note_map.check_source(source, f"{self._name}, session.json, {field}.source")  # not shown
        return TakeRef(
            row["ident"],
            row["name"],
            source,
            self._part(lambda: self._verdicts(row, field), NO_VERDICTS),
            float(row.get("beat", 0.0)),
            row.get("follows") or "",
            row.get("in", True),
            row["kind"],
            str(row.get("material", row["ident"])),
            None if row.get("begin") is None else float(row["begin"]),
            None if row.get("end") is None else float(row["end"]),
            row.get("number", 0),
            row.get("input", ""),
            row.get("own", ""),
            row.get("channels", ""),
            self._timeline(row.get("grid"), f"{field}.grid"),
            self._passes(row.get("passes", []), f"{field}.passes"),
            self._drawn(row.get("drawn", []), f"{field}.drawn") if row["kind"] == DRAWN else (),
            row.get("recipe", "") if row["kind"] == GENERATED else "",
            self._backing(row.get("sound"), f"{field}.sound") if row["kind"] == SOUND else None,
            row.get("open", False),
            float(row.get("delay", 0.0)),
            self._part(lambda: self._edits(row, field), NO_EDITS),
            self._part(lambda: self._heard(row, field), None),
            row.get("rings", False),
            self._part(lambda: self._lyrics(row.get("lyrics", []), field), ()),
        )

    def _passes(self, rows: object, field: str) -> tuple[Pass, ...]:
        if not isinstance(rows, list) or len(rows) > limits.TAKES * 10:
            raise self._wrong(field, rows)
        found = []
        for i, row in enumerate(rows):
            times = [row.get(key) for key in ("begin", "end", "beat")] if isinstance(row, dict) else [None]
            good = isinstance(row, dict) and all(_is_number(v, -limits.BEATS, limits.CLOCK_SECONDS) for v in times)
            bars = row.get("bars") if good else None
            good = good and isinstance(row.get("in", True), bool) and _is_text(row.get("track", ""))
            good = good and (
                bars is None
                or (
                    isinstance(bars, list)
                    and len(bars) == 2
                    and all(_is_whole(b, -limits.BEATS, limits.BEATS) for b in bars)
                )
            )
            if not good:
                raise self._wrong(f"{field}[{i}]", row)
            begin, end, beat = (float(value or 0.0) for value in times)
            span = None if bars is None else (bars[0], bars[1])
            found.append(Pass(begin, end, beat, row.get("in", True), row.get("track", ""), span))
        return tuple(found)

    def _drawn(self, rows: object, field: str) -> tuple[DrawnNote, ...]:
        if not isinstance(rows, list) or len(rows) > limits.JSON_ITEMS:
            raise self._wrong(field, rows)
        found = []
        for i, row in enumerate(rows):
            good = isinstance(row, list) and len(row) == 6 and _is_whole(row[0], 0)
            good = good and _is_number(row[1], -limits.BEATS, limits.BEATS) and _is_number(row[2], 0, limits.BEATS)
            good = good and _is_whole(row[3], 0, 127) and _is_number(row[4], 1, 127) and _is_channel(row[5])
            if not good:
                raise self._wrong(f"{field}[{i}]", row)
            found.append(DrawnNote(row[0], float(row[1]), float(row[2]), row[3], float(row[4]), row[5]))
        return tuple(found)

    def _text(self, value: object, field: str) -> str:
        if value is not None and not _is_text(value):
            raise self._wrong(field, value)
        return str(value or "")

    def _texts(self, value: object, field: str) -> tuple[str, ...]:
        if not isinstance(value, list) or len(value) > limits.TRACKS or not all(_is_text(one) for one in value):
            raise self._wrong(field, value)
        return tuple(value)

    def _sections(self, rows: object) -> tuple[Section, ...]:
        if not isinstance(rows, list) or len(rows) > limits.TRACKS:
            raise self._wrong("sections", rows)
        found = []
        for i, row in enumerate(rows):
            good = isinstance(row, dict) and is_ident(row.get("ident")) and _is_text(row.get("name"))
            good = good and _is_whole(row.get("bar"), -limits.BEATS, limits.BEATS)
            good = good and _is_whole(row.get("bars"), 1, limits.BEATS) and _is_whole(row.get("repeats", 1), 0, 1000)
            good = good and _is_whole(row.get("hidden", 0), 0, limits.BEATS)
            if not good:
                raise self._wrong(f"sections[{i}]", row)
            found.append(
                Section(row["ident"], row["name"], row["bar"], row["bars"], row.get("hidden", 0), row.get("repeats", 1))
            )
        return tuple(found)

    def _lyrics(self, rows: object, field: str) -> tuple[tuple[int, str], ...]:
        good = isinstance(rows, list) and all(
            isinstance(row, list) and len(row) == 2 and _is_whole(row[0], 0) and _is_text(row[1]) for row in rows
        )
        if not isinstance(rows, list) or not good:
            raise self._wrong(f"{field}.lyrics", rows)
        return tuple(sorted(dict(rows).items()))

    def _markers(self, rows: object) -> tuple[tuple[float, str], ...]:
        good = isinstance(rows, list) and len(rows) <= limits.METAS and all(
            isinstance(row, list) and len(row) == 2 and _is_number(row[0], -limits.BEATS, limits.BEATS)
            and _is_text(row[1]) and row[1]
            for row in rows
        )  # fmt: skip
        if not isinstance(rows, list) or not good:
            raise self._wrong("markers", rows)
        return tuple(sorted({float(beat): text for beat, text in rows}.items()))

    def _selections(self, rows: object) -> tuple[NamedSelection, ...]:
        if not isinstance(rows, list) or len(rows) > limits.TRACKS:
            raise self._wrong("selections", rows)
        found: dict[str, NamedSelection] = {}
        for i, row in enumerate(rows):
            field = f"selections[{i}]"
            if not isinstance(row, dict) or not _is_text(row.get("name")) or not row["name"]:
                raise self._wrong(field, row)
            notes = row.get("notes", [])
            if not isinstance(notes, list) or not all(_is_whole(one, 0) for one in notes):
                raise self._wrong(f"{field}.notes", notes)
            where = row.get("where")
            made = None if where is None else condition.from_json(where, f'"{field}"', f"{self._name}, session.json")
            found[row["name"]] = NamedSelection(row["name"], made, tuple(sorted(set(notes))))
        return tuple(found.values())

    def _loop(self, data: object) -> Loop | None:
        if data is None:
            return None
        good = isinstance(data, list) and len(data) == 2
        if not isinstance(data, list) or not good or not all(_is_number(v, -limits.BEATS, limits.BEATS) for v in data):
            raise self._wrong("loop", data)
        if data[0] >= data[1]:
            raise self._wrong("loop", data)
        return Loop(float(data[0]), float(data[1]))

    def _held(self, data: object) -> HeldGenerator:
        if data is None:
            return HeldGenerator()
        if not isinstance(data, dict) or not _is_text(data.get("recipe")) or not _is_text(data.get("to", "")):
            raise self._wrong("held", data)
        recipe = from_text(data["recipe"], self._name)
        if type(recipe) not in held_pattern.LIVE:
            raise self._wrong("held.recipe", data)
        return HeldGenerator(recipe, data.get("to", ""))

    def _sync(self, data: object) -> Sync:
        if not isinstance(data, dict):
            raise self._wrong("sync", data)
        follow, port, to = data.get("follow", sync.OWN), data.get("port", ""), data.get("clock_to", [])
        good = follow in sync.MASTERS and _is_text(port) and isinstance(to, list) and len(to) <= sync.MOST_RECEIVERS
        if not good or not all(_is_text(name) for name in to):
            raise self._wrong("sync", data)
        return Sync(follow, port, tuple(to))

    def _recording(self, data: object) -> RecordingSettings:
        try:
            return recording_json.from_json(data)
        except ValueError as error:
            raise self._wrong(str(error), data) from error

    def _destinations(self, rows: object) -> tuple[Destination, ...]:
        if not isinstance(rows, list) or len(rows) > limits.INPUTS:
            raise self._wrong("destinations", rows)
        found = []
        for i, row in enumerate(rows):
            good = isinstance(row, dict) and _is_text(row.get("name")) and _is_text(row.get("port", ""))
            channel = row.get("channel") if good else None
            offset = row.get("offset", 0.0) if good else 0.0
            good = good and _is_number(offset, -MOST_OFFSET, MOST_OFFSET)
            if not good or not (channel is None or _is_channel(channel)):
                raise self._wrong(f"destinations[{i}]", row)
            target = self._map(row.get("target"), f"destinations[{i}].target")
            sounds = None if row.get("sounds") is None else sound_names.from_json(row["sounds"], self._name)
            drives = row.get("drives", BY_CONTROLLER)
            if drives not in LEVELS:
                raise self._wrong(f"destinations[{i}].drives", drives)
            port = _PORTS_BEFORE.get(row.get("port", ""), row.get("port", ""))
            found.append(Destination(row["name"], port, channel, target, float(offset), sounds, drives))
        return tuple(found)

    def _sends(self, rows: object) -> tuple[tuple[str, tuple[str, ...]], ...]:
        if not isinstance(rows, list) or len(rows) > limits.TRACKS:
            raise self._wrong("sends", rows)
        found = {}
        for i, row in enumerate(rows):
            if not isinstance(row, dict) or not _is_text(row.get("from")):
                raise self._wrong(f"sends[{i}]", row)
            to = self._texts(row.get("to"), f"sends[{i}].to")
            if not 0 < len(to) <= limits.LAYERS:
                raise self._wrong(f"sends[{i}].to", row.get("to"))
            found[row["from"]] = to
        return tuple(sorted(found.items()))

    def _alternatives(self, rows: object) -> tuple[Alternatives, ...]:
        if not isinstance(rows, list) or len(rows) > limits.TAKES:
            raise self._wrong("alternatives", rows)
        found = []
        for i, row in enumerate(rows):
            if (
                not isinstance(row, dict)
                or not _is_text(row.get("name"))
                or not isinstance(row.get("choice", []), list)
            ):
                raise self._wrong(f"alternatives[{i}]", row)
            choice = row.get("choice", [])
            for one in choice:
                good = isinstance(one, list) and len(one) == 2 and _is_whole(one[0], -limits.BEATS, limits.BEATS)
                if not good or not is_ident(one[1]):
                    raise self._wrong(f"alternatives[{i}].choice", one)
            takes = self._texts(row.get("takes"), f"alternatives[{i}].takes")
            found.append(Alternatives(row["name"], takes, tuple((one[0], one[1]) for one in choice)))
        return tuple(found)

    def _view(self, data: object, refs: tuple[TakeRef, ...]) -> View:
        if not isinstance(data, dict):
            raise self._wrong("view", data)
        current, begin, end, alone = (
            data.get("current"),
            data.get("begin", 0),
            data.get("end", 0),
            data.get("alone", False),
        )
        if current is not None and current not in [ref.ident for ref in refs]:
            raise self._wrong("view.current", current)
        numbers = _is_number(begin, -limits.BEATS, limits.BEATS) and _is_number(end, -limits.BEATS, limits.BEATS)
        in_order = data.get("in_order", False)
        if not numbers or not isinstance(alone, bool) or not isinstance(in_order, bool):
            raise self._wrong("view", data)
        return View(current, float(begin), float(end), alone, in_order)

    def _timeline(self, data: object, field: str) -> Timeline | None:
        if data is None:
            return None
        tempos, meters = (data.get("tempos"), data.get("meters")) if isinstance(data, dict) else (None, None)
        for key, rows in (("tempos", tempos), ("meters", meters)):
            if not isinstance(rows, list) or len(rows) > limits.TEMPOS:
                raise self._wrong(f"{field}.{key}", rows)
        assert isinstance(tempos, list)
        assert isinstance(meters, list)
        for i, row in enumerate(tempos):
            good = isinstance(row, list) and len(row) == 3 and _is_number(row[0], -limits.BEATS, limits.BEATS)
            if not good or not _is_number(row[1], SLOWEST, FASTEST) or not isinstance(row[2], bool):
                raise self._wrong(f"{field}.tempos[{i}]", row)
        for i, row in enumerate(meters):
            good = isinstance(row, list) and len(row) == 3 and all(_is_whole(value) for value in row)
            if (
                not good
                or not 1 <= row[0] <= limits.BEATS
                or not 1 <= row[1] <= 255
                or row[2] not in (1, 2, 4, 8, 16, 32, 64)
            ):
                raise self._wrong(f"{field}.meters[{i}]", row)
        start = data.get("start", 0.0) if isinstance(data, dict) else 0.0
        if not _is_number(start, -limits.CLOCK_SECONDS, limits.CLOCK_SECONDS):
            raise self._wrong(f"{field}.start", start)
        return Timeline(
            tuple(TempoPoint(float(row[0]), float(row[1]), row[2]) for row in tempos),
            tuple(MeterPoint(*row) for row in meters),
            float(start),
        )

    def _backing(self, data: object, field: str) -> Backing | None:
        if data is None:
            return None
        good = isinstance(data, dict) and isinstance(data.get("path"), str) and _is_number(data.get("level"), -60, 24)
        if not isinstance(data, dict) or not good or not _is_number(data.get("offset"), -86_400, 86_400):
            raise self._wrong(field, data)
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
            one = self._part(lambda row=row, i=i: self._input(row, f"inputs[{i}]"), None)  # type: ignore[misc]
            if one is not None:
                found.append(one)
        return tuple(found)

    def _input(self, row: object, field: str) -> LiveInput:
        if not isinstance(row, dict):
            raise self._wrong(field, row)
        port, channel, output = row.get("port"), row.get("channel"), row.get("output")
        armed, monitor, takes = row.get("armed", True), row.get("monitor", True), row.get("takes", ALL)
        ident, name, more, own = row.get("ident", ""), row.get("name", ""), row.get("more", []), row.get("own", False)
        good = _is_text(port) and (output is None or _is_text(output)) and takes in (ALL, NOTES, CONTROL)
        good = good and all(isinstance(value, bool) for value in (armed, monitor, own))
        good = good and _is_text(name) and (ident == "" or is_ident(ident))
        good = good and isinstance(more, list) and len(more) <= limits.INPUTS
        pairs = []
        for pair in more if good else ():
            ok = (
                isinstance(pair, list)
                and len(pair) == 2
                and _is_text(pair[0])
                and (pair[1] is None or _is_channel(pair[1]))
            )
            if not ok:
                raise self._wrong(f"{field}.more", pair)
            pairs.append((pair[0], pair[1] or ALL_CHANNELS))
        if not good or not (channel is None or _is_channel(channel)):
            raise self._wrong(field, row)
        source = self._map(row.get("source"), f"{field}.source")
        output = _PORTS_BEFORE.get(output, output) if output else output
        return LiveInput(
            str(port), channel or ALL_CHANNELS, source, output, armed, monitor, takes, ident, name, tuple(pairs), own
        )

    def _delivery(self, data: dict[str, Any]) -> Delivery:
        rows, order, with_tempo = data.get("tracks", []), data.get("track_order", []), data.get("with_tempo", True)
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
            locked, hidden = row.get("locked", False), row.get("hidden", False)
            bank, program, level = row.get("bank"), row.get("program"), row.get("level")
            good = (
                good
                and isinstance(port, str)
                and all(isinstance(value, bool) for value in (muted, solo, locked, hidden))
            )
            good = good and _is_within(bank, 16383) and _is_within(program, 127) and _is_within(level, 127)
            offset = row.get("offset", 0.0)
            good = good and _is_number(offset, -MOST_OFFSET, MOST_OFFSET)
            if not isinstance(key, str) or not good or not (channel is None or whole):
                raise self._wrong(f"tracks[{i}]", row)
            frozen = self._frozen(row.get("frozen"), f"tracks[{i}].frozen")
            said = bank, program, level, muted, solo, locked, float(offset), hidden, frozen
            settings.append(TrackSettings(key, title, colour, channel, out, port, *said))
        delivery = with_tracks(Delivery(), settings)
        if not isinstance(order, list) or not all(isinstance(key, str) for key in order):
            raise self._wrong("track_order", order)
        if not isinstance(with_tempo, bool):
            raise self._wrong("with_tempo", with_tempo)
        told = []
        for name in ("early_live", "running_status", "zero_ends"):
            told.append(data.get(name, False))
            if not isinstance(told[-1], bool):
                raise self._wrong(name, told[-1])
        return Delivery(delivery.tracks, tuple(order), with_tempo, *told)

    def _frozen(self, row: object, field: str) -> Frozen | None:
        if row is None:
            return None
        good = isinstance(row, dict) and _is_text(row.get("path")) and _is_text(row.get("print"))
        if not isinstance(row, dict) or not good:
            raise self._wrong(field, row)
        begin, level = row.get("begin"), row.get("level")
        if not _is_number(begin, -1e6, 1e6) or not _is_number(level, 0.0, 1.0):
            raise self._wrong(field, row)
        return Frozen(row["path"], row["print"], float(row["begin"]), float(row["level"]))

    def _map(self, data: object, field: str) -> NoteMap | None:
        return None if data is None else note_map.from_json(data, f"{self._name}, session.json, {field}")  # not shown

    def _verdicts(self, row: dict[str, Any], field: str) -> Verdicts:
        """From an entry of their own; in version 1, and where few were written by hand, from the take itself."""
        rows: object = row.get("verdicts")
        if rows is None:
            return NO_VERDICTS
        if isinstance(rows, str):
            from puresignal.io import json_file

            rows = json_file.parse(self.content(rows), f"{self._name}, {rows}", "verdicts")
        if not isinstance(rows, list):
            raise self._wrong(f"{field}.verdicts", rows)
        found = NO_VERDICTS
        by_kind: dict[Verdict, list[int]] = {}
        for one in rows:
            if not isinstance(one, dict):
                raise self._wrong(f"{field}.verdicts", one)
            keep, articulation = one.get("keep"), one.get("articulation")
            if keep not in (True, False, None) or not (
                articulation is None or (isinstance(articulation, str) and is_articulation(articulation))
            ):
                raise self._wrong(f"{field}.verdicts", one)
            other_line = one.get("other_line", False)
            if not isinstance(other_line, bool):
                raise self._wrong(f"{field}.verdicts", one)
            origins = one.get("notes", [one.get("origin")])
            if not isinstance(origins, list) or not all(_is_whole(origin, 0, MOST_EVENTS - 1) for origin in origins):
                raise self._wrong(f"{field}.verdicts", one)
            by_kind.setdefault(Verdict(keep, articulation, other_line), []).extend(origins)
        for verdict, origins in by_kind.items():
            found = found.with_verdict(np.array(origins, np.int64), verdict)
        return Verdicts.of(dict(found)) if found.rows else found

    def _heard(self, row: dict[str, Any], field: str) -> HeardNotes | None:
        """From an entry of its own."""
        data: object = row.get("heard")
        if data is None:
            return None
        if isinstance(data, str):
            from puresignal.io import json_file

            data = json_file.parse(self.content(data), f"{self._name}, {data}", "heard")
        try:
            return heard_json.from_json(data)
        except ValueError as error:
            raise self._wrong(f"{field}.{error}", None) from error

    def _edits(self, row: dict[str, Any], field: str) -> NoteEdits:
        """From an entry of their own, or from the take itself."""
        rows: object = row.get("edits")
        if rows is None:
            return NO_EDITS
        if isinstance(rows, str):
            from puresignal.io import json_file

            rows = json_file.parse(self.content(rows), f"{self._name}, {rows}", "edits")
        try:
            return edits_json.from_json(rows)
        except ValueError as error:
            raise self._wrong(f"{field}.{error}", rows) from error

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


def _as_chosen(session: Session, takes: tuple[Take, ...]) -> Session:
    """A session of version 1 with the tempo and meters of its chosen take."""
    ref = session.take()
    take = next((take for take in takes if ref is not None and take.ident == ref.material), None)
    if take is None or session.timeline is not None:
        return session
    return replace(session, timeline=Timeline.from_tempo_map(take.tempo))
