"""A session from plain JSON data: each field is checked by itself, and named exactly where it is wrong.

What is wrong costs only itself: the rest opens, with a sentence for each, and read-only so that the file keeps what
this program could not read.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from puresignal.core.errors import BadFileError, PureSignalError
from puresignal.core.generators import held_pattern
from puresignal.core.generators.recipe import from_text
from puresignal.core.midi import sound_names
from puresignal.core.midi.events import Take
from puresignal.core.path import condition, settings_json
from puresignal.core.path.cleaning_path import CleaningPath
from puresignal.core.session import sync
from puresignal.core.session.arrangement import Alternatives, Loop, NamedSelection, Section
from puresignal.core.session.destination import Destination
from puresignal.core.session.held_generator import HeldGenerator
from puresignal.core.session.live_input import ALL, ALL_CHANNELS, CONTROL, NOTES, LiveInput
from puresignal.core.session.recording import RecordingSettings
from puresignal.core.session.session import Session
from puresignal.core.session.sound_settings import SoundSettings
from puresignal.core.session.sync import Sync
from puresignal.core.session.take_ref import TakeRef
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
from puresignal.core.timing.session_time import Timeline
from puresignal.io import limits, ports, recording_json, session_upgrade
from puresignal.io.json_fields import (
    ENDING,
    is_channel,
    is_ident,
    is_number,
    is_text,
    is_whole,
    is_within,
    last_copy_hint,
)
from puresignal.io.session_json import FORMAT, VERSION
from puresignal.io.take_reader import TakeReader
from puresignal.translation import tr

_PORTS_BEFORE = {"Arpeggio of held keys": ports.HELD}  # not shown
"""Names that ports of our own had in earlier files."""


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


def from_json(data: object, name: str, content: Callable[[str], bytes]) -> Opened:
    """A session from plain JSON data, of version 1 or 2.

    name     of the file, for messages
    content  returns the bytes of an entry such as `takes/take1.mid`
    Raises   BadFileError if it is no session, or nothing of it can be read
    """
    return _Reader(name, content).opened(data)


def timeline_from(data: object, name: str) -> Timeline | None:
    """A timeline alone. Raises BadFileError"""
    return _Reader(name, lambda entry: b"").timeline(data, "timeline")


def inputs_from(rows: object, name: str) -> tuple[LiveInput, ...]:
    """Live inputs alone; those that cannot be read are left out. Raises BadFileError if they are no list"""
    return _Reader(name, lambda entry: b"")._inputs(rows)


class _Reader(TakeReader):
    def opened(self, data: object) -> Opened:
        if not isinstance(data, dict) or data.get("format") != FORMAT:
            raise BadFileError(
                tr("This is not a Pure Signal session"), self.name, tr("Choose a {ending} file.", ending=ENDING)
            )
        version = data.get("version")
        if isinstance(version, bool) or not isinstance(version, int) or version < 1:
            raise self.wrong("version", version)
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
                tr("This is not a Pure Signal session, or it is damaged"), self.name, last_copy_hint(self.name)
            ) from error
        notice = None
        if self.problems:
            notice = tr(
                "{name} could not be read completely: {what} "
                "You can look at the rest; save under another name to keep changes.",
                name=self.name,
                what=self.problems[0],
            )
        if version > VERSION:
            notice = tr(
                "{name} was saved by a later version of the program. "
                "You can look at it; save under another name to keep changes.",
                name=self.name,
            )
        return Opened(session, takes, notice, tuple(self.problems))

    def _too_new(self, version: int) -> BadFileError:
        return BadFileError(
            tr(
                "This session has version {version}; this program reads versions up to {version2}",
                version=version,
                version2=VERSION,
            ),
            self.name,
            tr("Update the program."),
        )

    def _session(self, data: dict[str, Any]) -> tuple[Session, tuple[Take, ...]]:
        materials = self.materials(data.get("materials"))
        refs = self.takes(data.get("takes"), materials)
        name = data.get("name")
        if not is_text(name):
            self.problems.append(str(self.wrong("name", name)))
            name = Session().name
        assert isinstance(name, str)
        part, where = self.part, f"{self.name}, session.json, path"  # not shown
        numbers = data.get("numbers", 0)
        session = Session(
            name,
            refs,
            part(lambda: self.map(data.get("target"), "target"), None),
            part(lambda: settings_json.from_json(data.get("path"), where), CleaningPath()),
            part(lambda: self._delivery(data), Delivery()),
            part(lambda: self._inputs(data.get("inputs", [])), ()) or (LiveInput(),),
            part(lambda: self._sound(data.get("sound", {})), SoundSettings()),
            part(lambda: self.timeline(data.get("timeline"), "timeline"), None),
            part(lambda: self.text(data.get("key"), "key"), ""),
            part(lambda: self._sections(data.get("sections", [])), ()),
            part(lambda: self.texts(data.get("order", []), "order"), ()),
            part(lambda: self._loop(data.get("loop")), None),
            part(lambda: self._destinations(data.get("destinations", [])), ()),
            part(lambda: self._sends(data.get("sends", [])), ()),
            part(lambda: self._alternatives(data.get("alternatives", [])), ()),
            max([numbers if is_whole(numbers, 0) else 0, *(ref.number for ref in refs)]),
            part(lambda: self._recording(data.get("recording", {})), RecordingSettings()),
            part(lambda: self._sync(data.get("sync", {})), Sync()),
            part(lambda: self._held(data.get("held")), HeldGenerator()),
            part(lambda: self._selections(data.get("selections", [])), ()),
            part(lambda: self._markers(data.get("markers", [])), ()),
            part(lambda: self._view(data.get("view", {}), refs), View()),
        )
        return session, tuple(materials.values())

    def _sections(self, rows: object) -> tuple[Section, ...]:
        if not isinstance(rows, list) or len(rows) > limits.TRACKS:
            raise self.wrong("sections", rows)
        found = []
        for i, row in enumerate(rows):
            good = isinstance(row, dict) and is_ident(row.get("ident")) and is_text(row.get("name"))
            good = good and is_whole(row.get("bar"), -limits.BEATS, limits.BEATS)
            good = good and is_whole(row.get("bars"), 1, limits.BEATS) and is_whole(row.get("repeats", 1), 0, 1000)
            good = good and is_whole(row.get("hidden", 0), 0, limits.BEATS)
            if not good:
                raise self.wrong(f"sections[{i}]", row)
            found.append(
                Section(row["ident"], row["name"], row["bar"], row["bars"], row.get("hidden", 0), row.get("repeats", 1))
            )
        return tuple(found)

    def _markers(self, rows: object) -> tuple[tuple[float, str], ...]:
        good = isinstance(rows, list) and len(rows) <= limits.METAS and all(
            isinstance(row, list) and len(row) == 2 and is_number(row[0], -limits.BEATS, limits.BEATS)
            and is_text(row[1]) and row[1]
            for row in rows
        )  # fmt: skip
        if not isinstance(rows, list) or not good:
            raise self.wrong("markers", rows)
        return tuple(sorted({float(beat): text for beat, text in rows}.items()))

    def _selections(self, rows: object) -> tuple[NamedSelection, ...]:
        if not isinstance(rows, list) or len(rows) > limits.TRACKS:
            raise self.wrong("selections", rows)
        found: dict[str, NamedSelection] = {}
        for i, row in enumerate(rows):
            field = f"selections[{i}]"
            if not isinstance(row, dict) or not is_text(row.get("name")) or not row["name"]:
                raise self.wrong(field, row)
            notes = row.get("notes", [])
            if not isinstance(notes, list) or not all(is_whole(one, 0) for one in notes):
                raise self.wrong(f"{field}.notes", notes)
            where = row.get("where")
            made = None if where is None else condition.from_json(where, f'"{field}"', f"{self.name}, session.json")
            found[row["name"]] = NamedSelection(row["name"], made, tuple(sorted(set(notes))))
        return tuple(found.values())

    def _loop(self, data: object) -> Loop | None:
        if data is None:
            return None
        good = isinstance(data, list) and len(data) == 2
        if not isinstance(data, list) or not good or not all(is_number(v, -limits.BEATS, limits.BEATS) for v in data):
            raise self.wrong("loop", data)
        if data[0] >= data[1]:
            raise self.wrong("loop", data)
        return Loop(float(data[0]), float(data[1]))

    def _held(self, data: object) -> HeldGenerator:
        if data is None:
            return HeldGenerator()
        if not isinstance(data, dict) or not is_text(data.get("recipe")) or not is_text(data.get("to", "")):
            raise self.wrong("held", data)
        recipe = from_text(data["recipe"], self.name)
        if type(recipe) not in held_pattern.LIVE:
            raise self.wrong("held.recipe", data)
        return HeldGenerator(recipe, data.get("to", ""))

    def _sync(self, data: object) -> Sync:
        if not isinstance(data, dict):
            raise self.wrong("sync", data)
        follow, port, to = data.get("follow", sync.OWN), data.get("port", ""), data.get("clock_to", [])
        good = follow in sync.MASTERS and is_text(port) and isinstance(to, list) and len(to) <= sync.MOST_RECEIVERS
        if not good or not all(is_text(name) for name in to):
            raise self.wrong("sync", data)
        return Sync(follow, port, tuple(to))

    def _recording(self, data: object) -> RecordingSettings:
        try:
            return recording_json.from_json(data)
        except ValueError as error:
            raise self.wrong(str(error), data) from error

    def _destinations(self, rows: object) -> tuple[Destination, ...]:
        if not isinstance(rows, list) or len(rows) > limits.INPUTS:
            raise self.wrong("destinations", rows)
        found = []
        for i, row in enumerate(rows):
            good = isinstance(row, dict) and is_text(row.get("name")) and is_text(row.get("port", ""))
            channel = row.get("channel") if good else None
            offset = row.get("offset", 0.0) if good else 0.0
            good = good and is_number(offset, -MOST_OFFSET, MOST_OFFSET)
            if not good or not (channel is None or is_channel(channel)):
                raise self.wrong(f"destinations[{i}]", row)
            target = self.map(row.get("target"), f"destinations[{i}].target")
            sounds = None if row.get("sounds") is None else sound_names.from_json(row["sounds"], self.name)
            drives = row.get("drives", BY_CONTROLLER)
            if drives not in LEVELS:
                raise self.wrong(f"destinations[{i}].drives", drives)
            port = _PORTS_BEFORE.get(row.get("port", ""), row.get("port", ""))
            found.append(Destination(row["name"], port, channel, target, float(offset), sounds, drives))
        return tuple(found)

    def _sends(self, rows: object) -> tuple[tuple[str, tuple[str, ...]], ...]:
        if not isinstance(rows, list) or len(rows) > limits.TRACKS:
            raise self.wrong("sends", rows)
        found = {}
        for i, row in enumerate(rows):
            if not isinstance(row, dict) or not is_text(row.get("from")):
                raise self.wrong(f"sends[{i}]", row)
            to = self.texts(row.get("to"), f"sends[{i}].to")
            if not 0 < len(to) <= limits.LAYERS:
                raise self.wrong(f"sends[{i}].to", row.get("to"))
            found[row["from"]] = to
        return tuple(sorted(found.items()))

    def _alternatives(self, rows: object) -> tuple[Alternatives, ...]:
        if not isinstance(rows, list) or len(rows) > limits.TAKES:
            raise self.wrong("alternatives", rows)
        found = []
        for i, row in enumerate(rows):
            if not isinstance(row, dict) or not is_text(row.get("name")) or not isinstance(row.get("choice", []), list):
                raise self.wrong(f"alternatives[{i}]", row)
            choice = row.get("choice", [])
            for one in choice:
                good = isinstance(one, list) and len(one) == 2 and is_whole(one[0], -limits.BEATS, limits.BEATS)
                if not good or not is_ident(one[1]):
                    raise self.wrong(f"alternatives[{i}].choice", one)
            takes = self.texts(row.get("takes"), f"alternatives[{i}].takes")
            found.append(Alternatives(row["name"], takes, tuple((one[0], one[1]) for one in choice)))
        return tuple(found)

    def _view(self, data: object, refs: tuple[TakeRef, ...]) -> View:
        if not isinstance(data, dict):
            raise self.wrong("view", data)
        current, begin, end, alone = (
            data.get("current"),
            data.get("begin", 0),
            data.get("end", 0),
            data.get("alone", False),
        )
        if current is not None and current not in [ref.ident for ref in refs]:
            raise self.wrong("view.current", current)
        numbers = is_number(begin, -limits.BEATS, limits.BEATS) and is_number(end, -limits.BEATS, limits.BEATS)
        in_order = data.get("in_order", False)
        if not numbers or not isinstance(alone, bool) or not isinstance(in_order, bool):
            raise self.wrong("view", data)
        return View(current, float(begin), float(end), alone, in_order)

    def _sound(self, data: object) -> SoundSettings:
        if not isinstance(data, dict):
            raise self.wrong("sound", data)
        kit, level, drums = data.get("kit", KITS[0].name), data.get("level", 0.7), data.get("drums", {})
        if not isinstance(kit, str) or not is_number(level, 0, 1) or not isinstance(drums, dict):
            raise self.wrong("sound", data)
        found = []
        for name, row in sorted(drums.items()):
            spans = {"level": (-60, 24), "place": (-1, 1), "tune": (-24, 24), "damping": (0.05, 4)}
            good = isinstance(row, dict) and all(is_number(row.get(key), *span) for key, span in spans.items())
            if not good:
                raise self.wrong(f"sound.drums.{name}", row)
            found.append((name, Drum(**{key: float(row[key]) for key in spans})))
        font = data.get("font", "")
        if not isinstance(font, str):
            raise self.wrong("sound.font", font)
        return SoundSettings(kit, float(level), tuple(found), font)

    def _inputs(self, rows: object) -> tuple[LiveInput, ...]:
        if not isinstance(rows, list) or len(rows) > limits.INPUTS:
            raise self.wrong("inputs", rows)
        found = []
        for i, row in enumerate(rows):
            one = self.part(lambda row=row, i=i: self._input(row, f"inputs[{i}]"), None)  # type: ignore[misc]
            if one is not None:
                found.append(one)
        return tuple(found)

    def _input(self, row: object, field: str) -> LiveInput:
        if not isinstance(row, dict):
            raise self.wrong(field, row)
        port, channel, output = row.get("port"), row.get("channel"), row.get("output")
        armed, monitor, takes = row.get("armed", True), row.get("monitor", True), row.get("takes", ALL)
        ident, name, more, own = row.get("ident", ""), row.get("name", ""), row.get("more", []), row.get("own", False)
        good = is_text(port) and (output is None or is_text(output)) and takes in (ALL, NOTES, CONTROL)
        good = good and all(isinstance(value, bool) for value in (armed, monitor, own))
        good = good and is_text(name) and (ident == "" or is_ident(ident))
        good = good and isinstance(more, list) and len(more) <= limits.INPUTS
        pairs = []
        for pair in more if good else ():
            ok = (
                isinstance(pair, list)
                and len(pair) == 2
                and is_text(pair[0])
                and (pair[1] is None or is_channel(pair[1]))
            )
            if not ok:
                raise self.wrong(f"{field}.more", pair)
            pairs.append((pair[0], pair[1] or ALL_CHANNELS))
        if not good or not (channel is None or is_channel(channel)):
            raise self.wrong(field, row)
        source = self.map(row.get("source"), f"{field}.source")
        output = _PORTS_BEFORE.get(output, output) if output else output
        return LiveInput(
            str(port), channel or ALL_CHANNELS, source, output, armed, monitor, takes, ident, name, tuple(pairs), own
        )

    def _delivery(self, data: dict[str, Any]) -> Delivery:
        rows, order, with_tempo = data.get("tracks", []), data.get("track_order", []), data.get("with_tempo", True)
        if not isinstance(rows, list) or len(rows) > limits.TRACKS:
            raise self.wrong("tracks", rows)
        settings: list[TrackSettings] = []
        for i, row in enumerate(rows):
            if not isinstance(row, dict):
                raise self.wrong(f"tracks[{i}]", row)
            key, title, colour = row.get("key"), row.get("title", ""), row.get("colour", "")
            channel, out = row.get("channel"), row.get("out", True)
            whole = is_channel(channel)
            good = isinstance(title, str) and colour in ("", *COLOURS) and isinstance(out, bool)
            port, muted, solo = row.get("port", ""), row.get("muted", False), row.get("solo", False)
            locked, hidden = row.get("locked", False), row.get("hidden", False)
            bank, program, level = row.get("bank"), row.get("program"), row.get("level")
            good = (
                good
                and isinstance(port, str)
                and all(isinstance(value, bool) for value in (muted, solo, locked, hidden))
            )
            good = good and is_within(bank, 16383) and is_within(program, 127) and is_within(level, 127)
            offset = row.get("offset", 0.0)
            good = good and is_number(offset, -MOST_OFFSET, MOST_OFFSET)
            if not isinstance(key, str) or not good or not (channel is None or whole):
                raise self.wrong(f"tracks[{i}]", row)
            frozen = self._frozen(row.get("frozen"), f"tracks[{i}].frozen")
            said = bank, program, level, muted, solo, locked, float(offset), hidden, frozen
            settings.append(TrackSettings(key, title, colour, channel, out, port, *said))
        delivery = with_tracks(Delivery(), settings)
        if not isinstance(order, list) or not all(isinstance(key, str) for key in order):
            raise self.wrong("track_order", order)
        if not isinstance(with_tempo, bool):
            raise self.wrong("with_tempo", with_tempo)
        told = []
        for name in ("early_live", "running_status", "zero_ends"):
            told.append(data.get(name, False))
            if not isinstance(told[-1], bool):
                raise self.wrong(name, told[-1])
        return Delivery(delivery.tracks, tuple(order), with_tempo, *told)

    def _frozen(self, row: object, field: str) -> Frozen | None:
        if row is None:
            return None
        good = isinstance(row, dict) and is_text(row.get("path")) and is_text(row.get("print"))
        if not isinstance(row, dict) or not good:
            raise self.wrong(field, row)
        begin, level = row.get("begin"), row.get("level")
        if not is_number(begin, -1e6, 1e6) or not is_number(level, 0.0, 1.0):
            raise self.wrong(field, row)
        return Frozen(row["path"], row["print"], float(row["begin"]), float(row["level"]))


def _as_chosen(session: Session, takes: tuple[Take, ...]) -> Session:
    """A session of version 1 with the tempo and meters of its chosen take."""
    ref = session.take()
    take = next((take for take in takes if ref is not None and take.ident == ref.material), None)
    if take is None or session.timeline is not None:
        return session
    return replace(session, timeline=Timeline.from_tempo_map(take.tempo))
