"""The player's view of the session. It is kept with the session, but undo never steps through it."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class View:
    """The take, range and order that are looked at.

    current  ident of the chosen take, or None
    begin, end  the range that is selected on the ruler, in beats from bar 1; both 0: none
    alone    only the chosen take is heard
    in_order the bars are seen and heard in playing order, and not as they stand
    """

    current: str | None = None
    begin: float = 0.0
    end: float = 0.0
    alone: bool = False
    in_order: bool = False
