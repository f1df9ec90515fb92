"""Sections, the loop, and which of several takes is used where: all that stands on the session's time besides takes."""

from __future__ import annotations

from dataclasses import dataclass

from puresignal.core.path.condition import Condition


@dataclass(frozen=True)
class NamedSelection:
    """Notes under a name.

    condition  the sentence that chooses them, ever anew; None: the notes
    notes      origins behind the numbers of their takes (EVENT_BITS), rising
    """

    name: str
    condition: Condition | None = None
    notes: tuple[int, ...] = ()


@dataclass(frozen=True)
class Section:
    """A named stretch of bars.

    bar      its first bar
    bars     its length
    hidden   bars at its end that were cut off and come back when it is lengthened
    repeats  times that it is played in a row
    """

    ident: str
    name: str
    bar: int
    bars: int
    hidden: int = 0
    repeats: int = 1


@dataclass(frozen=True)
class Loop:
    """The stretch that is played round and round: beats from bar 1."""

    begin: float
    end: float


@dataclass(frozen=True)
class Alternatives:
    """Takes of one thing, of which one is used in each bar.

    takes   their idents
    choice  (bar, ident), by rising bar: from that bar on this take is used; before the first, the first take
    """

    name: str
    takes: tuple[str, ...]
    choice: tuple[tuple[int, str], ...] = ()
