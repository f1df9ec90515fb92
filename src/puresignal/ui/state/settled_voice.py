"""After a singer was recorded the sound is heard once more, as a whole; what the live ear got wrong is corrected."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, Signal

from puresignal.core.harmony import scales
from puresignal.core.midi.messages import KIND, NOTE_ON
from puresignal.core.path.note_edits import Edit
from puresignal.core.session import note_editing, settled
from puresignal.core.session.settled import Settled
from puresignal.core.session.take_ref import PLAYED, DrawnNote, TakeRef
from puresignal.core.touch.voice import CHANNEL
from puresignal.io import ports
from puresignal.translation import count_tr, tr
from puresignal.ui.state.listener import Listener, Row
from puresignal.ui.state.microphone import Microphone
from puresignal.ui.state.workbench import Workbench


class SettledVoice(QObject):
    """Corrects the notes of the take that was sung, in one step that can be undone.

    told  what was corrected: (text, whether it is a problem)
    """

    told = Signal(str, bool)

    def __init__(
        self, workbench: Workbench, microphone: Microphone, listener: Listener, parent: QObject | None = None
    ):  # fmt: skip
        super().__init__(parent)
        self._workbench, self._microphone, self._listener = workbench, microphone, listener
        microphone.kept.connect(self._begin)

    def _begin(self, path: Path, beat: float) -> None:
        ref = self._sung()
        # A chord on each note is not what was sung.
        if ref is not None and self._microphone.profile.settings.chord == scales.NONE:
            ident = ref.ident
            self._listener.settle(path, lambda rows: self._correct(ident, beat, rows))

    def _sung(self) -> TakeRef | None:
        """The last take that was sung."""
        bench = self._workbench
        return next(
            (
                ref for ref in reversed(bench.session.takes)
                if ref.kind == PLAYED and ref.heard is None and ref.material in bench.store.by_ident
                and any(port.name == ports.MIC_MELODY for port in bench.store[ref.material].ports)
            ),
            None,
        )  # fmt: skip

    def _correct(self, ident: str, beat: float, rows: list[Row]) -> None:
        bench, own = self._workbench, self._microphone.profile.settings
        ref = bench.session.take(ident)
        if ref is None or len(ref.edits):
            # It is gone, or the player has been at it.
            return
        placed, timeline = bench.placed(ref)
        events = placed.take.events
        on = np.flatnonzero((events.status & KIND == NOTE_ON) & (events.data2 > 0))
        live = np.column_stack((placed.seconds(events.arrived[on], timeline), events.data1[on].astype(float)))
        zero = float(timeline.beats_to_seconds(np.array([beat]))[0])
        scale = scales.scale_of(own.key)
        kept = [row for row in rows if not row[6]]
        heard = np.array([
            (zero + row[0], zero + row[1], scales.held(int(row[3]), scale) + own.shift, row[5]) for row in kept
        ]).reshape(-1, 4)  # fmt: skip
        found = settled.compare(live, heard)
        if not found:
            return
        session = bench.session
        for i in sorted({*found.moved, *found.shifted}):
            edit = Edit(up=found.moved.get(i, 0), seconds=found.shifted.get(i, 0.0))
            session = note_editing.with_edit(session, {ident: on[[i]]}, edit)
        if found.gone:
            session = note_editing.erased(session, {ident: on[list(found.gone)]})
        begin = timeline.seconds_to_beats(heard[:, 0]).tolist()
        end = timeline.seconds_to_beats(heard[:, 1]).tolist()
        added = [
            DrawnNote(0, begin[j], end[j] - begin[j], int(heard[j, 2]), own.velocity(int(kept[j][4])), CHANNEL)
            for j in found.missed if 0 <= heard[j, 2] <= 127
        ]  # fmt: skip
        session = note_editing.with_drawn(session, ref, added, tr("From the sound"))
        bench.do(tr("correct what was sung"), session)
        self.told.emit(tr("Heard as a whole: {what}. Undo puts it back.", what=_said(found, len(added))), False)


def _said(found: Settled, added: int) -> str:
    said = []
    if n := len(found.moved):
        said.append(count_tr("{n} note with another pitch", "{n} notes with another pitch", n))
    if n := len(found.shifted):
        said.append(count_tr("{n} at another moment", "{n} at other moments", n))
    if n := len(found.gone):
        said.append(count_tr("{n} left out", "{n} left out", n))
    if added:
        said.append(count_tr("{n} added", "{n} added", added))
    return ", ".join(said)
