"""On-screen pads: velocity from position and pressure, and the hat's opening from its slide."""

from __future__ import annotations

import math

SOFTEST, HARDEST = 20, 127
CLOSED_TO, HALF_TO = 0.25, 0.65
"""Openness up to which a hat is closed, and up to which it is half open: the zones used everywhere in the program."""


def velocity(x: float, y: float, pressure: float | None = None) -> int:
    """The velocity of a strike: hard in the middle of a pad, soft at its edge.

    x, y      position on the pad, each -1..1 from its middle
    pressure  0..1 if the surface reports it; then it alone counts
    """
    if pressure is not None:
        part = max(0.0, min(1.0, pressure))
    else:
        part = 1 - min(1.0, math.hypot(x, y) / math.sqrt(2) * 1.15)
    return round(SOFTEST + (HARDEST - SOFTEST) * part)


def hat_at(openness: float) -> str:
    """The hat's articulation at an opening 0 closed .. 1 open."""
    if openness <= CLOSED_TO:
        return "hat.closed"
    return "hat.half" if openness < HALF_TO else "hat.open"
