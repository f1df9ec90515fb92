"""Learning the map of a live input: asks about each pad that is hit and that the map lacks."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal

from puresignal.core.kit.map_learning import MapLearning, choose, note_received, pedal_moved
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi import messages
from puresignal.core.session import session as edits
from puresignal.core.session.live_input import with_input
from puresignal.engine.ring import Record
from puresignal.io import note_map_file
from puresignal.translation import tr
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.state.workbench import Workbench


class MapLearner(QObject):
    """Learns one live input's map while its pads are hit.

    pad_queried  a pad needs an answer, or none any more: the MapLearning, or None when learning ended
    """

    pad_queried = Signal(object)

    def __init__(self, workbench: Workbench, live_session: LiveSession, parent: QObject | None = None):
        super().__init__(parent)
        self._workbench, self._live_session = workbench, live_session
        self.learning: MapLearning | None = None
        self.number = 0
        self._runs = 0
        live_session.messages_received.connect(self._receive)
        live_session.stopped.connect(self._end)

    def learn(self, on: bool, number: int = 0) -> None:
        """Ask about each pad that the map of an input lacks, or stop asking."""
        inputs = self._workbench.session.inputs
        source = inputs[number].source if number < len(inputs) else None
        self.number = number
        self._runs += 1
        listening = self._live_session.listening
        self.learning = MapLearning(source or NoteMap(tr("My kit"), ())) if on and listening else None
        self.pad_queried.emit(self.learning)

    def choose(self, articulation: str) -> None:
        """Answer which articulation the queried pad is."""
        if self.learning is not None:
            self._take_up(choose(self.learning, articulation))

    def _end(self) -> None:
        self.learning = None

    def _receive(self, records: list[Record]) -> None:
        for record in records:
            if self.learning is None:
                return
            if self.number not in self._live_session.inputs_for(record):
                continue
            data = record.data
            if messages.is_note_on(data):
                likely = note_map_file.shipped("general-midi")
                self._take_up(note_received(self.learning, record.at, messages.channel(data), data[1], likely))
            elif messages.is_control(data):
                self._take_up(pedal_moved(self.learning, record.at, data[1], data[2]))

    def _take_up(self, learning: MapLearning) -> None:
        before, self.learning = self.learning, learning
        assert before is not None
        if learning.note_map is not before.note_map:
            bench = self._workbench
            inputs = with_input(bench.session.inputs, self.number, source=learning.note_map)
            # What is learnt in one go is one undo step; the next go is another.
            bench.do(tr("learn kit"), edits.with_inputs(bench.session, inputs), f"learn kit {self._runs}")  # not shown
        if (learning.waiting, learning.note_map) != (before.waiting, before.note_map):
            self.pad_queried.emit(learning)
