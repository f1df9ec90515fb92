"""Words below the sheet: syllables under their notes, phrases over them, and markers, typed in place."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QEvent, QLineF, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QFont, QFontMetricsF, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QLineEdit, QWidget

from puresignal.core.analysis.sung import SungLine, syllables
from puresignal.translation import tr
from puresignal.ui.state.lyric_actions import LyricActions
from puresignal.ui.takes.row_labels import GUTTER
from puresignal.ui.widgets import theme

HEIGHT = 78
MARKERS, PHRASES, WORDS = (4.0, 22.0), (26.0, 38.0), (40.0, 70.0)
"""Top and bottom of the three lines."""
MOST = 2000
"""Syllables drawn at once; more cannot be read."""
LEAST_WIDE = 64


class SyllableEdit(QLineEdit):
    """Space, hyphen and Enter end a syllable as in a text; Tab goes on without a change of the word.

    left  the syllable is done: (its text, places to go on; 0: none)
    """

    left = Signal(str, int)

    def __init__(self, parent: QWidget):
        super().__init__(parent)
        self.setObjectName("syllable")
        self.setAccessibleName(tr("Syllable"))
        self.is_marker = False

    def event(self, event: QEvent) -> bool:
        # Tab would move the focus before a key press is seen.
        if event.type() == QEvent.Type.KeyPress and isinstance(event, QKeyEvent):
            if event.key() == Qt.Key.Key_Tab:
                self.left.emit(self.text(), 1)
                return True
            if event.key() == Qt.Key.Key_Backtab:
                self.left.emit(self.text(), -1)
                return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, at_end = event.key(), self.cursorPosition() == len(self.text()) and bool(self.text())
        if key == Qt.Key.Key_Escape:
            self.hide()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.left.emit(self.text(), 0)
        elif key == Qt.Key.Key_Space and at_end and not self.is_marker:
            self.left.emit(f"{self.text()} ", 1)
        elif key == Qt.Key.Key_Minus and at_end and not self.is_marker:
            self.left.emit(f"{self.text()}-", 1)
        else:
            super().keyPressEvent(event)


class WordsStrip(QWidget):
    """A click below a note opens its syllable; on a phrase's bracket selects it; on the top line sets a marker.

    chosen  select notes: origins
    """

    chosen = Signal(object)

    def __init__(
        self, actions: LyricActions, x_of: Callable[[np.ndarray], np.ndarray], second_at: Callable[[float], float],
        parent: QWidget | None = None,
    ):  # fmt: skip
        super().__init__(parent)
        self._actions, self._x_of, self._second_at = actions, x_of, second_at
        self._line: SungLine | None = None
        self._markers: tuple[tuple[float, str], ...] = ()
        # What the editor is for: a place of the line, rows of a phrase, or a marker (beat, beat of the former one).
        self._place = -1
        self._rows: np.ndarray | None = None
        self._marker: tuple[float, float | None] | None = None
        self.setFixedHeight(HEIGHT)
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.setAccessibleName(tr("Words and markers"))
        self.setToolTip(
            tr("Click below a note to type its syllable; space or hyphen goes on. Click a bracket to select "
               "its phrase, double-click it to type all its words. Click the top line to set a marker.")
        )  # fmt: skip
        self.editor = SyllableEdit(self)
        self.editor.hide()
        self.editor.left.connect(self._leave)

    @property
    def line(self) -> SungLine | None:
        return self._line

    def show_line(self, line: SungLine | None, markers: tuple[tuple[float, str], ...]) -> None:
        """line: of the chosen track; markers: (second, text)."""
        self._line, self._markers = line, markers
        self.update()

    # Where things are

    def x_of_place(self, place: int) -> float:
        """The pixel at which a syllable begins."""
        assert self._line is not None
        return float(self._x_of(self._line.start[[place]])[0])

    def _place_at(self, x: float) -> int:
        """The place whose note is above a pixel, or begins just behind it; -1 for none."""
        if self._line is None or not len(self._line):
            return -1
        xs = self._x_of(self._line.start)
        return max(0, int(np.searchsorted(xs, x + 6.0, "right")) - 1)

    def _phrase_at(self, x: float) -> int:
        line = self._line
        if line is None or not len(line):
            return -1
        begin, end = self._x_of(line.start), self._x_of(line.end)
        inside = np.flatnonzero((begin - 3 <= x) & (x <= end + 3))
        place = int(inside[0]) if len(inside) else self._place_at(x)
        return int(line.phrase[place])

    def _marker_at(self, x: float) -> int:
        """The marker at a pixel, -1 for none."""
        metrics = QFontMetricsF(theme.font(9))
        for i, (second, text) in reversed(list(enumerate(self._markers))):
            left = float(self._x_of(np.array([second]))[0])
            if left - 4 <= x <= left + metrics.horizontalAdvance(text) + 10:
                return i
        return -1

    # Typing

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        if event.button() != Qt.MouseButton.LeftButton or at.x() < GUTTER:
            return
        if at.y() < MARKERS[1]:
            self._open_marker(at.x())
        elif at.y() < PHRASES[1]:
            phrase = self._phrase_at(at.x())
            if phrase >= 0 and self._line is not None:
                self.chosen.emit(self._line.origin[self._line.rows_of(phrase)])
        else:
            self.open_place(self._place_at(at.x()))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        if event.button() == Qt.MouseButton.LeftButton and at.x() >= GUTTER and MARKERS[1] <= at.y() < PHRASES[1]:
            self._open_phrase(self._phrase_at(at.x()))

    def open_place(self, place: int) -> None:
        """Open the syllable of a place for typing."""
        if self._line is None or not 0 <= place < len(self._line):
            self.editor.hide()
            return
        self._place, self._rows, self._marker = place, None, None
        self._open(self.x_of_place(place), WORDS, self._line.text[place].strip(), LEAST_WIDE)

    def _open_phrase(self, phrase: int) -> None:
        if self._line is None or phrase < 0:
            return
        self._rows, self._marker = self._line.rows_of(phrase), None
        first, last = self._x_of(self._line.start[self._rows[[0, -1]]]).tolist()
        words = "".join(self._line.text[i] for i in self._rows.tolist()).strip()
        self._open(first, WORDS, words, max(240, round(last - first) + LEAST_WIDE))

    def _open_marker(self, x: float) -> None:
        known = self._marker_at(x)
        second = self._markers[known][0] if known >= 0 else self._second_at(x)
        before = self._actions.own_marker(second) if known >= 0 else None
        beat = before if before is not None else self._actions.beat_at(second)
        if beat is None or (known >= 0 and before is None):
            # Bars out of order, or a marker of a take's own file.
            return
        self._marker, self._rows = (beat, before), None
        self._open(x, MARKERS, self._markers[known][1] if known >= 0 else "", 120)

    def _open(self, x: float, lines: tuple[float, float], text: str, wide: int) -> None:
        self.editor.is_marker = self._marker is not None or self._rows is not None
        left = round(min(max(x - 4, GUTTER), max(GUTTER, self.width() - wide)))
        top, tall = round(lines[0]) - 3, round(lines[1] - lines[0]) + 6
        self.editor.setGeometry(left, top, min(wide, self.width() - left), tall)
        self.editor.setText(text)
        self.editor.selectAll()
        self.editor.show()
        self.editor.setFocus()

    def _leave(self, text: str, step: int) -> None:
        """Take what was typed, and go on."""
        line, place = self._line, self._place
        if self._marker is not None:
            beat, before = self._marker
            self.editor.hide()
            self._actions.type_marker(beat, text, before)
            return
        if line is None:
            return
        # Words that a phrase has no notes for go on in the next one.
        rows = np.arange(place if self._rows is None else int(self._rows[0]), len(line))
        typed = syllables(text) or ("",)
        words = {
            int(line.origin[i]): one
            for i, one in zip(rows.tolist(), typed, strict=False)
            if one != line.text[i] and (one.strip() != line.text[i].strip() or one[-1:] in ("-", " "))
        }
        if self._rows is not None:
            words |= {int(line.origin[i]): "" for i in self._rows[len(typed) :].tolist() if line.text[i]}
        self._actions.type_words(words)
        if self._rows is not None or not step:
            self.editor.hide()
            self.setFocus()
        else:
            self.open_place(place + (step if step < 0 else max(1, len(typed))))

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, current = QPainter(self), theme.current()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), current.colour("sheet"))
        painter.fillRect(QRectF(0, 0, GUTTER, self.height()), current.colour("shade"))
        painter.setPen(QPen(current.colour("edge"), 1))
        painter.drawLine(QLineF(0, 0.5, self.width(), 0.5))
        painter.setFont(theme.font(9, QFont.Weight.Bold))
        painter.setPen(current.colour("faint"))
        for text, (top, bottom) in ((tr("markers"), MARKERS), (tr("phrases"), PHRASES), (tr("words"), WORDS)):
            painter.drawText(QRectF(14, top, GUTTER - 40, bottom - top), Qt.AlignmentFlag.AlignVCenter, text)
        painter.setClipRect(QRectF(GUTTER, 0, self.width() - GUTTER, self.height()))
        self._paint_markers(painter)
        if self._line is not None and len(self._line):
            self._paint_phrases(painter, self._line)
            self._paint_words(painter, self._line)

    def _paint_markers(self, painter: QPainter) -> None:
        current = theme.current()
        painter.setFont(theme.font(9, QFont.Weight.Bold))
        for second, text in self._markers:
            x = round(float(self._x_of(np.array([second]))[0])) + 0.5
            if GUTTER - 300 < x < self.width():
                painter.setPen(QPen(current.colour("ink"), 2))
                painter.drawLine(QLineF(x, MARKERS[0], x, MARKERS[1]))
                painter.drawText(
                    QRectF(x + 5, MARKERS[0], 400, MARKERS[1] - MARKERS[0]), Qt.AlignmentFlag.AlignVCenter, text
                )

    def _paint_phrases(self, painter: QPainter, line: SungLine) -> None:
        painter.setPen(QPen(theme.current().colour("edge"), 1.4))
        y = PHRASES[0] + 3
        first = np.flatnonzero(np.diff(line.phrase, prepend=-1))
        last = np.append(first[1:] - 1, len(line) - 1)
        begin, end = self._x_of(line.start[first]), self._x_of(line.end[last])
        for left, right in zip(begin.tolist(), end.tolist(), strict=True):
            if right > GUTTER and left < self.width():
                right = max(right, left + 4)
                painter.drawPolyline([QPointF(left, y + 7), QPointF(left, y), QPointF(right, y), QPointF(right, y + 7)])

    def _paint_words(self, painter: QPainter, line: SungLine) -> None:
        current, metrics = theme.current(), QFontMetricsF(theme.font(10))
        painter.setFont(theme.font(10))
        x = self._x_of(line.start)
        seen = np.flatnonzero((x > GUTTER - 120) & (x < self.width()))[:MOST]
        middle = (WORDS[0] + WORDS[1]) / 2
        ink, faint = current.colour("ink"), current.colour("edge")
        free = -1e9
        for i in seen.tolist():
            at, text = round(float(x[i])), line.text[i].strip()
            painter.setPen(QPen(faint, 1))
            painter.drawLine(QLineF(at + 0.5, WORDS[0] + 1, at + 0.5, WORDS[0] + 5))
            wide = metrics.horizontalAdvance(text)
            # Where there is no room, the next syllable is left out rather than printed over the last.
            if text and at >= free:
                painter.setPen(ink)
                painter.drawText(QRectF(at - 1, middle - 8, wide + 4, 20), Qt.AlignmentFlag.AlignVCenter, text)
                free = at + wide + 3
        painter.setPen(faint)
        for second, text in line.loose:
            left = float(self._x_of(np.array([second]))[0])
            painter.drawText(QRectF(left, middle - 8, 200, 20), Qt.AlignmentFlag.AlignVCenter, text.strip())
