"""The table of tracks in Outputs."""

from __future__ import annotations

from typing import ClassVar

import numpy as np
from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, QRectF, Qt, Signal
from PySide6.QtGui import QFont, QKeyEvent, QPainter
from PySide6.QtWidgets import QStyledItemDelegate, QStyleOptionViewItem, QTableView, QWidget

from puresignal.core.diagnosis import monitoring
from puresignal.core.export.song_builder import FileTrack
from puresignal.core.midi.columns import distinct
from puresignal.core.session.session import Session
from puresignal.translation import mark, tr
from puresignal.ui.state.shown import Shown
from puresignal.ui.widgets import text_format, theme

HEADS = (
    "",
    mark("track"),
    mark("out"),
    mark("channel"),
    mark("playback"),
    mark("notes"),
    mark("note numbers"),
    mark("in time"),
)
COLOUR, NAME, OUT, CHANNEL, HEARD, NOTES, NUMBERS, PICTURE = range(8)
_Index = QModelIndex | QPersistentModelIndex


class TracksModel(QAbstractTableModel):
    """The tracks of the file. Names and the Out tick are editable.

    renamed       (track key, new name)
    out_switched  (track key, whether it is exported)
    """

    renamed = Signal(str, str)
    out_switched = Signal(str, bool)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self._shown: Shown | None = None
        self._session = Session()
        self._rows: tuple[FileTrack, ...] = ()
        self._frozen: dict[str, str] = {}
        self.with_hidden = False

    def show_take(self, shown: Shown | None, session: Session, frozen: dict[str, str]) -> None:
        """Show a take's tracks. frozen: states of frozen tracks by key"""
        self.beginResetModel()
        self._shown, self._session, self._frozen = shown, session, frozen
        every = () if shown is None else shown.tracks
        self._rows = tuple(one for one in every if self.with_hidden or not one.settings.hidden)
        self.endResetModel()

    @property
    def hidden(self) -> int:
        """How many of the tracks are hidden."""
        return 0 if self._shown is None else sum(one.settings.hidden for one in self._shown.tracks)

    def track(self, row: int) -> FileTrack:
        return self._rows[row]

    def starts(self, row: int) -> np.ndarray:
        """Starts of a track's notes as fractions of the take's length."""
        assert self._shown is not None
        clean = self._shown.outcome.output_notes
        starts: np.ndarray = clean.start[clean.track == self.track(row).index] / max(0.1, self._shown.take.length)
        return starts

    def rowCount(self, parent: _Index | None = None) -> int:
        return 0 if parent is not None and parent.isValid() else len(self._rows)

    def columnCount(self, parent: _Index | None = None) -> int:
        return len(HEADS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = 0) -> object:
        if orientation == Qt.Orientation.Horizontal:
            if role == Qt.ItemDataRole.DisplayRole:
                return tr(HEADS[section]) if HEADS[section] else ""
            if role == Qt.ItemDataRole.TextAlignmentRole:
                return Qt.AlignmentFlag.AlignVCenter | _side(section)
        return None

    def flags(self, index: _Index) -> Qt.ItemFlag:
        flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        if index.column() == OUT:
            return flags | Qt.ItemFlag.ItemIsUserCheckable
        return flags | Qt.ItemFlag.ItemIsEditable if index.column() == NAME else flags

    def data(self, index: _Index, role: int = 0) -> object:
        entry, column = self.track(index.row()), index.column()
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return self._text(entry, column)
        if role == Qt.ItemDataRole.CheckStateRole and column == OUT:
            return Qt.CheckState.Checked if entry.out else Qt.CheckState.Unchecked
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignVCenter | _side(column)
        if role == Qt.ItemDataRole.BackgroundRole and column == COLOUR:
            return theme.current().family(entry.colour)
        if role == Qt.ItemDataRole.ForegroundRole and (not entry.out or entry.settings.hidden):
            return theme.current().colour("faint")
        if role == Qt.ItemDataRole.FontRole and column == NAME:
            return theme.font(10, QFont.Weight.DemiBold)
        if role == Qt.ItemDataRole.ToolTipRole:
            return {
                NAME: tr("Double-click or press F2 to rename; an empty name restores the track's own."),
                OUT: tr("Whether the track is exported. Space switches all selected tracks."),
                CHANNEL: tr("The channel of its notes."),
                HEARD: tr(
                    "Whether the track is heard in playback, and why not. M mutes the selected tracks, S solos them."
                ),
            }.get(column)
        return None

    def _text(self, entry: FileTrack, column: int) -> str:
        assert self._shown is not None
        clean = self._shown.outcome.output_notes
        mine = clean.track == entry.index
        if column == NAME:
            return entry.title
        if column == CHANNEL:
            if entry.channel is not None:
                return str(entry.channel)
            return ", ".join(map(str, distinct(clean.channel[mine]).tolist()))
        if column == HEARD:
            return tr(monitoring.track_words(entry, self._session, self._frozen))
        if column == NOTES:
            return text_format.count(int(np.count_nonzero(mine)))
        if column == NUMBERS:
            notes = distinct(clean.note[mine]).tolist()
            return ", ".join(map(str, notes)) if len(notes) <= 7 else f"{notes[0]}–{notes[-1]}"
        return ""

    def setData(self, index: _Index, value: object, role: int = 0) -> bool:
        key = self.track(index.row()).track.key
        if role == Qt.ItemDataRole.CheckStateRole and index.column() == OUT:
            self.out_switched.emit(key, Qt.CheckState(value) == Qt.CheckState.Checked)
            return True
        if role != Qt.ItemDataRole.EditRole or index.column() != NAME:
            return False
        self.renamed.emit(key, str(value))
        return True


def _side(column: int) -> Qt.AlignmentFlag:
    return Qt.AlignmentFlag.AlignLeft if column in (NAME, OUT, HEARD, NUMBERS, PICTURE) else Qt.AlignmentFlag.AlignRight


class StretchPicture(QStyledItemDelegate):
    """Draws where in time a track has notes."""

    def __init__(self, model: TracksModel, parent: QWidget | None = None):
        super().__init__(parent)
        self._model = model

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: _Index) -> None:
        super().paint(painter, option, index)
        box = QRectF(option.rect).adjusted(8, 8, -8, -8)
        current = theme.current()
        painter.save()
        painter.fillRect(box, current.colour("shade"))
        painter.setPen(current.family(self._model.track(index.row()).colour))
        places = np.unique((box.left() + self._model.starts(index.row()) * box.width()).astype(int))
        for x in places.tolist():
            painter.drawLine(x, round(box.top()), x, round(box.bottom()))
        painter.restore()


class TracksTable(QTableView):
    """The table of tracks with its keys: M mutes, S solos, Space includes or leaves out, Enter renames.

    switch_requested  switch a setting of the selected tracks: "muted", "solo" or "out"
    """

    switch_requested = Signal(str)
    _FIELDS: ClassVar[dict[Qt.Key, str]] = {Qt.Key.Key_M: "muted", Qt.Key.Key_S: "solo", Qt.Key.Key_Space: "out"}

    def keyPressEvent(self, event: QKeyEvent) -> None:
        plain = event.modifiers() in (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.KeypadModifier)
        field = self._FIELDS.get(Qt.Key(event.key())) if plain else None
        if field is not None:
            self.switch_requested.emit(field)
        elif plain and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.currentIndex().isValid():
            self.edit(self.currentIndex().siblingAtColumn(NAME))
        else:
            super().keyPressEvent(event)
