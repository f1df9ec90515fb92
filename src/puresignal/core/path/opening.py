"""The opening of a hat when it is struck, from a pedal that jitters.

The zones are the note map's: closed from 0.75, open up to 0.35, half between. A pedal that jitters on an edge
would change the zone with every message, so a change counts only if it goes past the edge by more than the
jitter, or lasts longer than a jitter does.
"""

from __future__ import annotations

import numpy as np

from puresignal.core.kit.note_map import HatPedal

CLOSED_FROM, OPEN_TO = 0.75, 0.35
"""Closedness from which a hat counts as closed, and up to which it counts as open (docs/formats.md)."""
CLOSED, HALF, OPEN = 0, 1, 2
SETTLES = 0.08
"""Seconds after which a zone counts, however near its edge the pedal is."""
NOT_YET = float("inf")


def zones(hat: HatPedal, tremble: float) -> tuple[np.ndarray, np.ndarray]:
    """(128,) zone of each controller value, and whether it is farther from the zone's edges than the jitter."""
    place = np.array([hat.closedness(value) for value in range(128)])
    zone = np.where(place >= CLOSED_FROM, CLOSED, np.where(place <= OPEN_TO, OPEN, HALF))
    inside = np.minimum(np.abs(place - CLOSED_FROM), np.abs(place - OPEN_TO)) >= tremble
    return zone.astype(np.int8), inside


class Opening:
    """One pedal, message by message."""

    __slots__ = ("_away_since", "_now", "_settled")

    def __init__(self) -> None:
        self._settled, self._now, self._away_since = -1, -1, NOT_YET

    def move(self, at: float, zone: int, sure: bool) -> None:
        """The pedal is in a zone, surely or near an edge."""
        if at - self._away_since > SETTLES:
            self._settled, self._away_since = self._now, NOT_YET
        if sure or self._settled < 0 or zone == self._settled:
            self._settled, self._away_since = zone, NOT_YET
        elif self._away_since == NOT_YET:
            self._away_since = at
        self._now = zone

    def when(self, at: float) -> int:
        """The zone of a hit after the last message; closed before the first."""
        if self._now < 0:
            return CLOSED
        return self._now if at - self._away_since > SETTLES else self._settled


def at_hits(moves: np.ndarray, zone: np.ndarray, sure: np.ndarray, place: np.ndarray, hits: np.ndarray) -> np.ndarray:
    """(hits,) zone of each hit.

    moves       (moves,) seconds of the pedal's messages, rising; zone, sure: of each
    place       (hits,) number of messages before each hit
    hits        (hits,) seconds
    """
    found = np.full(len(hits), CLOSED, np.int8)
    if not len(moves):
        return found
    # Within a run of the same zone and certainty only the first message matters.
    begins = np.flatnonzero(np.concatenate([[True], (zone[1:] != zone[:-1]) | (sure[1:] != sure[:-1])]))
    settled_by, since_by = [], []
    pedal = Opening()
    rows = zip(moves[begins].tolist(), zone[begins].tolist(), sure[begins].tolist(), strict=True)
    for at, where, certain in rows:
        pedal.move(at, where, certain)
        settled_by.append(pedal._settled)
        since_by.append(pedal._away_since)
    settled, since = np.array(settled_by, np.int8), np.array(since_by)
    heard = place > 0
    run = np.searchsorted(begins, place[heard] - 1, side="right") - 1
    late = hits[heard] - since[run] > SETTLES
    found[heard] = np.where(late, zone[begins[run]], settled[run])
    return found


def splashes(moves: np.ndarray, zone: np.ndarray, place: np.ndarray, hits: np.ndarray, within: float) -> np.ndarray:
    """(hits,) whether the foot was released at once: the pedal opens within this many seconds after the foot's note.

    If the note came before the pedal's own messages, the pedal must first be pressed, which takes little time.
    """
    count = len(moves)
    if not count or not len(hits):
        return np.zeros(len(hits), bool)
    next_open = _following(zone == OPEN)
    next_pressed = _following(zone != OPEN)
    pressed = (place > 0) & (zone[np.maximum(place - 1, 0)] != OPEN)
    presses = np.where(pressed, place, next_pressed[place])
    soon = pressed | ((presses < count) & (moves[np.minimum(presses, count - 1)] - hits <= PRESS_TAKES))
    opens = next_open[np.minimum(presses, count)]
    return np.asarray(soon & (opens < count) & (moves[np.minimum(opens, count - 1)] - hits <= within))


PRESS_TAKES = 0.03


def _following(flags: np.ndarray) -> np.ndarray:
    """(n + 1,) index of the first set flag from each position on, n if there is none."""
    index = np.where(np.append(flags, False), np.arange(len(flags) + 1), len(flags))
    return np.asarray(np.minimum.accumulate(index[::-1])[::-1])
