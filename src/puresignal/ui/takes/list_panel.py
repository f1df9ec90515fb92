"""The list of events: exact values, edited in place, filtered, in step with the selection."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from PySide6.QtCore import (
    QItemSelection,
    QItemSelectionModel,
    Qt,
    Signal,
)
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from puresignal.core.analysis.event_list import EventList, events_of, place_of, place_text
from puresignal.core.harmony.keys import note_name
from puresignal.core.kit.articulations import spoken
from puresignal.core.path.note_edits import Edit, set_length, set_velocity
from puresignal.core.timing.click_beats import counted
from puresignal.translation import count_tr, mark, tr
from puresignal.ui.state.control_lines import ControlLines
from puresignal.ui.state.note_actions import NoteActions
from puresignal.ui.state.shown import Shown
from puresignal.ui.takes.control_model import ControlModel
from puresignal.ui.takes.row_model import Index, RowModel
from puresignal.ui.widgets import text_format
from puresignal.ui.widgets.plain_text import PlainLabel

HEADS = (
    mark("place"), mark("seconds"), mark("track"), mark("what"), mark("note"), mark("velocity"), mark("length"),
    mark("channel"),
)  # fmt: skip
PLACE, SECONDS, TRACK, WHAT, NOTE, VELOCITY, LENGTH, CHANNEL = range(8)
NOTES = -1
"""In the list of what is shown, beside the controllers."""
EDITABLE = (PLACE, SECONDS, NOTE, VELOCITY, LENGTH)


class EventModel(RowModel):
    """The rows that are shown of the list.

    edited  (origin, edit) of one note
    """

    edited = Signal(int, object)
    heads, editable, words = HEADS, EDITABLE, (TRACK, WHAT)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self._events: EventList | None = None
        self._shown: Shown | None = None
        self.rows = np.zeros(0, np.int64)

    def show_events(self, shown: Shown | None, events: EventList | None, rows: np.ndarray) -> None:
        self.beginResetModel()
        self._shown, self._events, self.rows = shown, events, rows
        self.endResetModel()

    def origin(self, row: int) -> int:
        assert self._events is not None
        return int(self._events.origin[self.rows[row]])

    def count(self) -> int:
        return len(self.rows)

    def _beat_long(self, bar: int) -> float:
        assert self._shown is not None
        assert self._shown.several is not None
        return counted(self._shown.several.timeline.meter_at(bar))

    def text_at(self, row: int, column: int) -> str:
        return self.text(int(self.rows[row]), column)

    def text(self, i: int, column: int) -> str:
        """A value as it is shown."""
        e, shown = self._events, self._shown
        if e is None or shown is None:
            return ""
        if column == PLACE:
            bar = int(e.bar[i])
            return place_text(bar, float(e.into[i]), self._beat_long(bar))
        if column == SECONDS:
            return f"{float(e.second[i]):.4f}"
        if column == TRACK:
            key = shown.outcome.tracks[int(e.track[i])].key
            return next((one.title for one in shown.tracks if one.track.key == key), key)
        if column == WHAT:
            code = int(e.articulation[i])
            return spoken(shown.outcome.vocabulary[code]) if code >= 0 else note_name(int(e.note[i]))
        if column == LENGTH:
            return "" if np.isnan(e.length[i]) else f"{float(e.length[i]):.3f}"
        values = {NOTE: e.note, VELOCITY: e.velocity, CHANNEL: e.channel}
        return f"{float(values[column][i]):g}"

    def setData(self, index: Index, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        if role != Qt.ItemDataRole.EditRole or self._events is None:
            return False
        i = int(self.rows[index.row()])
        edit = self._edit_of(i, index.column(), str(value))
        if edit is None:
            return False
        self.edited.emit(int(self._events.origin[i]), edit)
        return True

    def _edit_of(self, i: int, column: int, text: str) -> Edit | None:
        """The edit that a typed value stands for; None for one that is none."""
        e, shown = self._events, self._shown
        assert e is not None
        assert shown is not None
        assert shown.several is not None
        try:
            if column == PLACE:
                bar, into = place_of(text, self._beat_long(int(text.split(".")[0])))
                return Edit(beats=shown.several.timeline.bar_to_beats(bar) + into - float(e.beat[i]))
            number = float(text.replace(",", "."))
        except ValueError:
            return None
        if column == SECONDS:
            return Edit(seconds=number - float(e.second[i]))
        if column == NOTE and 0 <= number <= 127:
            return Edit(up=round(number) - int(e.note[i]))
        if column == VELOCITY and 1 <= number <= 127:
            return set_velocity(number)
        if column == LENGTH and number > 0:
            return set_length(number)
        return None


class ListPanel(QWidget):
    """The table with its filter.

    chosen  notes were chosen in it: their origins
    """

    chosen = Signal(object)

    def __init__(self, notes: NoteActions, lines: ControlLines, parent: QWidget | None = None):
        super().__init__(parent)
        self._notes, self._lines = notes, lines
        self.controls = ControlModel(lines, self)
        self.what = QComboBox()
        self.what.setAccessibleName(tr("What the list shows"))
        self.what.setToolTip(tr("The notes, or one controller of the chosen take's track."))
        self.what.addItem(tr("notes"), NOTES)
        self.what.activated.connect(lambda _: self.show_take(self._shown))
        self._shown: Shown | None = None
        self._events: EventList | None = None
        self._selected = np.zeros(0, np.int64)
        self._quiet = False
        self.model = EventModel(self)
        self.model.edited.connect(lambda origin, edit: notes.set(np.array([origin]), edit))
        self.table = QTableView()
        self.table.setModel(self.model)
        self.table.setAccessibleName(tr("List of events"))
        self.table.setSelectionBehavior(QTableView.SelectionBehavior.SelectRows)
        self.table.setAlternatingRowColors(False)
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(22)
        head = self.table.horizontalHeader()
        head.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        for number, width in ((PLACE, 86), (SECONDS, 86), (NOTE, 58), (VELOCITY, 72), (LENGTH, 72), (CHANNEL, 70)):
            self.table.setColumnWidth(number, width)
        for number in (TRACK, WHAT):
            head.setSectionResizeMode(number, QHeaderView.ResizeMode.Stretch)
        head.setHighlightSections(False)
        self._head = head
        self.table.selectionModel().selectionChanged.connect(lambda *_: self._choose())
        self.search = QLineEdit()
        self.search.setPlaceholderText(tr("Filter: a drum, a track, a note"))
        self.search.setAccessibleName(tr("Filter the list"))
        self.search.setToolTip(tr("Shows only events whose track, name or number contains this."))
        self.search.textChanged.connect(lambda _: self._fill())
        self.only = QCheckBox(tr("selected only"))
        self.only.setToolTip(tr("Shows only the notes that are selected in the sheet above."))
        self.only.toggled.connect(lambda _: self._fill())
        self.count = PlainLabel()
        self.count.setObjectName("faint")
        row = QHBoxLayout()
        row.setContentsMargins(12, 5, 12, 3)
        row.addWidget(self.what)
        row.addWidget(self.search, 1)
        row.addWidget(self.only)
        row.addWidget(self.count)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(row)
        column.addWidget(self.table, 1)

    def show_take(self, shown: Shown | None) -> None:
        """Show the notes of a result."""
        self._shown = shown
        several = None if shown is None else shown.several
        self._show_kinds()
        kind = self.what.currentData()
        notes = kind == NOTES
        for widget in (self.search, self.only):
            widget.setEnabled(notes)
        if (self.table.model() is self.model) != notes:
            self._turn_to(self.model if notes else self.controls)
        if not notes:
            status, number = divmod(kind, 128)
            line = None if shown is None else self._lines.line(status, number, self._selected)
            self.controls.show_line(shown, line, self.what.currentText())
            self.count.setText(count_tr("{n} value", "{n} values", self.controls.rowCount()))
            return
        self._events = None if several is None else events_of(several.outcome, several.timeline, several.shift)
        self._fill()

    def _show_kinds(self) -> None:
        """The controllers that there are, besides the notes. As one number: the toolkit cannot compare pairs."""
        wanted = [(NOTES, tr("notes"))]
        wanted += [(kind * 128 + number, words) for kind, number, words in self._lines.kinds()]
        if [self.what.itemData(i) for i in range(self.what.count())] != [one for one, _ in wanted]:
            now = self.what.currentData()
            self.what.clear()
            for one, words in wanted:
                self.what.addItem(words, one)
            self.what.setCurrentIndex(max(0, self.what.findData(now)))

    def _turn_to(self, model: EventModel | ControlModel) -> None:
        """Show other rows in the table."""
        self.table.setModel(model)
        self.table.selectionModel().selectionChanged.connect(lambda *_: self._choose())
        for number in (TRACK, WHAT):
            self._head.setSectionResizeMode(number, QHeaderView.ResizeMode.Stretch)

    def show_selection(self, origins: np.ndarray) -> None:
        """Show what is selected elsewhere."""
        self._selected = origins
        if self.what.currentData() != NOTES:
            return
        if self.only.isChecked():
            self._fill()
        else:
            self._mark()

    def _fill(self) -> None:
        events = self._events
        if events is None:
            self.model.show_events(None, None, np.zeros(0, np.int64))
            self.count.setText("")
            return
        rows = np.arange(len(events))
        if self.only.isChecked():
            rows = rows[np.isin(events.origin, self._selected)]
        wanted = self.search.text().strip().casefold()
        self.model.show_events(self._shown, events, rows)
        if wanted:
            rows = rows[[self._fits(int(i), wanted) for i in rows]] if len(rows) else rows
            self.model.show_events(self._shown, events, rows)
        self.count.setText(text_format.counted(len(rows), "note"))
        self._mark()

    def _fits(self, i: int, wanted: str) -> bool:
        text: Callable[[int], str] = lambda column: self.model.text(i, column).casefold()  # noqa: E731
        return wanted in text(TRACK) or wanted in text(WHAT) or wanted == text(NOTE)

    def _mark(self) -> None:
        """Select the rows of the selected notes, and show the first."""
        if self._events is None:
            return
        rows = np.flatnonzero(np.isin(self._events.origin[self.model.rows], self._selected))
        selection = QItemSelection()
        # Runs of rows at once: thousands one by one take seconds.
        runs = np.split(rows, np.flatnonzero(np.diff(rows) > 1) + 1) if len(rows) else []
        for run in runs:
            first = self.model.index(int(run[0]), 0)
            selection.select(first, self.model.index(int(run[-1]), len(HEADS) - 1))
        self._quiet = True
        self.table.selectionModel().select(selection, QItemSelectionModel.SelectionFlag.ClearAndSelect)
        self._quiet = False
        if len(rows):
            self.table.scrollTo(self.model.index(int(rows[0]), 0))

    def _choose(self) -> None:
        if self._quiet or self.what.currentData() != NOTES:
            return
        rows = sorted({index.row() for index in self.table.selectionModel().selectedRows()})
        self._selected = np.array([self.model.origin(row) for row in rows], np.int64)
        self.chosen.emit(self._selected)
