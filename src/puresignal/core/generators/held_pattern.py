"""What an arpeggio plays of keys that are held now, step by step: the live form of the generator.

It has the settings of the recipe, and knows neither time nor ports: who plays it says which step it is.
"""

from __future__ import annotations

import numpy as np

from puresignal.core.generators.recipe import AS_HELD, DOWN, RANDOM, RATES, UP_DOWN, Arpeggio

LOUDER, SOFTER = 22, 6
"""By how much accented notes are louder, and the others softer."""


class HeldPattern:
    """The keys that are held, and the notes that the next steps play."""

    def __init__(self, recipe: Arpeggio):
        self.recipe = recipe
        self.held: dict[int, int] = {}
        self._number = 0

    @property
    def step(self) -> float:
        """Quarter notes of a step."""
        return RATES[self.recipe.rate]

    def press(self, note: int, velocity: int) -> None:
        """A key is pressed. The first of them begins the pattern anew."""
        if not self.held:
            self._number = 0
        self.held[note] = velocity

    def release(self, note: int) -> None:
        """A key is let go."""
        self.held.pop(note, None)

    def late(self, place: int) -> float:
        """Quarter notes by which a step is later than the beat has it: the swing. place: steps from bar 1"""
        return (self.recipe.swing - 50) / 50 * self.step if place % 2 else 0.0

    def at(self, place: int) -> list[tuple[int, int]]:
        """(note, velocity) of a step; empty for a rest, or while nothing is held. place: steps from bar 1"""
        recipe = self.recipe
        if not self.held:
            return []
        drawn = np.random.default_rng([recipe.seed, 0, 3, place & 0x7FFFFFFF]).random(2)
        number, self._number = self._number, self._number + 1
        if drawn[0] < recipe.rests / 100:
            return []
        keys = sorted(self.held)
        loud = 0 if not recipe.accent else LOUDER if place % recipe.accent == 0 else -SOFTER
        if recipe.order == AS_HELD:
            chosen = [(key, key) for key in keys]
        else:
            row = [(key, key + 12 * octave) for octave in range(recipe.octaves) for key in keys]
            if recipe.order == DOWN:
                row.reverse()
            elif recipe.order == UP_DOWN and len(row) > 2:
                row += row[-2:0:-1]
            which = int(drawn[1] * len(row)) if recipe.order == RANDOM else number % len(row)
            chosen = [row[which]]
        return [(note, min(127, max(1, self.held[key] + loud))) for key, note in chosen if note <= 127]
