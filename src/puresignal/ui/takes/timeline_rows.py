"""From a take's result to rows of stems: plain arrays for the takes view. Pure functions."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from puresignal.core.harmony.keys import note_name
from puresignal.core.harmony.scales import degree_text
from puresignal.core.kit.articulations import canonical, family_of, mark_of, sort_key, spoken
from puresignal.core.midi.columns import distinct
from puresignal.core.midi.events import Notes
from puresignal.core.path.cleaning_path import Outcome
from puresignal.core.path.context import Context
from puresignal.core.session.track_settings import Delivery
from puresignal.translation import tr

_PITCH = 50_000
"""Row keys from here on are pitches, from the highest down."""
_LOOSE = 100_000
"""Row keys from here on are channel and note instead of an articulation."""
_TRACK = 1_000_000
"""Row keys of one track lie within this range."""


@dataclass(frozen=True, eq=False)
class Row:
    """One row. Arrays run by time.

    label    what is played on it, in words
    family   for the colour; mark: the percussion mark at the foot of its stems
    pitched  bars on a row of one pitch instead of stems; gap: there are pitches between it and the row above
    unmapped not in the map
    start, end, velocity, note, origin   of the input notes
    articulation  what its pad plays, None for a row that is not a drum
    gone     (n,) bool, which input notes were removed
    clean_start, clean_end, clean_velocity, clean_note, clean_origin  of the output notes
    """

    label: str
    family: str
    mark: str
    pitched: bool
    unmapped: bool
    start: np.ndarray
    end: np.ndarray
    velocity: np.ndarray
    note: np.ndarray
    origin: np.ndarray
    gone: np.ndarray
    clean_start: np.ndarray
    clean_end: np.ndarray
    clean_velocity: np.ndarray
    clean_note: np.ndarray
    clean_origin: np.ndarray
    articulation: str | None = None
    gap: bool = False

    def part(self, chosen: np.ndarray, clean_chosen: np.ndarray) -> Row:
        """The row with only some of its notes. chosen: (n,) of the input notes; clean_chosen: of the output notes."""
        columns = {name: getattr(self, name)[chosen] for name in _PLAYED}
        columns |= {name: getattr(self, name)[clean_chosen] for name in _CLEAN}
        return replace(self, **columns)


_PLAYED = ("start", "end", "velocity", "note", "origin", "gone")
_CLEAN = ("clean_start", "clean_end", "clean_velocity", "clean_note", "clean_origin")


@dataclass(frozen=True, eq=False)
class Group:
    """A track with its rows."""

    key: str
    title: str
    family: str
    rows: tuple[Row, ...]


@dataclass(frozen=True, eq=False)
class Picture:
    """All tracks, the length in seconds, and the input notes they are made of."""

    groups: tuple[Group, ...]
    length: float
    played: Notes | None = None

    @property
    def rows(self) -> tuple[Row, ...]:
        return tuple(row for group in self.groups for row in group.rows)


@dataclass(frozen=True, eq=False)
class _Lines:
    """The rows of the input notes, unchanged while settings move that only remove or change notes.

    line    (n,) row key of each input note: track and articulation
    lines   the row keys, sorted; parts: the input notes of each
    """

    played: Notes
    line: np.ndarray
    lines: np.ndarray
    parts: list[np.ndarray]


_last_lines: list[_Lines] = []


def _lines_of(outcome: Outcome) -> _Lines:
    played = outcome.input_notes
    if _last_lines and _last_lines[0].played is played:
        return _last_lines[0]
    # Without an articulation a row of the kit is the note itself; a channel of its own has a row for each pitch.
    own_channel = np.array(["/" in t.key for t in outcome.tracks], bool)
    loose_key = _LOOSE + played.channel.astype(np.int32) * 128 + played.note
    named = played.articulation.astype(np.int32)
    pitch_key = _PITCH + 127 - played.note.astype(np.int32)
    key = np.where(named >= 0, named, np.where(own_channel[played.track], pitch_key, loose_key))
    line = played.track.astype(np.int64) * _TRACK + key + 1
    order = np.argsort(line, kind="stable")
    lines = distinct(line)
    first = np.searchsorted(line[order], lines)
    _last_lines[:] = [_Lines(played, line, lines, np.split(order, first[1:]))]
    return _last_lines[0]


def picture(
    outcome: Outcome, delivery: Delivery, length: float, whole: Context | None = None, scale: tuple[int, ...] = ()
) -> Picture:
    """Rows by articulation under their tracks, but for hidden ones; unmapped rows come first.

    scale  pitch classes of the key, from its root: rows of pitches also say their step in it
    whole  a context of whose kit every articulation gets a row, played or not; it may be that of one take of several
    """
    played, clean = outcome.input_notes, outcome.output_notes
    if not len(played):
        return Picture((), length, played)
    gone = np.ones(int(played.origin.max()) + 1, bool)
    gone[clean.origin] = False
    gone = gone[played.origin]
    made = _lines_of(outcome)
    lines, parts = made.lines, made.parts
    lead = np.flatnonzero(clean.branch == 0)
    # Index of each input note's output note, -1 if removed: a row's output notes are picked, not sorted.
    place_in_clean = np.full(len(played), -1, np.int64)
    row_of = np.full(int(played.origin.max()) + 1, -1, np.int64)
    row_of[played.origin] = np.arange(len(played))
    place_in_clean[row_of[clean.origin[lead]]] = lead
    elsewhere = _elsewhere(clean, lead, played, row_of[clean.origin[lead]], made.line)
    for moved in elsewhere.values():
        place_in_clean[row_of[clean.origin[moved]]] = -1
    clean_parts = [place[place >= 0] for place in (place_in_clean[mine] for mine in parts)]
    by_track: dict[int, list[tuple[int, np.ndarray, np.ndarray]]] = {}
    for one, mine, left in zip(lines.tolist(), parts, clean_parts, strict=True):
        left = np.concatenate([left, elsewhere.pop(one, left[:0])])
        by_track.setdefault(one // _TRACK, []).append((one % _TRACK - 1, mine, _rising(left, clean.start)))
    for one, moved in elsewhere.items():
        nothing = np.zeros(0, np.int64)
        by_track.setdefault(one // _TRACK, []).append((one % _TRACK - 1, nothing, _rising(moved, clean.start)))

    nobody = np.zeros(0, np.int64)
    for index in sorted(set(distinct(clean.track).tolist()) - set(by_track)):
        # A layer: nothing was played on its track, but it sounds.
        mine = np.flatnonzero(clean.track == index)
        pitch = _PITCH + 127 - clean.note[mine].astype(np.int32)
        line = np.where(clean.articulation[mine] >= 0, clean.articulation[mine].astype(np.int32), pitch)
        by_track[index] = [(one, nobody, mine[line == one]) for one in distinct(line).tolist()]
    if whole is not None and whole.source is not None:
        codes = {name: i for i, name in enumerate(outcome.vocabulary)}
        tracks = {track.key: i for i, track in enumerate(outcome.tracks)}
        for pad in whole.source.pads:
            name = canonical(pad.articulation)
            key = whole.tracks[int(whole.track_of_articulation[whole.code[name]])].key
            code = codes.get(name, -1)
            if code < 0 or key not in tracks:
                continue
            rows_there = by_track.setdefault(tracks[key], [])
            if all(code != one for one, _, _ in rows_there):
                rows_there.append((code, nobody, nobody))
    place = {key: i for i, key in enumerate(delivery.order)}
    groups = []
    for index in sorted(
        by_track,
        key=lambda i: (not _is_unmapped(outcome.tracks[i].key), place.get(outcome.tracks[i].key, len(place)), i),
    ):
        track = outcome.tracks[index]
        if delivery.track(track.key).hidden:
            continue
        rows = []
        above = -1
        for one, mine, left in sorted(by_track[index], key=lambda item: _row_order(item[0], outcome)):
            gap, above = above >= 0 and one > above + 1, one if _PITCH <= one < _LOOSE else -1
            label, family, mark = _describe(one, track.family, outcome, scale)
            family = delivery.track(track.key).colour or family
            rows.append(
                Row(
                    label=label,
                    family=family,
                    mark=mark,
                    pitched=_PITCH <= one < _LOOSE,
                    unmapped=_is_unmapped(track.key),
                    start=played.start[mine],
                    end=np.where(np.isnan(played.end[mine]), played.start[mine] + 0.1, played.end[mine]),
                    velocity=played.velocity[mine],
                    note=played.note[mine],
                    origin=played.origin[mine],
                    gone=gone[mine],
                    clean_start=clean.start[left],
                    clean_end=clean.end[left],
                    clean_velocity=clean.velocity[left],
                    clean_note=clean.note[left],
                    clean_origin=clean.origin[left],
                    articulation=outcome.vocabulary[one] if 0 <= one < _PITCH else None,
                    gap=gap,
                )
            )
        own = delivery.track(track.key)
        title = own.title or track.title
        groups.append(Group(track.key, title, own.colour or track.family, tuple(rows)))
    return Picture(tuple(groups), length, played)


def _rising(rows: np.ndarray, start: np.ndarray) -> np.ndarray:
    """Rows in the order of their starts."""
    at = start[rows]
    return rows if (np.diff(at) >= 0).all() else rows[np.argsort(at, kind="stable")]


def _elsewhere(
    clean: Notes, lead: np.ndarray, played: Notes, row: np.ndarray, line: np.ndarray
) -> dict[int, np.ndarray]:
    """Output notes that stand on another row than they were played on, by the key of that row.

    lead  rows of the output notes; row: the input note of each; line: row keys of the input notes
    """
    key = line[row] % _TRACK - 1
    pitched = (key >= _PITCH) & (key < _LOOSE)
    other = (clean.articulation[lead] != played.articulation[row]) | (pitched & (clean.note[lead] != played.note[row]))
    moved = lead[other]
    if not len(moved):
        return {}
    named = clean.articulation[moved].astype(np.int64)
    key = np.where(named >= 0, named, _PITCH + 127 - clean.note[moved].astype(np.int64))
    lines = clean.track[moved].astype(np.int64) * _TRACK + key + 1
    return {one: moved[lines == one] for one in distinct(lines).tolist()}


def _is_unmapped(key: str) -> bool:
    return key.rpartition(":")[2] == "unmapped"


def _row_order(key: int, outcome: Outcome) -> tuple[int, str, int, str]:
    return sort_key(outcome.vocabulary[key]) if 0 <= key < _PITCH else (99, "", key, "")


def _describe(key: int, family: str, outcome: Outcome, scale: tuple[int, ...]) -> tuple[str, str, str]:
    if _PITCH <= key < _LOOSE:
        pitch = _PITCH + 127 - key
        return f"{note_name(pitch)}{degree_text(pitch, scale)}", family, "dash"
    if key >= _LOOSE:
        channel, note = divmod(key - _LOOSE, 128)
        kit_channels = {int(c) for c in distinct(outcome.input_notes.channel)}
        return (
            tr("note {note}", note=note)
            if len(kit_channels) == 1
            else tr("{note}, ch {channel}", note=note, channel=channel),
            "other",
            "dash",
        )
    name = outcome.vocabulary[key]
    words = spoken(name).split(", ", 1)
    label = words[1] if len(words) > 1 else words[0]
    return label, family_of(name), mark_of(name)
