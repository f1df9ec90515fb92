"""Earlier playing: every phrase in the journal, to be added as a take although it was not recorded."""

from __future__ import annotations

import time
from dataclasses import dataclass

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFont, QPainter
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QVBoxLayout,
    QWidget,
)

from puresignal.core.analysis.phrases import Stretch, rows_of, stretches
from puresignal.io.journal import Sitting
from puresignal.translation import tr
from puresignal.ui.widgets import text_format, theme
from puresignal.ui.widgets.plain_text import PlainLabel

_KEPT = Qt.ItemDataRole.UserRole
_Index = QModelIndex | QPersistentModelIndex


@dataclass(frozen=True)
class KeptStretch:
    """A phrase and the sitting it belongs to."""

    sitting: Sitting
    stretch: Stretch

    @property
    def port(self) -> str:
        return self.sitting.inputs[self.stretch.port] if self.stretch.port < len(self.sitting.inputs) else ""

    def rows(self) -> list[tuple[float, int, bytes]]:
        return rows_of(self.sitting.rows, self.stretch)

    def when(self) -> str:
        """Wall clock time of its start."""
        last = self.sitting.rows[-1][0]
        began = self.sitting.ended - (last - self.stretch.begin)
        form = "%H:%M:%S" if time.time() - began < 86_400 else "%d %B, %H:%M"
        return time.strftime(form, time.localtime(began))


class StretchPicture(QStyledItemDelegate):
    """Draws a phrase: time, length, number of notes, and their density."""

    def sizeHint(self, option: QStyleOptionViewItem, index: _Index) -> QSize:
        return QSize(420, 58)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: _Index) -> None:
        super().paint(painter, option, index)
        kept: KeptStretch = index.data(_KEPT)
        current, stretch = theme.current(), kept.stretch
        box = QRectF(option.rect).adjusted(12, 7, -12, -7)
        painter.save()
        painter.setPen(current.colour("ink"))
        painter.setFont(theme.font(10.5, QFont.Weight.DemiBold))
        painter.drawText(box, Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft, kept.when())
        painter.setFont(theme.font(9.5))
        painter.setPen(current.colour("faint"))
        length = text_format.duration(stretch.end - stretch.begin)
        text = f"{length} · {text_format.counted(stretch.notes, 'note')} · {kept.port}"
        painter.drawText(box, Qt.AlignmentFlag.AlignBottom | Qt.AlignmentFlag.AlignLeft, text)
        picture = QRectF(box.right() - 190, box.top(), 190, box.height())
        most, step = max(*stretch.picture, 1), picture.width() / len(stretch.picture)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(current.colour("ink"))
        for i, count in enumerate(stretch.picture):
            if count:
                height = max(2.0, count / most * picture.height())
                painter.drawRect(QRectF(picture.left() + i * step, picture.bottom() - height, step - 1, height))
        painter.restore()


class JournalDialog(QDialog):
    """The list of phrases, newest first.

    chosen  a phrase should become a take: the KeptStretch
    """

    chosen = Signal(object)

    def __init__(self, sittings: list[Sitting], parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle(tr("Keep earlier playing"))
        self.resize(560, 460)
        about = PlainLabel(
            tr("Everything that arrives is kept, recorded or not. Each line is a phrase; a pause starts a new one.")
        )
        about.setWordWrap(True)
        about.setObjectName("faint")
        self.list = QListWidget()
        self.list.setItemDelegate(StretchPicture(self.list))
        self.list.setAlternatingRowColors(True)
        self.list.setAccessibleName(tr("Phrases, newest first"))
        found = [KeptStretch(s, stretch) for s in sittings for stretch in reversed(stretches(s.rows))]
        for kept in found:
            item = QListWidgetItem()
            item.setData(_KEPT, kept)
            item.setData(
                Qt.ItemDataRole.AccessibleTextRole,
                f"{kept.when()}, {text_format.counted(kept.stretch.notes, 'note')}, {kept.port}",
            )
            self.list.addItem(item)
        self.keep = QPushButton(tr("Add as a take"))
        self.keep.setObjectName("main")
        self.keep.setToolTip(tr("Adds the selected phrase to this session as a take. It also stays here."))
        self.keep.setEnabled(bool(found))
        self.keep.clicked.connect(self._keep)
        self.list.itemActivated.connect(lambda _: self._keep())
        close = QPushButton(tr("Close"))
        close.clicked.connect(self.close)
        row = QHBoxLayout()
        row.addStretch()
        row.addWidget(close)
        row.addWidget(self.keep)
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 14, 16, 14)
        column.addWidget(about)
        if not found:
            column.addWidget(PlainLabel(tr("Nothing has been played yet. Choose a port and press Start listening.")))
        column.addWidget(self.list, 1)
        column.addLayout(row)
        if found:
            self.list.setCurrentRow(0)

    def _keep(self) -> None:
        item = self.list.currentItem()
        if item is not None:
            self.chosen.emit(item.data(_KEPT))
