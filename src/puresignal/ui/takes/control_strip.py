"""A controller, bend or pressure below the sheet, drawn with the pointer; or the sounds that a track changes to."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QContextMenuEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QComboBox, QCompleter, QMenu, QWidget

from puresignal.core.midi.messages import PROGRAM
from puresignal.translation import tr
from puresignal.ui.state.control_lines import ControlLine, ControlLines
from puresignal.ui.takes.row_labels import GUTTER
from puresignal.ui.widgets import theme

HEIGHT = 92
EDGE = 9.0
THIN = 0.02
"""Part of the range by which a thinned line may be off."""
MOST = 3000
FLAG = 190
"""Pixels of the name of a sound."""


class ControlStrip(QWidget):
    """A drag draws the value along its line; Shift keeps it straight from where it began, Ctrl bends it smoothly."""

    def __init__(
        self, lines: ControlLines, x_of: Callable[[np.ndarray], np.ndarray], second_at: Callable[[float], float],
        selected: Callable[[], np.ndarray], stretch: Callable[[], tuple[float, float] | None],
        parent: QWidget | None = None,
    ):  # fmt: skip
        """selected: the selected notes; stretch: the range on the ruler, seconds of the sheet."""
        super().__init__(parent)
        self._lines, self._x_of, self._second_at = lines, x_of, second_at
        self._selected, self._stretch = selected, stretch
        self._line: ControlLine | None = None
        self._drawn: list[tuple[float, float]] = []
        self._from: QPointF | None = None
        self.what = QComboBox(self)
        self.what.setAccessibleName(tr("Controller in the strip"))
        self.what.setGeometry(10, 26, GUTTER - 62, 26)
        self.what.activated.connect(lambda _: self.show_line())
        self.sounds = SoundCombo(self)
        self.sounds.setAccessibleName(tr("Sound to change to"))
        self.sounds.setToolTip(tr("Type a part of its name, or choose it from the list. Escape leaves all as it is."))
        self.sounds.hide()
        self.sounds.activated.connect(self._take_sound)
        self.sounds.left.connect(self.setFocus)
        self._asked: tuple[float, int | None] = (0.0, None)
        self.setFixedHeight(HEIGHT)
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.setAccessibleName(tr("Controllers"))
        self.setToolTip(
            tr("Drag to draw. Shift draws a straight line, Ctrl a smooth one. Delete takes away what lies in the range "
               "on the ruler; the menu thins it out. A click changes the sound at a bar line; with Alt, anywhere.")
        )  # fmt: skip

    @property
    def line(self) -> ControlLine | None:
        return self._line

    def show_line(self) -> None:
        """Show the chosen controller of the chosen take."""
        kinds = self._lines.kinds()
        # As one number: the toolkit cannot compare pairs.
        wanted = [kind * 128 + number for kind, number, _ in kinds]
        if [self.what.itemData(i) for i in range(self.what.count())] != wanted:
            now = self.what.currentData()
            self.what.clear()
            for kind, number, words in kinds:
                self.what.addItem(words, kind * 128 + number)
            self.what.setCurrentIndex(max(0, self.what.findData(now)))
        kind, number = divmod(self.what.currentData(), 128)
        self._line = self._lines.line(kind, number, self._selected())
        self.what.setEnabled(self._line is not None)
        self.sounds.hide()
        self.update()

    def y_of(self, value: float) -> float:
        """Where a value is."""
        line = self._line
        low, high = (0.0, 127.0) if line is None else (line.low, line.high)
        return EDGE + (1 - (value - low) / (high - low)) * (self.height() - 2 * EDGE)

    def _value_at(self, y: float) -> float:
        assert self._line is not None
        part = 1 - (y - EDGE) / (self.height() - 2 * EDGE)
        low, high = self._line.low, self._line.high
        return float(np.clip(low + part * (high - low), low, high))

    # Drawing

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self._line is None or event.button() != Qt.MouseButton.LeftButton or event.position().x() < GUTTER:
            return
        self.setFocus()
        if self.shows_sounds:
            self._ask_sound(event.position(), bool(event.modifiers() & Qt.KeyboardModifier.AltModifier))
            return
        self._from = event.position()
        self._drawn = [self._point(event.position())]
        self.update()

    @property
    def shows_sounds(self) -> bool:
        """Whether it shows the sounds that the track changes to, in place of a line."""
        return self._line is not None and self._line.kind == PROGRAM

    def flag_at(self, x: float) -> int | None:
        """The change of sound whose flag is at a place, as its row in the line."""
        if self._line is None or not len(self._line.at):
            return None
        places = self._x_of(self._line.at)
        here = np.flatnonzero((places <= x + 3) & (places > x - FLAG))
        return int(here[-1]) if len(here) else None

    def _ask_sound(self, at: QPointF, anywhere: bool) -> None:
        """Ask which sound it changes to at a place."""
        line = self._line
        assert line is not None
        row = self.flag_at(at.x())
        second = max(0.0, self._second_at(at.x()))
        if row is not None:
            second = float(line.at[row])
        elif not anywhere:
            second = self._lines.nearest_bar(second)
        self._asked = second, row
        names = self._lines.names(line)
        place = names.place(None, int(line.value[row])) if row is not None else None
        self.sounds.show_names([one.name for one in names.sounds], place)
        left = float(self._x_of(np.array([second]))[0])
        self.sounds.setGeometry(round(min(max(GUTTER + 4, left), self.width() - FLAG - 4)), 30, FLAG, 26)
        self.sounds.show()
        self.sounds.setFocus()
        self.update()

    def _take_sound(self, place: int) -> None:
        line, (second, row) = self._line, self._asked
        self.sounds.hide()
        self.setFocus()
        if line is not None and self.shows_sounds and place >= 0:
            self._lines.set_sound(line, second, self._lines.names(line).sounds[place], row)
            self.show_line()

    def take_away(self, row: int) -> None:
        """Take a change of sound away."""
        if self._line is not None:
            self._lines.set_sound(self._line, 0.0, None, row)
            self.show_line()

    def _point(self, at: QPointF) -> tuple[float, float]:
        return max(0.0, self._second_at(max(GUTTER, at.x()))), round(self._value_at(at.y()))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._from is None:
            return
        held = event.modifiers()
        first, last = self._point(self._from), self._point(event.position())
        if held & Qt.KeyboardModifier.ControlModifier:
            # Slow to begin and to end.
            part = np.linspace(0, 1, 33)
            smooth = part * part * (3 - 2 * part)
            seconds, values = (first[i] + part_of * (last[i] - first[i]) for i, part_of in ((0, part), (1, smooth)))
            self._drawn = sorted(zip(seconds.tolist(), values.tolist(), strict=True))
        elif held & Qt.KeyboardModifier.ShiftModifier:
            self._drawn = sorted([first, last])
        else:
            # Going back draws over what was drawn.
            before = [one for one in self._drawn if (one[0] < last[0]) == (last[0] >= first[0])]
            self._drawn = sorted([*before, last]) if last[0] >= first[0] else sorted([last, *before])
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._from is None or self._line is None:
            return
        drawn, self._drawn, self._from = self._drawn, [], None
        by_second = dict(drawn)
        points = sorted(by_second.items())
        self._lines.draw(self._line, points, points[0][0], points[-1][0])
        self.show_line()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape and self._from is not None:
            self._drawn, self._from = [], None
            self.update()
        elif event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.erase()
        elif event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down) and self._line is not None and not self.shows_sounds:
            self._shift(1 if event.key() == Qt.Key.Key_Up else -1)
        else:
            super().keyPressEvent(event)

    def _range(self) -> tuple[float, float]:
        """The range on the ruler, or everything."""
        chosen = self._stretch()
        if chosen is not None:
            return chosen
        assert self._line is not None
        return float(self._line.shown[0]), float(self._line.shown[-1])

    def erase(self) -> None:
        """Take away what lies in the range."""
        if self._line is not None and self.shows_sounds:
            begin, end = self._range()
            for row in np.flatnonzero((self._line.at >= begin) & (self._line.at <= end)).tolist():
                self._lines.set_sound(self._line, 0.0, None, row)
            self.show_line()
        elif self._line is not None:
            self._lines.draw(self._line, [], *self._range())
            self.show_line()

    def thin(self) -> None:
        """Thin out what lies in the range."""
        line = self._line
        if line is not None:
            self._lines.thin(line, *self._range(), THIN * (line.high - line.low))
            self.show_line()

    def _shift(self, by: int) -> None:
        """All values in the range higher or lower by a sixteenth of it."""
        line = self._line
        if line is None:
            return
        begin, end = self._range()
        inside = (line.at >= begin) & (line.at <= end)
        if inside.any():
            value = np.clip(line.value[inside] + by * (line.high - line.low) / 32, line.low, line.high)
            points = _held(line.at[inside], np.rint(value))
            self._lines.draw(line, points, float(line.at[inside][0]), float(line.at[inside][-1]))
            self.show_line()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        menu = QMenu(self)
        row = self.flag_at(event.pos().x()) if self.shows_sounds else None
        if row is not None:
            menu.addAction(tr("Take this change of sound away")).triggered.connect(lambda: self.take_away(row))
        for label, act, able in (
            (tr("Take away what lies in the range"), self.erase, self._line is not None),
            (
                tr("Thin out what lies in the range"),
                self.thin,
                self._line is not None and len(self._line.at) > 2 and not self.shows_sounds,
            ),
            (tr("All controllers as they were played"), self._undraw, self._lines.as_drawn()),
        ):
            action = menu.addAction(label)
            action.setEnabled(able)
            action.triggered.connect(lambda _=False, a=act: a())
        menu.exec(event.globalPos())

    def _undraw(self) -> None:
        self._lines.undraw()
        self.show_line()

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, current, line = QPainter(self), theme.current(), self._line
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), current.colour("sheet"))
        painter.fillRect(QRectF(0, 0, GUTTER, self.height()), current.colour("shade"))
        painter.setPen(QPen(current.colour("edge"), 1))
        painter.drawLine(QLineF(0, 0.5, self.width(), 0.5))
        painter.setFont(theme.font(8))
        if line is None:
            painter.setPen(current.colour("faint"))
            painter.drawText(QRectF(14, 4, GUTTER - 20, 18), Qt.AlignmentFlag.AlignVCenter, tr("no notes"))
            return
        painter.setPen(current.colour("faint"))
        painter.drawText(QRectF(14, 4, GUTTER - 20, 18), Qt.AlignmentFlag.AlignVCenter, line.title)
        if self.shows_sounds:
            self._paint_flags(painter, line)
            return
        for value in (line.low, (line.low + line.high + 1) // 2 if line.low < 0 else 64, line.high):
            y = self.y_of(value)
            painter.setPen(current.colour("faint"))
            painter.drawText(
                QRectF(GUTTER - 44, y - 7, 38, 14), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                f"{value:.0f}",
            )  # fmt: skip
            painter.setPen(QPen(current.colour("line"), 1))
            painter.drawLine(QLineF(GUTTER, y, self.width(), y))
        painter.setClipRect(QRectF(GUTTER, 0, self.width() - GUTTER, self.height()))
        if len(line.at):
            x = self._x_of(line.at)
            seen = np.flatnonzero((x > GUTTER - 400) & (x < self.width() + 400))
            each = max(1, len(seen) // MOST)
            points = [QPointF(float(x[i]), self.y_of(float(line.value[i]))) for i in seen[::each].tolist()]
            steps = []
            for before, after in zip(points, [*points[1:], QPointF(self.width() + 10, 0)], strict=True):
                steps += [before, QPointF(after.x(), before.y())]
            painter.setPen(QPen(current.family("hat"), 1.8))
            painter.drawPolyline(QPolygonF(steps))
        if self._drawn:
            x = self._x_of(np.array([at for at, _ in self._drawn]))
            points = [QPointF(a, self.y_of(v)) for a, (_, v) in zip(x.tolist(), self._drawn, strict=True)]
            painter.setPen(QPen(current.colour("accent"), 2.2))
            painter.drawPolyline(QPolygonF(points))

    def _paint_flags(self, painter: QPainter, line: ControlLine) -> None:
        """The changes of sound, each with its number and name from its moment on."""
        current = theme.current()
        painter.setClipRect(QRectF(GUTTER, 0, self.width() - GUTTER, self.height()))
        if not len(line.at):
            painter.setPen(current.colour("faint"))
            area = QRectF(GUTTER + 14, 0, self.width() - GUTTER - 20, self.height())
            painter.drawText(area, Qt.AlignmentFlag.AlignVCenter, tr("Click at a bar line to change the sound there."))
            return
        x = self._x_of(line.at).tolist()
        for row, (left, after) in enumerate(zip(x, [*x[1:], x[-1] + 10_000.0], strict=True)):
            if after < GUTTER or left > self.width():
                continue
            right = min(after, float(self.width()) + 10)
            tint = QColor(current.family("hat"))
            tint.setAlpha(38 if row % 2 else 64)
            painter.fillRect(QRectF(left, EDGE, right - left, self.height() - 2 * EDGE), tint)
            painter.setPen(QPen(current.family("hat"), 2))
            painter.drawLine(QLineF(left, EDGE, left, self.height() - EDGE))
            # The name of what already holds stays in sight.
            begin = max(left, float(GUTTER)) + 8
            name = QRectF(begin, EDGE, max(0.0, min(after - 6, self.width() - 4.0) - begin), self.height() - 2 * EDGE)
            painter.setPen(current.colour("ink"))
            shown = painter.fontMetrics().elidedText(
                self._lines.name_of(line, row), Qt.TextElideMode.ElideRight, round(name.width())
            )
            painter.drawText(name, Qt.AlignmentFlag.AlignVCenter, shown)


class SoundCombo(QComboBox):
    """A list of sounds that is searched by typing a part of a name.

    left  by Escape: nothing was chosen
    """

    left = Signal()

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.setEditable(True)
        self.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        completer = QCompleter(self.model(), self)
        completer.setFilterMode(Qt.MatchFlag.MatchContains)
        completer.setCompletionMode(QCompleter.CompletionMode.PopupCompletion)
        completer.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        self.setCompleter(completer)

    def show_names(self, names: list[str], place: int | None) -> None:
        """Show names, and which of them is chosen."""
        if [self.itemText(i) for i in range(self.count())] != names:
            self.clear()
            self.addItems(names)
        self.setCurrentIndex(-1 if place is None else place)
        if place is None:
            self.clearEditText()
        edit = self.lineEdit()
        if edit is not None:
            edit.selectAll()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.hide()
            self.left.emit()
        else:
            super().keyPressEvent(event)


def _held(at: np.ndarray, value: np.ndarray) -> list[tuple[float, float]]:
    """Corners of steps that hold each value until the next."""
    points: list[tuple[float, float]] = []
    for i in range(len(at)):
        if points and at[i] - 0.002 > points[-1][0]:
            points.append((float(at[i]) - 0.001, points[-1][1]))
        points.append((float(at[i]), float(value[i])))
    return points
