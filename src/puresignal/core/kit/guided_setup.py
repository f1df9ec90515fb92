"""Learning a kit in about a minute: each drum is asked for in turn and hit soft and hard.

The pad that was asked for is the one that is hit most often without a louder hit beside it; what shakes along with it
is left out. The hat's pedal is learnt from where it stands while the open and the closed hat are hit.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, replace

import numpy as np

from puresignal.core.kit.articulations import drum_of
from puresignal.core.kit.map_learning import LEAST_TRAVEL, NOT_PEDALS
from puresignal.core.kit.note_map import HatPedal, NoteMap, Pad

FEET_OFF, FOOT_DOWN, FOOT_HALF = ("hat.open", "hat.edge.open"), ("hat.closed", "hat.edge.closed"), ("hat.half",)
STEPS = (
    "kick", "snare.head", "snare.rim", "snare.side",
    "hat.open", "hat.closed", "hat.half", "hat.pedal", "hat.splash", "hat.edge.closed", "hat.edge.open",
    "tom1.head", "tom1.rim", "tom2.head", "tom2.rim", "tom3.head", "tom3.rim", "tom4.head", "tom4.rim",
    "crash1.bow", "crash1.edge", "crash2.bow", "crash2.edge", "ride.bow", "ride.bell", "ride.edge", "rest",
)  # fmt: skip
REST = "rest"
"""The last step: all pads that are left."""
AUX = ("aux1", "aux2", "aux3", "aux4")
ENOUGH = 4
"""Hits of a pad that are enough if they are soft as well as hard."""
BESIDE = 0.035
"""Seconds within which a louder hit on another pad may have shaken this one."""
AGAIN = 0.08
"""Seconds within which a softer hit of the same pad is a double trigger."""
LEAST_SHARE = 0.6
"""Part of the hits of a step that must be on one pad."""
SOFT, HARD = 0.6, 90
"""The softest hit is at most this part of the hardest, and the hardest has at least this velocity."""


@dataclass(frozen=True)
class SetupHit:
    """A note-on that arrived while a step was asked for.

    at       seconds
    channel  1..16
    """

    at: float
    channel: int
    note: int
    velocity: int


@dataclass(frozen=True)
class Learnt:
    """The finding of a step: the pad, and the velocities of its hits."""

    articulation: str
    channel: int
    note: int
    velocities: tuple[int, ...]


@dataclass(frozen=True)
class GuidedSetup:
    """How far it is.

    step     place in STEPS; len(STEPS): done
    hits     of the present step
    learnt   by step
    skipped  articulations that the kit lacks
    moves    (controller, value) of the pedal so far, in order
    stands   (articulation, controller, value): where each controller stood at the hits on the hat
    """

    step: int = 0
    hits: tuple[SetupHit, ...] = ()
    learnt: tuple[Learnt, ...] = ()
    skipped: tuple[str, ...] = ()
    moves: tuple[tuple[int, int], ...] = ()
    stands: tuple[tuple[str, int, int], ...] = ()

    @property
    def asked(self) -> str:
        """The articulation that is asked for, REST, or nothing when all is done."""
        return STEPS[self.step] if self.step < len(STEPS) else ""


def heard(setup: GuidedSetup, hit: SetupHit) -> GuidedSetup:
    """With another hit."""
    if not setup.asked:
        return setup
    stands = setup.stands
    if setup.asked.startswith("hat.") and setup.asked != "hat.pedal":
        latest = dict(setup.moves)
        stands = (*stands, *((setup.asked, controller, value) for controller, value in latest.items()))
    return replace(setup, hits=(*setup.hits, hit), stands=stands)


def moved(setup: GuidedSetup, controller: int, value: int) -> GuidedSetup:
    """With another message of a controller."""
    if controller in NOT_PEDALS:
        return setup
    return replace(setup, moves=(*setup.moves, (controller, value)))


def own_hits(setup: GuidedSetup) -> dict[tuple[int, int], list[int]]:
    """By (channel, note) the velocities of the present step's hits that no louder one explains."""
    found: dict[tuple[int, int], list[int]] = {}
    for hit in setup.hits:
        key = hit.channel, hit.note
        beside = (o for o in setup.hits if o is not hit and abs(o.at - hit.at) <= AGAIN)
        explained = any(
            other.velocity > hit.velocity
            and (abs(other.at - hit.at) <= BESIDE if (other.channel, other.note) != key else other.at <= hit.at)
            for other in beside
        )
        if not explained:
            found.setdefault(key, []).append(hit.velocity)
    return found


def answer(setup: GuidedSetup) -> Learnt | None:
    """The pad that the present step found so far, None if it is not clear."""
    own = own_hits(setup)
    taken = {(one.channel, one.note) for one in setup.learnt}
    free = {key: hits for key, hits in own.items() if key not in taken}
    if not free:
        return None
    key = max(free, key=lambda k: (len(free[k]), sum(free[k])))
    if len(free[key]) < LEAST_SHARE * sum(len(hits) for hits in own.values()):
        return None
    return Learnt(setup.asked, *key, tuple(free[key]))


def same_pad(setup: GuidedSetup) -> str:
    """The articulation whose pad answers here as well, empty if the pad is a new one: a kit with one note for both."""
    own = own_hits(setup)
    if not own:
        return ""
    key = max(own, key=lambda k: (len(own[k]), sum(own[k])))
    return next((one.articulation for one in setup.learnt if (one.channel, one.note) == key), "")


def is_enough(setup: GuidedSetup) -> bool:
    """Whether the step has what it needs: some hits of one pad, soft and hard. Feet and the rest are never judged."""
    if setup.asked == REST:
        return False
    found = answer(setup)
    if found is None:
        own = own_hits(setup)
        return bool(same_pad(setup)) and max(len(hits) for hits in own.values()) >= ENOUGH
    if len(found.velocities) < ENOUGH:
        return False
    hardest = max(found.velocities)
    return setup.asked in ("hat.pedal", "hat.splash") or (min(found.velocities) <= SOFT * hardest and hardest >= HARD)


def gone_on(setup: GuidedSetup) -> GuidedSetup:
    """The next step, with what this one found. A step that found nothing is as if it were skipped."""
    if not setup.asked:
        return setup
    learnt = setup.learnt
    if setup.asked == REST:
        taken = {(one.channel, one.note) for one in learnt}
        more = sorted(((k, v) for k, v in own_hits(setup).items() if k not in taken), key=lambda kv: -len(kv[1]))
        learnt = (*learnt, *(Learnt(name, *key, tuple(v)) for name, (key, v) in zip(AUX, more, strict=False)))
        return replace(setup, step=setup.step + 1, hits=(), learnt=learnt)
    found = answer(setup)
    if found is None:
        return skip(setup)
    return _next(replace(setup, learnt=(*learnt, found)))


def skip(setup: GuidedSetup) -> GuidedSetup:
    """The next step; the kit has no such pad."""
    if not setup.asked:
        return setup
    return _next(replace(setup, skipped=(*setup.skipped, setup.asked)))


def back(setup: GuidedSetup) -> GuidedSetup:
    """The step before, asked again."""
    for step in range(setup.step - 1, -1, -1):
        name = STEPS[step]
        known = any(one.articulation == name for one in setup.learnt)
        if known or name in setup.skipped or name == REST:
            return replace(
                setup, step=step, hits=(), skipped=tuple(one for one in setup.skipped if one != name),
                learnt=tuple(one for one in setup.learnt if one.articulation not in (AUX if name == REST else (name,))),
                stands=tuple(row for row in setup.stands if row[0] != name),
            )  # fmt: skip
    return replace(setup, step=0, hits=())


def _next(setup: GuidedSetup) -> GuidedSetup:
    """The next step that this kit may have."""
    step = setup.step + 1
    while step < len(STEPS) and _is_needless(setup, STEPS[step]):
        step += 1
    return replace(setup, step=step, hits=())


def _is_needless(setup: GuidedSetup, name: str) -> bool:
    """Whether nothing can be learnt: another part of a drum that is not there, or openings that have no notes."""
    if name in ("kick", "snare.head", "hat.open", "hat.closed", REST):
        return False
    drum = drum_of(name)
    first = {"snare": "snare.head", "tom": f"{drum}.head", "crash": f"{drum}.bow", "ride": "ride.bow"}
    mine = first.get(drum.rstrip("0123456789"))
    if mine is not None and name != mine and mine in setup.skipped:
        return True
    known = {one.articulation for one in setup.learnt}
    if drum == "hat" and not known & {"hat.open", "hat.closed"}:
        return True
    one_note = known & {"hat.open", "hat.closed"} != {"hat.open", "hat.closed"}
    if name in ("hat.half", "hat.edge.open") and one_note:
        return True
    return name == "hat.edge.open" and "hat.edge.closed" in setup.skipped


def pedal_of(setup: GuidedSetup) -> HatPedal | None:
    """The hat's pedal: the controller that stood elsewhere when the hat was open than when it was closed."""
    best: tuple[float, HatPedal] | None = None
    both = {"hat.open", "hat.closed"} <= {one.articulation for one in setup.learnt}
    for controller in sorted({controller for controller, _ in setup.moves}):
        closed = [v for name, c, v in setup.stands if c == controller and name in FOOT_DOWN]
        opened = [v for name, c, v in setup.stands if c == controller and name in FEET_OFF]
        values = [value for c, value in setup.moves if c == controller]
        if not closed:
            continue
        shut = round(float(np.median(closed)))
        # A pedal at rest sends nothing before it is pressed for the first time.
        rest = round(float(np.median(opened))) if opened else max(values, key=lambda v: abs(v - shut))
        if abs(shut - rest) >= LEAST_TRAVEL and (best is None or abs(shut - rest) > best[0]):
            best = abs(shut - rest), HatPedal(controller, shut, rest, both)
    return None if best is None else best[1]


def map_of(setup: GuidedSetup, name: str) -> NoteMap:
    """The note map that was learnt. A hat with one note for all openings is its closed one."""
    learnt = list(setup.learnt)
    known = {one.articulation for one in learnt}
    if "hat.open" in known and "hat.closed" not in known:
        learnt = [replace(one, articulation="hat.closed") if one.articulation == "hat.open" else one for one in learnt]
    channels = Counter(one.channel for one in learnt)
    usual = channels.most_common(1)[0][0] if channels else None
    order = {step: i for i, step in enumerate((*STEPS, *AUX))}
    learnt.sort(key=lambda one: order[one.articulation])
    pads = tuple(Pad(one.articulation, one.note, None if one.channel == usual else one.channel) for one in learnt)
    return NoteMap(name, pads, usual, pedal_of(setup))
