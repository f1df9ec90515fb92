"""MIDI files as other writers make them, byte by byte and drawn at random, and what has to be in a cleaned copy.

Habits: running status or not, note-ons with velocity 0 for ends, several MIDI ports, banks before programs, parameter
numbers with their data and bends at one tick, notes doubled at one tick, kit channels without notes, odd meters with
clicks of their own, names of instruments and devices, a header with too large a length, metas of one sequencer.
"""

from __future__ import annotations

import random
from collections import Counter
from dataclasses import dataclass, field

KIT = 9
DRUMS = (36, 38, 42, 46, 49, 51)
"""Notes that the General MIDI map reads and sends as the same number."""


@dataclass
class Expected:
    """By (port, channel from 0): notes as (tick, note, velocity, length), and the other messages in their order."""

    notes: dict[tuple[int, int], Counter] = field(default_factory=dict)
    others: dict[tuple[int, int], list[tuple[int, ...]]] = field(default_factory=dict)


def _vlq(value: int) -> bytes:
    out = [value & 0x7F]
    while value := value >> 7:
        out.append(value & 0x7F | 0x80)
    return bytes(reversed(out))


def _meta(kind: int, data: bytes) -> bytes:
    return bytes((0xFF, kind)) + _vlq(len(data)) + data


def _controls(draw: random.Random, channel: int, tick: int) -> list[tuple[int, bytes]]:
    """A few controls at one tick, in an order that matters."""
    sort = draw.choice(("bank", "parameter", "single", "bend"))
    cc, pc, bend = 0xB0 | channel, 0xC0 | channel, 0xE0 | channel
    value = draw.randrange(128)
    rows = {
        "bank": [(cc, 0, value), (cc, 32, 3), (pc, value), (cc, 7, 100), (cc, 10, value)],
        "parameter": [(cc, 101, 0), (cc, 100, 0), (cc, 6, 12), (bend, value, 64), (cc, 101, 127), (cc, 100, 127)],
        "single": [(cc, draw.choice((1, 7, 11, 64)), value)],
        "bend": [(bend, 0, value), (cc, 11, value), (bend, 0, 64)],
    }[sort]
    return [(tick, bytes(row)) for row in rows]


def make(seed: int) -> tuple[bytes, Expected]:
    """A file and what has to be in its copy."""
    draw = random.Random(seed)
    ports = draw.choice((1, 1, 2))
    expected = Expected()
    bodies = []
    meter = draw.choice(((4, 2, 24, 8), (7, 3, 36, 8), (5, 4, 12, 8), (3, 2, 24, 8)))
    first = [(0, _meta(3, b"A piece")), (0, _meta(0x58, bytes(meter))), (0, _meta(0x51, (500_000).to_bytes(3, "big")))]
    bodies.append(first)
    for port in range(ports):
        for channel in draw.sample(range(16), draw.randrange(1, 6)):
            # The first track has notes: a file without any is refused.
            silent = len(bodies) > 1 and draw.random() < 0.2
            bodies.append(_track(draw, port if ports > 1 else -1, channel, silent, expected))
    content = b"MThd" + (6).to_bytes(4, "big") + b"\0\1" + len(bodies).to_bytes(2, "big") + (480).to_bytes(2, "big")
    if draw.random() < 0.1:
        content = content.replace((6).to_bytes(4, "big"), (60_000).to_bytes(4, "big"), 1)
    for body in bodies:
        data = _bytes(body, draw.random() < 0.5)
        content += b"MTrk" + len(data).to_bytes(4, "big") + data
    return content, expected


def _track(draw: random.Random, port: int, channel: int, silent: bool, expected: Expected) -> list[tuple[int, bytes]]:
    key = (max(0, port), channel)
    notes, others = expected.notes.setdefault(key, Counter()), expected.others.setdefault(key, [])
    rows: list[tuple[int, bytes]] = [(0, _meta(3, b"Part"))]
    if port > 0 or (port == 0 and draw.random() < 0.5):
        rows.append((0, _meta(0x21, bytes((port,)))))
    if draw.random() < 0.3:
        rows += [(0, _meta(4, b"Strings")), (0, _meta(9, b"Out")), (0, _meta(0x7F, b"\x7d\1\2"))]
    tick = 0
    for i in range(draw.randrange(4, 30)):
        tick += draw.choice((0, 0, 10, 120, 240, 500))
        if silent or (i and draw.random() < 0.35):
            made = _controls(draw, channel, tick)
            rows += made
            others += [(tick, *data) for _, data in made]
            tick += 1
            continue
        note = draw.choice(DRUMS) if channel == KIT else draw.randrange(20, 110)
        velocity, length = draw.randrange(1, 128), draw.choice((1, 30, 200))
        twice = draw.random() < 0.2
        off = draw.choice((0x80, 0x90)) | channel
        rows.append((tick, bytes((0x90 | channel, note, velocity))))
        if twice:
            other = draw.randrange(1, 128)
            rows.append((tick, bytes((0x90 | channel, note, other))))
            if channel == KIT:
                notes[tick, note, max(velocity, other), length + 10] += 1
            else:
                notes[tick, note, velocity, length] += 1
                notes[tick, note, other, length + 10] += 1
        else:
            notes[tick, note, velocity, length] += 1
        rows.append((tick + length, bytes((off, note, 0))))
        if twice:
            rows.append((tick + length + 10, bytes((off, note, 0))))
        # Keys of one track do not overlap, so that every end is known.
        tick += length + 10
    return rows


def _bytes(rows: list[tuple[int, bytes]], running: bool) -> bytes:
    out, before, status = bytearray(), 0, -1
    for tick, data in rows:
        out += _vlq(tick - before)
        before = tick
        if running and data[0] == status and data[0] < 0xF0:
            out += data[1:]
        else:
            out += data
        status = data[0] if data[0] < 0xF0 else -1
    return bytes(out + b"\0\xff\x2f\0")
