"""The values of one controller, bend or pressure as rows of the list of events."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QWidget

from puresignal.core.analysis.event_list import place_of, place_text
from puresignal.core.timing.click_beats import counted
from puresignal.translation import mark
from puresignal.ui.state.control_lines import ControlLine, ControlLines
from puresignal.ui.state.shown import Shown
from puresignal.ui.takes.row_model import Index, RowModel

HEADS = (mark("place"), mark("seconds"), mark("track"), mark("what"), mark("value"))
PLACE, SECONDS, TRACK, WHAT, VALUE = range(5)
EDITABLE = (PLACE, SECONDS, VALUE)


class ControlModel(RowModel):
    """Places, seconds and values can be typed."""

    heads, editable, words = HEADS, EDITABLE, (TRACK, WHAT)

    def __init__(self, lines: ControlLines, parent: QWidget | None = None):
        super().__init__(parent)
        self._lines = lines
        self._line: ControlLine | None = None
        self._name = ""
        self._shown: Shown | None = None

    def show_line(self, shown: Shown | None, line: ControlLine | None, name: str) -> None:
        """name: what the controller is called."""
        self.beginResetModel()
        self._shown, self._line, self._name = shown, line, name
        self.endResetModel()

    def count(self) -> int:
        return 0 if self._line is None else len(self._line.at)

    def text_at(self, row: int, column: int) -> str:
        line, shown = self._line, self._shown
        if line is None or shown is None or shown.several is None:
            return ""
        at = float(line.at[row])
        if column == PLACE:
            bar, into = shown.several.timeline.beats_to_bar(shown.several.beat_of(at))
            return place_text(bar, into, counted(shown.several.timeline.meter_at(bar)))
        if column == SECONDS:
            return f"{at - shown.several.shift:.4f}"
        return {TRACK: line.title, WHAT: self._name, VALUE: f"{float(line.value[row]):g}"}[column]

    def setData(self, index: Index, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        line, shown = self._line, self._shown
        if role != Qt.ItemDataRole.EditRole or line is None or shown is None or shown.several is None:
            return False
        row, column, text = index.row(), index.column(), str(value)
        at, height = float(line.at[row]), float(line.value[row])
        timeline = shown.several.timeline
        try:
            if column == PLACE:
                bar = int(text.split(".")[0])
                bar, into = place_of(text, counted(timeline.meter_at(bar)))
                at = shown.several.second_of(timeline.bar_to_beats(bar) + into)
            elif column == SECONDS:
                at = float(text.replace(",", ".")) + shown.several.shift
            else:
                height = float(text.replace(",", "."))
        except ValueError:
            return False
        if not np.isfinite(at) or at < 0 or not line.low <= height <= line.high:
            return False
        self._lines.move_point(line, row, at, round(height))
        return True
