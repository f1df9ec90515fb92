"""The notes that the ear heard in a recording: how sure it was, and which it would leave out."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from puresignal.core.hearing.sound_outline import SoundOutline


@dataclass(frozen=True, eq=False)
class HeardNotes:
    """By event of the take that was made of them.

    kind        what was listened for: "melody", "drums", "hits" or "chords"
    recording   the name of the file
    model       of the ear, so that a later one does not change what was heard
    origin      (n,) events that start the notes, rising
    confidence  (n,) 0..1
    reason      (n,) index into REMOVAL_REASONS of hearing/transcribed.py, 0 where the ear would keep it
    names       (begin, end, name) of chords, in seconds of the take
    outline     what the recording looks like
    path        where the recording was found
    place       (n,) in the stereo picture, -1 left .. 1 right; of length 0 where that is not known
    """

    kind: str
    recording: str
    model: str
    origin: np.ndarray
    confidence: np.ndarray
    reason: np.ndarray
    names: tuple[tuple[float, float, str], ...] = ()
    outline: SoundOutline | None = None
    path: str = ""
    place: np.ndarray = field(default_factory=lambda: np.zeros(0))

    def places(self, origins: np.ndarray) -> np.ndarray:
        """(n,) places in the stereo picture; the middle for notes that were not heard, or where it is not known."""
        if not len(self.origin) or len(self.place) != len(self.origin):
            return np.zeros(len(origins))
        row = np.minimum(np.searchsorted(self.origin, origins), len(self.origin) - 1)
        return np.asarray(np.where(self.origin[row] == origins, self.place[row], 0.0))

    def of(self, origins: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """(n,) confidence, 1 for notes that were not heard, and (n,) reason of removal."""
        if not len(self.origin):
            return np.ones(len(origins)), np.zeros(len(origins), np.int64)
        place = np.minimum(np.searchsorted(self.origin, origins), len(self.origin) - 1)
        known = self.origin[place] == origins
        return (
            np.where(known, self.confidence[place], 1.0),
            np.where(known, self.reason[place].astype(np.int64), 0),
        )
