"""The Outputs view: the tracks, what the file will hold, and saving it."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, QRectF, Qt, Signal
from PySide6.QtGui import QFont, QPainter
from PySide6.QtWidgets import (
    QComboBox,
    QFrame,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QPushButton,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from puresignal.core import session as edits
from puresignal.core.deliver import FileTrack
from puresignal.ui import theme, words
from puresignal.ui.model import Shown, Workbench

_HEADS = ("", "track", "channel", "notes", "note numbers", "controls", "in the take")
_NAME, _PICTURE = 1, 6
_Index = QModelIndex | QPersistentModelIndex


class TracksModel(QAbstractTableModel):
    """The tracks of the file to be. Names can be edited.

    renamed  (track key, new name)
    """

    renamed = Signal(str, str)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self._shown: Shown | None = None

    def show_take(self, shown: Shown | None) -> None:
        self.beginResetModel()
        self._shown = shown
        self.endResetModel()

    def track(self, row: int) -> FileTrack:
        assert self._shown is not None
        return self._shown.tracks[row]

    def starts(self, row: int) -> np.ndarray:
        """Starts of a track's notes as parts of the take's length, 0..1."""
        assert self._shown is not None
        clean = self._shown.outcome.clean
        starts: np.ndarray = clean.start[clean.track == self.track(row).index] / max(0.1, self._shown.take.length)
        return starts

    def rowCount(self, parent: _Index | None = None) -> int:
        return 0 if self._shown is None or (parent is not None and parent.isValid()) else len(self._shown.tracks)

    def columnCount(self, parent: _Index | None = None) -> int:
        return len(_HEADS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = 0) -> object:
        if orientation == Qt.Orientation.Horizontal:
            if role == Qt.ItemDataRole.DisplayRole:
                return self.tr(_HEADS[section]) if _HEADS[section] else ""
            if role == Qt.ItemDataRole.TextAlignmentRole:
                return Qt.AlignmentFlag.AlignVCenter | _side(section)
        return None

    def flags(self, index: _Index) -> Qt.ItemFlag:
        flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        return flags | Qt.ItemFlag.ItemIsEditable if index.column() == _NAME else flags

    def data(self, index: _Index, role: int = 0) -> object:
        assert self._shown is not None
        entry, column = self.track(index.row()), index.column()
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return self._text(entry, column)
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignVCenter | _side(column)
        if role == Qt.ItemDataRole.BackgroundRole and column == 0:
            return theme.current().family(entry.track.family)
        if role == Qt.ItemDataRole.FontRole and column == _NAME:
            return theme.font(10, QFont.Weight.DemiBold)
        if role == Qt.ItemDataRole.ToolTipRole and column == _NAME:
            return self.tr("Double-click or F2 to give the track another name; an empty name gives it its own back.")
        return None

    def _text(self, entry: FileTrack, column: int) -> str:
        assert self._shown is not None
        clean, controls = self._shown.outcome.clean, self._shown.outcome.controls
        mine = clean.track == entry.index
        if column == _NAME:
            return entry.title
        if column == 2:
            return ", ".join(map(str, np.unique(clean.channel[mine]).tolist()))
        if column == 3:
            return words.count(int(np.count_nonzero(mine)))
        if column == 4:
            notes = np.unique(clean.note[mine]).tolist()
            return ", ".join(map(str, notes)) if len(notes) <= 8 else f"{notes[0]}–{notes[-1]}"
        if column == 5:
            return words.count(int(np.count_nonzero(controls.track == entry.index)))
        return ""

    def setData(self, index: _Index, value: object, role: int = 0) -> bool:
        if role != Qt.ItemDataRole.EditRole or index.column() != _NAME:
            return False
        self.renamed.emit(self.track(index.row()).track.key, str(value))
        return True


def _side(column: int) -> Qt.AlignmentFlag:
    return Qt.AlignmentFlag.AlignLeft if column in (_NAME, 4, _PICTURE) else Qt.AlignmentFlag.AlignRight


class StretchPicture(QStyledItemDelegate):
    """Draws where in the take a track has notes."""

    def __init__(self, model: TracksModel, parent: QWidget | None = None):
        super().__init__(parent)
        self._model = model

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: _Index) -> None:
        super().paint(painter, option, index)
        box = QRectF(option.rect).adjusted(8, 8, -8, -8)  # type: ignore[attr-defined]
        worn = theme.current()
        painter.save()
        painter.fillRect(box, worn.colour("shade"))
        painter.setPen(worn.family(self._model.track(index.row()).track.family))
        places = np.unique((box.left() + self._model.starts(index.row()) * box.width()).astype(int))
        for x in places.tolist():
            painter.drawLine(x, round(box.top()), x, round(box.bottom()))
        painter.restore()


class OutputsView(QWidget):
    """Tracks on the left, the file on the right.

    save_asked  the player wants the MIDI file saved
    """

    save_asked = Signal()

    _SPLITS = (
        ("drum", "A track for each drum"),
        ("family", "A track for each family"),
        ("one", "All drums on one track"),
    )

    def __init__(self, workbench: Workbench, parent: QWidget | None = None):
        super().__init__(parent)
        self._workbench = workbench
        self.title = QLabel(self.tr("Tracks"))
        self.title.setObjectName("title")
        self.model = TracksModel(self)
        self.model.renamed.connect(self._rename)
        self.table = self._make_table()
        self.split = QComboBox()
        for key, label in self._SPLITS:
            self.split.addItem(self.tr(label), key)
        self.split.setAccessibleName(self.tr("How the drums are split to tracks"))
        self.split.setToolTip(self.tr("How the drums are split to tracks. Nothing is lost in going back and forth."))
        self.split.activated.connect(self._split)

        top = QHBoxLayout()
        top.addWidget(self.title)
        top.addStretch()
        top.addWidget(self.split)
        left = QVBoxLayout()
        left.setSpacing(10)
        left.addLayout(top)
        left.addWidget(self.table, 1)
        row = QHBoxLayout(self)
        row.setContentsMargins(20, 16, 20, 16)
        row.setSpacing(18)
        row.addLayout(left, 1)
        row.addWidget(self._make_file_panel())

    def _make_table(self) -> QTableView:
        table = QTableView()
        table.setModel(self.model)
        table.setItemDelegateForColumn(_PICTURE, StretchPicture(self.model, table))
        table.setAccessibleName(self.tr("Tracks of the file"))
        table.setToolTip(self.tr("The tracks that the file will hold, in their order."))
        table.verticalHeader().hide()
        table.verticalHeader().setDefaultSectionSize(34)
        table.setShowGrid(False)
        table.setSelectionBehavior(QTableView.SelectionBehavior.SelectRows)
        table.setTabKeyNavigation(False)
        head = table.horizontalHeader()
        head.setMinimumSectionSize(6)
        head.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        for i, width in enumerate((6, 150, 70, 64, 130, 74, 160)):
            table.setColumnWidth(i, width)
        head.setSectionResizeMode(_PICTURE, QHeaderView.ResizeMode.Stretch)
        return table

    def _make_file_panel(self) -> QFrame:
        panel = QFrame()
        panel.setObjectName("panel")
        panel.setFixedWidth(272)
        column = QVBoxLayout(panel)
        column.setContentsMargins(16, 14, 16, 14)
        column.setSpacing(8)
        title = QLabel(self.tr("The file"))
        title.setObjectName("figure")
        self.contents = QLabel()
        self.contents.setWordWrap(True)
        self.contents.setTextFormat(Qt.TextFormat.PlainText)
        self.save = QPushButton(self.tr("Save MIDI file…"))
        self.save.setObjectName("main")
        self.save.setToolTip(self.tr("Save the clean take as a Standard MIDI File (Ctrl+E)."))
        self.save.setAccessibleName(self.tr("Save MIDI file"))
        self.save.clicked.connect(self.save_asked)
        column.addWidget(title)
        column.addWidget(self.contents)
        column.addSpacing(6)
        column.addWidget(self.save)
        column.addStretch()
        return panel

    def show_take(self, shown: Shown | None) -> None:
        """The current take's tracks and file."""
        self.model.show_take(shown)
        self.save.setEnabled(shown is not None)
        self.split.setCurrentIndex(self.split.findData(self._workbench.session.path.split.by))
        if shown is None:
            self.contents.setText(self.tr("There is no take to save yet."))
            return
        tempo, clean = shown.take.tempo, shown.outcome.clean
        lines = [
            self.tr("Standard MIDI File, type 1"),
            self.tr("{n} with names, and one for tempo and meter").format(n=words.counted(len(shown.tracks), "track")),
            words.counted(len(clean), "note") + ", " + words.counted(len(shown.outcome.controls), "control"),
            f"{words.tempo(tempo)}, {words.meter(tempo)}",
            self.tr("{n} ticks a quarter note").format(n=words.count(tempo.ppq)),
            words.duration(shown.take.length),
            words.size(len(self._workbench.midi_bytes())),
        ]
        self.contents.setText("\n".join(lines))

    def _rename(self, key: str, title: str) -> None:
        bench = self._workbench
        bench.do(self.tr("name track"), edits.with_title(bench.session, key, title))

    def _split(self) -> None:
        bench = self._workbench
        bench.do(self.tr("split tracks"), edits.with_split(bench.session, str(self.split.currentData())))
