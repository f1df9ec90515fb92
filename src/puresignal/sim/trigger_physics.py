"""A trigger module that computes its faults: a stroke shakes pad, stand and floor, and the module sends what it makes
of that.

Each pad sees a train of jolts: the stroke, the ringing of its own head and rim, the stick that bounces, and what stand
and floor pass on from other pads, later, duller and in their own resonance. The module turns jolts into notes as such
devices do: threshold, scan time, mask time, a threshold that falls after each hit, crosstalk suppression, velocity
curve, and a cable that is slow. All knobs are drawn from wide ranges, also badly set ones. Nothing here knows how
faults are found; it shares no constant with the path or with the module that draws its faults.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np

from puresignal.core.kit.note_map import NoteMap, Pad
from puresignal.sim.drum_module import DrumModule, Sent, SentHit
from puresignal.sim.drummer import Performance, Stroke

SERIAL_SECONDS = 30 / 31_250
"""Three bytes at 31,250 baud."""


class Jolt(NamedTuple):
    """at: seconds; level: fraction of the hardest stroke; cause: "stroke", "double" (of the pad itself) or
    "crosstalk"."""

    at: float
    level: float
    cause: str
    stroke: Stroke | None


@dataclass(frozen=True)
class PadKnobs:
    """A pad and its settings.

    gain         of the sensor; power: how level grows with force
    ring_period, ring_fall, ring_level   of head and rim: seconds, seconds, fraction of the stroke
    bounce_odds, bounce_level            of the stick: share of strokes, fraction of the stroke; bounce: seconds
    threshold    level; scan, mask: seconds; retrigger: fraction of the last hit's level below which nothing counts
                 directly after the mask; falls: seconds until that is a third
    curve        exponent of velocity over level
    """

    gain: float
    power: float
    ring_period: float
    ring_fall: float
    ring_level: float
    bounce_odds: float
    bounce_level: float
    bounce: tuple[float, float]
    threshold: float
    scan: float
    mask: float
    retrigger: float
    falls: float
    curve: float


@dataclass(frozen=True)
class ModuleKnobs:
    """All that is set on one kit.

    pads        by articulation
    passes      (from, to): fraction of a stroke's level, seconds of delay, spread of its logarithm
    suppresses  fraction of a hit on another pad below which a jolt is ignored; within: seconds around it
    floor       velocity of a jolt at the threshold
    frame       seconds of a USB frame, 0 for a serial cable
    """

    pads: dict[str, PadKnobs]
    passes: dict[tuple[str, str], tuple[float, float, float]]
    suppresses: float
    within: float
    floor: float
    frame: float


def drawn_knobs(kit: NoteMap, random: np.random.Generator) -> ModuleKnobs:
    """A kit as somebody might have put it up and set it."""

    def between(low: float, high: float) -> float:
        """Evenly over the logarithm."""
        return float(np.exp(random.uniform(np.log(low), np.log(high))))

    good_mask, good_retrigger = random.random() < 0.5, random.random() < 0.5
    pads = {}
    for pad in kit.pads:
        first = between(0.012, 0.045)
        pads[pad.articulation] = PadKnobs(
            gain=between(0.7, 1.3), power=random.uniform(0.85, 1.2),
            ring_period=between(0.007, 0.026), ring_fall=between(0.006, 0.035), ring_level=between(0.15, 0.8),
            bounce_odds=random.uniform(0, 0.12), bounce_level=between(0.04, 0.5), bounce=(first, first * 1.5),
            threshold=between(0.015, 0.06), scan=between(0.0005, 0.006),
            mask=between(0.012, 0.03) if good_mask else between(0.004, 0.014),
            retrigger=random.uniform(0.4, 0.7) if good_retrigger else random.uniform(0.05, 0.35),
            falls=between(0.015, 0.05), curve=between(0.7, 1.4),
        )  # fmt: skip
    stands = {pad.group for pad in kit.pads}
    stand_level = {stand: between(0.01, 0.18) for stand in sorted(stands, key=str)}
    only = random.random() < 0.2
    floor_level = between(0.008, 0.12) if random.random() < 0.6 else 0.0
    foot_level = between(0.03, 0.2) if random.random() < 0.3 else 0.0
    passes: dict[tuple[str, str], tuple[float, float, float]] = {}
    for a in kit.pads:
        for b in kit.pads:
            if _drum(a) == _drum(b):
                continue
            same = a.group is not None and a.group == b.group
            level = stand_level[a.group] * between(0.3, 3.0) if same else floor_level * between(0.2, 4.0)
            if _drum(a) == "kick" and not same:
                level *= 2.0
            if {_drum(a), _drum(b)} == {"kick", "hat"} and b.articulation == "hat.pedal":
                level = max(level, foot_level)
            delay = between(0.0004, 0.012) if same else between(0.002, 0.025)
            passes[a.articulation, b.articulation] = (min(0.35, level), delay, random.uniform(0.08, 0.35))
    if only:
        # One pair talks, all others are quiet.
        loudest = max(passes, key=lambda pair: passes[pair][0])
        passes = {pair: row if pair == loudest else (row[0] * 0.02, *row[1:]) for pair, row in passes.items()}
    return ModuleKnobs(
        pads, passes, random.uniform(0, 0.12) if random.random() < 0.5 else 0.0, between(0.004, 0.03),
        random.uniform(1, 12), float(random.choice([0.0, 0.001, 0.001])),
    )  # fmt: skip


def _drum(pad: Pad) -> str:
    return pad.articulation.split(".")[0]


class TriggerModule(DrumModule):
    """The module of a kit. swallowed: strokes of the last performance of which it sent nothing."""

    def __init__(self, kit: NoteMap, knobs: ModuleKnobs, seed: int = 0):
        super().__init__(kit, None, seed)
        self.knobs = knobs
        self.swallowed = 0
        self._jolts: dict[str, list[Jolt]] = {}

    def perform(self, performance: Performance) -> Sent:
        """Everything that the module sends for a performance."""
        self._out, self._jolts, missed, pedal = [], {pad.articulation: [] for pad in self.kit.pads}, 0, 0.0
        struck = 0
        for stroke in performance.strokes:
            pad = self._pad(stroke.articulation)
            if pad is None:
                missed += 1
                continue
            if stroke.openness is not None:
                pedal = self._move_pedal(pad, stroke, pedal)
            self._shake(pad, stroke)
            struck += 1
        notes = self._noticed()
        busy, sent = 0.0, 0
        for at, pad, velocity, jolt in sorted(notes, key=lambda row: row[0]):
            if self.knobs.frame:
                leaves = float(np.ceil(at / self.knobs.frame) * self.knobs.frame)
            else:
                leaves = busy = max(at, busy) + SERIAL_SECONDS
            meant = jolt.stroke if jolt.cause == "stroke" else None
            sent += meant is not None
            self._strike(pad, meant, leaves, velocity, jolt.cause)
        self.swallowed = struck - sent
        sent_all = self._collect(missed)
        hits = tuple(
            SentHit(hit.event, None if hit.stroke is None else self._as_sent(hit, sent_all), hit.cause)
            for hit in sent_all.hits
        )
        return Sent(sent_all.events, sent_all.payloads, hits, missed)

    @staticmethod
    def _as_sent(hit: SentHit, sent: Sent) -> Stroke:
        """The truth is what was sent: its time and velocity."""
        assert hit.stroke is not None
        event = sent.events
        return hit.stroke._replace(start=float(event.arrived[hit.event]), velocity=int(event.data2[hit.event]))

    def _shake(self, pad: Pad, stroke: Stroke) -> None:
        """All jolts that a stroke causes."""
        random, knobs = self._random, self.knobs.pads[pad.articulation]
        level = knobs.gain * (stroke.velocity / 127) ** knobs.power
        mine = self._jolts[pad.articulation]
        mine.append(Jolt(stroke.start, level, "stroke", stroke))
        at = stroke.start
        for _ in range(4):
            at += knobs.ring_period * random.uniform(0.9, 1.1)
            ringing = knobs.ring_level * level * np.exp(-(at - stroke.start) / knobs.ring_fall)
            ringing *= random.lognormal(0, 0.25)
            if ringing > knobs.threshold:
                mine.append(Jolt(at, ringing, "double", None))
        # A stick bounces where the hand lets it; a foot leaves the beater in the head.
        if random.random() < knobs.bounce_odds and stroke.kind not in ("roll", "drag grace", "flam grace"):
            later = stroke.start + random.uniform(*knobs.bounce)
            mine.append(Jolt(later, level * knobs.bounce_level * random.lognormal(0, 0.35), "double", None))
        for other in self.kit.pads:
            row = self.knobs.passes.get((pad.articulation, other.articulation))
            if row is None:
                continue
            passed = row[0] * level * random.lognormal(0, row[2]) * self.knobs.pads[other.articulation].gain
            if passed > 0.5 * self.knobs.pads[other.articulation].threshold:
                self._jolts[other.articulation].append(
                    Jolt(stroke.start + row[1] * random.lognormal(0, 0.15), passed, "crosstalk", None)
                )

    def _noticed(self) -> list[tuple[float, Pad, int, Jolt]]:
        """The hits that the module reports: (seconds of the end of the scan, pad, velocity, its loudest jolt)."""
        by_name = {pad.articulation: pad for pad in self.kit.pads}
        found: list[tuple[float, Pad, int, Jolt]] = []
        for name, jolts in self._jolts.items():
            knobs, pad = self.knobs.pads[name], by_name[name]
            jolts.sort()
            free, last, level = -1.0, -1e9, 0.0
            i = 0
            while i < len(jolts):
                jolt = jolts[i]
                least = knobs.threshold
                if jolt.at < free:
                    i += 1
                    continue
                # The threshold falls from where the last hit was.
                least = max(least, knobs.retrigger * level * np.exp(-(jolt.at - last - knobs.mask) / knobs.falls))
                if jolt.level < least:
                    i += 1
                    continue
                within = [one for one in jolts[i : i + 12] if one.at <= jolt.at + knobs.scan]
                # A stroke within the scan is what the note stands for, however loud the rest.
                strokes = [one for one in within if one.cause == "stroke"]
                cause = max(strokes or within, key=lambda one: one.level)
                level, last = max(one.level for one in within), jolt.at
                free = jolt.at + knobs.scan + knobs.mask
                share = (min(1.0, level) - knobs.threshold) / (1 - knobs.threshold)
                velocity = round(self.knobs.floor + (127 - self.knobs.floor) * max(0.0, share) ** knobs.curve)
                found.append((jolt.at + knobs.scan, pad, max(1, min(127, velocity)), cause._replace(level=level)))
                i += len(within)
        return self._unsuppressed(found)

    def _unsuppressed(self, found: list[tuple[float, Pad, int, Jolt]]) -> list[tuple[float, Pad, int, Jolt]]:
        """Without what the module itself takes for crosstalk: soft hits just after harder ones elsewhere."""
        if not self.knobs.suppresses:
            return found
        kept = []
        found.sort(key=lambda row: row[0])
        for i, row in enumerate(found):
            gone = False
            for other in reversed(found[max(0, i - 12) : i]):
                if row[0] - other[0] > self.knobs.within:
                    break
                if _drum(other[1]) != _drum(row[1]) and row[3].level < self.knobs.suppresses * other[3].level:
                    gone = True
            if not gone:
                kept.append(row)
        return kept


@dataclass
class PhysicalTake:
    """A take, its truth and what was set; kept together for judges that may know the knobs."""

    sent: Sent
    knobs: ModuleKnobs
    kit: NoteMap
    bpm: float
    swallowed: int = 0
    share: float = 0.0
    played: Performance | None = field(default=None)


def perform(kit: NoteMap, played: Performance, seed: int, least: float = 0.01, most: float = 0.12) -> PhysicalTake:
    """A performance on a kit whose faults are a share of the hits between two bounds: knobs are drawn until they are,
    forty times at most."""
    best: PhysicalTake | None = None
    for attempt in range(40):
        random = np.random.default_rng([seed, attempt])
        module = TriggerModule(kit, drawn_knobs(kit, random), seed * 100 + attempt)
        sent = module.perform(played)
        false = sum(hit.stroke is None for hit in sent.hits)
        share = false / max(1, len(sent.hits))
        one = PhysicalTake(sent, module.knobs, kit, played.bpm, module.swallowed, share, played)
        if least <= share <= most and module.swallowed < 0.06 * len(sent.hits):
            return one
        if best is None or abs(share - 0.06) < abs(best.share - 0.06):
            best = one
    assert best is not None
    return best
