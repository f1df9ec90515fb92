"""MIDI messages by name: constructors, and tests for their status bytes (MIDI 1.0). Channels are 1..16."""

from __future__ import annotations

import numpy as np

NOTE_OFF, NOTE_ON, POLY_PRESSURE, CONTROL, PROGRAM, PRESSURE, BEND = 0x80, 0x90, 0xA0, 0xB0, 0xC0, 0xD0, 0xE0
SYSTEM = SYSEX = 0xF0
ALL_SOUND_OFF, ALL_NOTES_OFF = 120, 123
VOLUME = 7
LYRIC, MARKER = 5, 6
"""Meta events of a MIDI file: a syllable, a mark in time."""
KIND, CHANNEL = 0xF0, 0x0F
"""Bit masks of a channel message's status byte."""


def kind(status: int) -> int:
    """The kind of a channel message, such as NOTE_ON; SYSTEM for everything from 0xF0."""
    return status & KIND


def kinds(status: np.ndarray) -> np.ndarray:
    """(n,) the kind of each status byte."""
    return np.asarray(status & KIND)


def channels(status: np.ndarray) -> np.ndarray:
    """(n,) the channel of each status byte, 1..16; without meaning for system messages."""
    return np.asarray((status & CHANNEL) + 1)


def length(status: int) -> int:
    """Bytes of a channel message with this status byte; 1 for system messages, whose length varies."""
    if status >= SYSTEM:
        return 1
    return 2 if PROGRAM <= status < BEND else 3


def bend_amount(low: int, high: int) -> int:
    """A pitch bend's value from its two data bytes, -8192..8191."""
    return (high << 7 | low) - 8192


def channel_of(status: int) -> int:
    """The channel of a channel message's status byte."""
    return (status & CHANNEL) + 1


def channel(data: bytes) -> int:
    """The channel of a channel message."""
    return (data[0] & CHANNEL) + 1


def is_channel_message(data: bytes) -> bool:
    """Whether a message belongs to a channel; all others are system messages."""
    return bool(data) and 0x80 <= data[0] < SYSTEM


def is_note_on(data: bytes) -> bool:
    """Whether a note starts: a note-on of velocity 0 ends one."""
    return len(data) == 3 and data[0] & KIND == NOTE_ON and data[2] > 0


def is_taken(status: int, takes: str) -> bool:
    """Whether a message is of what is taken: "all", "notes" with the pressure of single keys, or "control", the rest.

    System messages always are.
    """
    return takes == "all" or status >= SYSTEM or (status < CONTROL) == (takes == "notes")


def is_note_end(data: bytes) -> bool:
    """Whether a note ends."""
    return len(data) == 3 and (data[0] & KIND == NOTE_OFF or (data[0] & KIND == NOTE_ON and data[2] == 0))


def is_control(data: bytes) -> bool:
    """Whether a controller moves."""
    return len(data) == 3 and data[0] & KIND == CONTROL


def status(of_kind: int, channel: int) -> int:
    """The status byte of a kind of message on a channel."""
    return of_kind | (channel - 1)


def note_on(channel: int, note: int, velocity: int) -> bytes:
    """A note-on."""
    return bytes((NOTE_ON | (channel - 1), note, velocity))


def note_off(channel: int, note: int, release: int = 64) -> bytes:
    """A note-off."""
    return bytes((NOTE_OFF | (channel - 1), note, release))


def control(channel: int, number: int, value: int) -> bytes:
    """A controller's value."""
    return bytes((CONTROL | (channel - 1), number, value))


def poly_pressure(channel: int, note: int, value: int) -> bytes:
    """Pressure on one note; on a cymbal, a hand that chokes it."""
    return bytes((POLY_PRESSURE | (channel - 1), note, value))


def bend(channel: int, amount: int) -> bytes:
    """A pitch bend, -8192..8191."""
    whole = amount + 8192
    return bytes((BEND | (channel - 1), whole & 0x7F, whole >> 7))


def program(channel: int, number: int) -> bytes:
    """A program change."""
    return bytes((PROGRAM | (channel - 1), number))
