"""The recording under the ruler: its level, the pitch of a melody as a line, chord names, and where it was struck."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QFont, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSlider, QWidget

from puresignal.core.harmony.keys import note_name
from puresignal.core.hearing.sound_outline import STEP
from puresignal.io.sound_window import SoundWindow
from puresignal.translation import tr
from puresignal.ui.state.sound_of_take import SoundPicture
from puresignal.ui.takes.row_labels import GUTTER
from puresignal.ui.widgets import theme

LEVEL, PITCH, NAMES = 58, 74, 18
"""Pixels of the parts."""
EDGE = 5.0
BALANCE_STEPS = 10
SPAN = 7.0
"""Semitones that the pitch shows at least."""
DOUBTFUL = 0.6
"""Confidence below which an onset is drawn as doubtful, as in the stage `heard`."""


class SoundStrip(QWidget):
    """Drawn along the sheet's time. balanced: what is heard more, -1 only the recording .. 1 only the notes."""

    balanced = Signal(float)

    def __init__(
        self, x_of: Callable[[np.ndarray], np.ndarray], second_at: Callable[[float], float],
        parent: QWidget | None = None,
    ):  # fmt: skip
        """x_of: pixels of seconds of the sheet; second_at: the inverse."""
        super().__init__(parent)
        self._x_of, self._second_at = x_of, second_at
        self._picture: SoundPicture | None = None
        self._window = SoundWindow()
        self.balance = QSlider(Qt.Orientation.Horizontal, self)
        self.balance.setRange(-BALANCE_STEPS, BALANCE_STEPS)
        self.balance.setPageStep(BALANCE_STEPS)
        self.balance.setAccessibleName(tr("Balance of recording and notes"))
        self.balance.setToolTip(tr("Hear only the recording, both, or only the notes. Nothing in the session changes."))
        self.balance.valueChanged.connect(lambda value: self.balanced.emit(value / BALANCE_STEPS))
        self._level_top = 0.0
        self.setAccessibleName(tr("Recording"))
        self.setToolTip(tr("The recording these notes were heard in: its level, and below it the pitch of a melody."))

    def show_sound(self, picture: SoundPicture | None) -> None:
        self._picture = picture
        high = LEVEL
        if picture is not None:
            high += PITCH * bool((picture.outline.pitch > 0).any()) + NAMES * bool(picture.names)
        self.setFixedHeight(high)
        self._level_top = NAMES if picture is not None and picture.names else 0.0
        self.balance.setGeometry(12, round(self._level_top) + 33, GUTTER - 70, 20)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, current, picture = QPainter(self), theme.current(), self._picture
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), current.colour("sheet"))
        painter.fillRect(QRectF(0, 0, GUTTER, self.height()), current.colour("shade"))
        painter.setPen(QPen(current.colour("edge"), 1))
        painter.drawLine(QLineF(0, 0.5, self.width(), 0.5))
        if picture is None:
            return
        top = 0.0
        if picture.names:
            self._head(painter, tr("chords"), top, NAMES)
            self._paint_names(painter, picture)
            top += NAMES
        self._head(painter, tr("level"), top, 20)
        painter.setFont(theme.font(8))
        words = QRectF(14, top + 18, GUTTER - 74, 16)
        painter.drawText(words, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, tr("recording"))
        painter.drawText(words, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, tr("notes"))
        self._paint_level(painter, picture, QRectF(GUTTER, top, self.width() - GUTTER, LEVEL))
        top += LEVEL
        if self.height() > top:
            self._head(painter, tr("pitch"), top, PITCH)
            self._paint_pitch(painter, picture, QRectF(GUTTER, top, self.width() - GUTTER, PITCH))

    @staticmethod
    def _head(painter: QPainter, word: str, top: float, high: float) -> None:
        painter.setClipping(False)
        painter.setFont(theme.font(9, QFont.Weight.Bold))
        painter.setPen(theme.current().colour("faint"))
        painter.drawText(QRectF(14, top, GUTTER - 60, high), Qt.AlignmentFlag.AlignVCenter, word)

    def _x(self, picture: SoundPicture, seconds: np.ndarray) -> np.ndarray:
        """Pixels of seconds of the recording."""
        return self._x_of(np.interp(seconds, picture.seconds, picture.shown))

    def _seen(self, picture: SoundPicture) -> tuple[float, float]:
        """The seconds of the recording in view."""
        ends = np.array([self._second_at(GUTTER), self._second_at(self.width())])
        begin, end = np.interp(ends, picture.shown, picture.seconds).tolist()
        return begin, end

    def _paint_names(self, painter: QPainter, picture: SoundPicture) -> None:
        current = theme.current()
        painter.setClipRect(QRectF(GUTTER, 0, self.width() - GUTTER, NAMES))
        painter.setFont(theme.font(9, QFont.Weight.Bold))
        left = -1e9
        for begin, _, name in picture.names:
            x = float(self._x(picture, np.array([begin]))[0])
            wide = painter.fontMetrics().horizontalAdvance(name)
            if x < left or x + wide < GUTTER or x > self.width():
                continue
            painter.setPen(QPen(current.colour("line"), 1))
            painter.drawLine(QLineF(x, 3, x, NAMES))
            painter.setPen(current.colour("ink"))
            painter.drawText(QRectF(x + 3, 0, wide + 4, NAMES), Qt.AlignmentFlag.AlignVCenter, name)
            left = x + wide + 8

    def _paint_level(self, painter: QPainter, picture: SoundPicture, box: QRectF) -> None:
        current, outline = theme.current(), picture.outline
        painter.setClipRect(box)
        middle, half = box.center().y(), box.height() / 2 - EDGE
        painter.setPen(QPen(current.colour("line"), 1))
        painter.drawLine(QLineF(box.left(), middle, box.right(), middle))
        begin, end = self._seen(picture)
        loudest = max(1e-3, float(outline.amplitude().max(initial=0.0)))
        ink = current.colour("faint")
        near = self._window.read(picture.path, begin, end)
        if near is not None and len(near[0]) > 1 and (end - begin) / near[2] < 4 * box.width():
            samples, first, step = near
            x = self._x(picture, first + step * np.arange(len(samples)))
            y = middle - half * samples / loudest
            painter.setPen(QPen(ink, 1.3))
            painter.drawPolyline(QPolygonF([QPointF(a, b) for a, b in zip(x.tolist(), y.tolist(), strict=True)]))
        else:
            amplitude = near[0] if near is not None else outline.amplitude()
            first, step = (near[1], near[2]) if near is not None else (0.0, STEP)
            # The loudest moment of each pixel, so that nothing is missed in far views.
            edges = np.array([self._second_at(x) for x in (box.left(), box.right())])
            columns = np.linspace(edges[0], edges[1], int(box.width()) + 1)
            places = np.rint((np.interp(columns, picture.shown, picture.seconds) - first) / step).astype(int)
            inside = (columns >= picture.shown[0]) & (columns <= picture.shown[-1])
            lines = []
            for i in np.flatnonzero(inside[:-1]).tolist():
                one, other = max(0, places[i]), max(places[i] + 1, places[i + 1])
                part = np.abs(amplitude[one:other])
                if len(part):
                    tall = max(0.5, half * float(part.max()) / loudest)
                    lines.append(QLineF(box.left() + i + 0.5, middle - tall, box.left() + i + 0.5, middle + tall))
            painter.setPen(QPen(ink, 1))
            painter.drawLines(lines)
        self._paint_onsets(painter, picture, box, begin, end)

    def _paint_onsets(
        self, painter: QPainter, picture: SoundPicture, box: QRectF, begin: float, end: float
    ) -> None:  # fmt: skip
        current = theme.current()
        seen = np.flatnonzero((picture.onset >= begin) & (picture.onset <= end))
        if not 0 < len(seen) <= box.width() / 3:
            return
        x = self._x(picture, picture.onset[seen])
        for at, i in zip(x.tolist(), seen.tolist(), strict=True):
            if picture.left_out[i]:
                pen = QPen(current.colour("faint"), 1, Qt.PenStyle.DashLine)
            else:
                pen = QPen(current.colour("accent") if picture.sure[i] < DOUBTFUL else current.family("kick"), 1.5)
            painter.setPen(pen)
            painter.drawLine(QLineF(at, box.top() + 3, at, box.bottom() - 3))

    def _paint_pitch(self, painter: QPainter, picture: SoundPicture, box: QRectF) -> None:
        current, note = theme.current(), picture.outline.note()
        known = note[~np.isnan(note)]
        low, high = np.quantile(known, (0.005, 0.995)).tolist()
        spare = max(1.0, (SPAN - (high - low)) / 2)
        low, high = low - spare, high + spare

        def y(value: float) -> float:
            return float(box.bottom() - EDGE - (value - low) / (high - low) * (box.height() - 2 * EDGE))

        painter.setClipping(False)
        painter.setFont(theme.font(8))
        each = 12 if high - low > 30 else 6 if high - low > 12 else 3
        for number in range(int(np.ceil(low)), int(high) + 1):
            if number % each == 0:
                painter.setPen(current.colour("faint"))
                painter.drawText(
                    QRectF(GUTTER - 44, y(number) - 7, 38, 14),
                    Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, note_name(number),
                )  # fmt: skip
                painter.setPen(QPen(current.colour("line"), 1))
                painter.drawLine(QLineF(box.left(), y(number), box.right(), y(number)))
        painter.setClipRect(box)
        begin, end = self._seen(picture)
        first, last = max(0, int(begin / STEP) - 1), min(len(note), int(end / STEP) + 2)
        # In far views every few steps are enough.
        each = max(1, int((last - first) / max(1.0, 2 * box.width())))
        at = np.arange(first, last, each)
        x, values = self._x(picture, at * STEP), note[at]
        painter.setPen(QPen(current.family("kick"), 1.8))
        run: list[QPointF] = []
        for a, value in zip(x.tolist(), values.tolist(), strict=True):
            if value != value or (run and abs(y(value) - run[-1].y()) > box.height() / 3):
                if len(run) > 1:
                    painter.drawPolyline(QPolygonF(run))
                run = []
            if value == value:
                run.append(QPointF(a, y(value)))
        if len(run) > 1:
            painter.drawPolyline(QPolygonF(run))
