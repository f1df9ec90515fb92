"""Editing selected notes: moved, changed, copied, pasted and drawn, each one step of the history."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from PySide6.QtCore import QObject

from puresignal.core.path.note_edits import Edit, set_velocity
from puresignal.core.session import note_editing
from puresignal.core.session.session import with_path
from puresignal.core.session.take_ref import DrawnNote
from puresignal.translation import count_tr, tr
from puresignal.ui.state.playback import Playback
from puresignal.ui.state.shown import Shown
from puresignal.ui.state.workbench import Workbench


@dataclass(frozen=True)
class Copied:
    """Notes that were copied: as drawn notes by beats from the first of them, and the take they came from."""

    notes: tuple[DrawnNote, ...]
    ident: str


class NoteActions(QObject):
    """Edits on what is shown in Takes."""

    def __init__(self, workbench: Workbench, playback: Playback, parent: QObject | None = None):
        super().__init__(parent)
        self._workbench, self._playback = workbench, playback
        self._copied: Copied | None = None
        self._gesture = 0

    # What is edited

    def unlocked(self, origins: np.ndarray) -> np.ndarray:
        """The notes whose tracks have no padlock; the player is told if that leaves some out."""
        shown = self._workbench.seen
        if shown is None or not len(origins):
            return origins
        locked = [i for i, one in enumerate(shown.outcome.tracks) if shown.delivery.track(one.key).locked]
        notes = shown.outcome.output_notes
        held = notes.origin[np.isin(notes.track, locked)]
        free = origins[~np.isin(origins, held)]
        if len(free) < len(origins):
            n = len(origins) - len(free)
            self._workbench.message_shown.emit(
                count_tr("{n} note stays: its track is locked.", "{n} notes stay: their tracks are locked.", n), False
            )
        return free

    def _whose(self, origins: np.ndarray) -> Mapping[str, np.ndarray]:
        shown = self._workbench.seen
        return {} if shown is None else shown.whose(self.unlocked(origins))

    def _do(self, name: str, origins: np.ndarray, edit: Edit | None, gesture: str | None = None) -> bool:
        whose = self._whose(origins)
        if not whose:
            return False
        n = sum(len(own) for own in whose.values())
        told = name.format(n=count_tr("{n} note", "{n} notes", n))
        bench = self._workbench
        bench.do(told, note_editing.with_edit(bench.session, whose, edit), gesture)
        return True

    def begin_gesture(self) -> str:
        """A name under which several edits are one step."""
        self._gesture += 1
        return f"notes {self._gesture}"  # not shown

    # Edits

    def move(self, origins: np.ndarray, beats: float, up: int = 0, articulation: str = "") -> bool:
        """Move notes in time, in pitch, or to another drum."""
        return self._do(tr("move {n}"), origins, Edit(beats=beats, up=up, articulation=articulation))

    def nudge(self, origins: np.ndarray, seconds: float) -> bool:
        return self._do(tr("nudge {n}"), origins, Edit(seconds=seconds), "nudge")  # not shown

    def transpose(self, origins: np.ndarray, up: int) -> bool:
        return self._do(tr("transpose {n}"), origins, Edit(up=up))

    def louder(self, origins: np.ndarray, by: float) -> bool:
        return self._do(tr("velocity of {n}"), origins, Edit(louder=by), "louder")  # not shown

    def longer(self, origins: np.ndarray, beats: float) -> bool:
        return self._do(tr("length of {n}"), origins, Edit(longer=beats), "longer")  # not shown

    def to_track(self, origins: np.ndarray, key: str) -> bool:
        """Send notes to another track; what they are stays."""
        return self._do(tr("{n} to another track"), origins, Edit(track=key))

    def set(self, origins: np.ndarray, edit: Edit, gesture: str | None = None) -> bool:
        """Any edit of notes."""
        return self._do(tr("edit {n}"), origins, edit, gesture)

    def set_velocities(self, origins: np.ndarray, values: np.ndarray) -> bool:
        """Notes with a velocity each, as one step."""
        free = self.unlocked(origins)
        bench, shown = self._workbench, self._workbench.seen
        if shown is None or not len(free):
            return False
        session = bench.session
        wanted = dict(zip(origins.tolist(), values.tolist(), strict=True))
        own = np.array([wanted[int(origin)] for origin in free])
        for velocity in np.unique(own).tolist():
            session = note_editing.with_edit(session, shown.whose(free[own == velocity]), set_velocity(velocity))
        bench.do(tr("velocity of {n}").format(n=count_tr("{n} note", "{n} notes", len(free))), session)
        return True

    def set_probabilities(self, origins: np.ndarray, values: np.ndarray) -> bool:
        """Notes with a probability of 0 to 1 each, as one step; it switches the stage on."""
        bench, shown = self._workbench, self._workbench.seen
        if shown is None or shown.several is None or not len(origins):
            return False
        path = bench.session.path
        chance = path.probability.chance
        for value in np.unique(values).tolist():
            chance = chance.with_notes(tuple(shown.several.by_number(origins[values == value]).tolist()), value)
        stage = replace(path.probability, on=True, chance=chance)
        name = tr("probability of {n}").format(n=count_tr("{n} note", "{n} notes", len(origins)))
        bench.do(name, with_path(bench.session, replace(path, probability=stage)))
        return True

    def take_back(self, origins: np.ndarray) -> bool:
        """Notes as the path makes them, without any edits."""
        return self._do(tr("take edits of {n} back"), origins, None)

    def erase(self, origins: np.ndarray) -> bool:
        """Remove notes; played ones can be put back, drawn ones are gone but for undo."""
        whose = self._whose(origins)
        if not whose:
            return False
        bench, n = self._workbench, sum(len(own) for own in whose.values())
        name = tr("remove {n}").format(n=count_tr("{n} note", "{n} notes", n))
        bench.do(name, note_editing.erased(bench.session, whose))
        return True

    # Two of one, and one of two

    def split(self, origins: np.ndarray, beat: float) -> bool:
        """Part notes at a beat from bar 1, or in their middle where they do not sound there."""
        bench, sounding = self._workbench, self._sounding(origins)
        session = note_editing.split(bench.session, sounding, beat, tr("Drawn"))
        if session == bench.session:
            return False
        bench.do(tr("split {n}").format(n=count_tr("{n} note", "{n} notes", len(sounding))), session)
        return True

    def join(self, origins: np.ndarray) -> bool:
        """Make one note of several of a pitch, or of a track."""
        bench, sounding = self._workbench, self._sounding(origins)
        session = note_editing.joined(bench.session, sounding)
        if session == bench.session:
            bench.message_shown.emit(tr("Select two notes or more of one track: they become one."), False)
            return False
        bench.do(tr("join {n}").format(n=count_tr("{n} note", "{n} notes", len(sounding))), session)
        return True

    def _sounding(self, origins: np.ndarray) -> list[note_editing.Sounding]:
        """The unlocked notes as they leave."""
        shown = self._workbench.seen
        if shown is None or shown.several is None:
            return []
        notes = shown.outcome.output_notes
        found = []
        for ident, own in shown.whose(self.unlocked(origins)).items():
            for whole, event in zip(shown.several.origins_of(ident, own).tolist(), own.tolist(), strict=True):
                drawn = self._as_drawn(np.array([whole]))
                if drawn is not None:
                    one = drawn.notes[0]
                    found.append(
                        note_editing.Sounding(
                            ident, event, one.beat, one.beat + one.beats, one.note, one.channel, one.velocity,
                            int(notes.track[notes.origin == whole][0]),
                        )
                    )  # fmt: skip
        return found

    # Copying

    def copy(self, origins: np.ndarray) -> bool:
        """Remember notes for pasting."""
        found = self._as_drawn(origins)
        if found is None:
            return False
        first = min(one.beat for one in found.notes)
        self._copied = replace(found, notes=tuple(replace(one, beat=one.beat - first) for one in found.notes))
        return True

    def _as_drawn(self, origins: np.ndarray) -> Copied | None:
        """The notes as they leave, in the notes of their take's kit, by beats from bar 1."""
        shown = self._workbench.seen
        if shown is None or shown.several is None or not len(origins):
            return None
        outcome, several = shown.outcome, shown.several
        notes = outcome.output_notes.take(np.isin(outcome.output_notes.origin, origins))
        notes = notes.take(notes.branch == 0)
        if not len(notes):
            return None
        played = outcome.input_notes
        row = {int(origin): i for i, origin in enumerate(played.origin.tolist())}
        ident = next(iter(several.whose(notes.origin)))
        ref = self._workbench.session.take(ident)
        pads = {} if ref is None or ref.source is None else {pad.articulation: pad for pad in ref.source.pads}
        timeline = several.timeline
        begin = timeline.seconds_to_beats(notes.start - several.shift)
        end = timeline.seconds_to_beats(np.nan_to_num(notes.end, nan=0.0) - several.shift)
        made = []
        for i in range(len(notes)):
            source = row[int(notes.origin[i])]
            number, channel = int(notes.note[i]), int(played.channel[source])
            code = int(notes.articulation[i])
            if code >= 0:
                # A drum is named by the note that its kit sends for it.
                pad = pads.get(outcome.vocabulary[code])
                number = pad.note if pad is not None else int(played.note[source])
            beats = max(note_editing.SHORTEST_BEATS, float(end[i] - begin[i]))
            made.append(DrawnNote(0, float(begin[i]), beats, number, float(notes.velocity[i]), channel))
        return Copied(tuple(made), ident)

    def paste(self, beat: float, up: int = 0) -> bool:
        """Paste what was copied at a beat from bar 1."""
        if self._copied is None:
            self._workbench.message_shown.emit(tr("Nothing was copied yet: select notes and press Ctrl+C."), False)
            return False
        notes = [replace(one, beat=one.beat + beat, note=min(127, max(0, one.note + up))) for one in self._copied.notes]
        return self._draw(notes, self._copied.ident, tr("paste {n}"))

    def copy_by(self, origins: np.ndarray, beats: float, up: int = 0, articulation: str = "") -> bool:
        """Copies of notes, later by some beats, higher, or on another drum."""
        found = self._as_drawn(self.unlocked(origins))
        if found is None:
            return False
        ref = self._workbench.session.take(found.ident)
        note = None
        if articulation and ref is not None and ref.source is not None:
            note = next((pad.note for pad in ref.source.pads if pad.articulation == articulation), None)
        notes = [
            replace(one, beat=one.beat + beats, note=min(127, max(0, (one.note if note is None else note) + up)))
            for one in found.notes
        ]
        return self._draw(notes, found.ident, tr("copy {n}"))

    def draw(self, shown: Shown, beat: float, beats: float, note: int, channel: int, velocity: float) -> bool:
        """Draw one note, on the tracks of the chosen take."""
        return self._draw([DrawnNote(0, beat, beats, note, velocity, channel)], shown.ref.ident, tr("draw {n}"))

    def _draw(self, notes: Sequence[DrawnNote], ident: str, name: str) -> bool:
        bench = self._workbench
        like = bench.session.take(ident)
        told = name.format(n=count_tr("{n} note", "{n} notes", len(notes)))
        bench.do(told, note_editing.with_drawn(bench.session, like, notes, tr("Drawn")))
        return True
