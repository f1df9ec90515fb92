"""Results of a bench that runs for some minutes at a time and adds up over many runs."""

from __future__ import annotations

import json
from pathlib import Path

FOLDER = Path(__file__).parent.parent.parent / "build" / "bench"


class Tally:
    """Counts by name, kept in build/bench; `fresh` starts again from nothing."""

    def __init__(self, name: str, fresh: bool = False):
        self._path = FOLDER / f"{name}.json"
        self.counts: dict[str, float] = {}
        if self._path.exists() and not fresh:
            self.counts = json.loads(self._path.read_text("utf-8"))

    def add(self, name: str, number: float = 1) -> None:
        self.counts[name] = self.counts.get(name, 0) + number

    def most(self, name: str, number: float) -> None:
        """Keep the largest."""
        self.counts[name] = max(self.counts.get(name, number), number)

    def store(self) -> None:
        FOLDER.mkdir(parents=True, exist_ok=True)
        self._path.write_text(json.dumps(self.counts, indent=1), "utf-8")

    def print(self) -> None:
        for name in sorted(self.counts):
            print(f"{name}: {self.counts[name]:g}")
