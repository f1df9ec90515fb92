"""Synchronisation: the source of time that a session follows, and the receivers of its clock."""

from __future__ import annotations

from dataclasses import dataclass

OWN, CLOCK, TRANSPORT = "own", "clock", "jack"
MASTERS = (OWN, CLOCK, TRANSPORT)
MOST_RECEIVERS = 16


@dataclass(frozen=True)
class Sync:
    """Playing together with other programs.

    follow    OWN time; the MIDI CLOCK that arrives at `port`; or JACK's TRANSPORT, which this program then also starts,
              stops and moves for all
    port      name of the port from which the clock is taken
    clock_to  names of the ports that MIDI clock is sent to
    """

    follow: str = OWN
    port: str = ""
    clock_to: tuple[str, ...] = ()
