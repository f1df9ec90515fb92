"""The live form of a generator: the notes it plays while keys are held, step by step.

It has the settings of the recipe, and knows neither time nor ports: who plays it says which step it is. What comes
next cannot be known live, so a bass does not lead to the next chord by a step.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from puresignal.core.generators import making
from puresignal.core.generators.recipe import (
    AS_HELD,
    DOWN,
    FIFTHS,
    RANDOM,
    RATES,
    ROOTS,
    UP_DOWN,
    Arpeggio,
    BassLine,
    ChordProgression,
    DrumPattern,
    Recipe,
)

LOUDER, SOFTER = 22, 6
"""By how much accented notes of an arpeggio are louder, and the others softer."""
USUAL = 90
"""Velocity of a key at which drums and progressions sound as their recipe says."""
FINEST = 0.25
"""Quarter notes of a step of drums and progressions."""
LIVE: tuple[type[Recipe], ...] = (Arpeggio, BassLine, DrumPattern, ChordProgression)
"""Kinds that have a live form."""


@dataclass(frozen=True)
class StepNote:
    """A note of a step; long: quarter notes that it sounds."""

    note: int
    velocity: int
    long: float


class HeldPattern:
    """The keys that are held, and the notes that the next steps play. This is the base of all kinds.

    step   quarter notes of a step
    """

    step = FINEST

    def __init__(self) -> None:
        self.held: dict[int, int] = {}
        self._number = 0

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
        return 0.0

    def at(self, place: int) -> list[StepNote]:
        """The notes of a step; none for a rest, or while nothing is held. place: steps from bar 1"""
        if not self.held:
            return []
        number, self._number = self._number, self._number + 1
        return [one for one in self._at(place, number) if 0 <= one.note <= 127]

    def _at(self, place: int, number: int) -> list[StepNote]:
        """The same while keys are held. number: steps since the first of them was pressed"""
        raise NotImplementedError

    @property
    def loud(self) -> float:
        """Mean velocity of the held keys."""
        return sum(self.held.values()) / max(1, len(self.held))


class HeldArpeggio(HeldPattern):
    """The held keys one after the other."""

    def __init__(self, recipe: Arpeggio):
        super().__init__()
        self.recipe = recipe
        self.step = RATES[recipe.rate]

    def late(self, place: int) -> float:
        return (self.recipe.swing - 50) / 50 * self.step if place % 2 else 0.0

    def _at(self, place: int, number: int) -> list[StepNote]:
        recipe = self.recipe
        drawn = np.random.default_rng([recipe.seed, 0, 3, place & 0x7FFFFFFF]).random(2)
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
        long = self.step * recipe.gate / 100
        return [StepNote(note, _velocity(self.held[key] + loud), long) for key, note in chosen]


class HeldBass(HeldPattern):
    """A bass under the held keys. Other keys begin its figure anew."""

    def __init__(self, recipe: BassLine):
        super().__init__()
        self.recipe = recipe
        self.step = RATES[recipe.rate]
        self._chord: tuple[int, ...] = ()
        self._since = 0

    def _at(self, place: int, number: int) -> list[StepNote]:
        recipe, chord = self.recipe, tuple(sorted(self.held))
        if chord != self._chord or not number:
            self._chord, self._since = chord, number
        k = number - self._since
        beat = place * self.step
        on_beat = abs(beat - round(beat)) < 1e-6
        drawn = np.random.default_rng([recipe.seed, 0, 4, place & 0x7FFFFFFF]).random()
        if k and not on_beat and drawn < recipe.rests / 100:
            return []
        root = recipe.low + (making.root_of(chord) - recipe.low) % 12
        note = root
        if recipe.way == FIFTHS and k % 4 == 2:
            note = making.fifth_beside(root, recipe.low)
        elif recipe.way not in (ROOTS, FIFTHS) and k:
            row = making.walk_through(chord, root, recipe.low)
            note = row[k % len(row)]
        loud = self.loud + (10 if k == 0 else 4 if on_beat else -8)
        return [StepNote(note, _velocity(loud), self.step * 0.9)]


class HeldRounds(HeldPattern):
    """Rounds of a recipe that needs no source, heard while a key is held: louder the harder it is struck.

    A progression is moved so that its key is the lowest held one.
    """

    def __init__(self, recipe: Recipe, beats_a_bar: float):
        super().__init__()
        self.recipe = recipe
        self._moves = isinstance(recipe, ChordProgression)
        named = recipe
        if isinstance(recipe, ChordProgression):
            named = replace(recipe, key=f"C {'minor' if recipe.key.endswith('minor') else 'major'}")
        found = making.made(replace(named, rounds=1), beats_a_bar)
        self._steps = max(1, round(recipe.bars * beats_a_bar / FINEST))
        self._rows: dict[int, list[tuple[int, float, float]]] = {}
        columns = (found.beat.tolist(), found.note.tolist(), found.velocity.tolist(), found.long.tolist())
        for beat, note, velocity, long in zip(*columns, strict=True):
            self._rows.setdefault(round(beat / FINEST), []).append((note, velocity, long))

    def _at(self, place: int, number: int) -> list[StepNote]:
        up = (min(self.held) + 6) % 12 - 6 if self._moves else 0
        loud = self.loud / USUAL
        return [
            StepNote(note + up, _velocity(velocity * loud), long)
            for note, velocity, long in self._rows.get(place % self._steps, ())
        ]


def of_recipe(recipe: Recipe, beats_a_bar: float) -> HeldPattern:
    """The live form of a recipe. Raises ValueError if its kind has none."""
    if isinstance(recipe, Arpeggio):
        return HeldArpeggio(recipe)
    if isinstance(recipe, BassLine):
        return HeldBass(recipe)
    if type(recipe) in LIVE:
        return HeldRounds(recipe, beats_a_bar)
    raise ValueError(recipe.kind)


def _velocity(loud: float) -> int:
    return min(127, max(1, round(loud)))
