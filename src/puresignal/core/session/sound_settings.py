"""Settings of the built-in sound. Part of the session."""

from __future__ import annotations

from dataclasses import dataclass, replace

from puresignal.core.sound.drums import KITS, Drum, usual


@dataclass(frozen=True)
class SoundSettings:
    """Kit, level, and settings of single drums.

    level  0..1, of the whole sound
    drums  (drum, settings) sorted by name; drums at their defaults are not listed
    font   path of a SoundFont file for tracks that are sent to it, empty for none
    """

    kit: str = KITS[0].name
    level: float = 0.7
    drums: tuple[tuple[str, Drum], ...] = ()
    font: str = ""

    def drum(self, name: str) -> Drum:
        """Settings of a drum (`snare`)."""
        return dict(self.drums).get(name) or usual(name)


def with_drum(settings: SoundSettings, name: str, drum: Drum) -> SoundSettings:
    """Replace one drum's settings."""
    drums = {key: value for key, value in settings.drums if key != name}
    if drum != usual(name):
        drums[name] = drum
    return replace(settings, drums=tuple(sorted(drums.items())))
