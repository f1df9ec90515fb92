"""The takes of an open session: added, never changed, never removed by undo."""

from __future__ import annotations

from collections.abc import Iterator

from puresignal.core.midi.events import Take


class TakeStore:
    """Takes by ident."""

    def __init__(self) -> None:
        self._takes: dict[str, Take] = {}

    def add(self, take: Take) -> None:
        """Add a take.

        Raises ValueError when another take has this ident: takes are never replaced
        """
        if self._takes.get(take.ident, take) is not take:
            raise ValueError(f"there is a take {take.ident} already")
        self._takes[take.ident] = take

    def __getitem__(self, ident: str) -> Take:
        return self._takes[ident]

    def __contains__(self, ident: str) -> bool:
        return ident in self._takes

    def __iter__(self) -> Iterator[Take]:
        return iter(self._takes.values())

    @property
    def by_ident(self) -> dict[str, Take]:
        """The materials by ident."""
        return dict(self._takes)

    def keep_only(self, idents: set[str]) -> None:
        """Forget all other takes, for good."""
        self._takes = {ident: take for ident, take in self._takes.items() if ident in idents}

    def free_ident(self) -> str:
        """An unused ident."""
        return self.free_idents(1)[0]

    def free_idents(self, count: int) -> list[str]:
        """Several unused idents, all different."""
        found: list[str] = []
        number = len(self._takes) + 1
        while len(found) < count:
            if f"take{number}" not in self._takes:
                found.append(f"take{number}")
            number += 1
        return found
