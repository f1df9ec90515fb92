"""Changes of tempo and meter along the bars: made, edited and taken away on the ruler."""

from __future__ import annotations

from PySide6.QtCore import QObject, QPoint
from PySide6.QtWidgets import QInputDialog, QMenu, QWidget

from puresignal.core.session import session as edits
from puresignal.core.timing import timeline_edits
from puresignal.core.timing.session_time import FASTEST, SLOWEST, Timeline
from puresignal.translation import tr
from puresignal.ui.state.services import Services
from puresignal.ui.takes.time_strip import TEMPO, Mark


class TimeMenus(QObject):
    """The ruler's menus. Each entry is one step of the history."""

    def __init__(self, services: Services, parent: QWidget):
        super().__init__(parent)
        self._services, self._workbench, self._parent = services, services.workbench, parent

    def _do(self, name: str, timeline: Timeline) -> None:
        bench = self._workbench
        bench.do(name, edits.with_timeline(bench.session, timeline))

    def _beat(self, second: float) -> float:
        """The whole beat from bar 1 nearest to a second of what is shown."""
        seen = self._workbench.seen
        return 0.0 if seen is None or seen.several is None else float(round(seen.several.beat_of(second)))

    def ruler_menu(self, second: float) -> QMenu:
        """The menu of a place on the ruler."""
        menu, timeline = QMenu(self._parent), self._workbench.timeline
        beat = max(0.0, self._beat(second))
        bar, into = timeline.beats_to_bar(beat)
        place = tr("bar {bar}, beat {beat}", bar=bar, beat=int(into) + 1)
        tempo = menu.addAction(tr("Tempo change at {place}…", place=place))
        tempo.triggered.connect(lambda: self.ask_tempo(beat))
        meter = menu.addAction(tr("Meter change at bar {bar}…", bar=bar))
        meter.triggered.connect(lambda: self.ask_meter(bar))
        menu.addSeparator()
        chosen = self._services.take_actions
        here = menu.addAction(tr("Move the chosen take to bar {bar}", bar=bar))
        here.setEnabled(chosen.ref() is not None)
        here.triggered.connect(lambda: chosen.move_to_bar(bar))
        return menu

    def edit_mark(self, mark: Mark, at: QPoint) -> None:
        """Show what can be done with a change of tempo or meter."""
        self.mark_menu(mark).exec(at)

    def mark_menu(self, mark: Mark) -> QMenu:
        """The menu of a change of tempo or meter."""
        menu, timeline = QMenu(self._parent), self._workbench.timeline
        if mark.kind == TEMPO:
            point = timeline_edits.point_at(timeline, mark.beat)
            menu.addAction(tr("Change tempo…")).triggered.connect(lambda: self.ask_tempo(mark.beat))
            glide = menu.addAction(tr("Glide evenly to the next change"))
            glide.setCheckable(True)
            glide.setChecked(point.glides)
            glide.setEnabled(point != timeline.tempos[-1])
            glide.triggered.connect(
                lambda on: self._do(
                    tr("glide to the next tempo"), timeline_edits.with_tempo_at(timeline, mark.beat, point.bpm, on)
                )
            )
            gone = menu.addAction(tr("Remove this tempo change"))
            gone.setEnabled(point != timeline.tempos[0])
            gone.triggered.connect(
                lambda: self._do(tr("remove tempo change"), timeline_edits.without_tempo_at(timeline, mark.beat))
            )
            return menu
        menu.addAction(tr("Change meter…")).triggered.connect(lambda: self.ask_meter(mark.bar))
        gone = menu.addAction(tr("Remove this meter change"))
        gone.setEnabled(mark.bar > 1)
        gone.triggered.connect(
            lambda: self._do(tr("remove meter change"), timeline_edits.without_meter_at(timeline, mark.bar))
        )
        return menu

    def ask_tempo(self, beat: float) -> None:
        """Ask for the tempo from a beat on."""
        timeline = self._workbench.timeline
        now = timeline.bpm_at(beat)
        bpm, well = QInputDialog.getDouble(
            self._parent, tr("Tempo change"), tr("Quarter notes per minute"), now, SLOWEST, FASTEST, 2
        )
        if well:
            self.set_tempo(beat, bpm)

    def set_tempo(self, beat: float, bpm: float) -> None:
        """Another tempo from a beat on; a glide that begins there goes on gliding."""
        timeline = self._workbench.timeline
        glides = next((one.glides for one in timeline.tempos if one.beat == beat), False)
        self._do(tr("change tempo"), timeline_edits.with_tempo_at(timeline, beat, bpm, glides))

    def ask_meter(self, bar: int) -> None:
        """Ask for the meter from a bar on."""
        there = self._workbench.timeline.meter_at(bar)
        text, well = QInputDialog.getText(
            self._parent, tr("Meter change"), tr("Meter, like 7/8"), text=f"{there.numerator}/{there.denominator}"
        )
        if well:
            self.set_meter(bar, text)

    def set_meter(self, bar: int, text: str) -> None:
        """Another meter from a bar on."""
        meter = timeline_edits.meter_of(text)
        if meter is None:
            said = tr("{given} is no meter: write beats and note value, like 7/8.", given=text)
            self._services.notices.tell(said, True)
            return
        self._do(tr("change meter"), timeline_edits.with_meter_at(self._workbench.timeline, bar, *meter))
