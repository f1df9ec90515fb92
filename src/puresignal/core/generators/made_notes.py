"""The notes that a generator makes: beats, lengths, notes and velocities as arrays."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np


@dataclass(frozen=True, eq=False)
class MadeNotes:
    """Notes by rising beat; what one source chord made stands together.

    beat, long  (n,) quarter notes from the beginning, and lengths
    note        (n,) MIDI notes; velocity: (n,) 1..127; channel: (n,) 1..16
    """

    beat: np.ndarray
    long: np.ndarray
    note: np.ndarray
    velocity: np.ndarray
    channel: np.ndarray

    def __len__(self) -> int:
        return len(self.beat)

    @staticmethod
    def of(
        beat: np.ndarray, long: np.ndarray | float, note: np.ndarray, velocity: np.ndarray | float, channel: int = 1
    ) -> MadeNotes:  # fmt: skip
        """From columns of one length, or numbers for all; what lies outside MIDI is left out."""
        beat, note = np.asarray(beat, float), np.asarray(note, np.int64)
        long, velocity = (np.broadcast_to(np.asarray(v, float), beat.shape) for v in (long, velocity))
        keep = (note >= 0) & (note <= 127) & (long > 0)
        order = np.lexsort((note[keep], beat[keep]))
        loud = np.clip(np.rint(velocity[keep][order]), 1, 127)
        return MadeNotes(
            beat[keep][order], np.array(long[keep][order]), note[keep][order], loud,
            np.full(int(keep.sum()), channel),
        )  # fmt: skip

    def take(self, rows: np.ndarray) -> MadeNotes:
        return MadeNotes(*(getattr(self, name)[rows] for name in ("beat", "long", "note", "velocity", "channel")))

    def within(self, beats: float) -> MadeNotes:
        """Only what begins before a beat, ended there."""
        mine = self.take(self.beat < beats - 1e-9)
        return replace(mine, long=np.minimum(mine.long, beats - mine.beat))

    @staticmethod
    def joined(parts: list[MadeNotes]) -> MadeNotes:
        """All of some notes, by beat."""
        if not parts:
            none = np.zeros(0)
            return MadeNotes(none, none, none.astype(np.int64), none, none.astype(np.int64))
        columns = [np.concatenate([getattr(one, name) for one in parts]) for name in (
            "beat", "long", "note", "velocity", "channel")]  # fmt: skip
        order = np.lexsort((columns[2], columns[0]))
        return MadeNotes(*(column[order] for column in columns))


def groups(notes: MadeNotes, within: float = 0.06) -> list[tuple[float, float, tuple[int, ...], float]]:
    """Chords of notes that begin together: (beat, length, notes lowest first, velocity); a chord sounds to the next."""
    if not len(notes):
        return []
    first = np.flatnonzero(np.diff(notes.beat, prepend=-np.inf) > within).tolist()
    last = [*first[1:], len(notes)]
    beat, end, note, loud = (v.tolist() for v in (notes.beat, notes.beat + notes.long, notes.note, notes.velocity))
    found = []
    for i, (a, b) in enumerate(zip(first, last, strict=True)):
        begin, until = beat[a], max(end[a:b])
        if i + 1 < len(first):
            until = min(until, beat[first[i + 1]])
        found.append((begin, max(until - begin, 1e-3), tuple(sorted(set(note[a:b]))), sum(loud[a:b]) / (b - a)))
    return found
