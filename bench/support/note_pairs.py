"""Notes of a track of a MIDI file: each note-on with the next note-off of its channel and note."""

from __future__ import annotations

from typing import NamedTuple

from puresignal.core.midi import messages
from puresignal.core.midi.standard_midi_file import Messages


class FileNote(NamedTuple):
    """channel 1..16; begin and end in ticks."""

    begin: int
    end: int
    channel: int
    note: int
    velocity: int


def notes_of(columns: Messages) -> list[FileNote]:
    """The notes that end, by their ends."""
    held: dict[tuple[int, int], list[tuple[int, int]]] = {}
    found = []
    for tick, status, note, value in zip(
        columns.tick.tolist(), columns.status.tolist(), columns.data1.tolist(), columns.data2.tolist(), strict=True
    ):
        kind, channel = status & 0xF0, (status & 0x0F) + 1
        if kind == messages.NOTE_ON and value:
            held.setdefault((channel, note), []).append((tick, value))
        elif kind in (messages.NOTE_ON, messages.NOTE_OFF) and held.get((channel, note)):
            begin, velocity = held[channel, note].pop(0)
            found.append(FileNote(begin, tick, channel, note, velocity))
    return found
