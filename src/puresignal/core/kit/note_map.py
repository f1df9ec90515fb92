"""Note maps: which note means which articulation, for one kit or one receiving instrument."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from puresignal.core.errors import NoteMapError
from puresignal.core.kit.articulations import HAT_EDGE_HALF, STANDARD, canonical, is_articulation
from puresignal.translation import tr

FORMAT = "pure-signal/note-map"
VERSION = 1


@dataclass(frozen=True)
class Pad:
    """One line of a note map.

    articulation  the drum and how it is struck
    note          0..127
    channel       1..16, or None for the map's channel
    group         name of the stand it shares with other pads, or None
    also          further notes that a receiver plays for this articulation
    """

    articulation: str
    note: int
    channel: int | None = None
    group: str | None = None
    also: tuple[int, ...] = ()


@dataclass(frozen=True)
class HatPedal:
    """How a kit's pedal sends the opening of the hat.

    controller          0..119
    closed_at, open_at  its values at the two ends of the travel; they differ
    notes_follow_pedal  True: a note for each opening. False: one note, and the pedal decides
    """

    controller: int = 4
    closed_at: int = 127
    open_at: int = 0
    notes_follow_pedal: bool = True

    def closedness(self, value: float) -> float:
        """The controller's place between open (0) and closed (1)."""
        place = (value - self.open_at) / (self.closed_at - self.open_at)
        return min(1.0, max(0.0, place))

    def value(self, closedness: float) -> int:
        """The controller value for a closedness, the inverse of `closedness`."""
        return round(self.open_at + closedness * (self.closed_at - self.open_at))


@dataclass(frozen=True)
class NoteMap:
    """The notes of a kit or a receiver. `channel` None means any channel."""

    name: str
    pads: tuple[Pad, ...]
    channel: int | None = None
    hat: HatPedal | None = None

    def channel_of(self, pad: Pad) -> int | None:
        return pad.channel if pad.channel is not None else self.channel

    def articulations(self) -> tuple[str, ...]:
        """Every articulation once, in the order of the pads."""
        return tuple(dict.fromkeys(pad.articulation for pad in self.pads))

    def pad_for(self, articulation: str) -> Pad | None:
        """The first pad with this articulation."""
        for pad in self.pads:
            if pad.articulation == articulation:
                return pad
        return None


def with_meaning(note_map: NoteMap, channel: int, note: int, articulation: str | None) -> NoteMap:
    """A source map in which a note on a channel (1..16) means an articulation; None unmaps the note.

    The pad gets a channel of its own only where it differs from the map's.
    """
    here = [p for p in note_map.pads if p.note == note and note_map.channel_of(p) in (channel, None)]
    exact = [p for p in here if note_map.channel_of(p) == channel]
    before = exact[0] if exact else here[0] if here else None
    pads = tuple(p for p in note_map.pads if p is not before)
    if articulation is None:
        return replace(note_map, pads=pads)
    own = None if note_map.channel in (channel, None) else channel
    pad = Pad(articulation, note, own if before is None else before.channel, None if before is None else before.group)
    place = note_map.pads.index(before) if before is not None else len(pads)
    return replace(note_map, pads=(*pads[:place], pad, *pads[place:]))


def with_goal(note_map: NoteMap, articulation: str, notes: tuple[int, ...]) -> NoteMap:
    """A target map that plays an articulation on these notes, first and `also`; no notes removes it."""
    first = note_map.pad_for(articulation)
    if not notes:
        return replace(note_map, pads=tuple(p for p in note_map.pads if p.articulation != articulation))
    if first is None:
        return replace(note_map, pads=(*note_map.pads, Pad(articulation, notes[0], also=notes[1:])))
    changed = replace(first, note=notes[0], also=notes[1:])
    return replace(note_map, pads=tuple(changed if p is first else p for p in note_map.pads))


def with_hat(note_map: NoteMap, hat: HatPedal | None) -> NoteMap:
    """The map with another hat pedal."""
    return replace(note_map, hat=hat)


def renamed(note_map: NoteMap, name: str) -> NoteMap:
    """The map under another name; an empty name changes nothing."""
    return replace(note_map, name=name.strip() or note_map.name)


def check_source(note_map: NoteMap, where: str) -> None:
    """Check that a source map gives each note one meaning.

    Raises NoteMapError when two pads have the same note on the same channel
    """
    seen: dict[tuple[int | None, int], Pad] = {}
    for pad in note_map.pads:
        key = (note_map.channel_of(pad), pad.note)
        if key in seen:
            channel = tr("any channel") if key[0] is None else tr("channel {key}", key=key[0])
            raise NoteMapError(
                tr(
                    "Note {note} on {channel} means both {articulation} and {articulation2}",
                    note=pad.note,
                    channel=channel,
                    articulation=seen[key].articulation,
                    articulation2=pad.articulation,
                ),
                where,
                tr("Keep one of the two pads."),
            )
        seen[key] = pad


def to_json(note_map: NoteMap) -> dict[str, Any]:
    """The map as plain JSON data, as docs/formats.md describes it."""
    pads = []
    for pad in note_map.pads:
        row: dict[str, Any] = {"articulation": pad.articulation, "note": pad.note}
        if pad.channel is not None:
            row["channel"] = pad.channel
        if pad.group is not None:
            row["group"] = pad.group
        if pad.also:
            row["also"] = list(pad.also)
        pads.append(row)
    hat = note_map.hat
    return {
        "format": FORMAT,
        "version": VERSION,
        "name": note_map.name,
        "channel": note_map.channel,
        "pads": pads,
        "hat": None
        if hat is None
        else {
            "controller": hat.controller,
            "closed_at": hat.closed_at,
            "open_at": hat.open_at,
            "notes_follow_pedal": hat.notes_follow_pedal,
        },
    }


def from_json(data: object, where: str) -> NoteMap:
    """A note map from plain JSON data.

    where   the source as named in messages, usually a file name
    Raises  NoteMapError that names the field, the value and the expected value
    """
    reader = _Reader(where)
    top = reader.table(data, tr("the note map"))
    if top.get("format") != FORMAT:
        raise NoteMapError(
            tr('"format" is {show}, not "{value}"', show=_show(top.get("format")), value=FORMAT),
            where,
            tr("Choose a note map file."),
        )
    version = top.get("version")
    if not isinstance(version, int) or isinstance(version, bool) or version < 1:
        raise NoteMapError(
            tr('"version" is {version}, not a whole number from 1', version=_show(version)),
            where,
            tr("Write {version} there.", version=VERSION),
        )
    if version > VERSION:
        raise NoteMapError(
            tr(
                "This note map has version {version}; this program reads versions up to {version2}",
                version=version,
                version2=VERSION,
            ),
            where,
            tr("Update the program."),
        )
    reader.known(top, {"format", "version", "name", "channel", "pads", "hat"}, tr("the note map"))
    name = reader.text(top.get("name"), "name")
    channel = reader.number_or_none(top.get("channel"), 1, 16, "channel")
    rows = top.get("pads")
    if not isinstance(rows, list):
        raise NoteMapError(
            tr('"pads" is {rows}, not a list of pads', rows=_show(rows)), where, tr("Write a list there.")
        )
    pads = tuple(reader.pad(row, f"pads[{i}]") for i, row in enumerate(rows))
    note_map = NoteMap(name, pads, channel, reader.hat(top.get("hat")))
    return note_map


class _Reader:
    """Checks one value at a time and names its exact place in errors."""

    def __init__(self, where: str):
        self.where = where

    def fail(self, path: str, value: object, expected: str) -> NoteMapError:
        return NoteMapError(
            tr('"{path}" is {value}', path=path, value=_show(value)),
            self.where,
            tr("Write {expected} there.", expected=expected),
        )

    def table(self, value: object, path: str) -> Mapping[str, Any]:
        if not isinstance(value, dict):
            raise NoteMapError(
                tr("{path} is {value}, not a JSON object", path=path, value=_show(value)),
                self.where,
                tr("Choose a note map file."),
            )
        return value

    def known(self, table: Mapping[str, Any], names: set[str], path: str) -> None:
        # Unknown fields are allowed, but one that nearly matches a known name is a typo that would go unnoticed.
        for key in table:
            if key in names:
                continue
            import difflib

            near = difflib.get_close_matches(key, names - set(table), 1, 0.7)
            if near:
                raise NoteMapError(
                    tr('"{key}" is not a field of {path}', key=key, path=path), self.where, f'Write "{near[0]}" there.'
                )

    def text(self, value: object, path: str) -> str:
        if not isinstance(value, str) or not value.strip():
            raise self.fail(path, value, "a name")
        return value

    def number(self, value: object, low: int, high: int, path: str) -> int:
        if isinstance(value, bool) or not isinstance(value, int) or not low <= value <= high:
            raise self.fail(path, value, tr("a whole number from {low} to {high}", low=low, high=high))
        return value

    def number_or_none(self, value: object, low: int, high: int, path: str) -> int | None:
        return None if value is None else self.number(value, low, high, path)

    def pad(self, value: object, path: str) -> Pad:
        if not isinstance(value, dict):
            raise self.fail(path, value, tr("an object with an articulation and a note"))
        self.known(value, {"articulation", "note", "channel", "group", "also"}, path)
        articulation = value.get("articulation")
        if not isinstance(articulation, str) or not is_articulation(articulation):
            raise self.fail(f"{path}.articulation", articulation, tr("an articulation such as snare.rim"))
        also = value.get("also", [])
        if not isinstance(also, list):
            raise self.fail(f"{path}.also", also, tr("a list of notes"))
        note = self.number(value.get("note"), 0, 127, f"{path}.note")
        further = tuple(self.number(n, 0, 127, f"{path}.also[{i}]") for i, n in enumerate(also))
        if len({note, *further}) != 1 + len(further):
            raise self.fail(f"{path}.also", also, tr("each note once, and not the pad's own note"))
        group = value.get("group")
        return Pad(
            articulation,
            note,
            self.number_or_none(value.get("channel"), 1, 16, f"{path}.channel"),
            None if group is None else self.text(group, f"{path}.group"),
            further,
        )

    def hat(self, value: object) -> HatPedal | None:
        if value is None:
            return None
        if not isinstance(value, dict):
            raise self.fail("hat", value, tr("an object with a controller, or null"))
        self.known(value, {"controller", "closed_at", "open_at", "notes_follow_pedal"}, "hat")
        follows = value.get("notes_follow_pedal", True)
        if not isinstance(follows, bool):
            raise self.fail("hat.notes_follow_pedal", follows, tr("true or false"))
        closed_at = self.number(value.get("closed_at", 127), 0, 127, "hat.closed_at")
        open_at = self.number(value.get("open_at", 0), 0, 127, "hat.open_at")
        if closed_at == open_at:
            raise self.fail(
                "hat.open_at", open_at, tr("a value other than closed_at ({closed_at})", closed_at=closed_at)
            )
        return HatPedal(self.number(value.get("controller", 4), 0, 119, "hat.controller"), closed_at, open_at, follows)


def _show(value: object) -> str:
    if value is None:
        return "missing"
    text = repr(value) if isinstance(value, str) else str(value)
    return text if len(text) <= 40 else text[:37] + "..."


def vocabulary(*maps: NoteMap | None) -> tuple[str, ...]:
    """Every articulation of the maps and of the standard list; the index into it is the articulation's code."""
    names: dict[str, None] = dict.fromkeys((*STANDARD, HAT_EDGE_HALF))
    for note_map in maps:
        if note_map is not None:
            names.update(dict.fromkeys(canonical(pad.articulation) for pad in note_map.pads))
    return tuple(names)
