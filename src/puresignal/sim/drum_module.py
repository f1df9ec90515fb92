"""A drum module: turns strokes on its pads into the messages that such a device sends, including its faults.

It knows a kit only by its note map, keeps the truth beside its messages, and shares no rule or constant with the path
that has to recover the truth.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from puresignal.core.kit.note_map import NoteMap, Pad
from puresignal.core.midi import messages
from puresignal.core.midi.events import Events, Port, Take
from puresignal.core.midi.tempo_map import TempoMap, on_arrival_grid
from puresignal.sim.drummer import Performance, Stroke


@dataclass(frozen=True)
class Faults:
    """The faults of the kit; each is the share of hits it happens to, 0..1."""

    doubles: float = 0.0
    crosstalk: float = 0.0
    hanging: float = 0.0
    no_length: float = 0.0
    stray: float = 0.0

    @staticmethod
    def usual() -> Faults:
        """A kit that has been played for some years."""
        return Faults(doubles=0.04, crosstalk=0.03, hanging=0.01, no_length=0.03, stray=0.01)


class SentHit(NamedTuple):
    """A note-on that was sent: the stroke behind it, or the fault that caused it.

    event   number of its note-on among the events
    stroke  None for a false note
    cause   "stroke", "double" or "crosstalk"
    """

    event: int
    stroke: Stroke | None
    cause: str


@dataclass(frozen=True, eq=False)
class Sent:
    """The output of the module, and the truth about it.

    events   as in a take
    hits     one for each note-on, in order
    missed   strokes on drums that the kit lacks
    """

    events: Events
    payloads: tuple[bytes, ...]
    hits: tuple[SentHit, ...]
    missed: int


class _Message(NamedTuple):
    at: float
    order: int
    status: int
    data1: int
    data2: int
    payload: bytes | None = None
    hit: tuple[Stroke | None, str] | None = None


class DrumModule:
    """The module of a kit. `kit` gives the notes of its pads."""

    def __init__(self, kit: NoteMap, faults: Faults | None = None, seed: int = 0):
        self.kit = kit
        self.faults = faults or Faults()
        self._random = np.random.default_rng(seed)
        self._out: list[_Message] = []

    def perform(self, performance: Performance) -> Sent:
        """Everything that the module sends for a performance."""
        self._out, missed = [], 0
        pedal = 0.0
        for stroke in performance.strokes:
            pad = self._pad(stroke.articulation)
            if pad is None:
                missed += 1
                continue
            if stroke.openness is not None:
                pedal = self._move_pedal(pad, stroke, pedal)
            self._strike(pad, stroke, stroke.start, stroke.velocity, "stroke")
            self._misbehave(pad, stroke)
        for choke in performance.chokes:
            pad = self._pad(choke.articulation)
            if pad is not None:
                status = messages.status(messages.POLY_PRESSURE, self._channel(pad))
                self._send(choke.at, status, pad.note, 127)
                self._send(choke.at + 0.12, status, pad.note, 0)
        if self.faults.stray:
            self._stray(performance.seconds)
        return self._collect(missed)

    def _pad(self, articulation: str) -> Pad | None:
        """The pad for a stroke: its own, another zone of the drum, or none."""
        drum = articulation.split(".")[0]
        if drum == "hat" and articulation not in ("hat.pedal", "hat.splash"):
            if self.kit.hat is not None and not self.kit.hat.notes_follow_pedal:
                edge = self._exact("hat.edge.closed") if "edge" in articulation else None
                return edge or self._exact("hat.closed")
            plain = articulation.replace(".edge", "")
            return self._exact(articulation) or self._exact(plain) or self._exact("hat.open") or self._exact(drum)
        mine = [p for p in self.kit.pads if p.articulation.split(".")[0] == drum]
        if articulation == "hat.splash":
            mine = [p for p in mine if p.articulation in ("hat.pedal", "hat.closed")]
        return self._exact(articulation) or (mine[0] if mine else None)

    def _exact(self, articulation: str) -> Pad | None:
        return next((p for p in self.kit.pads if p.articulation == articulation), None)

    def _channel(self, pad: Pad) -> int:
        return self.kit.channel_of(pad) or 10

    def _send(self, at: float, status: int, data1: int, data2: int, **more: object) -> None:
        self._out.append(_Message(max(0.0, at), len(self._out), status, data1, data2, **more))  # type: ignore[arg-type]

    def _move_pedal(self, pad: Pad, stroke: Stroke, before: float) -> float:
        """The foot moves to the opening of a stroke and arrives shortly before it."""
        hat = self.kit.hat
        assert stroke.openness is not None
        if hat is None or abs(stroke.openness - before) < 0.01:
            return before
        steps = 1 + int(abs(stroke.openness - before) * 7)
        for i in range(1, steps + 1):
            openness = before + (stroke.openness - before) * i / steps
            value = round(hat.closed_at + openness * (hat.open_at - hat.closed_at))
            self._send(
                stroke.start - 0.006 - 0.004 * (steps - i),
                messages.status(messages.CONTROL, self._channel(pad)),
                hat.controller,
                max(0, value),
            )
        return stroke.openness

    def _strike(self, pad: Pad, stroke: Stroke | None, at: float, velocity: int, cause: str) -> None:
        random, channel = self._random, self._channel(pad)
        self._send(
            at,
            messages.status(messages.NOTE_ON, channel),
            pad.note,
            max(1, min(127, int(velocity))),
            hit=(stroke, cause),
        )
        chance = random.random()
        if cause == "stroke" and chance < self.faults.hanging:
            return
        held = random.uniform(0.3, 0.9) if pad.articulation.startswith(("crash", "ride")) else random.uniform(0.05, 0.1)
        if cause == "stroke" and chance > 1 - self.faults.no_length:
            held = 0.0
        self._send(at + held, messages.status(messages.NOTE_OFF, channel), pad.note, int(random.integers(30, 90)))

    def _misbehave(self, pad: Pad, stroke: Stroke) -> None:
        random, faults = self._random, self.faults
        if random.random() < faults.doubles and stroke.kind == "hit":
            gap = random.uniform(0.007, 0.026)
            weaker = stroke.velocity * random.uniform(0.12, 0.42)
            self._strike(pad, None, stroke.start + gap, round(weaker), "double")
        neighbours = [p for p in self.kit.pads if pad.group is not None and p.group == pad.group]
        neighbours = [p for p in neighbours if p.articulation.split(".")[0] != pad.articulation.split(".")[0]]
        if neighbours and stroke.velocity > 70 and random.random() < faults.crosstalk:
            other = neighbours[int(random.integers(len(neighbours)))]
            weak = stroke.velocity * random.uniform(0.08, 0.25)
            self._strike(other, None, stroke.start + random.uniform(-0.0015, 0.005), round(weak), "crosstalk")

    def _stray(self, seconds: float) -> None:
        """Active sensing, a dump, a note-off without a note-on, a program change: unsolicited messages."""
        random = self._random
        for at in np.arange(0.3, seconds, 0.3):
            self._send(float(at), 0xFE, 0, 0)
        for _ in range(max(1, int(self.faults.stray * len(self._out) / 4))):
            at = random.uniform(0, seconds)
            self._send(at, 0xF0, 0, 0, payload=bytes([0x7D, *random.integers(0, 128, 6).tolist(), 0xF7]))
            pad = self.kit.pads[int(random.integers(len(self.kit.pads)))]
            channel = self._channel(pad)
            unused = next(n for n in range(127, 0, -1) if all(p.note != n for p in self.kit.pads))
            self._send(random.uniform(0, seconds), messages.status(messages.NOTE_OFF, channel), unused, 64)

    def _collect(self, missed: int) -> Sent:
        moments = on_arrival_grid(np.array([m.at for m in self._out])).tolist()
        ordered = sorted(self._out, key=lambda m: (moments[m.order], m.order))
        payloads = tuple(m.payload for m in ordered if m.payload is not None)
        carries = np.array([m.payload is not None for m in ordered], bool)
        events = Events(
            arrived=on_arrival_grid(np.array([m.at for m in ordered], float)),
            port=np.zeros(len(ordered)),
            status=np.array([m.status for m in ordered], int),
            data1=np.array([m.data1 for m in ordered], int),
            data2=np.array([m.data2 for m in ordered], int),
            payload=np.where(carries, np.cumsum(carries) - 1, -1),
        )
        hits = tuple(SentHit(i, *m.hit) for i, m in enumerate(ordered) if m.hit is not None)
        return Sent(events, payloads, hits, missed)


def to_take(sent: Sent, ident: str, name: str, bpm: float, device: str) -> Take:
    """The module's output as a take with a steady tempo in 4/4."""
    return Take(
        ident=ident,
        name=name,
        events=sent.events,
        ports=(Port(device),),
        tempo=TempoMap.steady(bpm),
        payloads=sent.payloads,
    )
