"""Keys by name, and as MIDI files state them."""

from __future__ import annotations

import struct

SIGNATURES = {
    "C major": 0, "G major": 1, "D major": 2, "A major": 3, "E major": 4, "B major": 5, "F# major": 6,
    "C# major": 7, "F major": -1, "Bb major": -2, "Eb major": -3, "Ab major": -4, "Db major": -5,
    "A minor": 0, "E minor": 1, "B minor": 2, "F# minor": 3, "C# minor": 4, "G# minor": 5, "Ab minor": -7,
    "D minor": -1, "G minor": -2, "C minor": -3, "F minor": -4, "Bb minor": -5, "Eb minor": -6,
}  # fmt: skip
"""Sharps, or flats below zero, by name."""
NAMES = tuple(SIGNATURES)


_LETTERS = ("C", "C\N{MUSIC SHARP SIGN}", "D", "E\N{MUSIC FLAT SIGN}", "E", "F", "F\N{MUSIC SHARP SIGN}", "G",
            "A\N{MUSIC FLAT SIGN}", "A", "B\N{MUSIC FLAT SIGN}", "B")  # fmt: skip


def note_name(note: int) -> str:
    """A pitch by name, with middle C, MIDI note 60, as C4."""
    return f"{_LETTERS[note % 12]}{note // 12 - 1}"


def signature(name: str) -> bytes | None:
    """The data of a key signature (Standard MIDI Files 1.0, meta event 0x59); None for a name that is no key."""
    if name not in SIGNATURES:
        return None
    return struct.pack(">bB", SIGNATURES[name], name.endswith("minor"))
