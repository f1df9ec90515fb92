"""Takes that are hard to clean: playing that looks like faults, and faults that look like playing; with the truth.

Shares no rule or constant with the path. Faults are drawn from ranges that `width` widens beyond those of a good kit;
every hard hit shakes its neighbours on the stand.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from puresignal.core.kit.note_map import NoteMap, Pad
from puresignal.sim import drummer
from puresignal.sim.drum_module import DrumModule, Faults, Sent
from puresignal.sim.drummer import Feel, Performance, Stroke
from puresignal.sim.grooves import FILLS, GROOVES, Bar


def _bar(name: str, **lines: str) -> Bar:
    return Bar(name, tuple((key.replace("_", "."), steps) for key, steps in lines.items()))


HARD_BARS = (
    _bar("ghosts beside hard hats",
         hat_closed="X.X.X.X.X.X.X.X.", snare_head="..o.X.oo..o.X.o.", kick="X.....X.X...X..."),
    _bar("ghosts under every hat",
         hat_closed="XxXxXxXxXxXxXxXx", snare_head="ooooXoooooooXooo", kick="X..x..X.X..x..X."),
    _bar("unisons of two hands",
         snare_head="X...X...X...X.XX", tom1_head="X...X...X...X.XX", kick="X.X.X.X.X.X.X.X."),
    _bar("toms together",
         tom1_head="X.x.X.x.X.x.X.x.", tom2_head="X...X...X...X...", tom3_head="..X...X...X...X.",
         kick="X.......X......."),
    _bar("flams and drags", snare_head="f...d...f.f.d.f.", hat_closed="X.X.X.X.X.X.X.X.", kick="X.......X......."),
    _bar("rolls", snare_head="r...r...r...d.X.", kick="X...X...X...X...", hat_pedal="..x...x...x...x."),
    _bar("crashes over soft snares",
         crash1_bow="X.......X.......", crash2_bow="....X.......X...", snare_head="o.oo.oo.o.oo.oo.",
         kick="X.......X......."),
    _bar("ride and ghosts",
         ride_bow="X.xxX.xxX.xxX.xx", snare_head="..o..o.oX.o..o.o", hat_pedal="....x.......x...",
         kick="X..x..x.X..x..x."),
)  # fmt: skip


@dataclass(frozen=True)
class FaultRanges:
    """The faults and the width of their ranges.

    doubles    share of the strokes that trigger twice
    shakes     share of the hard strokes that shake a neighbour
    width      1: the ranges of a good kit; 1.5: half as wide again
    one_stand  all pads share one stand
    """

    doubles: float = 0.05
    shakes: float = 1.0
    width: float = 1.0
    one_stand: bool = False


def perform(kit: NoteMap, bars: int, bpm: float, seed: int, ranges: FaultRanges) -> tuple[Sent, Performance]:
    """A take of this many bars, and what was meant."""
    random = np.random.default_rng(seed)
    if ranges.one_stand:
        kit = replace(kit, pads=tuple(replace(pad, group="rack") for pad in kit.pads))
    pool = [*HARD_BARS, *GROOVES, *FILLS]
    hand = Feel(spread_ms=float(random.uniform(2.5, 7)), loudness=float(random.uniform(0.8, 1.1)))
    chosen = [pool[int(random.integers(len(pool)))] for _ in range(bars)]
    played = drummer.play(chosen, bpm, seed, hand)
    played = playable(played, random, bpm)
    return sent(kit, played, seed, ranges, random), played


def sent(kit: NoteMap, played: Performance, seed: int, ranges: FaultRanges, random: np.random.Generator) -> Sent:
    """What the module sends for a performance."""
    faults = Faults(hanging=0.01, no_length=0.02, stray=0.005)
    return _FaultyModule(kit, faults, seed, ranges, random).perform(played)


def playable(played: Performance, random: np.random.Generator, bpm: float) -> Performance:
    """The part of a performance that two hands can play, with taps after some accents."""
    return replace(played, strokes=_with_taps(spaced(played.strokes), random, bpm))


def spaced(strokes: tuple[Stroke, ...]) -> tuple[Stroke, ...]:
    """The strokes that two hands can play: no drum is struck twice within 16 ms, nor softly within 40 ms of a loud
    one."""
    kept: list[Stroke] = []
    last: dict[str, Stroke] = {}
    for stroke in sorted(strokes):
        drum = stroke.articulation.split(".")[0]
        before = last.get(drum)
        if before is not None:
            gap = stroke.start - before.start
            soft = stroke.velocity < 0.65 * before.velocity and stroke.kind != "roll"
            if gap < 0.016 or (gap < 0.04 and soft):
                continue
        last[drum] = stroke
        kept.append(stroke)
    return tuple(kept)


def _with_taps(strokes: tuple[Stroke, ...], random: np.random.Generator, bpm: float) -> tuple[Stroke, ...]:
    """Occasionally an accent is followed by a tap of half its loudness, as fast as 32nds at 180 BPM."""
    gap = max(0.0417, 60 / bpm / 8)
    added = []
    for i, stroke in enumerate(strokes):
        if (
            stroke.articulation != "snare.head"
            or stroke.kind != "hit"
            or stroke.velocity < 85
            or random.random() > 0.12
        ):
            continue
        at = stroke.start + min(gap, 0.06) + random.normal(0, 0.0015)
        near = [s for s in strokes[i + 1 : i + 20] if s.articulation == "snare.head"]
        if not near or near[0].start - at > 0.04:
            added.append(
                stroke._replace(
                    start=at, velocity=max(1, round(stroke.velocity * random.uniform(0.42, 0.62))), kind="tap"
                )
            )
    return tuple(sorted((*strokes, *added)))


class _FaultyModule(DrumModule):
    """The usual module with wider faults."""

    def __init__(self, kit: NoteMap, faults: Faults, seed: int, ranges: FaultRanges, random: np.random.Generator):
        super().__init__(kit, faults, seed)
        self._wicked = ranges
        self._draw = random
        # A pad's piezo and its place on the stand determine how strongly it is shaken, whoever plays.
        self._couples = {
            (a.note, b.note): float(random.lognormal(np.log(0.15), 0.28 * ranges.width))
            for a in kit.pads
            for b in kit.pads
        }

    def _misbehave(self, pad: Pad, stroke: Stroke) -> None:
        draw, ranges, width = self._draw, self._wicked, self._wicked.width
        if stroke.kind != "roll" and draw.random() < ranges.doubles:
            gap = draw.uniform(0.006, 0.020 + 0.008 * width)
            weaker = stroke.velocity * draw.uniform(0.10, 0.30 + 0.16 * width)
            self._strike(pad, None, stroke.start + gap, max(1, round(weaker)), "double")
        drum = pad.articulation.split(".")[0]
        near = [p for p in self.kit.pads if pad.group is not None and p.group == pad.group]
        near = [p for p in near if p.articulation.split(".")[0] != drum]
        if not near or stroke.velocity < 75 or draw.random() > ranges.shakes:
            return
        drums = sorted({p.articulation.split(".")[0] for p in near})
        for _ in range(1 + int(draw.random() < 0.25)):
            other_drum = drums[int(draw.integers(len(drums)))]
            other = next(p for p in near if p.articulation.split(".")[0] == other_drum)
            weak = stroke.velocity * min(0.42, self._couples[pad.note, other.note] * draw.lognormal(0, 0.15 * width))
            if weak >= 3:
                at = stroke.start + draw.uniform(-0.0016 * width, 0.0035 + 0.0015 * width)
                self._strike(other, None, at, max(1, round(weak)), "crosstalk")
