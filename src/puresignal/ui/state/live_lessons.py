"""Learning the kit while it is played: what this sitting has shown so far is used for the next hits."""

from __future__ import annotations

from collections import deque

from PySide6.QtCore import QObject, QTimer, Signal

from puresignal.core.midi import messages
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.core.path.cleaning_path import StageCache, make_context
from puresignal.core.path.crosstalk import learn
from puresignal.core.path.crosstalk_model import KitModel
from puresignal.engine.ring import Record
from puresignal.io import journal
from puresignal.ui.state.background import Background
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.state.preference_store import PreferenceStore
from puresignal.ui.state.workbench import Workbench

EVERY_MS = 8_000
LEAST, MOST = 60, 12_000
"""Messages of one input from which something is learnt, and those that are remembered."""


class LiveLessons(QObject):
    """Swaps the live path's kit model for a newer one now and then, where the player allows it. The session is not
    changed: what was learnt from a take stays its own, and comes back when this is switched off.

    changed  something was learnt, or this was switched
    """

    changed = Signal()

    def __init__(
        self, workbench: Workbench, live_session: LiveSession, preferences: PreferenceStore, background: Background,
        parent: QObject | None = None,
    ):  # fmt: skip
        super().__init__(parent)
        self._workbench, self._live_session = workbench, live_session
        self._preferences, self._background = preferences, background
        self._rows: deque[tuple[float, int, bytes]] = deque(maxlen=MOST)
        self._heard, self.hits = 0, 0
        self._timer = QTimer(self)
        self._timer.setInterval(EVERY_MS)
        self._timer.timeout.connect(self.learn_now)
        live_session.messages_received.connect(self._receive)
        live_session.started.connect(self._begin)
        live_session.stopped.connect(self._timer.stop)

    @property
    def on(self) -> bool:
        return self._preferences.now.learn_live

    def set_on(self, on: bool) -> None:
        """Allow it or not."""
        self._preferences.change(learn_live=on)
        if not on:
            self._live_session.set_kit_model(None)
        elif self._live_session.listening:
            self._timer.start()
        self.changed.emit()

    def _begin(self) -> None:
        self._rows.clear()
        self._heard, self.hits = 0, 0
        if self.on:
            self._timer.start()

    def _number(self) -> int | None:
        """The input that is learnt from: the first kit."""
        inputs = self._workbench.session.inputs
        return next((i for i, one in enumerate(inputs) if one.source is not None and one.port), None)

    def _receive(self, records: list[Record]) -> None:
        number = self._number()
        if not self.on or number is None:
            return
        for record in records:
            if number in self._live_session.inputs_for(record):
                self._rows.append((record.at, 0, record.data))
                self._heard += messages.is_note_on(record.data)

    def learn_now(self) -> None:
        """Learn from what was heard so far, beside the window."""
        number = self._number()
        if not self.on or number is None or len(self._rows) < LEAST or self._heard == self.hits:
            return
        rows, heard = list(self._rows), self._heard
        session = self._workbench.session
        one, settings = session.inputs[number], session.path.crosstalk

        def work() -> KitModel:
            take = journal.to_take(
                rows, (one.port,), "live", "live", TempoMap.steady(120), rows[0][0], one_device=True
            )  # not shown
            context = make_context(take, one.source, session.target, session.path)
            return learn(StageCache().paired(take).notes, context, settings)

        def use(model: KitModel) -> None:
            self.hits = heard
            if self.on:
                self._live_session.set_kit_model(model)
                self.changed.emit()

        self._background.run("live lesson", work, use)  # not shown
