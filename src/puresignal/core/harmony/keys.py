"""Keys by name, and as MIDI files state them."""

from __future__ import annotations

import struct

_MAJOR = {"C": 0, "G": 1, "D": 2, "A": 3, "E": 4, "B": 5, "F#": 6, "C#": 7, "F": -1, "Bb": -2, "Eb": -3, "Ab": -4,
          "Db": -5}  # fmt: skip
_MINOR = {"A": 0, "E": 1, "B": 2, "F#": 3, "C#": 4, "G#": 5, "D": -1, "G": -2, "C": -3, "F": -4, "Bb": -5, "Eb": -6,
          "Ab": -7}  # fmt: skip
SIGNATURES = {
    **{f"{root} major": sharps for root, sharps in _MAJOR.items()},  # not shown
    **{f"{root} minor": sharps for root, sharps in _MINOR.items()},  # not shown
}
"""Sharps, or flats below zero, by name."""
NAMES = tuple(SIGNATURES)


_LETTERS = ("C", "C\N{MUSIC SHARP SIGN}", "D", "E\N{MUSIC FLAT SIGN}", "E", "F", "F\N{MUSIC SHARP SIGN}", "G",
            "A\N{MUSIC FLAT SIGN}", "A", "B\N{MUSIC FLAT SIGN}", "B")  # fmt: skip


def note_name(note: int) -> str:
    """A pitch by name, with middle C, MIDI note 60, as C4."""
    return f"{_LETTERS[note % 12]}{note // 12 - 1}"


def named(root: int, mode: str) -> str:
    """The usual name of a key. root: 0..11 from C; mode: "major" or "minor"."""
    for name in NAMES:
        letter, of = name.split()
        pitch = {"C": 0, "D": 2, "E": 4, "F": 5, "G": 7, "A": 9, "B": 11}[letter[0]]
        pitch += {"#": 1, "b": -1}.get(letter[1:], 0)
        if of == mode and pitch % 12 == root and abs(SIGNATURES[name]) <= 6:
            return name
    raise ValueError(f"{root} {mode}")


def signature(name: str) -> bytes | None:
    """The data of a key signature (Standard MIDI Files 1.0, meta event 0x59); None for a name that is no key."""
    if name not in SIGNATURES:
        return None
    return struct.pack(">bB", SIGNATURES[name], name.endswith("minor"))
