"""The generator that plays while keys are held: its recipe, and where it goes. Part of the session."""

from __future__ import annotations

from dataclasses import dataclass, field

from puresignal.core.generators.recipe import Arpeggio, Recipe


@dataclass(frozen=True)
class HeldGenerator:
    """The settings.

    recipe  of one of the kinds in held_pattern.LIVE; its source and rounds mean nothing here
    to      name of a destination or a port, empty for the built-in sound
    """

    recipe: Recipe = field(default_factory=Arpeggio)
    to: str = ""
