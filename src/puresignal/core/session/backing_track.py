"""An audio file that plays along. It never enters the MIDI."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Backing:
    """The file and how it plays along.

    path    where it is
    level   decibels
    offset  seconds of the take at which it begins; below zero its beginning is left out
    """

    path: str
    level: float = -6.0
    offset: float = 0.0
