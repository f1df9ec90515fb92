"""After a singer was recorded the sound is heard once more, as a whole; what the live ear got wrong is corrected."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, Signal

from puresignal.core.harmony import scales
from puresignal.core.session import settled
from puresignal.core.session.settled import Settled
from puresignal.core.session.take_ref import PLAYED, TakeRef
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
        zero = float(timeline.beats_to_seconds(np.array([beat]))[0])
        session, found = settled.corrected(
            bench.session, ref, placed, timeline, [(zero + a, zero + b, *more) for a, b, *more in rows], own,
            tr("From the sound"),
        )  # fmt: skip
        if not found:
            return
        bench.do(tr("correct what was sung"), session)
        self.told.emit(tr("Heard as a whole: {what}. Undo puts it back.", what=_said(found)), False)


def _said(found: Settled) -> str:
    said = []
    if n := len(found.moved):
        said.append(count_tr("{n} note with another pitch", "{n} notes with another pitch", n))
    if n := len(found.shifted):
        said.append(count_tr("{n} at another moment", "{n} at other moments", n))
    if n := len(found.gone):
        said.append(count_tr("{n} left out", "{n} left out", n))
    if n := len(found.missed):
        said.append(count_tr("{n} added", "{n} added", n))
    return ", ".join(said)
