"""The sitting strip: how densely hits came in, with clock times; a drag keeps a stretch as a take."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QFont,
    QFontMetricsF,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QWheelEvent,
)
from PySide6.QtWidgets import QHBoxLayout, QMenu, QMessageBox, QPushButton, QToolTip, QWidget

from puresignal.core.analysis import phrases, sitting_picture
from puresignal.core.analysis.sitting_picture import FoldedTime
from puresignal.translation import tr
from puresignal.ui.state.sitting_log import SittingLog
from puresignal.ui.widgets import text_format, theme

HEIGHT, LOW = 44, 24
"""Pixels; where the window is low, the clock's times are left out."""
TOP, FOOT = 7, 15
"""Pixels above the line, where brackets are, and below it, where the times stand."""
DRAGGED = 4
"""Pixels from which a press is a drag."""
CLOSEST = 0.02
"""Seconds of the line per pixel at which the view is closest."""
FRESH_MS = 100


class StripLine(QWidget):
    """The line itself.

    keep_requested  a stretch should become a take: its first and last second of the clock
    take_requested  a bracket was pressed: the take's ident
    """

    OWN_KEYS = (Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Return, Qt.Key.Key_Enter)

    keep_requested = Signal(float, float)
    take_requested = Signal(str)

    def __init__(self, log: SittingLog, parent: QWidget | None = None):
        super().__init__(parent)
        self._log = log
        self._line: FoldedTime | None = None
        self._made_of: object = None
        # What part of the line is seen, in its seconds; None: all of it.
        self._view: tuple[float, float] | None = None
        self._drag: tuple[float, float] | None = None
        self._chosen: tuple[float, float] | None = None
        self.setFixedHeight(HEIGHT)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName(tr("Sitting strip"))
        self.setToolTip(
            tr(
                "Everything that was played in this sitting, recorded or not. Drag over a stretch to keep it as a "
                "take. The wheel shows it closer; arrows choose a phrase, Enter keeps it."
            )
        )
        self._fresh = QTimer(self)
        self._fresh.setSingleShot(True)
        self._fresh.setInterval(FRESH_MS)
        self._fresh.timeout.connect(self._refresh)
        log.changed.connect(self._fresh.start)
        self._refresh()

    def sizeHint(self) -> QSize:
        return QSize(400, self.height())

    def set_low(self, low: bool) -> None:
        """Take less room, without the clock's times."""
        self.setFixedHeight(LOW if low else HEIGHT)

    @property
    def _foot(self) -> int:
        """Pixels below the line."""
        return FOOT if self.height() == HEIGHT else 6

    # Where things are

    def _refresh(self) -> None:
        shown = self._log.shown
        if self._made_of is not shown:
            self._view = self._chosen = None
        self._made_of = shown
        self._line = sitting_picture.folded(shown.on)
        if self._view is not None and self._view[1] > self._line.length:
            self._view = None
        count = text_format.counted(len(shown.on), "note")
        self.setAccessibleDescription(count)
        self.update()

    @property
    def line(self) -> FoldedTime:
        assert self._line is not None
        return self._line

    def in_view(self) -> tuple[float, float]:
        """The part of the line that is seen, in its seconds."""
        return self._view or (0.0, self.line.length)

    def x_of(self, at: float) -> float:
        """The pixel of a moment."""
        begin, end = self.in_view()
        place = float(self.line.place(np.array([at]))[0])
        return (place - begin) / (end - begin) * self.width()

    def _scale(self) -> float:
        """Pixels for a second of the line."""
        begin, end = self.in_view()
        return self.width() / (end - begin)

    def moment_at(self, x: float) -> float:
        """The moment at a pixel."""
        begin, end = self.in_view()
        return self.line.moment(begin + x / max(1, self.width()) * (end - begin))

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        current, painter, shown = theme.current(), QPainter(self), self._log.shown
        painter.fillRect(self.rect(), current.colour("sheet"))
        painter.setPen(QPen(current.colour("edge"), 1))
        base = self.height() - self._foot
        painter.drawLine(QLineF(0, base + 0.5, self.width(), base + 0.5))
        if not len(shown.on):
            painter.setFont(theme.font(9.5))
            painter.setPen(current.colour("faint"))
            text = tr("Everything you play appears here, recorded or not. Drag over it to keep a stretch as a take.")
            painter.drawText(QRectF(0, 0, self.width(), base), Qt.AlignmentFlag.AlignVCenter, text)
            self._paint_focus(painter)
            return
        self._paint_chosen(painter, base)
        begin, end = self.in_view()
        counts = sitting_picture.density(shown.on, self.line, begin, end, max(1, self.width()))
        most = max(1.0, float(np.quantile(counts[counts > 0], 0.98)) if (counts > 0).any() else 1.0)
        tall = base - TOP - 3
        painter.setPen(QPen(current.colour("ink"), 1))
        heights = np.minimum(1.0, counts / most) ** 0.8 * tall
        painter.drawLines(
            [QLineF(x + 0.5, base - max(2.0, heights[x]), x + 0.5, base) for x in np.flatnonzero(counts).tolist()]
        )
        self._paint_rounds(painter, base)
        self._paint_brackets(painter)
        self._paint_times(painter, base)
        self._paint_focus(painter)

    def _paint_focus(self, painter: QPainter) -> None:
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.current().colour("accent"), 2))
            painter.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))

    def _paint_chosen(self, painter: QPainter, base: float) -> None:
        span = self._dragged() or self._chosen
        if span is not None:
            left, right = self.x_of(span[0]), self.x_of(span[1])
            box = QRectF(left - 1, TOP - 4, max(3.0, right - left + 2), base - TOP + 4)
            painter.fillRect(box, theme.current().colour("chosen"))

    def _paint_rounds(self, painter: QPainter, base: float) -> None:
        """Where a round of the loop began: a tick that hangs from the line."""
        painter.setPen(QPen(theme.current().colour("accent"), 1.5))
        for at in self._log.shown.rounds:
            x = round(self.x_of(at)) + 0.5
            painter.drawLine(QLineF(x, base + 1, x, base + 5))

    def _paint_brackets(self, painter: QPainter) -> None:
        """Stretches that are takes."""
        painter.setPen(QPen(theme.current().colour("accent"), 1.5))
        for left, right, _ in self._bracket_places():
            left, right = round(left) + 0.5, round(right) + 0.5
            painter.drawPolyline([QPointF(left, TOP), QPointF(left, 2.5), QPointF(right, 2.5), QPointF(right, TOP)])

    def _bracket_places(self) -> list[tuple[float, float, str]]:
        found = []
        for begin, end, ident in self._log.brackets():
            left, right = self.x_of(begin), self.x_of(end)
            found.append((left - 1, max(right + 1, left + 4), ident))
        return found

    def _paint_times(self, painter: QPainter, base: float) -> None:
        """The clock's time where playing begins after a pause, as far as there is room; a fold is three dots."""
        current, line = theme.current(), self.line
        if self.height() < HEIGHT:
            return
        font = theme.font(8.5, QFont.Weight.Medium)
        metrics = QFontMetricsF(font)
        painter.setFont(font)
        painter.setPen(current.colour("faint"))
        free = 0.0
        for number, begin in enumerate(line.begins.tolist()):
            x = self.x_of(begin)
            if number and 0 < x < self.width():
                middle = x - (line.pause - sitting_picture.SHOWN_PAUSE / 4) / 2 * self._scale()
                for k in (-3, 0, 3):
                    painter.drawPoint(QPointF(middle + k, base - 4))
            text = self._log.shown.clock_time(begin)
            wide = metrics.horizontalAdvance(text)
            if x >= free and -1 <= x <= self.width() - wide:
                painter.drawText(QPointF(x, self.height() - 3.5), text)
                free = x + wide + 8

    # Pointer

    def _dragged(self) -> tuple[float, float] | None:
        """First and last moment of what is being dragged over."""
        if self._drag is None or abs(self._drag[1] - self._drag[0]) < DRAGGED:
            return None
        a, b = sorted(self._drag)
        return self.moment_at(a), self.moment_at(b)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton and len(self._log.shown.on):
            x = event.position().x()
            self._drag, self._chosen = (x, x), None
            self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drag is None:
            return
        self._drag = (self._drag[0], min(max(0.0, event.position().x()), self.width()))
        span = self._dragged()
        if span is not None:
            QToolTip.showText(event.globalPosition().toPoint(), self._said(span), self)
        self.update()

    def _said(self, span: tuple[float, float]) -> str:
        """A stretch in words."""
        begin, end = span
        shown = self._log.shown
        return tr("{when} to {end}: {notes}. Let go to keep them as a take.").format(
            when=shown.clock_time(begin, True), end=shown.clock_time(end, True),
            notes=text_format.counted(self._log.notes_between(begin, end), "note"),
        )  # fmt: skip

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton or self._drag is None:
            return
        self._drag = (self._drag[0], min(max(0.0, event.position().x()), self.width()))
        span, self._drag = self._dragged(), None
        QToolTip.hideText()
        if span is not None:
            self.keep_requested.emit(*span)
        else:
            x = event.position().x()
            mine = next((ident for left, right, ident in self._bracket_places() if left <= x <= right), None)
            if mine is not None:
                self.take_requested.emit(mine)
            self._chosen = sitting_picture.phrase_at(self._log.shown.on, self.moment_at(x), phrases.PAUSE)
        self.update()

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Closer, or farther away; sideways it moves along."""
        begin, end = self.in_view()
        long, along = end - begin, event.angleDelta().x()
        if along:
            begin -= along / 120 * 0.1 * long
        turns = event.angleDelta().y() / 120
        if turns:
            at = begin + event.position().x() / max(1, self.width()) * long
            wide = min(self.line.length, max(CLOSEST * self.width(), long * 0.8**turns))
            begin, long = at - (at - begin) / long * wide, wide
        begin = min(max(0.0, begin), self.line.length - long)
        self._view = None if long >= self.line.length - 1e-6 else (begin, begin + long)
        self.update()
        event.accept()

    # Keys

    def keyPressEvent(self, event: QKeyEvent) -> None:
        on, key = self._log.shown.on, event.key()
        steps = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._chosen is not None:
            self.keep_requested.emit(*self._chosen)
        elif key in steps and len(on):
            self._step(steps[Qt.Key(key)])
        elif key == Qt.Key.Key_Escape and (self._chosen or self._drag):
            self._chosen = self._drag = None
        else:
            super().keyPressEvent(event)
            return
        self.update()

    def _step(self, by: int) -> None:
        """Choose the next phrase, or the one before; the last one first."""
        on = self._log.shown.on
        cuts = np.flatnonzero(np.diff(on) > phrases.PAUSE) + 1
        firsts = on[np.concatenate([[0], cuts])]
        which = len(firsts) - 1
        if self._chosen is not None:
            which = int(np.clip(np.searchsorted(firsts, self._chosen[0], "right") - 1 + by, 0, len(firsts) - 1))
        self._chosen = sitting_picture.phrase_at(on, float(firsts[which]), phrases.PAUSE)
        if self._chosen is not None:
            self.setAccessibleDescription(self._said(self._chosen))


class SittingStrip(QWidget):
    """The line, with the button for earlier sittings at its left end."""

    def __init__(self, log: SittingLog, choose_take: Callable[[str], None], parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("strip")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._log = log
        self.line = StripLine(log)
        self.line.keep_requested.connect(log.keep)
        self.line.take_requested.connect(choose_take)
        self.earlier = QPushButton("◂")
        self.earlier.setObjectName("small")
        self.earlier.setAccessibleName(tr("Earlier sittings"))
        self.earlier.setToolTip(tr("Show what was played before the program was started this time."))
        self.earlier.clicked.connect(lambda: self._other(1))
        self.later = QPushButton()
        self.later.setObjectName("small")
        self.later.clicked.connect(lambda: self._other(-1))
        self.later.hide()
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 0, 12, 0)
        row.setSpacing(6)
        row.addWidget(self.earlier)
        row.addWidget(self.line, 1)
        row.addWidget(self.later)
        self.setFixedHeight(HEIGHT + 1)
        log.changed.connect(self._refresh)

    def set_low(self, low: bool) -> None:
        """Take less room: the window is low."""
        self.line.set_low(low)
        self.setFixedHeight((LOW if low else HEIGHT) + 1)

    def _other(self, step: int) -> None:
        if not self._log.show_other(step):
            self.earlier.setEnabled(False)
            self.earlier.setToolTip(tr("There is no earlier sitting."))
        self._refresh()

    def _refresh(self) -> None:
        shown = self._log.shown
        is_now = shown is self._log.now
        self.later.setVisible(not is_now)
        if not is_now:
            self.later.setText(f"{shown.day()} ▸")
            self.later.setAccessibleName(tr("Later sittings"))
            self.later.setToolTip(tr("An earlier sitting is shown. This leads back to the one after it."))

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        self.menu().exec(event.globalPos())

    def menu(self) -> QMenu:
        """The menu of the sitting that is shown."""
        menu = QMenu(self)
        menu.addAction(tr("Earlier sitting"), lambda: self._other(1))
        if self._log.shown is not self._log.now:
            menu.addAction(tr("Later sitting"), lambda: self._other(-1))
            menu.addAction(tr("Throw this sitting away…"), self._throw_away)
        return menu

    def _throw_away(self) -> None:
        shown = self._log.shown
        box = QMessageBox(self.window())
        box.setIcon(QMessageBox.Icon.Question)
        box.setText(
            tr("Throw away {notes}, played on {day}? Takes that were kept of it stay in their sessions.").format(
                notes=text_format.counted(len(shown.on), "note"), day=shown.day()
            )
        )
        away = box.addButton(tr("Throw away"), QMessageBox.ButtonRole.DestructiveRole)
        box.addButton(QMessageBox.StandardButton.Cancel)
        box.exec()
        if box.clickedButton() is away:
            self._log.throw_away()
