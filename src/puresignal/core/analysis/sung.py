"""Notes as they are sung: syllables under them, and phrases, which are parted by rests."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from puresignal.core.midi.events import NO_EVENT, Notes, Take
from puresignal.core.midi.messages import LYRIC, MARKER

TOGETHER = 0.03
"""Seconds within which notes begin together: they have one syllable, which the highest carries."""
REST_BEATS = 0.75
"""Quarter notes without a note that part two phrases."""
LONGEST_HELD = 2.0
"""Seconds for which a note without an end is taken to sound."""


@dataclass(frozen=True, eq=False)
class SungLine:
    """The places for syllables of one track, in order.

    start, end  (n,) seconds
    origin      (n,) the note that carries each
    text        the syllable of each; empty for none
    phrase      (n,) number of the phrase that each belongs to, from 0, rising
    loose       (second, text): syllables of the take's file that stand at no note of this track
    """

    start: np.ndarray
    end: np.ndarray
    origin: np.ndarray
    text: tuple[str, ...]
    phrase: np.ndarray
    loose: tuple[tuple[float, str], ...] = ()

    def __len__(self) -> int:
        return len(self.origin)

    def rows_of(self, phrase: int) -> np.ndarray:
        """The places of a phrase."""
        return np.flatnonzero(self.phrase == phrase)


def decoded(data: bytes) -> str:
    """The text of a meta event: UTF-8, else Latin-1, which every byte is."""
    try:
        return data.decode()
    except UnicodeDecodeError:
        return data.decode("latin-1")


def sung_line(notes: Notes, track: int, take: Take) -> SungLine:
    """The line of a track. notes: those that leave; take: with its texts, in their time."""
    notes = notes.take(np.flatnonzero((notes.track == track) & (notes.branch == 0)))
    order = np.lexsort((notes.note, notes.start))
    start = notes.start[order]
    # The last of those that begin together is the highest.
    last = np.concatenate([np.diff(start) > TOGETHER, [True]]) if len(start) else np.zeros(0, bool)
    rows = order[last]
    begin = notes.start[rows]
    end = np.where(np.isnan(notes.end[rows]), begin + LONGEST_HELD, notes.end[rows])
    rest = REST_BEATS * _beat(take, begin)
    texts, loose = [""] * len(rows), []
    place = {int(origin): i for i, origin in enumerate(notes.origin[rows].tolist())}
    for meta in take.metas:
        if meta.kind != LYRIC:
            continue
        at = float(take.tempo.ticks_to_seconds(np.array([meta.tick]))[0])
        i = place.get(meta.event, -1) if meta.event != NO_EVENT else _nearest(begin, at)
        if i >= 0:
            texts[i] = decoded(meta.data)
        elif meta.event == NO_EVENT:
            loose.append((at, decoded(meta.data)))
    return SungLine(begin, end, notes.origin[rows], tuple(texts), phrases(begin, end, rest), tuple(loose))


def _nearest(starts: np.ndarray, second: float) -> int:
    """The place that begins at a second, -1 if there is none."""
    if not len(starts):
        return -1
    i = int(np.argmin(np.abs(starts - second)))
    return i if abs(float(starts[i]) - second) <= TOGETHER else -1


def _beat(take: Take, start: np.ndarray) -> float:
    """Seconds of a quarter note, on the average of what is played."""
    if len(start) < 2:
        return 0.5
    beats = take.tempo.seconds_to_beats(start[[0, -1]])
    return float((start[-1] - start[0]) / max(1e-6, beats[1] - beats[0]))


def phrases(start: np.ndarray, end: np.ndarray, rest: float) -> np.ndarray:
    """(n,) number of the phrase of each note: a new one begins after a rest.

    start, end  (n,) seconds, rising starts; rest: seconds
    """
    if not len(start):
        return np.zeros(0, np.int64)
    sounded = np.maximum.accumulate(end)
    return np.concatenate([[0], np.cumsum(start[1:] - sounded[:-1] > rest)]).astype(np.int64)


def markers(take: Take) -> tuple[tuple[float, str], ...]:
    """(second, text) of the markers of a take, rising."""
    rows = [meta for meta in take.metas if meta.kind == MARKER]
    at = take.tempo.ticks_to_seconds(np.array([meta.tick for meta in rows], np.int64))
    return tuple(zip(at.tolist(), [decoded(meta.data) for meta in rows], strict=True))


def syllables(text: str) -> tuple[str, ...]:
    """A text in syllables as a MIDI file has them: "fer-ry boat" is "fer-", "ry ", "boat".

    Source  Lyric Meta Event, MIDI Manufacturers Association Recommended Practice RP-017: a hyphen within a word, a
            space behind it
    """
    found = re.findall(r"[^\s-]+-+|[^\s-]+\s*", text.lstrip())
    return tuple(re.sub(r"\s+$", " ", one) for one in found)
