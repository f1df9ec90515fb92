"""MIDI messages in words, for the message list."""

from __future__ import annotations

from puresignal.core.kit.articulations import spoken
from puresignal.core.midi import messages
from puresignal.core.path.context import Context
from puresignal.translation import mark, tr

NOTES, CONTROLS, SYSTEM = "notes", "controllers", "system"

_KINDS = {
    messages.NOTE_OFF: mark("note-off"), messages.NOTE_ON: mark("note-on"),
    messages.POLY_PRESSURE: mark("key pressure"), messages.CONTROL: mark("controller"),
    messages.PROGRAM: mark("program"), messages.PRESSURE: mark("pressure"), messages.BEND: mark("bend"),
}  # fmt: skip
_SYSTEM = {
    0xF0: mark("system exclusive"), 0xF1: mark("time code"), 0xF2: mark("song position"), 0xF3: mark("song select"),
    0xF6: mark("tune request"), 0xF8: mark("clock"), 0xFA: mark("start"), 0xFB: mark("continue"), 0xFC: mark("stop"),
    0xFE: mark("active sensing"), 0xFF: mark("reset"),
}  # fmt: skip


def sort_of(data: bytes) -> str:
    """The kind of a message: NOTES, CONTROLS or SYSTEM."""
    status = data[0] if data else 0xFF
    if status >= messages.SYSTEM:
        return SYSTEM
    return NOTES if status < messages.POLY_PRESSURE else CONTROLS


def say(data: bytes, context: Context) -> str:
    """A message in words: "snare, head: note-on 38, velocity 94, ch 10"."""
    if not data or data[0] < messages.NOTE_OFF:
        return tr("no message: {data}", data=data.hex(" "))
    status = data[0]
    if status >= messages.SYSTEM:
        word = tr(_SYSTEM.get(status, mark("system message")))
        return tr("{word}, {n} bytes", word=word, n=len(data)) if status == messages.SYSEX else word
    kind, channel = messages.kind(status), messages.channel_of(status)
    first, second = (*data[1:3], 0, 0)[:2]
    word = tr(mark("note-off") if kind == messages.NOTE_ON and not second else _KINDS[kind])
    if kind in (messages.NOTE_OFF, messages.NOTE_ON, messages.POLY_PRESSURE):
        name = context.articulation_of(channel, first & 0x7F)
        meaning = spoken(name) if name else tr("unmapped") if context.mapped_channels[channel] else ""
        amount = tr("pressure") if kind == messages.POLY_PRESSURE else tr("velocity")
        text = (f"{meaning}: " if meaning else "") + f"{word} {first}, {amount} {second}"
    elif kind == messages.CONTROL:
        text = tr("{word} {first}, value {second}", word=word, first=first, second=second)
    elif kind == messages.BEND:
        text = f"{word} {messages.bend_amount(first, second):+d}"
    else:
        text = f"{word} {first}"
    # The channel last: it is the same on most lines.
    return tr("{message}, ch {channel}", message=text, channel=channel)
