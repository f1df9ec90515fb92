"""Ends of live notes where the hit that caused them is removed: a note that it ended sounds on until it would end."""

from __future__ import annotations

from puresignal.core.path.live import LiveEvent


class InheritedEnds:
    """The last end that a hit caused, and which note inherits the end of a removed hit that still sounds."""

    def __init__(self) -> None:
        self._caused: LiveEvent | None = None
        self._heir: dict[int, int] = {}

    def __len__(self) -> int:
        return len(self._heir)

    def off(self, event: LiveEvent) -> list[LiveEvent]:
        """What leaves of the end of a note."""
        if event.origin in self._heir:
            heir = self._heir.pop(event.origin)
            if heir < 0:
                return []
            event.origin = heir
        if event.by >= 0:
            # Whether this end holds depends on the hit that caused it, which comes next. Of several notes that one hit
            # ends, the last may inherit its end.
            before, self._caused = self._caused, event
            return [before] if before is not None else []
        return [event]

    def caused(self) -> list[LiveEvent]:
        """The end that waits for the hit that is here now, or for nothing any more; none waits from then on."""
        found, self._caused = self._caused, None
        return [found] if found is not None else []

    def remove(self, origin: int, caused: list[LiveEvent]) -> None:
        """A hit is removed, and with it the end that it caused: its own end becomes that of the other note."""
        self._heir[origin] = caused[0].origin if caused else -1
