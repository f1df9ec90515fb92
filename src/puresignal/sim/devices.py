"""Simulated devices that play in real time: a drum module, a pad box and a keyboard; and a receiver.

Each is a stream of timed messages; the owner of a clock asks what is due.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np

from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi import messages
from puresignal.sim import drummer
from puresignal.sim.drum_module import DrumModule, Faults
from puresignal.sim.drummer import Performance, Stroke
from puresignal.sim.grooves import Bar

Timed = tuple[float, bytes]

PAD_BEATS = (
    Bar("pads", (("kick", "X.....x.X..x...."), ("snare.head", "....X.......X..x"), ("hat.closed", "x.xxx.x.x.xxx.x."))),
    Bar("pads, answered", (("kick", "X.x...x.X......."), ("claps", "....X..x....X..."), ("aux1", "..x...x...x.x..."))),
)  # fmt: skip

TUNE = (
    (0, 45, 6), (6, 52, 2), (8, 50, 6), (14, 48, 2), (16, 45, 6), (22, 48, 2), (24, 43, 8),
)  # fmt: skip
"""The keyboard's two-bar line: (sixteenth, note, length in sixteenths)."""


def messages_of(kit: NoteMap, faults: Faults, performance: Performance, seed: int) -> list[Timed]:
    """The messages of a module for a performance: (seconds, bytes), rising."""
    sent = DrumModule(kit, faults, seed).perform(performance)
    events, found = sent.events, []
    for i in range(len(events)):
        status, place = int(events.status[i]), int(events.payload[i])
        if place >= 0:
            found.append((float(events.arrived[i]), bytes([status]) + sent.payloads[place]))
            continue
        whole = bytes([status, int(events.data1[i]), int(events.data2[i])])
        found.append((float(events.arrived[i]), whole[: messages.length(status)]))
    return found


def hit(kit: NoteMap, articulation: str, velocity: int) -> list[Timed]:
    """One stroke on a pad of a kit, with pedal and note-off."""
    openness = {"hat.open": 0.96, "hat.half": 0.5}.get(articulation, 0.03) if articulation.startswith("hat") else None
    stroke = Stroke(0.02, articulation, velocity, "hit", openness)
    return messages_of(kit, Faults(), Performance((stroke,), (), 0.2, 120), 1)


def grooves(kit: NoteMap, faults: Faults, bpm: float, seed: int) -> Iterator[Timed]:
    """An endlessly played drum module, four bars at a time."""
    begin, number = 0.0, seed
    while True:
        played = drummer.improvise(4, bpm, number)
        for at, message in messages_of(kit, faults, played, number):
            yield begin + at, message
        begin += played.seconds
        number += 1


def pads(kit: NoteMap, bpm: float, seed: int) -> Iterator[Timed]:
    """A pad box that repeats its two bars."""
    begin, number = 0.0, seed
    while True:
        played = drummer.play(PAD_BEATS, bpm, number, drummer.Feel(spread_ms=7))
        for at, message in messages_of(kit, Faults(), played, number):
            yield begin + at, message
        begin += played.seconds
        number += 1


def keyboard(bpm: float, seed: int, channel: int = 1) -> Iterator[Timed]:
    """A keyboard that repeats a low line."""
    random = np.random.default_rng(seed)
    step, begin = 60 / bpm / 4, 0.0
    while True:
        rows = []
        for at, note, held in TUNE:
            start = begin + at * step + max(0.0, random.normal(0.004, 0.003))
            velocity = int(np.clip(random.normal(84, 9), 1, 127))
            rows.append((start, messages.note_on(channel, note, velocity)))
            rows.append((start + held * step * 0.92, messages.note_off(channel, note)))
        yield from sorted(rows)
        begin += 32 * step


@dataclass
class Playing:
    """A stream that started at some time of the clock.

    sounding  notes it has started and not ended
    """

    stream: Iterator[Timed]
    since: float
    sounding: set[tuple[int, int]] = field(default_factory=set)
    _next: Timed | None = None

    def due(self, now: float) -> list[Timed]:
        """The messages due by now: (time of the clock, bytes)."""
        found = []
        while (at := self.next_at()) is not None and at <= now:
            assert self._next is not None
            message = self._next[1]
            self._next = None
            self._note(message)
            found.append((at, message))
        return found

    def next_at(self) -> float | None:
        """The time of the next message, None at the end of the stream."""
        self._next = self._next or next(self.stream, None)
        return None if self._next is None else self.since + self._next[0]

    def ends(self) -> list[bytes]:
        """The messages that end everything sounding."""
        found = [messages.note_off(channel, note) for channel, note in sorted(self.sounding)]
        self.sounding.clear()
        return found

    def _note(self, message: bytes) -> None:
        if messages.is_note_on(message):
            self.sounding.add((messages.channel(message), message[1]))
        elif messages.is_note_end(message):
            self.sounding.discard((messages.channel(message), message[1]))


@dataclass
class Receiver:
    """A receiving instrument that records what it gets.

    got       (seconds, bytes) in order
    sounding  how often each (channel 1..16, note) was started and not ended
    """

    got: list[Timed] = field(default_factory=list)
    sounding: dict[tuple[int, int], int] = field(default_factory=dict)

    def take(self, at: float, message: bytes) -> None:
        """Receive a message."""
        self.got.append((at, message))
        channel = messages.channel(message)
        if messages.is_note_on(message):
            key = (channel, message[1])
            self.sounding[key] = self.sounding.get(key, 0) + 1
        elif messages.is_note_end(message):
            self.sounding.pop((channel, message[1]), None)
        elif messages.is_control(message) and message[1] in (messages.ALL_SOUND_OFF, messages.ALL_NOTES_OFF):
            self.sounding = {key: n for key, n in self.sounding.items() if key[0] != channel}
