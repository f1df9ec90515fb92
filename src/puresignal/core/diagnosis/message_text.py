"""MIDI messages in words, for the message list."""

from __future__ import annotations

from puresignal.core.kit.articulations import spoken
from puresignal.core.path.context import Context

NOTES, CONTROLS, SYSTEM = "notes", "controllers", "system"

_KINDS = {
    0x80: "note-off", 0x90: "note-on", 0xA0: "key pressure", 0xB0: "controller", 0xC0: "program", 0xD0: "pressure",
    0xE0: "bend",
}  # fmt: skip
_SYSTEM = {
    0xF0: "system exclusive", 0xF1: "time code", 0xF2: "song position", 0xF3: "song", 0xF6: "tune request",
    0xF8: "clock", 0xFA: "start", 0xFB: "continue", 0xFC: "stop", 0xFE: "active sensing", 0xFF: "reset",
}  # fmt: skip


def sort_of(data: bytes) -> str:
    """The kind of a message: NOTES, CONTROLS or SYSTEM."""
    status = data[0] if data else 0xFF
    if status >= 0xF0:
        return SYSTEM
    return NOTES if status < 0xA0 else CONTROLS


def say(data: bytes, context: Context) -> str:
    """A message in words: "note-on, channel 10, note 38, velocity 94: snare, head"."""
    if not data or data[0] < 0x80:
        return "no message: " + data.hex(" ")
    status = data[0]
    if status >= 0xF0:
        word = _SYSTEM.get(status, "system message")
        return f"{word}, {len(data)} bytes" if status == 0xF0 else word
    kind, channel = status & 0xF0, (status & 0x0F) + 1
    first, second = (*data[1:3], 0, 0)[:2]
    word = "note-off" if kind == 0x90 and not second else _KINDS[kind]
    text = f"{word}, channel {channel}"
    if kind in (0x80, 0x90, 0xA0):
        name = context.articulation_of(channel, first & 0x7F)
        amount = "pressure" if kind == 0xA0 else "velocity"
        meaning = spoken(name) if name else "unmapped" if context.mapped_channels[channel] else ""
        return f"{text}, note {first}, {amount} {second}" + (f": {meaning}" if meaning else "")
    if kind == 0xB0:
        return f"{text}, number {first}, value {second}"
    if kind == 0xE0:
        return f"{text}, {(second << 7 | first) - 8192:+d}"
    return f"{text}, {first}"
