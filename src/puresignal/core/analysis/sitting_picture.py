"""Everything played in a sitting along one line: pauses folded, so that hours of it fit into a strip."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

FOLDED = 8.0
"""A pause longer than this many seconds is folded."""
SHOWN_PAUSE, SHARE = 2.0, 0.008
"""Length of a folded pause on the line: so many seconds, or so much of all that was played if that is more."""
LEAST = 20.0
"""Seconds that the line has at least, so that a first few hits stand at its left end, and not all over it."""


@dataclass(frozen=True, eq=False)
class FoldedTime:
    """Seconds of the clock laid on a line without long pauses.

    begins, ends  (stretches,) seconds of the clock between which nothing is folded
    places        (stretches,) where on the line each begins
    pause         seconds of the line that a folded pause takes
    """

    begins: np.ndarray
    ends: np.ndarray
    places: np.ndarray
    pause: float = SHOWN_PAUSE

    @property
    def length(self) -> float:
        """Seconds of the line."""
        if not len(self.begins):
            return LEAST
        return max(LEAST, float(self.places[-1] + self.ends[-1] - self.begins[-1]))

    def place(self, at: np.ndarray) -> np.ndarray:
        """Where moments are on the line; those within a folded pause at its middle. (n,) to (n,)"""
        if not len(self.begins):
            return np.zeros(len(at))
        which = np.clip(np.searchsorted(self.begins, at, "right") - 1, 0, len(self.begins) - 1)
        into = np.clip(at - self.begins[which], -self.pause / 2, (self.ends - self.begins)[which] + self.pause / 2)
        return np.asarray(self.places[which] + into)

    def moment(self, place: float) -> float:
        """The moment at a place on the line; within a folded pause the nearer end of it."""
        if not len(self.begins):
            return 0.0
        which = int(np.clip(np.searchsorted(self.places, place + self.pause / 2, "right") - 1, 0, len(self.begins) - 1))
        return float(np.clip(self.begins[which] + place - self.places[which], self.begins[which], self.ends[which]))


def folded(at: np.ndarray) -> FoldedTime:
    """Lay moments of note-ons, in order, on a line. at: (n,) seconds of the clock"""
    if not len(at):
        return FoldedTime(np.zeros(0), np.zeros(0), np.zeros(0))
    cuts = np.flatnonzero(np.diff(at) > FOLDED) + 1
    begins = at[np.concatenate([[0], cuts])] - SHOWN_PAUSE / 4
    ends = at[np.concatenate([cuts - 1, [len(at) - 1]])] + SHOWN_PAUSE / 4
    pause = max(SHOWN_PAUSE, SHARE * float((ends - begins).sum()))
    places = np.concatenate([[0.0], np.cumsum(ends - begins + pause)[:-1]])
    return FoldedTime(begins, ends, places, pause)


def density(at: np.ndarray, line: FoldedTime, begin: float, end: float, columns: int) -> np.ndarray:
    """(columns,) how many note-ons fall into each of equal parts of the line between two places."""
    counts, _ = np.histogram(line.place(at), columns, (begin, max(end, begin + 1e-6)))
    return np.asarray(counts)


def phrase_at(at: np.ndarray, moment: float, pause: float) -> tuple[float, float] | None:
    """First and last note-on of the phrase at a moment, or the nearest one; pause: seconds that part phrases."""
    if not len(at):
        return None
    cuts = np.flatnonzero(np.diff(at) > pause) + 1
    begins, ends = at[np.concatenate([[0], cuts])], at[np.concatenate([cuts - 1, [len(at) - 1]])]
    away = np.maximum(np.maximum(begins - moment, moment - ends), 0.0)
    which = int(np.argmin(away))
    return float(begins[which]), float(ends[which])
