"""A note map as tables by channel and note."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from puresignal.core.kit.articulations import canonical, drum_of
from puresignal.core.kit.note_map import NoteMap


def articulation_table(note_map: NoteMap | None, codes: Mapping[str, int]) -> np.ndarray:
    """Which articulation each note means.

    codes    a number for each articulation of the map
    Returns  (17, 128) int16 by channel 1..16 and note; -1 where the map does not know the note.
             A pad with a channel of its own wins over one that is valid on every channel.
    """
    table = np.full((17, 128), -1, np.int16)
    if note_map is not None:
        for pad in sorted(note_map.pads, key=lambda p: note_map.channel_of(p) is not None):
            channel = note_map.channel_of(pad)
            table[slice(1, 17) if channel is None else channel, pad.note] = codes[canonical(pad.articulation)]
    return table


def mapped_channels(note_map: NoteMap | None) -> np.ndarray:
    """(17,) bool: channels on which the map has a pad."""
    return _channels(note_map, hat_only=False)


def hat_channels(note_map: NoteMap | None) -> np.ndarray:
    """(17,) bool: channels on which the hi-hat controller counts, those of the hat's pads."""
    return _channels(note_map if note_map is not None and note_map.hat is not None else None, hat_only=True)


def _channels(note_map: NoteMap | None, hat_only: bool) -> np.ndarray:
    channels = np.zeros(17, bool)
    for pad in note_map.pads if note_map is not None else ():
        if not hat_only or drum_of(pad.articulation) == "hat":
            channel = note_map.channel_of(pad) if note_map is not None else None
            channels[slice(1, 17) if channel is None else channel] = True
    return channels
