"""A memory of the last result under each name, valid while its inputs are the same."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TypeVar

T = TypeVar("T")


class Memo:
    """Keeps one value for each name."""

    def __init__(self) -> None:
        self._known: dict[str, tuple[tuple[object, ...], object, object]] = {}

    def once(self, name: str, of: Sequence[object], equal: object, make: Callable[[], T]) -> T:
        """The value made of some objects, anew only where one of them is another, or what is compared has changed.

        of     compared by what they are
        equal  compared by what it says
        """
        known = self._known.get(name)
        mine = tuple(of)
        if known is not None and len(known[0]) == len(mine):
            same = all(a is b for a, b in zip(known[0], mine, strict=True))
            if same and known[1] == equal:
                return known[2]  # type: ignore[return-value]
        made = make()
        self._known[name] = mine, equal, made
        return made
