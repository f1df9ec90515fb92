"""Syllables under notes, and markers: what there is to be seen of them, and typing them."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from PySide6.QtCore import QObject

from puresignal.core.analysis import sung
from puresignal.core.analysis.sung import SungLine
from puresignal.core.session import session as edits
from puresignal.core.session.materials import numbers_of_drawn
from puresignal.core.session.take_ref import DRAWN
from puresignal.translation import count_tr, tr
from puresignal.ui.state.shown import Shown
from puresignal.ui.state.workbench import Workbench


class LyricActions(QObject):
    """Acts on what is shown in Takes."""

    def __init__(self, workbench: Workbench, parent: QObject | None = None):
        super().__init__(parent)
        self._workbench = workbench

    def line(self, shown: Shown | None, selected: np.ndarray) -> SungLine | None:
        """The syllables of the track of the selected note, else of the pitched track with the most notes."""
        if shown is None or not len(shown.outcome.output_notes):
            return None
        notes = shown.outcome.output_notes
        rows = np.flatnonzero(np.isin(notes.origin, selected[:1]))
        mine = notes.take(np.flatnonzero(shown.stands_out(notes.origin)))
        pitched = mine.track[mine.articulation < 0]
        if len(rows):
            track = int(notes.track[rows[0]])
        elif len(pitched):
            track = int(np.bincount(pitched).argmax())
        else:
            track = int(np.bincount(notes.track).argmax())
        return sung.sung_line(notes, track, shown.take)

    def markers(self, shown: Shown | None) -> tuple[tuple[float, str], ...]:
        """(second of the sheet, text) of all markers."""
        return () if shown is None else sung.markers(shown.take)

    def type_words(self, words: Mapping[int, str]) -> None:
        """Type syllables: by the origins of notes that are shown."""
        bench, shown = self._workbench, self._workbench.seen
        if shown is None or not words:
            return
        session = bench.session
        for origin, text in words.items():
            for ident, own in shown.whose(np.array([origin])).items():
                ref = session.take(ident)
                if ref is not None:
                    keys = numbers_of_drawn(ref)[own] if ref.kind == DRAWN else own
                    session = edits.with_lyrics(session, ident, {int(keys[0]): text})
        bench.do(count_tr("type {n} syllable", "type {n} syllables", len(words)), session, None)

    def beat_at(self, second: float) -> float | None:
        """The beat from bar 1 that a marker at a second of the sheet stands on; None where bars are out of order."""
        shown, session = self._workbench.seen, self._workbench.session
        if shown is None or shown.several is None or session.display.in_order:
            return None
        return float(np.round(shown.several.beat_of(second) * 4) / 4)

    def own_marker(self, second: float) -> float | None:
        """The beat of the session's marker at a second of the sheet; None for one of a take's file."""
        shown = self._workbench.seen
        if shown is None or shown.several is None:
            return None
        beat = shown.several.beat_of(second)
        return next((at for at, _ in self._workbench.session.markers if abs(at - beat) < 0.01), None)

    def type_marker(self, beat: float, text: str, before: float | None) -> None:
        """Set a marker at a beat, in place of the one at `before`; without text it is taken away."""
        bench = self._workbench
        session = edits.with_marker(bench.session, beat, text, before)
        if session.markers != bench.session.markers:
            if session.timeline is None:
                session = edits.with_timeline(session, bench.timeline)
            bench.do(tr("set marker") if text.strip() else tr("remove marker"), session)
