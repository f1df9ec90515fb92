"""Values that can be set apart for an input, a track, an articulation, notes by a sentence, or chosen notes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from puresignal.core.kit.articulations import drum_of
from puresignal.core.midi.events import Notes
from puresignal.core.path.condition import ANYWHERE, Condition, every_nth, holds
from puresignal.core.path.context import EVENT_BITS, Context, among
from puresignal.core.timing.session_time import Timeline


@dataclass(frozen=True)
class Scoped:
    """A number for the whole session, and others for parts of it.

    value          for everything that has none of its own
    inputs         (port name, value)
    tracks         (key of the track, value)
    articulations  (articulation, or drum for all its articulations; value)
    sentences      (name, condition, value): notes for which it holds where the stage gets them; later ones prevail
    notes          (origins, rising; value): a note is in at most one group; behind the number of its take, if any
    """

    value: float
    inputs: tuple[tuple[str, float], ...] = ()
    tracks: tuple[tuple[str, float], ...] = ()
    articulations: tuple[tuple[str, float], ...] = ()
    sentences: tuple[tuple[str, Condition, float], ...] = ()
    notes: tuple[tuple[tuple[int, ...], float], ...] = ()

    @property
    def plain(self) -> bool:
        """Whether it has one value for everything."""
        return not (self.inputs or self.tracks or self.articulations or self.sentences or self.notes)

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
        for _, condition, value in self.sentences:
            # Before notes are laid on the session's time, nothing is known of bars.
            if context.timeline is not None or condition.place == ANYWHERE:
                timeline = context.timeline or Timeline()
                good = holds(notes, tuple(keys), context.vocabulary, timeline, 0.0, condition)
                found[every_nth(np.flatnonzero(good), condition)] = value
        for origins, value in self.notes:
            of_session = notes.origin + (context.number << EVENT_BITS)
            found[among(of_session, np.array(origins, np.int64))] = value
        return found

    def value_for(self, track: str = "", sentence: str = "", notes: tuple[int, ...] = ()) -> float:
        """The value that a track, a named sentence, or chosen notes have; for notes that differ, the usual one."""
        if track:
            return dict(self.tracks).get(track, self.value)
        if sentence:
            return next((value for name, _, value in self.sentences if name == sentence), self.value)
        wanted = set(notes)
        return next((value for origins, value in self.notes if wanted and wanted <= set(origins)), self.value)

    def with_track(self, track: str, value: float) -> Scoped:
        """With a value for one track; none of its own where it is the usual one."""
        others = tuple(row for row in self.tracks if row[0] != track)
        return replace(self, tracks=others if value == self.value else (*others, (track, value)))

    def with_sentence(self, name: str, condition: Condition, value: float) -> Scoped:
        """With a value for notes by a sentence."""
        rows = tuple(row for row in self.sentences if row[0] != name)
        return replace(self, sentences=(*rows, (name, condition, value)))

    def with_notes(self, notes: tuple[int, ...], value: float) -> Scoped:
        """With a value for chosen notes, which they have in no other group."""
        moved, rows = set(notes), []
        for origins, of_group in self.notes:
            left = tuple(one for one in origins if one not in moved)
            if of_group == value:
                moved |= set(left)
            elif left:
                rows.append((left, of_group))
        return replace(self, notes=(*rows, (tuple(sorted(moved)), value)))

    def with_moved_notes(self, moved: Callable[[int], int | None]) -> Scoped:
        """With other numbers for the chosen notes; None: that note is gone."""
        rows = (
            (tuple(sorted(new for new in map(moved, of_group) if new is not None)), v) for of_group, v in self.notes
        )
        return replace(self, notes=tuple(row for row in rows if row[0]))

    def for_pad(self, port: int, track: int, articulation: int, context: Context) -> float:
        """The value for a note that is played live: only its input, track and articulation are known."""
        found = self.value
        found = dict(self.inputs).get(context.ports[port].name if port < len(context.ports) else "", found)
        found = dict(self.tracks).get(context.tracks[track].key if track >= 0 else "", found)
        if articulation >= 0:
            name, own = context.vocabulary[articulation], dict(self.articulations)
            found = own.get(name, own.get(drum_of(name), found))
        return found
