"""Playing by voice: heard notes and hits become MIDI messages, held to a key, with chords and bends as asked."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from puresignal.core.harmony import scales
from puresignal.core.midi import messages

CHANNEL, DRUMS = 1, 10
BEND_RANGE = 2.0
"""Semitones of a full bend, as in General MIDI."""
HIT_SECONDS = 0.12
LEAST_BEND = 0.03
"""Semitones by which a bend must change to be sent again."""


@dataclass(frozen=True)
class VoiceSettings:
    """How a player's voice plays.

    low, high    MIDI notes; what is sung outside is ignored
    sensitivity  0..1
    key          held to this key, empty: as sung
    chord        built on each sung note, one of scales.CHORDS
    shift        semitones up
    bends        whether glides and vibrato are sent as bends
    response     exponent on the velocity: below 1 soft singing becomes louder, above 1 softer
    gate         dBFS below which nothing is heard; set by the calibration
    """

    low: int = 36
    high: int = 84
    sensitivity: float = 0.5
    key: str = ""
    chord: str = scales.NONE
    shift: int = 0
    bends: bool = False
    response: float = 1.0
    gate: float = -70.0

    def velocity(self, heard: int) -> int:
        """The velocity that a heard one leaves with, 1..127."""
        part: float = (heard / 127) ** self.response
        return max(1, min(127, round(127 * part)))


class Voice:
    """Turns changes of sung notes into messages; what sounds is remembered, so that everything ends."""

    def __init__(self, settings: VoiceSettings):
        self._settings = settings
        self._sounding: tuple[int, ...] = ()
        self._sung = -1
        self._bend = 0.0

    @property
    def sounding(self) -> tuple[int, ...]:
        return self._sounding

    def use(self, settings: VoiceSettings) -> list[bytes]:
        """Go on with other settings; what sounds is ended."""
        ended = self.end()
        self._settings = settings
        return ended

    def note(self, number: int, velocity: int) -> list[bytes]:
        """A sung note begins (velocity above 0) or ends."""
        out = self.end()
        if not velocity:
            return out
        own = self._settings
        scale = scales.scale_of(own.key)
        base = scales.held(number, scale) + own.shift
        if not 0 <= base <= 127:
            return out
        # A shifted note may leave the key; its chord is then major.
        self._sounding, self._sung = scales.chord_on(base, own.chord, scale), number
        if own.bends and self._bend:
            self._bend = 0.0
            out.append(messages.bend(CHANNEL, 0))
        loud = own.velocity(velocity)
        return out + [messages.note_on(CHANNEL, one, loud) for one in self._sounding]

    def pitch(self, sung: float | None) -> list[bytes]:
        """The exact pitch while a note sounds, in semitones: a bend where these are asked for."""
        if sung is None or not self._settings.bends or not self._sounding or self._settings.key:
            return []
        bend = max(-BEND_RANGE, min(BEND_RANGE, sung - self._sung))
        if abs(bend - self._bend) < LEAST_BEND:
            return []
        self._bend = bend
        return [messages.bend(CHANNEL, round(bend / BEND_RANGE * 8191))]

    def end(self) -> list[bytes]:
        """End what sounds."""
        out = [messages.note_off(CHANNEL, one) for one in self._sounding]
        self._sounding, self._sung = (), -1
        return out


def hit(articulation: str, velocity: int, notes: Mapping[str, int]) -> bytes | None:
    """The message of a taught sound; None for one that is no drum of the map. notes: by articulation."""
    number = notes.get(articulation)
    return None if number is None else messages.note_on(DRUMS, number, velocity)
