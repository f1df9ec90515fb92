"""The message list: newest last, filtered, with a pause. Keeps up with thousands of messages per second."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable

from PySide6.QtCore import QAbstractListModel, QModelIndex, QPersistentModelIndex, QRect, QSize, Qt
from PySide6.QtGui import QPainter, QShowEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QHBoxLayout,
    QListView,
    QPushButton,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QVBoxLayout,
    QWidget,
)

from puresignal.core.diagnosis import message_text
from puresignal.core.path.context import Context
from puresignal.engine.ring import Record
from puresignal.translation import tr
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.widgets import text_format, theme
from puresignal.ui.widgets.plain_text import PlainLabel

MOST = 5000
"""Messages in the list; the journal keeps all."""
COLOUR = Qt.ItemDataRole.UserRole
"""Role of the name of a line's colour."""
_Index = QModelIndex | QPersistentModelIndex


class MessagesModel(QAbstractListModel):
    """Messages; each is formatted only when its line is visible."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self._rows: deque[Record] = deque()
        self.context_of: Callable[[Record], Context] = lambda _: Context()
        self.begin = 0.0

    def rowCount(self, parent: _Index | None = None) -> int:
        return 0 if parent is not None and parent.isValid() else len(self._rows)

    def data(self, index: _Index, role: int = 0) -> object:
        if role == Qt.ItemDataRole.DisplayRole:
            record = self._rows[index.row()]
            moment, raw = f"{record.at - self.begin:.3f}", record.data[:3].hex(" ")
            return f"{moment}\t{raw}\t{message_text.say(record.data, self.context_of(record))}"
        if role == COLOUR:
            return "ink" if message_text.sort_of(self._rows[index.row()].data) == message_text.NOTES else "faint"
        return None

    def add(self, records: list[Record]) -> None:
        records = records[-MOST:]
        over = len(self._rows) + len(records) - MOST
        if over > 0:
            self.beginRemoveRows(QModelIndex(), 0, over - 1)
            for _ in range(over):
                self._rows.popleft()
            self.endRemoveRows()
        first = len(self._rows)
        self.beginInsertRows(QModelIndex(), first, first + len(records) - 1)
        self._rows.extend(records)
        self.endInsertRows()

    def clear(self) -> None:
        self.beginResetModel()
        self._rows.clear()
        self.endResetModel()


class MessageLines(QStyledItemDelegate):
    """Draws a message in three columns, which are as narrow as the font allows: the meaning needs the width."""

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: _Index) -> None:
        self.initStyleOption(option, index)
        cells, box = option.text.split("\t", 2), option.rect
        option.text = ""
        option.widget.style().drawControl(QStyle.ControlElement.CE_ItemViewItem, option, painter, option.widget)
        painter.save()
        painter.setFont(option.font)
        painter.setPen(theme.current().colour(str(index.data(COLOUR))))
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        at = box.left()
        for text, wide, where in zip(cells, (*self._wide(option), box.width()), (right, left, left), strict=True):
            painter.drawText(QRect(at, box.top(), wide, box.height()), where, text)
            at += wide + APART
        painter.restore()

    def sizeHint(self, option: QStyleOptionViewItem, index: _Index) -> QSize:
        self.initStyleOption(option, index)
        size, metrics = super().sizeHint(option, index), option.fontMetrics
        meaning = metrics.horizontalAdvance(option.text.split("\t", 2)[-1])
        return QSize(sum(self._wide(option)) + 2 * APART + meaning + 4, size.height())

    @staticmethod
    def _wide(option: QStyleOptionViewItem) -> tuple[int, int]:
        metrics = option.fontMetrics
        return metrics.horizontalAdvance("0000.000"), metrics.horizontalAdvance("b0 d0 bd ")


APART = 9
"""Pixels between the columns."""


class MessageList(QWidget):
    """The list with filter and pause."""

    def __init__(self, live_session: LiveSession, leaving: bool = False, parent: QWidget | None = None):
        """leaving: list outgoing messages instead of incoming ones."""
        super().__init__(parent)
        self.model = MessagesModel(self)
        self._leaving = leaving
        self._waiting: list[Record] = []
        self._behind = False
        self.list = QListView()
        self.list.setModel(self.model)
        self.list.setItemDelegate(MessageLines(self.list))
        self.list.setUniformItemSizes(True)
        self.list.setSpacing(2)
        self.list.setAccessibleName(tr("Outgoing messages") if leaving else tr("Incoming messages"))
        self.list.setToolTip(
            tr("Every outgoing message: seconds, bytes, and meaning.")
            if leaving
            else tr("Every incoming message: seconds, bytes, and meaning.")
        )
        self.count = PlainLabel()
        self.count.setObjectName("faint")
        self.filters: dict[str, QCheckBox] = {}
        top = QHBoxLayout()
        for sort, on in ((message_text.NOTES, True), (message_text.CONTROLS, True), (message_text.SYSTEM, False)):
            box = QCheckBox(tr(sort))
            box.setChecked(on)
            box.setToolTip(tr("List {sort}. All messages are kept in the journal.").format(sort=tr(sort)))
            box.setAccessibleName(tr("List {sort}").format(sort=tr(sort)))
            self.filters[sort] = box
            top.addWidget(box)
        top.addStretch()
        top.addWidget(self.count)
        self.pause = QPushButton(tr("Pause"))
        self.pause.setCheckable(True)
        self.pause.setToolTip(tr("Freezes the list for reading; new messages are added afterwards."))
        self.pause.setAccessibleName(tr("Pause the list"))
        self.pause.toggled.connect(lambda _: self._flow())
        top.addWidget(self.pause)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addLayout(top)
        column.addWidget(self.list, 1)
        (live_session.messages_sent if leaving else live_session.messages_received).connect(self._take)
        live_session.started.connect(lambda: self._start(live_session))
        self._total = 0
        if live_session.listening:
            self._start(live_session)
            self._take(live_session.recent(leaving))

    def _start(self, live_session: LiveSession) -> None:
        self.model.clear()
        self.model.context_of = live_session.context_of if not self._leaving else lambda _: Context()
        self._waiting, self._total, self.model.begin = [], 0, 0.0

    def _take(self, records: list[Record]) -> None:
        if not self._total and records:
            self.model.begin = records[0].at
        self._total += len(records)
        chosen = {sort for sort, box in self.filters.items() if box.isChecked()}
        self._waiting += [r for r in records if message_text.sort_of(r.data) in chosen]
        self._waiting = self._waiting[-MOST:]
        self._flow()

    def _flow(self) -> None:
        self.count.setText(text_format.counted(self._total, "message"))
        if self.pause.isChecked() or not self._waiting:
            return
        bar = self.list.verticalScrollBar()
        at_end = bar.value() >= bar.maximum() - 2
        self.model.add(self._waiting)
        self._waiting = []
        # A list that nobody sees costs time for nothing: it is a large part of a busy player's.
        if at_end and self.isVisible():
            self.list.scrollToBottom()
        self._behind = (at_end or self._behind) and not self.isVisible()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        if self._behind:
            self._behind = False
            self.list.scrollToBottom()
