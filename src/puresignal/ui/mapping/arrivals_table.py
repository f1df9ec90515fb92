"""The mapping as a table: what arrives, what it means, what leaves, and how hard and how often."""

from __future__ import annotations

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, QRectF, Qt, Signal
from PySide6.QtGui import QFont, QKeyEvent, QPainter
from PySide6.QtWidgets import QHeaderView, QStyledItemDelegate, QStyleOptionViewItem, QTableView, QWidget

from puresignal.core.analysis.take_overview import Arrival
from puresignal.core.kit.articulations import family_of, spoken
from puresignal.translation import mark, tr
from puresignal.ui.widgets import text_format, theme

_HEADS = (mark("arrives"), mark("channel"), mark("articulation"), mark("leaves"), mark("count"), mark("velocities"),
          mark("softest"), mark("median"), mark("loudest"))  # fmt: skip
_PICTURE = 5
_Index = QModelIndex | QPersistentModelIndex


class ArrivalsModel(QAbstractTableModel):
    """The notes that arrive, one per line."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self._rows: tuple[Arrival, ...] = ()

    def show_rows(self, rows: tuple[Arrival, ...]) -> None:
        self.beginResetModel()
        self._rows = rows
        self.endResetModel()

    def row(self, index: int) -> Arrival:
        return self._rows[index]

    def rowCount(self, parent: _Index | None = None) -> int:
        return 0 if parent is not None and parent.isValid() else len(self._rows)

    def columnCount(self, parent: _Index | None = None) -> int:
        return len(_HEADS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = 0) -> object:
        if orientation == Qt.Orientation.Horizontal:
            if role == Qt.ItemDataRole.DisplayRole:
                return tr(_HEADS[section])
            if role == Qt.ItemDataRole.TextAlignmentRole:
                return Qt.AlignmentFlag.AlignVCenter | _side(section)
        return None

    def data(self, index: _Index, role: int = 0) -> object:
        row, column = self._rows[index.row()], index.column()
        if role == Qt.ItemDataRole.DisplayRole:
            named = " / ".join(spoken(name) for name in row.articulations)
            what = tr("unmapped") if row.unmapped else named or tr("not a drum of this kit")
            texts = (
                str(row.note), str(row.channel), what,
                ", ".join(map(str, row.leaves)) or "–", text_format.count(row.count), "",
                str(row.softest), str(row.middle), str(row.loudest),
            )  # fmt: skip
            return texts[column]
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignVCenter | _side(column)
        if role == Qt.ItemDataRole.ForegroundRole and column == 2:
            current = theme.current()
            return current.colour("accent") if row.unmapped else current.family(_family(row))
        if role == Qt.ItemDataRole.FontRole and column in (0, 2):
            return theme.font(10, QFont.Weight.DemiBold)
        if role == Qt.ItemDataRole.AccessibleTextRole and column == _PICTURE:
            return tr(
                "{softest} to {loudest}, median {middle}", softest=row.softest, loudest=row.loudest, middle=row.middle
            )
        if role == Qt.ItemDataRole.ToolTipRole:
            if row.unmapped:
                return tr("This note is not in the source map. Choose another map, or add the note in Mapping.")
            return tr("{hits} on note {note}, channel {channel}").format(
                hits=text_format.counted(row.count, "hit"), note=row.note, channel=row.channel
            )
        return None


def _side(column: int) -> Qt.AlignmentFlag:
    left = column in (2, _PICTURE)
    return Qt.AlignmentFlag.AlignLeft if left else Qt.AlignmentFlag.AlignRight


def _family(row: Arrival) -> str:
    return family_of(row.articulations[0]) if row.articulations else "other"


class VelocityPicture(QStyledItemDelegate):
    """Draws a row's velocity histogram, eight velocities per column."""

    def __init__(self, model: ArrivalsModel, parent: QWidget | None = None):
        super().__init__(parent)
        self._model = model

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: _Index) -> None:
        super().paint(painter, option, index)
        row = self._model.row(index.row())
        current = theme.current()
        box = QRectF(option.rect).adjusted(8, 5, -8, -5)
        most = max(row.histogram)
        step = box.width() / len(row.histogram)
        painter.save()
        painter.setPen(current.colour("line"))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(current.colour("accent") if row.unmapped else current.family(_family(row)))
        for i, count in enumerate(row.histogram):
            if count:
                height = max(2.0, count / most * box.height())
                painter.drawRect(QRectF(box.left() + i * step + 1, box.bottom() - height, step - 2, height))
        painter.restore()


class ArrivalsTable(QTableView):
    """The table. A double click, Enter or Space on a row shows its hits.

    hits_requested  the row
    """

    hits_requested = Signal(int)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.arrivals = ArrivalsModel(self)
        self.setModel(self.arrivals)
        self.setItemDelegateForColumn(_PICTURE, VelocityPicture(self.arrivals, self))
        self.setAccessibleName(tr("Notes that arrive"))
        self.setToolTip(tr("Every note that arrives, most frequent first. Enter shows the hits in Takes."))
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(30)
        self.setShowGrid(False)
        self.setWordWrap(False)
        self.setAlternatingRowColors(True)
        self.setSelectionBehavior(QTableView.SelectionBehavior.SelectRows)
        self.setTabKeyNavigation(False)
        self.doubleClicked.connect(lambda index: self.hits_requested.emit(index.row()))
        head = self.horizontalHeader()
        head.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        head.setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        head.setMinimumSectionSize(48)
        self.set_compact(False)

    def set_compact(self, compact: bool) -> None:
        """Use narrower columns in a small window."""
        widths = (58, 68, 140, 76, 58, 96, 60, 60, 62) if compact else (70, 76, 240, 96, 66, 150, 70, 70, 74)
        for i, width in enumerate(widths):
            if i != 2:
                self.setColumnWidth(i, width)

    def show_rows(self, rows: tuple[Arrival, ...], channels: int) -> None:
        """Show the notes. channels: of a single one there is no column."""
        self.arrivals.show_rows(rows)
        self.setColumnHidden(1, channels < 2)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        plain = not event.modifiers() & ~Qt.KeyboardModifier.KeypadModifier
        if plain and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.hits_requested.emit(self.currentIndex().row())
        else:
            super().keyPressEvent(event)
