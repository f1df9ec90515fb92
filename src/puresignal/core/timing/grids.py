"""Grids: the lines that notes are pulled to, by note value, as triplets, dotted or quintuplets, and swung.

Lines are in quarter notes from a bar line or, for evidence, from a beat. Names are fractions of a whole note, with `t`
for triplets, `d` for dotted and `q` for quintuplets, like "1/8t"; "auto" is none of them.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

import numpy as np

from puresignal.translation import mark, tr

STRAIGHT, TRIPLET, DOTTED, QUINTUPLET = "", "t", "d", "q"
KINDS = (STRAIGHT, TRIPLET, DOTTED, QUINTUPLET)
VALUES = (1, 2, 4, 8, 16, 32, 64)
FACTORS = {STRAIGHT: 1.0, TRIPLET: 2 / 3, DOTTED: 1.5, QUINTUPLET: 4 / 5}
NAMES = tuple(f"1/{value}{kind}" for value in VALUES for kind in KINDS)
SWINGS = (4, 8, 16)
"""Note values that can be swung: of each pair of them the second is moved."""
LEAST_SWING, MOST_SWING = 0.5, 0.75
_NAME = re.compile(r"1/(\d+)([tdq]?)$")


@dataclass(frozen=True)
class Grid:
    """Lines of one distance.

    value  the note value: 4 for quarter notes
    kind   STRAIGHT, TRIPLET, DOTTED or QUINTUPLET
    """

    value: int = 16
    kind: str = STRAIGHT

    @property
    def step(self) -> float:
        """Quarter notes from line to line."""
        return 4.0 / self.value * FACTORS[self.kind]

    @property
    def name(self) -> str:
        return f"1/{self.value}{self.kind}"


@dataclass(frozen=True)
class Swing:
    """Every second note of a value comes later.

    part   where in the pair the second one is: 0.5 even, 0.667 as in triplets
    value  the note value that is swung: 4, 8 or 16
    """

    part: float = 0.5
    value: int = 8

    @property
    def pair(self) -> float:
        """Quarter notes of two of them."""
        return 8.0 / self.value

    def swing(self, beats: np.ndarray) -> np.ndarray:
        """Places of a straight grid, (n,) quarter notes from a bar line, as they are swung."""
        if self.part == 0.5:
            return np.asarray(beats, float)
        whole = np.floor(np.asarray(beats) / self.pair + 1e-9)
        into = beats / self.pair - whole
        bent = np.where(into <= 0.5, into * self.part / 0.5, self.part + (into - 0.5) * (1 - self.part) / 0.5)
        return np.asarray((whole + bent) * self.pair)

    def straighten(self, beats: np.ndarray) -> np.ndarray:
        """The inverse of `swing`."""
        if self.part == 0.5:
            return np.asarray(beats, float)
        whole = np.floor(np.asarray(beats) / self.pair + 1e-9)
        bent = beats / self.pair - whole
        into = np.where(
            bent <= self.part, bent * 0.5 / self.part, 0.5 + (bent - self.part) * 0.5 / max(1e-9, 1 - self.part)
        )
        return np.asarray((whole + into) * self.pair)


EVEN = Swing()


def spoken(name: str) -> tuple[str, str]:
    """A grid in words, by both vocabularies: "eighth triplets" and "quaver triplets"."""
    grid = grid_of(name)
    one, other = WORDS[grid.value]
    pattern = {
        STRAIGHT: mark("{note}s"), TRIPLET: mark("{note} triplets"), DOTTED: mark("dotted {note}s"),
        QUINTUPLET: mark("{note} quintuplets"),
    }[grid.kind]  # fmt: skip
    return tr(pattern, note=tr(one)), tr(pattern, note=tr(other))


WORDS = {
    1: (mark("whole note"), mark("semibreve")), 2: (mark("half note"), mark("minim")),
    4: (mark("quarter note"), mark("crotchet")), 8: (mark("eighth"), mark("quaver")),
    16: (mark("sixteenth"), mark("semiquaver")), 32: (mark("thirty-second"), mark("demisemiquaver")),
    64: (mark("sixty-fourth"), mark("hemidemisemiquaver")),
}  # fmt: skip
"""Note values by name, American and British."""


def grid_of(name: str) -> Grid:
    """The grid with a name.

    Raises ValueError if there is none
    """
    found = _NAME.match(name.strip())
    if found is None or int(found[1]) not in VALUES:
        raise ValueError(name)
    return Grid(int(found[1]), found[2])


def nearest(beats: np.ndarray, grid: Grid, swing: Swing = EVEN) -> np.ndarray:
    """The nearest line to each of (n,) quarter notes from a bar line."""
    # Only grids as fine as the swung value, or finer ones that divide it, have lines that swing.
    if swing.part == 0.5 or grid.kind != STRAIGHT or grid.value < swing.value:
        return np.asarray(np.round(np.asarray(beats) / grid.step) * grid.step)
    step = grid.step
    below = np.floor(swing.straighten(beats) / step + 1e-9)
    lower, upper = swing.swing(below * step), swing.swing((below + 1) * step)
    return np.where(np.abs(beats - lower) <= np.abs(upper - beats), lower, upper)


def lines_between(begin: float, end: float, grid: Grid, swing: Swing = EVEN) -> np.ndarray:
    """The lines from one quarter note to another, that one excluded."""
    first, last = math.ceil(begin / grid.step - 1e-9), math.ceil(end / grid.step - 1e-9)
    lines = np.arange(first, last) * grid.step
    swings = swing.part != 0.5 and grid.kind == STRAIGHT and grid.value >= swing.value
    return swing.swing(lines) if swings else lines
