"""Learning a kit's note map by hitting its pads.

Each unknown note gets a guess; hitting the same pad again accepts it. The hat pedal is learnt from one
press and release: foot off, press, let go.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

from puresignal.core.kit.articulations import canonical
from puresignal.core.kit.note_map import HatPedal, NoteMap, with_hat, with_meaning

USUAL = (
    "kick", "snare.head", "hat.closed", "hat.open", "hat.pedal", "tom1.head", "tom2.head", "tom3.head", "crash1.bow",
    "ride.bow", "snare.rim", "ride.bell", "crash2.bow", "crash1.edge", "hat.half", "snare.side", "tom4.head",
    "ride.edge", "crash2.edge", "tom1.rim", "tom2.rim", "tom3.rim", "hat.splash", "aux1", "aux2", "aux3", "aux4",
)  # fmt: skip
"""The order in which most drummers hit their pads when asked to hit each one once."""

SAME_STROKE = 0.25
"""Seconds within which a second note-on of a pad is not an answer but a double trigger or a flam."""


LEAST_TRAVEL = 24
"""Smallest travel of a pressed pedal, in controller steps; a jittery pedal at rest moves less."""
LET_GO = 0.25
"""A pedal counts as released when it is back within this fraction of its travel."""
FOOT_CLOSE = 0.06
"""Seconds after a quick press within which a note is most likely the foot's own."""
NOT_PEDALS = frozenset({0, 1, 7, 10, 11, 32, 64, 88, *range(96, 102), *range(120, 128)})
"""Controllers with a fixed meaning: bank, mod wheel, volume, pan, sustain, fine velocity, parameters, modes."""


@dataclass(frozen=True)
class Pedal:
    """A controller that is being pressed and released.

    first, furthest, last  its first value, the value furthest from that, and its value now
    pressed                seconds at which it last moved away from rest
    """

    controller: int
    first: int
    furthest: int
    last: int
    pressed: float


@dataclass(frozen=True)
class MapLearning:
    """The state of learning one note map.

    waiting  (channel, note) of the pad that needs an answer, or None
    guess    its articulation unless the player chooses another
    heard    seconds at which that pad was last hit
    pedal    the hat pedal so far
    """

    note_map: NoteMap
    waiting: tuple[int, int] | None = None
    guess: str | None = None
    heard: float = 0.0
    pedal: Pedal | None = None


def note_received(learning: MapLearning, at: float, channel: int, note: int, general: NoteMap) -> MapLearning:
    """The state after a hit: an unknown pad needs an answer, and hitting it again accepts the guess.

    at       seconds, never decreasing from hit to hit
    general  the General MIDI percussion map
    """
    pad = (channel, note)
    if learning.waiting == pad:
        if at - learning.heard < SAME_STROKE or learning.guess is None:
            return learning
        return choose(learning, learning.guess)
    if _known(learning.note_map, channel, note):
        return replace(learning, waiting=None, guess=None)
    pedal = learning.pedal
    pedal_moved = pedal is not None and pedal.last == pedal.furthest and at - pedal.pressed < FOOT_CLOSE
    guess = "hat.pedal" if pedal_moved and "hat.pedal" in missing(learning.note_map) else None
    return replace(learning, waiting=pad, guess=guess or guess_for(learning.note_map, note, general, channel), heard=at)


def pedal_moved(learning: MapLearning, at: float, controller: int, value: int) -> MapLearning:
    """The state after a controller message: one press and release gives the pedal's polarity and travel.

    The foot starts off the pedal, so the value at which the controller comes to rest again is open, and the
    value furthest from it is closed.
    """
    if controller in NOT_PEDALS:
        return learning
    pedal = learning.pedal
    if pedal is None or pedal.controller != controller:
        return replace(learning, pedal=Pedal(controller, value, value, value, at))
    further = abs(value - pedal.first) > abs(pedal.furthest - pedal.first)
    pressed = at if abs(value - pedal.first) > abs(pedal.last - pedal.first) else pedal.pressed
    pedal = replace(pedal, last=value, furthest=value if further else pedal.furthest, pressed=pressed)
    travel = abs(pedal.furthest - pedal.first)
    learning = replace(learning, pedal=pedal)
    if travel < LEAST_TRAVEL or abs(value - pedal.first) > LET_GO * travel:
        return learning
    return replace(learning, note_map=with_hat(learning.note_map, _hat_of(learning.note_map, pedal)))


def _hat_of(note_map: NoteMap, pedal: Pedal) -> HatPedal:
    before = note_map.hat
    if before is not None and before.controller == pedal.controller:
        follow = before.notes_follow_pedal
    else:
        here = {canonical(pad.articulation) for pad in note_map.pads}
        follow = bool(here & {"hat.open", "hat.half", "hat.edge.open"})
    open_at = pedal.last
    if before is not None and before.controller == pedal.controller and before.closed_at == pedal.furthest:
        # Still coming to rest: the value furthest from closed is open.
        open_at = max(before.open_at, pedal.last, key=lambda v: abs(v - pedal.furthest))
    return HatPedal(pedal.controller, pedal.furthest, open_at, follow)


def choose(learning: MapLearning, articulation: str) -> MapLearning:
    """The state after the player has named the pad that needed an answer."""
    if learning.waiting is None:
        return learning
    channel, note = learning.waiting
    return MapLearning(with_meaning(learning.note_map, channel, note, articulation), pedal=learning.pedal)


def guess_for(note_map: NoteMap, note: int, general: NoteMap, channel: int = 10) -> str | None:
    """The likeliest articulation of an unknown note: its General MIDI meaning if still missing, else the next missing.

    On channel 10 General MIDI meanings are assumed; on other channels only if the notes learnt so far agree with them.
    """
    here = {canonical(pad.articulation) for pad in note_map.pads}
    means = {pad.note: canonical(pad.articulation) for pad in reversed(general.pads)}
    agree = sum(means.get(pad.note) == canonical(pad.articulation) for pad in note_map.pads)
    trusted = channel == 10 or 2 * agree >= len(note_map.pads)
    name = means.get(note)
    if trusted and name in USUAL and name not in here:
        return name
    return next((name for name in USUAL if name not in here), None)


def missing(note_map: NoteMap) -> tuple[str, ...]:
    """The usual articulations that the map still lacks."""
    here = {canonical(pad.articulation) for pad in note_map.pads}
    return tuple(name for name in USUAL if name not in here)


def _known(note_map: NoteMap, channel: int, note: int) -> bool:
    return any(p.note == note and note_map.channel_of(p) in (channel, None) for p in note_map.pads)
