"""An audio file that plays along. It never enters the MIDI."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Backing:
    """A backing track.

    path    of the audio file
    level   decibels
    offset  seconds of the take at which it starts; a negative offset skips its beginning
    """

    path: str
    level: float = -6.0
    offset: float = 0.0
