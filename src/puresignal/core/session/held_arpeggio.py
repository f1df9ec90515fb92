"""The arpeggio of keys that are held: its recipe, and where it goes. Part of the session."""

from __future__ import annotations

from dataclasses import dataclass, field

from puresignal.core.generators.recipe import Arpeggio


@dataclass(frozen=True)
class HeldArpeggio:
    """The settings.

    recipe  of the arpeggio; its source, bars and rounds mean nothing here
    to      name of a destination or a port, empty for the built-in sound
    """

    recipe: Arpeggio = field(default_factory=Arpeggio)
    to: str = ""
