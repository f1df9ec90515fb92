"""A book of chords: each with its notes, loudness and strum, in the order of its cells."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from puresignal.core.errors import BadFileError
from puresignal.core.harmony import voice_leading
from puresignal.translation import tr

FORMAT, VERSION = "pure-signal/chord-book", 1
MOST_CHORDS, MOST_NOTES = 128, 16
TOGETHER = 0.08
"""Seconds within which notes are one chord when it is played in."""


@dataclass(frozen=True)
class BookChord:
    """One chord.

    notes     MIDI notes, lowest first
    name      empty: as its notes are called
    velocity  1..127; strum: milliseconds from the first note to the last, upwards, or downwards if negative
    """

    notes: tuple[int, ...]
    name: str = ""
    velocity: int = 84
    strum: float = 0.0

    def shifted(self, semitones: int) -> BookChord:
        """All notes higher or lower, as far as there is room."""
        if not self.notes or self.notes[0] + semitones < 0 or self.notes[-1] + semitones > 127:
            return self
        return replace(self, notes=tuple(note + semitones for note in self.notes))

    def turned(self, up: bool) -> BookChord:
        return replace(self, notes=voice_leading.turned(self.notes, up))

    def wider(self) -> BookChord:
        """The second voice from the top an octave down."""
        return replace(self, notes=tuple(sorted(set(voice_leading.spread(self.notes, 1)))))

    def closer(self) -> BookChord:
        """All notes within an octave above the lowest."""
        if not self.notes:
            return self
        low = self.notes[0]
        return replace(self, notes=tuple(sorted({low + (note - low) % 12 for note in self.notes})))

    def with_note(self, note: int) -> BookChord:
        """With a note added, or taken away if it is there."""
        own = set(self.notes) ^ {note}
        return replace(self, notes=tuple(sorted(own)[:MOST_NOTES])) if 0 <= note <= 127 else self

    def moved(self, before: int, after: int) -> BookChord:
        """With a note in another place."""
        if before not in self.notes or not 0 <= after <= 127:
            return self
        return replace(self, notes=tuple(sorted((set(self.notes) - {before}) | {after})))


@dataclass(frozen=True)
class ChordBook:
    """Chords under a name."""

    name: str
    chords: tuple[BookChord, ...] = ()

    def with_chord(self, place: int, chord: BookChord | None) -> ChordBook:
        """With another chord at a place; None takes it out; behind the end it is added."""
        rows = list(self.chords)
        if chord is None:
            del rows[place : place + 1]
        elif place < len(rows):
            rows[place] = chord
        elif len(rows) < MOST_CHORDS:
            rows.append(chord)
        return replace(self, chords=tuple(rows))

    def swapped(self, place: int, other: int) -> ChordBook:
        rows = list(self.chords)
        if 0 <= place < len(rows) and 0 <= other < len(rows):
            rows[place], rows[other] = rows[other], rows[place]
        return replace(self, chords=tuple(rows))


def to_json(book: ChordBook) -> dict[str, Any]:
    return {
        "format": FORMAT, "version": VERSION, "name": book.name,
        "chords": [
            {"notes": list(one.notes), "name": one.name, "velocity": one.velocity, "strum": one.strum}
            for one in book.chords
        ],
    }  # fmt: skip


def from_json(data: object, where: str) -> ChordBook:
    """A book.

    Raises BadFileError with the name of the field that is wrong
    """

    def wrong(field: str) -> BadFileError:
        return BadFileError(
            tr("This chord book has a wrong {field}", field=field), where, tr("Ask for the file again, or mend it.")
        )

    if not isinstance(data, dict) or data.get("format") != FORMAT:
        raise wrong("format")
    name, rows = data.get("name"), data.get("chords")
    if not isinstance(name, str) or not name.strip() or len(name) > 200:
        raise wrong("name")
    if not isinstance(rows, list) or len(rows) > MOST_CHORDS:
        raise wrong("chords")
    found = []
    for i, row in enumerate(rows):
        notes = row.get("notes") if isinstance(row, dict) else None
        well = isinstance(notes, list) and 0 < len(notes) <= MOST_NOTES
        if not well or not all(type(n) is int and 0 <= n <= 127 for n in notes):  # type: ignore[union-attr]
            raise wrong(f"chords[{i}].notes")
        velocity, strum, title = row.get("velocity", 84), row.get("strum", 0.0), row.get("name", "")
        if type(velocity) is not int or not 1 <= velocity <= 127:
            raise wrong(f"chords[{i}].velocity")
        if isinstance(strum, bool) or not isinstance(strum, int | float) or not abs(strum) <= 2000:
            raise wrong(f"chords[{i}].strum")
        if not isinstance(title, str) or len(title) > 200:
            raise wrong(f"chords[{i}].name")
        found.append(BookChord(tuple(sorted(set(notes))), title, velocity, float(strum)))  # type: ignore[arg-type]
    return ChordBook(name.strip(), tuple(found))


def from_played(hits: list[tuple[float, int, int]]) -> list[BookChord]:
    """Chords of what was played in: (second, note, velocity) by time; what begins together is one chord."""
    chords: list[BookChord] = []
    own: list[tuple[float, int, int]] = []
    for hit in [*hits, (float("inf"), -1, 0)]:
        if own and hit[0] - own[-1][0] > TOGETHER:
            notes = tuple(sorted({note for _, note, _ in own}))[:MOST_NOTES]
            loud = round(sum(velocity for _, _, velocity in own) / len(own))
            chords.append(BookChord(notes, velocity=max(1, min(127, loud))))
            own = []
        own.append(hit)
    return chords
