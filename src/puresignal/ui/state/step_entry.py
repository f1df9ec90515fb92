"""Entering notes step by step: what is hit on any input stands at the position, which then goes on by a step."""

from __future__ import annotations

import time

from PySide6.QtCore import QObject, Signal

from puresignal.core.midi import messages
from puresignal.core.session import note_editing
from puresignal.core.session.take_ref import DrawnNote
from puresignal.engine.ring import Record
from puresignal.translation import tr
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.state.playback import Playback
from puresignal.ui.state.workbench import Workbench

TOGETHER = 0.07
"""Seconds within which hits are one step: a chord, or two drums."""


class StepEntry(QObject):
    """Off until it is switched on.

    changed  it was switched, or a step was entered
    """

    changed = Signal()

    def __init__(
        self, workbench: Workbench, live_session: LiveSession, playback: Playback, parent: QObject | None = None
    ):
        super().__init__(parent)
        self._workbench, self._live_session, self._playback = workbench, live_session, playback
        self.on = False
        self.step = 0.25
        self._last = float("-inf")
        self._entered = 0
        live_session.messages_received.connect(self._receive)

    def switch(self, on: bool) -> None:
        """Begin or end entering; live input is switched on for it."""
        self.on = on
        self._last = float("-inf")
        if on and any(one.port for one in self._workbench.session.inputs):
            self._live_session.start_or_tell()
        self.changed.emit()

    @property
    def beat(self) -> float:
        """Where the next step stands: beats from bar 1, on a step."""
        beat = self._playback.beat_of(self._playback.place)
        return round(beat / self.step) * self.step

    def skip(self, steps: int) -> None:
        """Go on without a note, or back."""
        self._playback.go(max(0.0, self._playback.second_of(self.beat + steps * self.step)))
        self._last = float("-inf")
        self.changed.emit()

    def back(self) -> None:
        """Take the last step out, and go back to it."""
        bench = self._workbench
        if self._entered and bench.history.undo_name == self._name:
            bench.undo()
            self._entered -= 1
        self.skip(-1)

    @property
    def _name(self) -> str:
        return tr("enter step")

    def _receive(self, records: list[Record]) -> None:
        if not self.on or self._playback.playing:
            return
        for record in records:
            if messages.is_note_on(record.data):
                self._enter(record)

    def _enter(self, record: Record) -> None:
        bench, live = self._workbench, self._live_session
        if not live.inputs_for(record):
            return
        with_last = record.at - self._last < TOGETHER
        beat = self.beat - (self.step if with_last else 0.0)
        like = bench.session.take()
        context = live.context_of(record)
        channel, number = messages.channel(record.data), record.data[1]
        name = context.articulation_of(channel, number)
        if name is not None and like is not None and like.source is not None:
            pad = next((one for one in like.source.pads if one.articulation == name), None)
            if pad is not None:
                number, channel = pad.note, pad.channel or like.source.channel or channel
        note = DrawnNote(0, max(0.0, beat), self.step, number, float(record.data[2]), channel)
        bench.do(self._name, note_editing.with_drawn(bench.session, like, (note,), tr("Drawn")))
        self._entered += 1
        self._last = time.monotonic() if record.at > time.monotonic() else record.at
        if not with_last:
            self._playback.go(self._playback.second_of(beat + self.step))
        self.changed.emit()
