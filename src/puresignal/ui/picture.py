"""From a take's outcome to rows of stems: plain arrays that the takes view draws. Pure functions."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.articulations import family_of, mark_of, sort_key, spoken
from puresignal.core.path.path import Outcome


@dataclass(frozen=True, eq=False)
class Row:
    """One line of the picture. Arrays run by time.

    label    what is played on it, in words
    family   for the colour; mark is the percussion mark at a stem's foot
    pitched  bars at their pitch instead of stems
    loose    it leads nowhere
    start, end, velocity, note, origin   of the played notes
    gone     (n,) bool, which played notes did not leave
    clean_start, clean_end, clean_velocity, clean_note, clean_origin  of the notes that left
    """

    label: str
    family: str
    mark: str
    pitched: bool
    loose: bool
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


@dataclass(frozen=True, eq=False)
class Group:
    """A track with its rows."""

    key: str
    title: str
    family: str
    rows: tuple[Row, ...]


@dataclass(frozen=True, eq=False)
class Picture:
    """All tracks, and how long the whole is in seconds."""

    groups: tuple[Group, ...]
    length: float

    @property
    def rows(self) -> tuple[Row, ...]:
        return tuple(row for group in self.groups for row in group.rows)


def picture(outcome: Outcome, titles: dict[str, str], length: float) -> Picture:
    """Rows by articulation under their tracks; what leads nowhere comes first."""
    played, clean = outcome.played, outcome.clean
    gone = ~np.isin(played.origin, clean.origin)
    named = np.where(played.articulation >= 0, played.articulation.astype(np.int64), -1)
    # Where no articulation is known, a kit's row is the note itself; a channel of its own is one row of bars.
    own_channel = np.array(["/" in t.key for t in outcome.tracks], bool)
    loose_key = 100_000 + played.channel.astype(np.int64) * 128 + played.note
    key = np.where(named >= 0, named, np.where(own_channel[played.track], -1, loose_key))
    branch = clean.branch == 0
    lead = np.flatnonzero(branch)
    where = np.searchsorted(played.seq, clean.seq[lead])

    groups = []
    for index in _track_order(played.track, outcome):
        track = outcome.tracks[index]
        here = played.track == index
        rows = []
        for one in _row_order(np.unique(key[here]), outcome):
            mine = np.flatnonzero(here & (key == one))
            left = lead[np.isin(where, mine)]
            label, family, mark = _describe(int(one), track.family, outcome)
            rows.append(
                Row(
                    label=label,
                    family=family,
                    mark=mark,
                    pitched=bool(own_channel[index]),
                    loose=track.key == "unmapped",
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
                )
            )
        title = "Leads nowhere" if track.key == "unmapped" else titles.get(track.key) or track.title
        groups.append(Group(track.key, title, track.family, tuple(rows)))
    return Picture(tuple(groups), length)


def _track_order(track: np.ndarray, outcome: Outcome) -> list[int]:
    used = np.unique(track).tolist()
    return sorted(used, key=lambda i: (outcome.tracks[i].key != "unmapped", i))


def _row_order(keys: np.ndarray, outcome: Outcome) -> list[int]:
    def order(key: int) -> tuple[int, str, int, str]:
        return sort_key(outcome.vocabulary[key]) if 0 <= key < 100_000 else (99, "", key, "")

    return sorted(keys.tolist(), key=order)


def _describe(key: int, family: str, outcome: Outcome) -> tuple[str, str, str]:
    if key < 0:
        return "notes", family, "dash"
    if key >= 100_000:
        channel, note = divmod(key - 100_000, 128)
        kit_channels = {int(c) for c in np.unique(outcome.played.channel)}
        return f"note {note}" if len(kit_channels) == 1 else f"{note}, ch {channel}", "other", "dash"
    name = outcome.vocabulary[key]
    words = spoken(name).split(", ", 1)
    label = words[1] if len(words) > 1 else words[0]
    return label, family_of(name), mark_of(name)
