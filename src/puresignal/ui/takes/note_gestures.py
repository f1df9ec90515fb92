"""What keys, drags and double clicks on the sheet of Takes do to its notes."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QObject

from puresignal.core.path.note_edits import Edit
from puresignal.core.path.timing import AUTO
from puresignal.core.timing import grids
from puresignal.translation import tr
from puresignal.ui.state.services import Services
from puresignal.ui.state.shown import Shown
from puresignal.ui.takes.note_drag import Moved, pitch_of
from puresignal.ui.takes.timeline import Timeline
from puresignal.ui.takes.timeline_rows import Row

NUDGE, LOUDER, DRUMS = 0.001, 4.0, 10
"""Seconds of a nudge, velocity of one key press, and the channel of drums whose map names none."""
TICKS = 960
"""Ticks a quarter note where no take says how many it has."""


class NoteGestures(QObject):
    """Turns gestures on the selected notes into edits."""

    def __init__(self, services: Services, timeline: Timeline, parent: QObject):
        super().__init__(parent)
        self._services, self._timeline = services, timeline
        self._workbench, self._notes = services.workbench, services.note_actions
        self.shown: Shown | None = None
        timeline.notes_dragged.connect(self.drop)
        timeline.draw_requested.connect(self.draw)
        timeline.edit_requested.connect(self.edit)

    def edit(self, name: str) -> None:
        """Edit the selected notes, or paste: one of Timeline.EDITS."""
        notes, origins = self._notes, self._timeline.selected
        step = self.step()
        if name in ("earlier", "later"):
            notes.move(origins, step if name == "later" else -step)
        elif name in ("tick_earlier", "tick_later"):
            tick = 1.0 / (TICKS if self.shown is None else self.shown.take.tempo.ppq)
            notes.set(origins, Edit(beats=tick if name == "tick_later" else -tick), "ticks")  # not shown
        elif name in ("copy_octave_up", "copy_octave_down"):
            notes.copy_by(origins, 0.0, 12 if name == "copy_octave_up" else -12)
        elif name in ("nudge_earlier", "nudge_later"):
            notes.nudge(origins, NUDGE if name == "nudge_later" else -NUDGE)
        elif name in ("octave_up", "octave_down"):
            notes.transpose(origins, 12 if name == "octave_up" else -12)
        elif name in ("up", "down"):
            self._shift_rows(1 if name == "up" else -1)
        elif name in ("louder", "softer"):
            notes.louder(origins, LOUDER if name == "louder" else -LOUDER)
        elif name in ("longer", "shorter"):
            notes.longer(origins, step if name == "longer" else -step)
        elif name in ("copy", "cut"):
            if notes.copy(origins) and name == "cut":
                notes.erase(origins)
        elif name == "paste":
            self._services.playback.heard_now()
            notes.paste(self._services.playback.beat_of(self._services.playback.place))
        elif name == "duplicate":
            self._duplicate(origins)
        elif name == "take_back":
            notes.take_back(origins)
        elif name == "split":
            self._services.playback.heard_now()
            notes.split(origins, self._services.playback.beat_of(self._services.playback.place))
        elif name == "join":
            notes.join(origins)
        elif name in ("step_right", "step_left"):
            self._services.steps.skip(1 if name == "step_right" else -1)
        elif name == "step_back":
            self._services.steps.back()

    def step(self) -> float:
        """Quarter notes of a step: the grid's, or a sixteenth."""
        grid = self._workbench.session.path.timing.grid
        return 0.25 if grid == AUTO else grids.grid_of(grid).step

    def _shift_rows(self, up: int) -> None:
        """Selected notes a semitone up or down; hits to the row above or below."""
        origins, rows = self._timeline.selected, self._timeline.rows()
        drums = [row for row in rows if row.articulation is not None]
        gesture = self._notes.begin_gesture()
        for number, row in enumerate(drums):
            mine = row.clean_origin[np.isin(row.clean_origin, origins)]
            to = number - up
            if len(mine) and 0 <= to < len(drums):
                self._notes.set(mine, Edit(articulation=drums[to].articulation or ""), gesture)
        pitched = [row.clean_origin[np.isin(row.clean_origin, origins)] for row in rows if row.pitched]
        mine = np.concatenate(pitched) if pitched else origins[:0]
        if len(mine):
            self._notes.set(mine, Edit(up=up), gesture)

    def _duplicate(self, origins: np.ndarray) -> None:
        """Copies right behind: the next bar line after the selected notes is where they begin again."""
        shown = self.shown
        if shown is None or shown.several is None or not len(origins):
            return
        notes = shown.outcome.output_notes
        mine = notes.start[np.isin(notes.origin, origins)]
        if not len(mine):
            return
        first, last = (shown.several.beat_of(float(at)) for at in (mine.min(), mine.max()))
        timeline = shown.several.timeline
        bar = timeline.beats_to_bar(first + 0.05)[0]
        after = timeline.beats_to_bar(last + 0.05)[0] + 1
        self._notes.copy_by(origins, timeline.bar_to_beats(after) - timeline.bar_to_beats(bar))

    def drop(self, moved: Moved) -> None:
        """Notes were dragged."""
        shown, origins = self.shown, self._timeline.selected
        if shown is None or shown.several is None or not len(origins):
            return
        notes = shown.outcome.output_notes
        mine = notes.start[np.isin(notes.origin, origins)]
        at = float(mine.min()) if len(mine) else 0.0
        beats = shown.several.beat_of(at + moved.seconds) - shown.several.beat_of(at)
        if moved.copies:
            self._notes.copy_by(origins, beats, moved.up, moved.articulation)
        else:
            self._notes.move(origins, beats, moved.up, moved.articulation)

    def draw(self, row: Row, second: float, velocity: int) -> None:
        """Draw a note where the sheet was clicked twice."""
        shown, own = self.shown, self._workbench.own
        if shown is None or shown.several is None or own is None:
            return
        note, channel = pitch_of(row), 1
        source = own.ref.source
        if row.articulation is not None and source is not None:
            pad = next((pad for pad in source.pads if pad.articulation == row.articulation), None)
            if pad is None:
                self._workbench.message_shown.emit(tr("The chosen take's kit has no such pad."), False)
                return
            note, channel = pad.note, pad.channel or source.channel or DRUMS
        elif len(row.origin):
            place = int(shown.row_of_origin[int(row.origin[0])])
            channel = int(shown.outcome.input_notes.channel[place])
            note = int(row.note[0]) if note is None else note
        if note is not None:
            self._notes.draw(own, shown.several.beat_of(second), self.step(), note, channel, float(velocity))
            if row.articulation is not None and not self._services.playback.playing:
                self._timeline.pad_played.emit(row.articulation, velocity)
