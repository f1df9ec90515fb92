"""The shared part of the models of the list of events: heads, columns that can be typed in, and alignment."""

from __future__ import annotations

from typing import Any, ClassVar

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt

from puresignal.translation import tr

Index = QModelIndex | QPersistentModelIndex


class RowModel(QAbstractTableModel):
    """Rows of texts.

    heads     what stands over the columns, to be translated
    editable  the columns that can be typed in
    words     the columns of words, which begin at the left; numbers end at the right
    """

    heads: ClassVar[tuple[str, ...]] = ()
    editable: ClassVar[tuple[int, ...]] = ()
    words: ClassVar[tuple[int, ...]] = ()

    def count(self) -> int:
        """The number of rows."""
        raise NotImplementedError

    def text_at(self, row: int, column: int) -> str:
        """A value as it is shown."""
        raise NotImplementedError

    def rowCount(self, parent: Index | None = None) -> int:
        return 0 if parent is not None and parent.isValid() else self.count()

    def columnCount(self, parent: Index | None = None) -> int:
        return len(self.heads)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return tr(self.heads[section])
        return None

    def flags(self, index: Index) -> Qt.ItemFlag:
        flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        return flags | Qt.ItemFlag.ItemIsEditable if index.column() in self.editable else flags

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role == Qt.ItemDataRole.TextAlignmentRole:
            left = index.column() in self.words
            side = Qt.AlignmentFlag.AlignLeft if left else Qt.AlignmentFlag.AlignRight
            return Qt.AlignmentFlag.AlignVCenter | side
        if role not in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return None
        return self.text_at(index.row(), index.column())
