"""The player's decisions on single notes, kept so that thousands of edits share what they have in common."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np

MOST_ROWS = 48
"""Edits after which they are laid together: each step of the history then holds few numbers of its own."""


@dataclass(frozen=True)
class Verdict:
    """The player's decision on one note.

    keep          True: never remove it. False: remove it. None: undecided
    articulation  its true articulation where the map is wrong, else None
    other_line    it belongs on the other of the two lines of the grid that it stands between
    """

    keep: bool | None = None
    articulation: str | None = None
    other_line: bool = False


CONTROLS = "control"
CONTROLLED = Verdict(False, CONTROLS)
"""The note worked the program - it was hit to record, to stop - and is no playing."""


@dataclass(frozen=True, eq=False)
class Verdicts(Mapping[int, Verdict]):
    """Verdicts by note origin. An edit adds one row: which notes, and what was decided about them.

    settled  origins, rising, and for each the number of its verdict in `kinds`
    rows     later edits, the last one wins: origins, and a verdict, or None where it was taken back
    """

    settled: tuple[np.ndarray, np.ndarray] = (np.zeros(0, np.int64), np.zeros(0, np.int16))
    kinds: tuple[Verdict, ...] = ()
    rows: tuple[tuple[np.ndarray, Verdict | None], ...] = ()

    @staticmethod
    def of(verdicts: Mapping[int, Verdict]) -> Verdicts:
        """Verdicts from any mapping."""
        if isinstance(verdicts, Verdicts):
            return verdicts
        kinds = tuple(dict.fromkeys(verdicts.values()))
        number = {kind: i for i, kind in enumerate(kinds)}
        origins = sorted(verdicts)
        codes = [number[verdicts[origin]] for origin in origins]
        return Verdicts((np.array(origins, np.int64), np.array(codes, np.int16)), kinds)

    def with_verdict(self, origins: Iterable[int] | np.ndarray, verdict: Verdict | None) -> Verdicts:
        """With one verdict on some notes, or with theirs taken back."""
        which = np.array(origins if isinstance(origins, np.ndarray) else list(origins), np.int64)
        which.flags.writeable = False
        if not len(which):
            return self
        made = Verdicts(self.settled, self.kinds, (*self.rows, (which, verdict)))
        # The history keeps this value, but seldom reads it again: what was worked out of it need not stay.
        self.__dict__.pop("_columns", None)
        return Verdicts(made._columns[:2], made._columns[2]) if len(made.rows) > MOST_ROWS else made

    @cached_property
    def _columns(self) -> tuple[np.ndarray, np.ndarray, tuple[Verdict, ...]]:
        """Origins, rising; for each the number of its verdict; the verdicts."""
        if not self.rows:
            return *self.settled, self.kinds
        kinds = tuple(dict.fromkeys((*self.kinds, *(verdict for _, verdict in self.rows if verdict is not None))))
        number: dict[Verdict | None, int] = {kind: i for i, kind in enumerate(kinds)}
        number[None] = -1
        origins = np.concatenate([self.settled[0], *(which for which, _ in self.rows)])
        codes = np.concatenate(
            [self.settled[1], *(np.full(len(which), number[verdict], np.int16) for which, verdict in self.rows)]
        )
        order = np.argsort(origins, kind="stable")
        origins, codes = origins[order], codes[order]
        last = np.append(origins[1:] != origins[:-1], True)[: len(origins)] & (codes >= 0)
        return origins[last], codes[last], kinds

    def among(self, keep: bool) -> np.ndarray:
        """Origins, rising, that the player decided to keep or to remove; without notes that controlled."""
        origins, codes, kinds = self._columns
        wanted = np.array([kind.keep is keep and kind != CONTROLLED for kind in kinds] or [False])
        return np.asarray(origins[wanted[codes]]) if len(origins) else origins

    def on_other_line(self) -> np.ndarray:
        """Origins, rising, of notes that belong on their other line."""
        origins, codes, kinds = self._columns
        wanted = np.array([kind.other_line for kind in kinds] or [False])
        return np.asarray(origins[wanted[codes]]) if len(origins) else origins

    def controlled(self) -> np.ndarray:
        """Origins, rising, of notes that controlled the program."""
        origins, codes, kinds = self._columns
        wanted = np.array([kind == CONTROLLED for kind in kinds] or [False])
        return np.asarray(origins[wanted[codes]]) if len(origins) else origins

    def articulations(self) -> tuple[str, ...]:
        """The articulations that the player gave to notes, each once."""
        _, codes, kinds = self._columns
        used = sorted(set(codes.tolist()))
        return tuple(dict.fromkeys(name for i in used if (name := kinds[i].articulation) and kinds[i] != CONTROLLED))

    def told(self) -> tuple[np.ndarray, tuple[str, ...]]:
        """Origins, rising, whose articulation the player gave, and that articulation for each."""
        origins, codes, kinds = self._columns
        if not len(origins):
            return origins, ()
        has = np.array([kind.articulation is not None and kind != CONTROLLED for kind in kinds])[codes]
        return origins[has], tuple(kinds[code].articulation or "" for code in codes[has].tolist())

    def by_kind(self) -> list[tuple[Verdict, np.ndarray]]:
        """For each verdict the origins, rising, that have it; in the order in which verdicts first occur."""
        origins, codes, kinds = self._columns
        found = [(kind, origins[codes == i]) for i, kind in enumerate(kinds)]
        return sorted((row for row in found if len(row[1])), key=lambda row: int(row[1][0]))

    def __getitem__(self, origin: int) -> Verdict:
        for which, verdict in self.rows[::-1]:
            if bool((which == origin).any()):
                if verdict is None:
                    raise KeyError(origin)
                return verdict
        origins, codes = self.settled
        place = int(np.searchsorted(origins, origin))
        if place == len(origins) or origins[place] != origin:
            raise KeyError(origin)
        return self.kinds[int(codes[place])]

    def __iter__(self) -> Iterator[int]:
        return iter(self._columns[0].tolist())

    def __len__(self) -> int:
        return len(self._columns[0])

    def __eq__(self, other: object) -> bool:
        if self is other:
            return True
        if not isinstance(other, Verdicts):
            return dict(self) == other if isinstance(other, Mapping) else NotImplemented
        if self.settled[0] is other.settled[0] and self.settled[1] is other.settled[1]:
            # Of one line of edits: without what was edited they are the same, with it they are not.
            mine, theirs = self.rows, other.rows
            return len(mine) == len(theirs) and all(a is b for a, b in zip(mine, theirs, strict=True))
        (origins, codes, kinds), (their_origins, their_codes, their_kinds) = self._columns, other._columns
        if not np.array_equal(origins, their_origins):
            return False
        number = {kind: i for i, kind in enumerate(kinds)}
        same = np.array([number.get(kind, -1) for kind in their_kinds] or [-1])
        return bool(np.array_equal(codes, same[their_codes]))

    def __hash__(self) -> int:
        return hash(Verdicts)


NO_VERDICTS = Verdicts()
