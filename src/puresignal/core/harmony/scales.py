"""Scales of keys, notes held to them, and chords built on their steps."""

from __future__ import annotations

_MAJOR, _MINOR = (0, 2, 4, 5, 7, 9, 11), (0, 2, 3, 5, 7, 8, 10)
_ROOTS = {"C": 0, "D": 2, "E": 4, "F": 5, "G": 7, "A": 9, "B": 11}
NONE, TRIAD, SEVENTH, FIFTH, OCTAVE = "", "triad", "seventh", "fifth", "octave"
CHORDS = (NONE, TRIAD, SEVENTH, FIFTH, OCTAVE)
"""Chords that can be built on a note."""
MAJOR_TRIAD, MAJOR_SEVENTH = (0, 4, 7), (0, 4, 7, 11)


def scale_of(key: str) -> tuple[int, ...]:
    """The pitch classes of a key like "D minor", from its root; empty for no key."""
    if not key:
        return ()
    letter, mode = key.split()
    root = _ROOTS[letter[0]] + {"#": 1, "b": -1}.get(letter[1:], 0)
    return tuple((root + step) % 12 for step in (_MAJOR if mode == "major" else _MINOR))


def degree_text(note: int, scale: tuple[int, ...]) -> str:
    """The step of a note in a scale, behind its name: "  5", "  ♭5" for one between two; nothing without a scale."""
    if not scale:
        return ""
    if note % 12 in scale:
        return f"  {scale.index(note % 12) + 1}"
    return f"  ♭{scale.index((note + 1) % 12) + 1}" if (note + 1) % 12 in scale else ""


def held(note: int, scale: tuple[int, ...]) -> int:
    """The nearest note of a scale, the lower of two; without a scale the note itself."""
    if not scale:
        return note
    return next(n for far in range(7) for n in (note - far, note + far) if n % 12 in scale)


def stacked(note: int, scale: tuple[int, ...], size: int) -> tuple[int, ...]:
    """Notes in thirds along a scale from one of its notes upwards."""
    if note % 12 not in scale:
        return (note,)
    step = scale.index(note % 12)
    found, now = [note], note
    for i in range(1, size):
        wanted = scale[(step + 2 * i) % len(scale)]
        now += (wanted - now) % 12
        found.append(now)
    return tuple(found)


def chord_on(note: int, kind: str, scale: tuple[int, ...]) -> tuple[int, ...]:
    """The notes of a chord built on a note, lowest first. Without a key triads and sevenths are major."""
    if kind == FIFTH:
        found: tuple[int, ...] = (note, note + 7)
    elif kind == OCTAVE:
        found = (note, note + 12)
    elif kind in (TRIAD, SEVENTH):
        size = 3 if kind == TRIAD else 4
        steps = MAJOR_TRIAD if kind == TRIAD else MAJOR_SEVENTH
        found = stacked(note, scale, size) if note % 12 in scale else tuple(note + step for step in steps)
    else:
        found = (note,)
    return tuple(one for one in found if 0 <= one <= 127)
