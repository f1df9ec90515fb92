"""The takes of a session and their materials, from plain JSON data."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from puresignal.core.errors import PureSignalError
from puresignal.core.kit import note_map
from puresignal.core.kit.articulations import is_articulation
from puresignal.core.midi.events import Events, Port, Take
from puresignal.core.midi.standard_midi_file import to_take
from puresignal.core.midi.tempo_map import Meter, Tempo, TempoMap
from puresignal.core.path.heard_notes import HeardNotes
from puresignal.core.path.note_edits import NO_EDITS, NoteEdits
from puresignal.core.path.several_takes import BEATS, CLOCK
from puresignal.core.path.verdicts import NO_VERDICTS, Verdict, Verdicts
from puresignal.core.session.backing_track import Backing
from puresignal.core.session.take_ref import DRAWN, GENERATED, IMPORTED, KINDS, PLAYED, SOUND, DrawnNote, Pass, TakeRef
from puresignal.io import edits_json, heard_json, limits, midi_reader, take_file
from puresignal.io.json_fields import FieldReader, is_channel, is_ident, is_number, is_text, is_whole

MOST_EVENTS = 1 << 32


def _gone(ident: str, name: str, why: str) -> Take:
    """A material that is not there: it has no events, and says so."""
    return Take(ident, name, Events.empty(), (Port(""),), TempoMap.steady(120), notices=(why,))


class TakeReader(FieldReader):
    """Reads materials and takes."""

    def materials(self, rows: object) -> dict[str, Take]:
        """What takes are made of, by ident."""
        if not isinstance(rows, list) or len(rows) > limits.TAKES:
            raise self.wrong("materials", rows)
        found: dict[str, Take] = {}
        for i, row in enumerate(rows):
            take = self.part(lambda row=row, i=i: self._material(row, f"materials[{i}]"), None)  # type: ignore[misc]
            if take is not None and take.ident in found:
                self.problems.append(str(self.wrong(f"materials[{i}].ident", take.ident)))
            elif take is not None:
                found[take.ident] = take
        return found

    def _material(self, row: object, field: str) -> Take:
        if not isinstance(row, dict):
            raise self.wrong(field, row)
        ident, name, kind = row.get("ident"), row.get("name"), row.get("kind")
        if not is_ident(ident):
            raise self.wrong(f"{field}.ident", ident)
        if not is_text(name):
            raise self.wrong(f"{field}.name", name)
        if kind not in (PLAYED, IMPORTED):
            raise self.wrong(f"{field}.kind", kind)
        begun = row.get("begun")
        if begun is not None and not is_number(begun, 0, limits.CLOCK_SECONDS):
            raise self.wrong(f"{field}.begun", begun)
        tempo = self._tempo(row.get("tempo"), f"{field}.tempo") if kind == PLAYED else None
        assert isinstance(ident, str)
        assert isinstance(name, str)
        try:
            content = self.content(f"takes/{ident}.mid")
            if tempo is None:
                return to_take(midi_reader.parse(content, f"{self.name}, takes/{ident}.mid"), ident, name, content)
            take = take_file.captured(content, ident, name, tempo)
            return take if begun is None else replace(take, begun=float(begun))
        except PureSignalError as error:
            # The take keeps its place and settings; its material may turn up again.
            self.problems.append(str(error))
            return _gone(ident, name, str(error))

    def takes(self, rows: object, materials: dict[str, Take]) -> tuple[TakeRef, ...]:
        """The takes. A material that is missing is put into `materials` without events, and said."""
        if not isinstance(rows, list) or len(rows) > limits.TAKES:
            raise self.wrong("takes", rows)
        refs: list[TakeRef] = []
        for i, row in enumerate(rows):
            ref = self.part(lambda row=row, i=i: self._take(row, f"takes[{i}]"), None)  # type: ignore[misc]
            if ref is None:
                continue
            if any(other.ident == ref.ident for other in refs):
                self.problems.append(str(self.wrong(f"takes[{i}].ident", ref.ident)))
                continue
            if ref.kind in (PLAYED, IMPORTED) and ref.material not in materials:
                said = self.wrong(f"takes[{i}].material", ref.material)
                self.problems.append(str(said))
                materials[ref.material] = _gone(ref.material, ref.name, str(said))
            refs.append(ref)
        used = {ref.number for ref in refs}
        free = iter(n for n in range(1, 1 << 53) if n not in used)
        return tuple(ref if ref.number else replace(ref, number=next(free)) for ref in refs)

    def _take(self, row: object, field: str) -> TakeRef:
        if not isinstance(row, dict):
            raise self.wrong(field, row)
        checks: tuple[tuple[str, object, bool], ...] = (
            ("ident", row.get("ident"), is_ident(row.get("ident"))),
            ("name", row.get("name"), is_text(row.get("name"))),
            ("kind", row.get("kind"), row.get("kind") in KINDS),
            ("number", row.get("number", 0), is_whole(row.get("number", 0), 0, limits.TAKE_NUMBERS)),
            ("material", row.get("material", row.get("ident")), is_ident(row.get("material", row.get("ident")))),
            ("beat", row.get("beat", 0.0), is_number(row.get("beat", 0.0), -limits.BEATS, limits.BEATS)),
            ("follows", row.get("follows"), row.get("follows") in (None, "", BEATS, CLOCK)),
            ("in", row.get("in", True), isinstance(row.get("in", True), bool)),
            ("open", row.get("open", False), isinstance(row.get("open", False), bool)),
            ("rings", row.get("rings", False), isinstance(row.get("rings", False), bool)),
            ("delay", row.get("delay", 0.0), is_number(row.get("delay", 0.0), -limits.DELAY, limits.DELAY)),
            ("input", row.get("input", ""), is_text(row.get("input", ""))),
            ("own", row.get("own", ""), is_text(row.get("own", ""))),
            ("channels", row.get("channels", ""), is_text(row.get("channels", ""))),
            ("recipe", row.get("recipe", ""), is_text(row.get("recipe", ""))),
        )
        for key, value, good in checks:
            if not good:
                raise self.wrong(f"{field}.{key}", value)
        for key in ("begin", "end"):
            if row.get(key) is not None and not is_number(row[key], -limits.CLOCK_SECONDS, limits.CLOCK_SECONDS):
                raise self.wrong(f"{field}.{key}", row[key])
        source = self.map(row.get("source"), f"{field}.source")
        if source is not None:
            note_map.check_source(source, f"{self.name}, session.json, {field}.source")  # not shown
        return TakeRef(
            row["ident"],
            row["name"],
            source,
            self.part(lambda: self._verdicts(row, field), NO_VERDICTS),
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
            self.timeline(row.get("grid"), f"{field}.grid"),
            self._passes(row.get("passes", []), f"{field}.passes"),
            self._drawn(row.get("drawn", []), f"{field}.drawn") if row["kind"] == DRAWN else (),
            row.get("recipe", "") if row["kind"] == GENERATED else "",
            self._backing(row.get("sound"), f"{field}.sound") if row["kind"] == SOUND else None,
            row.get("open", False),
            float(row.get("delay", 0.0)),
            self.part(lambda: self._edits(row, field), NO_EDITS),
            self.part(lambda: self._heard(row, field), None),
            row.get("rings", False),
            self.part(lambda: self._lyrics(row.get("lyrics", []), field), ()),
        )

    def _passes(self, rows: object, field: str) -> tuple[Pass, ...]:
        if not isinstance(rows, list) or len(rows) > limits.TAKES * 10:
            raise self.wrong(field, rows)
        found = []
        for i, row in enumerate(rows):
            times = [row.get(key) for key in ("begin", "end", "beat")] if isinstance(row, dict) else [None]
            good = isinstance(row, dict) and all(is_number(v, -limits.BEATS, limits.CLOCK_SECONDS) for v in times)
            bars = row.get("bars") if good else None
            good = good and isinstance(row.get("in", True), bool) and is_text(row.get("track", ""))
            good = good and (
                bars is None
                or (
                    isinstance(bars, list)
                    and len(bars) == 2
                    and all(is_whole(b, -limits.BEATS, limits.BEATS) for b in bars)
                )
            )
            if not good:
                raise self.wrong(f"{field}[{i}]", row)
            begin, end, beat = (float(value or 0.0) for value in times)
            span = None if bars is None else (bars[0], bars[1])
            found.append(Pass(begin, end, beat, row.get("in", True), row.get("track", ""), span))
        return tuple(found)

    def _drawn(self, rows: object, field: str) -> tuple[DrawnNote, ...]:
        if not isinstance(rows, list) or len(rows) > limits.JSON_ITEMS:
            raise self.wrong(field, rows)
        found = []
        for i, row in enumerate(rows):
            good = isinstance(row, list) and len(row) == 6 and is_whole(row[0], 0)
            good = good and is_number(row[1], -limits.BEATS, limits.BEATS) and is_number(row[2], 0, limits.BEATS)
            good = good and is_whole(row[3], 0, 127) and is_number(row[4], 1, 127) and is_channel(row[5])
            if not good:
                raise self.wrong(f"{field}[{i}]", row)
            found.append(DrawnNote(row[0], float(row[1]), float(row[2]), row[3], float(row[4]), row[5]))
        return tuple(found)

    def _lyrics(self, rows: object, field: str) -> tuple[tuple[int, str], ...]:
        good = isinstance(rows, list) and all(
            isinstance(row, list) and len(row) == 2 and is_whole(row[0], 0) and is_text(row[1]) for row in rows
        )
        if not isinstance(rows, list) or not good:
            raise self.wrong(f"{field}.lyrics", rows)
        return tuple(sorted(dict(rows).items()))

    def _backing(self, data: object, field: str) -> Backing | None:
        if data is None:
            return None
        good = isinstance(data, dict) and isinstance(data.get("path"), str) and is_number(data.get("level"), -60, 24)
        if not isinstance(data, dict) or not good or not is_number(data.get("offset"), -86_400, 86_400):
            raise self.wrong(field, data)
        return Backing(data["path"], float(data["level"]), float(data["offset"]))

    def _entry(self, row: dict[str, Any], key: str) -> object:
        """A value of a take that may have an entry of its own; the take then has its name."""
        value: object = row.get(key)
        if not isinstance(value, str):
            return value
        from puresignal.io import json_file

        return json_file.parse(self.content(value), f"{self.name}, {value}", key)

    def _verdicts(self, row: dict[str, Any], field: str) -> Verdicts:
        """From an entry of their own; in version 1, and where few were written by hand, from the take itself."""
        rows = self._entry(row, "verdicts")
        if rows is None:
            return NO_VERDICTS
        if not isinstance(rows, list):
            raise self.wrong(f"{field}.verdicts", rows)
        found = NO_VERDICTS
        by_kind: dict[Verdict, list[int]] = {}
        for one in rows:
            if not isinstance(one, dict):
                raise self.wrong(f"{field}.verdicts", one)
            keep, articulation = one.get("keep"), one.get("articulation")
            if keep not in (True, False, None) or not (
                articulation is None or (isinstance(articulation, str) and is_articulation(articulation))
            ):
                raise self.wrong(f"{field}.verdicts", one)
            other_line = one.get("other_line", False)
            if not isinstance(other_line, bool):
                raise self.wrong(f"{field}.verdicts", one)
            origins = one.get("notes", [one.get("origin")])
            if not isinstance(origins, list) or not all(is_whole(origin, 0, MOST_EVENTS - 1) for origin in origins):
                raise self.wrong(f"{field}.verdicts", one)
            by_kind.setdefault(Verdict(keep, articulation, other_line), []).extend(origins)
        for verdict, origins in by_kind.items():
            found = found.with_verdict(np.array(origins, np.int64), verdict)
        return Verdicts.of(dict(found)) if found.rows else found

    def _heard(self, row: dict[str, Any], field: str) -> HeardNotes | None:
        """From an entry of its own."""
        data = self._entry(row, "heard")
        if data is None:
            return None
        try:
            return heard_json.from_json(data)
        except ValueError as error:
            raise self.wrong(f"{field}.{error}", None) from error

    def _edits(self, row: dict[str, Any], field: str) -> NoteEdits:
        """From an entry of their own, or from the take itself."""
        rows = self._entry(row, "edits")
        if rows is None:
            return NO_EDITS
        try:
            return edits_json.from_json(rows)
        except ValueError as error:
            raise self.wrong(f"{field}.{error}", rows) from error

    def _tempo(self, data: object, field: str) -> TempoMap:
        def whole(value: object, low: int, high: int) -> int:
            if isinstance(value, bool) or not isinstance(value, int) or not low <= value <= high:
                raise self.wrong(field, value)
            return value

        if not isinstance(data, dict):
            raise self.wrong(field, data)
        for rows in (data.get("tempos", []), data.get("meters", [])):
            if not isinstance(rows, list) or len(rows) > limits.TEMPOS:
                raise self.wrong(field, rows)
        try:
            tempos = tuple(Tempo(whole(t, 0, 1 << 40), whole(us, 1, 0xFFFFFF)) for t, us in data.get("tempos", []))
            meters = tuple(
                Meter(whole(t, 0, 1 << 40), whole(n, 1, 255), 1 << (whole(d, 1, 64).bit_length() - 1))
                for t, n, d in data.get("meters", [])
            )
        except (TypeError, ValueError) as error:
            raise self.wrong(field, data) from error
        return TempoMap(whole(data.get("ppq"), 1, 0x7FFF), tempos, meters)
