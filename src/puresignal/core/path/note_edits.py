"""The player's edits of single notes: each relative to the note it touches, one row for many notes changed together."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from functools import cached_property

import numpy as np

MOST_ROWS = 48
"""Rows after which they are laid together: each step of the history then holds few numbers of its own."""


@dataclass(frozen=True)
class Edit:
    """A change to notes, on top of earlier changes.

    beats         quarter notes later, or earlier if negative
    seconds       seconds later, for nudges that follow no beat
    up            semitones up
    articulation  another way to hit the kit; empty: as it is
    track         key of another track; empty: as it is
    factor        on the velocity, then `louder` is added
    louder        added to the velocity
    stretch       factor on the length, then `longer` is added
    longer        quarter notes longer
    """

    beats: float = 0.0
    seconds: float = 0.0
    up: int = 0
    articulation: str = ""
    track: str = ""
    factor: float = 1.0
    louder: float = 0.0
    stretch: float = 1.0
    longer: float = 0.0

    def then(self, later: Edit) -> Edit:
        """Both, one after the other."""
        return Edit(
            self.beats + later.beats, self.seconds + later.seconds, self.up + later.up,
            later.articulation or self.articulation, later.track or self.track, self.factor * later.factor,
            self.louder * later.factor + later.louder, self.stretch * later.stretch,
            self.longer * later.stretch + later.longer,
        )  # fmt: skip


PLAIN = Edit()


def set_velocity(velocity: float) -> Edit:
    """Notes of one velocity."""
    return Edit(factor=0.0, louder=velocity)


def set_length(beats: float) -> Edit:
    """Notes of one length in quarter notes."""
    return Edit(stretch=0.0, longer=beats)


@dataclass(frozen=True)
class ControlStroke:
    """A line drawn for a controller, bend or pressure, or a program: what was sent between its ends is replaced by it.

    track   key of the track
    kind    status byte without its channel: CONTROL, BEND, PRESSURE or PROGRAM; number: of a controller, else 0
    begin, end  seconds of the take
    points  (second, value) by rising second, with straight lines between; none: only taken away
    """

    track: str
    kind: int
    number: int
    begin: float
    end: float
    points: tuple[tuple[float, float], ...] = ()


@dataclass(frozen=True, eq=False)
class NoteEdits:
    """Edits by note origin.

    settled  (origins, rising; for each the number of its edit in `kinds`)
    kinds    the different edits, each complete
    rows     later ones: origins, and what is done to them on top; None takes all of theirs back
    strokes  lines drawn for controllers, the latest last
    """

    settled: tuple[np.ndarray, np.ndarray] = (np.zeros(0, np.int64), np.zeros(0, np.int32))
    kinds: tuple[Edit, ...] = ()
    rows: tuple[tuple[np.ndarray, Edit | None], ...] = ()
    strokes: tuple[ControlStroke, ...] = ()

    def with_stroke(self, stroke: ControlStroke) -> NoteEdits:
        """With another line; those that it covers wholly are forgotten."""
        kept = tuple(
            one for one in self.strokes
            if (one.track, one.kind, one.number) != (stroke.track, stroke.kind, stroke.number)
            or one.begin < stroke.begin or one.end > stroke.end
        )  # fmt: skip
        return replace(self, strokes=(*kept, stroke))

    def with_edit(self, origins: np.ndarray, edit: Edit | None) -> NoteEdits:
        """With an edit on top of those of some notes, or without theirs (None)."""
        which = np.array(origins, np.int64)
        if not (np.diff(which) > 0).all():
            which = np.unique(which)
        which.flags.writeable = False
        if not len(which):
            return self
        made = NoteEdits(self.settled, self.kinds, (*self.rows, (which, edit)), self.strokes)
        self.__dict__.pop("_columns", None)
        if len(made.rows) <= MOST_ROWS:
            return made
        return NoteEdits(made._columns[:2], made._columns[2], (), self.strokes)

    @cached_property
    def _columns(self) -> tuple[np.ndarray, np.ndarray, tuple[Edit, ...]]:
        """Origins, rising; for each the number of its edit; the edits."""
        if not self.rows:
            return *self.settled, self.kinds
        origins = self.settled[0]
        for which, _ in self.rows:
            origins = np.union1d(origins, which)
        kinds: dict[Edit, int] = {PLAIN: 0}
        for one in self.kinds:
            kinds.setdefault(one, len(kinds))
        numbers = np.zeros(len(origins), np.int64)
        known = np.array([kinds[one] for one in self.kinds], np.int64)
        if len(self.settled[0]):
            numbers[np.searchsorted(origins, self.settled[0])] = known[self.settled[1]]
        for which, edit in self.rows:
            place = np.searchsorted(origins, which)
            before = numbers[place]
            every = list(kinds)
            for number in np.unique(before).tolist():
                after = PLAIN if edit is None else every[number].then(edit)
                numbers[place[before == number]] = kinds.setdefault(after, len(kinds))
        kept = numbers != 0
        used, codes = np.unique(numbers[kept], return_inverse=True)
        every = list(kinds)
        return origins[kept], codes.astype(np.int32), tuple(every[number] for number in used.tolist())

    def by_kind(self) -> list[tuple[Edit, np.ndarray]]:
        """Each edit, and the origins, rising, that have it."""
        origins, codes, kinds = self._columns
        return [(kind, origins[codes == i]) for i, kind in enumerate(kinds)]

    @property
    def origins(self) -> np.ndarray:
        """(n,) origins of edited notes, rising."""
        return self._columns[0]

    @cached_property
    def tracks(self) -> tuple[str, ...]:
        """Keys of the tracks that notes are sent to by hand."""
        return tuple(dict.fromkeys(one.track for one in self._columns[2] if one.track))

    def of(self, origins: np.ndarray) -> tuple[np.ndarray, dict[str, np.ndarray]]:
        """(n,) which notes are edited, and for these the columns of their edits by the field's name."""
        known, codes, kinds = self._columns
        if not len(known):
            return np.zeros(len(origins), bool), {}
        place = np.minimum(np.searchsorted(known, origins), len(known) - 1)
        edited = known[place] == origins
        mine = codes[place[edited]]
        return edited, {
            one.name: np.array([getattr(kind, one.name) for kind in kinds], object if one.type == "str" else None)[mine]
            for one in fields(Edit)
        }

    def get(self, origin: int) -> Edit:
        """The edit of one note."""
        origins, codes, kinds = self._columns
        place = int(np.searchsorted(origins, origin))
        if place < len(origins) and origins[place] == origin:
            return kinds[int(codes[place])]
        return PLAIN

    def __len__(self) -> int:
        return len(self._columns[0])

    def __eq__(self, other: object) -> bool:
        if self is other:
            return True
        if not isinstance(other, NoteEdits):
            return NotImplemented
        if self.strokes != other.strokes:
            return False
        one_line = self.settled[0] is other.settled[0] and len(self.rows) == len(other.rows)
        if one_line and all(a is b for a, b in zip(self.rows, other.rows, strict=True)):
            return True
        (origins, codes, kinds), (their_origins, their_codes, their_kinds) = self._columns, other._columns
        if not np.array_equal(origins, their_origins):
            return False
        number = {kind: i for i, kind in enumerate(kinds)}
        same = np.array([number.get(kind, -1) for kind in their_kinds] or [-1])
        return bool(np.array_equal(codes, same[their_codes]))

    def __hash__(self) -> int:
        return hash(NoteEdits)


NO_EDITS = NoteEdits()
