"""The one-minute set-up: asks a live input for one pad after the other, and proposes what follows from it."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QObject, QTimer, Signal

from puresignal.core.analysis import setup_proposals
from puresignal.core.analysis.setup_proposals import Proposal
from puresignal.core.kit import guided_setup
from puresignal.core.kit.guided_setup import GuidedSetup, SetupHit
from puresignal.core.kit.note_map import NoteMap
from puresignal.core.midi import messages
from puresignal.core.midi.events import Take
from puresignal.core.midi.tempo_map import TempoMap
from puresignal.core.session import session as edits
from puresignal.core.session.live_input import with_input
from puresignal.engine.ring import Record
from puresignal.io import journal, note_map_file
from puresignal.translation import tr
from puresignal.ui.state.background import Background
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.state.workbench import Workbench

PAUSE_MS = 1100
"""Milliseconds without a hit after which a pad that has been hit enough is done with."""


class KitSetup(QObject):
    """One set-up at a time, of a live input or of the chosen take.

    changed   the steps went on, or another hit arrived
    proposed  the proposals were worked out
    """

    changed = Signal()
    proposed = Signal()

    def __init__(
        self, workbench: Workbench, live_session: LiveSession, background: Background, parent: QObject | None = None
    ):
        super().__init__(parent)
        self._workbench, self._live_session, self._background = workbench, live_session, background
        self.setup: GuidedSetup | None = None
        self.proposals: tuple[Proposal, ...] = ()
        self.is_working = False
        self._number: int | None = None
        self._take = ""
        self._rows: list[tuple[float, int, bytes]] = []
        self._pause = QTimer(self)
        self._pause.setSingleShot(True)
        self._pause.setInterval(PAUSE_MS)
        self._pause.timeout.connect(self._go_on_alone)
        live_session.messages_received.connect(self._receive)

    # Asking

    def begin(self, number: int) -> None:
        """Ask a live input from the first pad on."""
        self._number, self._take, self._rows = number, "", []
        self.setup, self.proposals = GuidedSetup(), ()
        self.changed.emit()

    def end(self) -> None:
        """Ask no more; what was not used is forgotten."""
        self.setup = None
        self._pause.stop()

    def go_on(self) -> None:
        """The next pad, with what this one found."""
        self._step(guided_setup.gone_on)

    def skip(self) -> None:
        """The next pad: the kit has none of these."""
        self._step(guided_setup.skip)

    def back(self) -> None:
        """The pad before, once more."""
        self._step(guided_setup.back)

    def _step(self, way: object) -> None:
        self._pause.stop()
        if self.setup is not None and callable(way):
            self.setup = way(self.setup)
            self.changed.emit()
            if not self.setup.asked:
                self.finish()

    def _go_on_alone(self) -> None:
        if self.setup is not None and guided_setup.is_enough(self.setup):
            self.go_on()

    def _receive(self, records: list[Record]) -> None:
        if self.setup is None or self._number is None or not self.setup.asked:
            return
        for record in records:
            if self._number not in self._live_session.inputs_for(record):
                continue
            data = record.data
            self._rows.append((record.at, 0, data))
            if messages.is_note_on(data):
                hit = SetupHit(record.at, messages.channel(data), data[1], data[2])
                self.setup = guided_setup.heard(self.setup, hit)
                self._pause.start()
            elif messages.is_control(data):
                self.setup = guided_setup.moved(self.setup, data[1], data[2])
        self.changed.emit()

    # Proposing

    def finish(self) -> None:
        """Work out the proposals from what was heard so far."""
        bench, number = self._workbench, self._number
        if self.setup is None or number is None or number >= len(bench.session.inputs):
            return
        self._pause.stop()
        one = bench.session.inputs[number]
        if not self._rows:
            self._show(())
            return
        learnt = guided_setup.map_of(self.setup, tr("My kit"))
        begin = self._rows[0][0] - 0.1
        take = journal.to_take(
            self._rows, (one.port,), "setup", tr("Set-up"), TempoMap.steady(120), begin, one_device=True
        )
        self._work(take, one.source, learnt if learnt.pads else None)

    def from_take(self) -> bool:
        """Work out proposals from the chosen take. False: there is none."""
        own = self._workbench.own
        if own is None:
            return False
        self.setup, self._number, self._take = None, None, own.ref.ident
        self.proposals = ()
        self._work(own.take, own.ref.source, None)
        return True

    def _work(self, take: Take, source: NoteMap | None, learnt: NoteMap | None) -> None:
        self.is_working = True
        self.changed.emit()
        bench = self._workbench
        target, path = bench.session.target, bench.session.path
        maps = [note_map_file.shipped(name) for name in note_map_file.shipped_ids()] if learnt is None else []
        self._background.run(
            "set-up", lambda: setup_proposals.proposals(take, source, target, path, maps, learnt), self._show
        )

    def _show(self, found: tuple[Proposal, ...]) -> None:
        self.is_working, self.proposals = False, found
        self.proposed.emit()

    def use(self, chosen: Sequence[Proposal]) -> None:
        """Set what was chosen, in one step."""
        bench, session = self._workbench, self._workbench.session
        if self._number is not None and self._number < len(session.inputs):
            source, path = setup_proposals.applied(chosen, session.inputs[self._number].source, session.path)
            session = edits.with_inputs(session, with_input(session.inputs, self._number, source=source))
        else:
            ref = session.take(self._take)
            if ref is None:
                return
            source, path = setup_proposals.applied(chosen, ref.source, session.path)
            session = edits.with_changed(session, ref.ident, source=source)
        bench.do(tr("set up the kit"), edits.with_path(session, path))
