"""Destinations: where notes leave to, under a name of the player's."""

from __future__ import annotations

from dataclasses import dataclass

from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi.sound_names import SoundNames
from puresignal.core.session.track_settings import BY_CONTROLLER


@dataclass(frozen=True)
class Destination:
    """A place to send notes to. Tracks and inputs name it; a port's own name stands for the port as it is.

    port     name of the port
    channel  1..16 for everything sent there, None for each note's own
    target   note map of the instrument there, None for the session's
    offset   milliseconds by which everything sent there leaves later, or earlier if negative
    drives   what the level of a track is there, one of LEVELS
    sounds   names of its sounds; None: those of General MIDI
    """

    name: str
    port: str = ""
    channel: int | None = None
    target: NoteMap | None = None
    offset: float = 0.0
    sounds: SoundNames | None = None
    drives: str = BY_CONTROLLER
