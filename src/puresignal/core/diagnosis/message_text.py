"""MIDI messages in words, for the message list."""

from __future__ import annotations

from puresignal.core.kit.articulations import spoken
from puresignal.core.path.context import Context
from puresignal.translation import mark, tr

NOTES, CONTROLS, SYSTEM = "notes", "controllers", "system"

_KINDS = {
    0x80: mark("note-off"), 0x90: mark("note-on"), 0xA0: mark("key pressure"), 0xB0: mark("controller"),
    0xC0: mark("program"), 0xD0: mark("pressure"), 0xE0: mark("bend"),
}  # fmt: skip
_SYSTEM = {
    0xF0: mark("system exclusive"), 0xF1: mark("time code"), 0xF2: mark("song position"), 0xF3: mark("song select"),
    0xF6: mark("tune request"), 0xF8: mark("clock"), 0xFA: mark("start"), 0xFB: mark("continue"), 0xFC: mark("stop"),
    0xFE: mark("active sensing"), 0xFF: mark("reset"),
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
        return tr("no message: {data}", data=data.hex(" "))
    status = data[0]
    if status >= 0xF0:
        word = tr(_SYSTEM.get(status, mark("system message")))
        return tr("{word}, {n} bytes", word=word, n=len(data)) if status == 0xF0 else word
    kind, channel = status & 0xF0, (status & 0x0F) + 1
    first, second = (*data[1:3], 0, 0)[:2]
    word = tr(mark("note-off") if kind == 0x90 and not second else _KINDS[kind])
    text = tr("{word}, channel {channel}", word=word, channel=channel)
    if kind in (0x80, 0x90, 0xA0):
        name = context.articulation_of(channel, first & 0x7F)
        amount = tr("pressure") if kind == 0xA0 else tr("velocity")
        meaning = spoken(name) if name else tr("unmapped") if context.mapped_channels[channel] else ""
        return tr(
            "{message}, note {first}, {amount} {second}", message=text, first=first, amount=amount, second=second
        ) + (f": {meaning}" if meaning else "")
    if kind == 0xB0:
        return tr("{message}, number {first}, value {second}", message=text, first=first, second=second)
    if kind == 0xE0:
        return f"{text}, {(second << 7 | first) - 8192:+d}"
    return f"{text}, {first}"
