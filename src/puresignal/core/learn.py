"""Learning a kit by hitting its pads: a guess for each unknown note, accepted by hitting the same pad again."""

from __future__ import annotations

from dataclasses import dataclass, replace

from puresignal.core.articulations import canonical
from puresignal.core.notemap import NoteMap, with_meaning

USUAL = (
    "kick", "snare.head", "hat.closed", "hat.open", "hat.pedal", "tom1.head", "tom2.head", "tom3.head", "crash1.bow",
    "ride.bow", "snare.rim", "ride.bell", "crash2.bow", "crash1.edge", "hat.half", "snare.side", "tom4.head",
    "ride.edge", "crash2.edge", "tom1.rim", "tom2.rim", "tom3.rim", "hat.splash", "aux1", "aux2", "aux3", "aux4",
)  # fmt: skip
"""In which order drummers usually hit their pads when asked to hit each once."""

SAME_STROKE = 0.25
"""Seconds within which a second note-on of a pad is no answer: a double trigger, or a flam."""


@dataclass(frozen=True)
class Learning:
    """A map being learnt.

    waiting  (channel, note) of the pad that is asked about, None where none is
    guess    what it is taken for until the player says otherwise
    heard    seconds at which it was last hit
    """

    note_map: NoteMap
    waiting: tuple[int, int] | None = None
    guess: str | None = None
    heard: float = 0.0


def hear(learning: Learning, at: float, channel: int, note: int, general: NoteMap) -> Learning:
    """What a hit does: an unknown pad is asked about, and the same pad again accepts the guess.

    at       seconds, never falling from hit to hit
    general  what notes mean in general (General MIDI percussion)
    """
    pad = (channel, note)
    if learning.waiting == pad:
        if at - learning.heard < SAME_STROKE or learning.guess is None:
            return learning
        return choose(learning, learning.guess)
    if _known(learning.note_map, channel, note):
        return replace(learning, waiting=None, guess=None)
    return Learning(learning.note_map, pad, guess_for(learning.note_map, note, general), at)


def choose(learning: Learning, articulation: str) -> Learning:
    """The pad that was asked about is this."""
    if learning.waiting is None:
        return learning
    channel, note = learning.waiting
    return Learning(with_meaning(learning.note_map, channel, note, articulation))


def guess_for(note_map: NoteMap, note: int, general: NoteMap) -> str | None:
    """What an unknown note most likely is: what it means in general, if still missing, else the next that is."""
    here = {canonical(pad.articulation) for pad in note_map.pads}
    for pad in general.pads:
        if pad.note == note and canonical(pad.articulation) not in here and canonical(pad.articulation) in USUAL:
            return canonical(pad.articulation)
    return next((name for name in USUAL if name not in here), None)


def missing(note_map: NoteMap) -> tuple[str, ...]:
    """The usual articulations that the map does not have yet."""
    here = {canonical(pad.articulation) for pad in note_map.pads}
    return tuple(name for name in USUAL if name not in here)


def _known(note_map: NoteMap, channel: int, note: int) -> bool:
    return any(p.note == note and note_map.channel_of(p) in (channel, None) for p in note_map.pads)
