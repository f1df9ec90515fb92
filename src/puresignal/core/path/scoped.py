"""Values that can be set apart for an input, a track, an articulation or chosen notes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from puresignal.core.kit.articulations import drum_of
from puresignal.core.midi.events import Notes
from puresignal.core.path.context import Context, among


@dataclass(frozen=True)
class Scoped:
    """A number for the whole session, and others for parts of it.

    value          for everything that has none of its own
    inputs         (port name, value)
    tracks         (key of the track, value)
    articulations  (articulation, or drum for all its articulations; value)
    notes          (origins, rising; value): a note is in at most one group
    """

    value: float
    inputs: tuple[tuple[str, float], ...] = ()
    tracks: tuple[tuple[str, float], ...] = ()
    articulations: tuple[tuple[str, float], ...] = ()
    notes: tuple[tuple[tuple[int, ...], float], ...] = ()

    @property
    def plain(self) -> bool:
        """Whether it has one value for everything."""
        return not (self.inputs or self.tracks or self.articulations or self.notes)

    def for_notes(self, notes: Notes, context: Context) -> np.ndarray:
        """(notes,) the value that applies to each note: the most specific one."""
        found = np.full(len(notes), float(self.value))
        ports = [port.name for port in context.ports]
        for name, value in self.inputs:
            if name in ports:
                found[notes.port == ports.index(name)] = value
        keys = [track.key for track in context.tracks]
        for key, value in self.tracks:
            if key in keys:
                found[notes.track == keys.index(key)] = value
        # A drum's value first, so that those of its articulations replace it.
        for named, value in sorted(self.articulations, key=lambda item: "." in item[0]):
            codes = [i for i, one in enumerate(context.vocabulary) if named in (one, drum_of(one))]
            found[np.isin(notes.articulation, codes)] = value
        for origins, value in self.notes:
            found[among(notes.origin, np.array(origins, np.int64))] = value
        return found
