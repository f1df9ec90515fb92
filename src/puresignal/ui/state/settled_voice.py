"""After a singer was recorded the sound is heard once more, as a whole; what the live ear got wrong is corrected."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, Signal

from puresignal.core.harmony import scales
from puresignal.core.path.note_edits import NoteEdits
from puresignal.core.session import settled
from puresignal.core.session.settled import Settled
from puresignal.core.session.take_ref import PLAYED, TakeRef
from puresignal.io import note_map_file, ports, profiles
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
        # What a take's notes became here: both sung notes and hits may be corrected.
        self._mine: dict[str, NoteEdits] = {}
        microphone.kept.connect(self._begin)

    def _begin(self, path: Path, beat: float) -> None:
        profile = self._microphone.profile
        sung, hit = self._of(ports.MIC_MELODY), self._of(ports.MIC_HITS)
        # A chord on each note is not what was sung.
        if sung is not None and profile.settings.chord == scales.NONE:
            ident = sung.ident
            self._listener.settle(path, "melody", None, lambda rows: self._correct(ident, beat, rows, False))
        if hit is not None and profiles.taught(profile.name):
            other = hit.ident
            examples = str(profiles.sounds_of(profile.name))
            self._listener.settle(path, "hits", examples, lambda rows: self._correct(other, beat, rows, True))

    def _of(self, port: str) -> TakeRef | None:
        """The last take whose notes came from a port."""
        bench = self._workbench
        return next(
            (
                ref for ref in reversed(bench.session.takes)
                if ref.kind == PLAYED and ref.heard is None and ref.material in bench.store.by_ident
                and any(one.name == port for one in bench.store[ref.material].ports)
            ),
            None,
        )  # fmt: skip

    def _correct(self, ident: str, beat: float, rows: list[Row], hits: bool) -> None:
        bench, own = self._workbench, self._microphone.profile.settings
        ref = bench.session.take(ident)
        if ref is None or (len(ref.edits) and ref.edits is not self._mine.get(ident)):
            # It is gone, or the player has been at it.
            return
        placed, timeline = bench.placed(ref)
        zero = float(timeline.beats_to_seconds(np.array([beat]))[0])
        there = [(zero + a, zero + b, *more) for a, b, *more in rows]
        name = tr("From the sound")
        if hits:
            pads = note_map_file.shipped("general-midi").pads
            drums = {pad.note: pad.articulation for pad in reversed(pads)}
            session, found = settled.corrected_hits(
                bench.session, ref, placed, timeline, there, own, name, ports.MIC_HITS, drums
            )
        else:
            session, found = settled.corrected(bench.session, ref, placed, timeline, there, own, name, ports.MIC_MELODY)
        if not found:
            return
        bench.do(tr("correct taught sounds") if hits else tr("correct what was sung"), session)
        after = bench.session.take(ident)
        if after is not None:
            self._mine[ident] = after.edits
        self.told.emit(tr("Heard as a whole: {what}. Undo puts it back.", what=_said(found, hits)), False)


def _said(found: Settled, hits: bool) -> str:
    said = []
    if n := len(found.moved):
        said.append(
            count_tr("{n} hit with another drum", "{n} hits with another drum", n) if hits
            else count_tr("{n} note with another pitch", "{n} notes with another pitch", n)
        )  # fmt: skip
    if n := len(found.shifted):
        said.append(count_tr("{n} at another moment", "{n} at other moments", n))
    if n := len(found.gone):
        said.append(count_tr("{n} left out", "{n} left out", n))
    if n := len(found.missed):
        said.append(count_tr("{n} added", "{n} added", n))
    return ", ".join(said)
