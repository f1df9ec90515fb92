"""Below the bar numbers: changes of tempo and meter, and the chosen take as a handle to move and crop it by."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QFont, QFontMetricsF, QPainter, QPen

from puresignal.core.export.session_result import SeveralTakes
from puresignal.translation import tr
from puresignal.ui.takes.bar_ruler import HANDLES, MARKS, RULER
from puresignal.ui.widgets import theme

EDGE = 6.0
"""Pixels at either end of the handle that crop instead of moving."""
LEAST = 18.0
"""Least width of the handle in pixels, so that it can be taken hold of."""
TEMPO, METER = "tempo", "meter"
MOVE, BEGIN, END = "move", "begin", "end"


@dataclass(frozen=True)
class Mark:
    """A change of tempo or meter: where it is in beats from bar 1, its bar, and what it says."""

    kind: str
    beat: float
    bar: int
    second: float
    text: str


@dataclass(frozen=True)
class Handle:
    """The chosen take: its name, its begin and end in seconds of what is shown, and whether it can be cropped."""

    name: str
    begin: float
    end: float
    crops: bool = True


def marks_of(several: SeveralTakes) -> tuple[Mark, ...]:
    """The changes of tempo and meter along the bars; the first of each stands at the beginning."""
    timeline, found = several.timeline, []
    for i, point in enumerate(timeline.tempos):
        beat = point.beat if i else min(0.0, point.beat)
        said = f"{point.bpm:.2f}".rstrip("0").rstrip(".")
        text = tr("{bpm} →", bpm=said) if point.glides and i + 1 < len(timeline.tempos) else said
        found.append(Mark(TEMPO, point.beat, timeline.beats_to_bar(beat)[0], several.second_of(beat), text))
    if not any(one.bar <= 1 for one in timeline.meters):
        found.append(Mark(METER, 0.0, 1, several.second_of(0.0), "4/4"))
    for meter in timeline.meters:
        beat = timeline.bar_to_beats(meter.bar)
        text = f"{meter.numerator}/{meter.denominator}"
        found.append(Mark(METER, beat, meter.bar, several.second_of(beat), text))
    return tuple(sorted(found, key=lambda one: (one.second, one.kind != METER)))


class TimeStrip:
    """Paints marks and handle, and tells what is at a point."""

    def __init__(self) -> None:
        self.marks: tuple[Mark, ...] = ()
        self.handle: Handle | None = None
        self._boxes: list[tuple[QRectF, Mark]] = []

    def boxes(self, left: float, begin: float, scale: float) -> list[tuple[QRectF, Mark]]:
        """The marks in the view. left: pixels left of the notes; begin: second there; scale: pixels per second."""
        metrics, free, found = QFontMetricsF(theme.font(8.5, QFont.Weight.DemiBold)), left - 4.0, []
        for mark in self.marks:
            x = left + (mark.second - begin) * scale
            wide = metrics.horizontalAdvance(mark.text) + 8
            # Marks at one place stand side by side.
            x = max(x, free) if x >= left - 1 and x < free + 2 else x
            if x >= left - 1:
                found.append((QRectF(x + 2, MARKS, wide, HANDLES - MARKS), mark))
                free = x + wide + 2
        return found

    def paint(
        self, painter: QPainter, width: float, left: float, begin: float, scale: float, with_handle: bool = True
    ) -> None:
        """Paint the marks and, unless something else stands there, the handle."""
        current = theme.current()
        painter.setFont(theme.font(9, QFont.Weight.Bold))
        painter.setPen(current.colour("faint"))
        middle = Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(14, MARKS, left - 26, HANDLES - MARKS), middle, tr("tempo, meter"))
        painter.setFont(theme.font(8.5, QFont.Weight.DemiBold))
        painter.save()
        painter.setClipRect(QRectF(left, 0, width - left, RULER))
        for box, mark in self.boxes(left, begin, scale):
            painter.setPen(current.colour("ink"))
            painter.drawText(box.adjusted(3, 0, 0, 0), middle, mark.text)
            painter.setPen(QPen(current.colour("edge"), 1))
            painter.drawLine(QLineF(box.left(), box.top() + 2, box.left(), box.bottom() - 2))
        if with_handle:
            self._paint_handle(painter, left, begin, scale)
        painter.restore()
        if with_handle and self.handle is not None:
            painter.setPen(current.colour("faint"))
            painter.setFont(theme.font(9, QFont.Weight.Bold))
            painter.drawText(QRectF(14, HANDLES, left - 26, RULER - HANDLES - 1), middle, tr("chosen take"))

    def handle_box(self, left: float, begin: float, scale: float) -> QRectF:
        """Where the handle is."""
        if self.handle is None:
            return QRectF()
        x, end = (left + (second - begin) * scale for second in (self.handle.begin, self.handle.end))
        return QRectF(x, HANDLES + 1, max(LEAST, end - x), RULER - HANDLES - 4)

    def _paint_handle(self, painter: QPainter, left: float, begin: float, scale: float) -> None:
        if self.handle is None:
            return
        current, box = theme.current(), self.handle_box(left, begin, scale)
        painter.setPen(QPen(current.colour("edge"), 1))
        painter.setBrush(current.colour("chosen"))
        painter.drawRoundedRect(box, 3, 3)
        if self.handle.crops:
            painter.setPen(QPen(current.colour("ink"), 2))
            for x in (box.left() + 3, box.right() - 3):
                painter.drawLine(QLineF(x, box.top() + 4, x, box.bottom() - 4))
        seen = box.adjusted(max(10.0, left - box.left() + 6), 0, -8, 0)
        painter.setPen(current.colour("ink"))
        painter.setFont(theme.font(8.5, QFont.Weight.DemiBold))
        text = QFontMetricsF(painter.font()).elidedText(self.handle.name, Qt.TextElideMode.ElideRight, seen.width())
        painter.drawText(seen, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, text)

    def mark_at(self, at: QPointF, left: float, begin: float, scale: float) -> Mark | None:
        """The mark at a point."""
        return next((mark for box, mark in self.boxes(left, begin, scale) if box.contains(at)), None)

    def grip_at(self, at: QPointF, left: float, begin: float, scale: float) -> str | None:
        """The effect of a drag of the handle from a point: MOVE, BEGIN, END, or None beside it."""
        box = self.handle_box(left, begin, scale)
        if self.handle is None or not box.adjusted(-2, 0, 2, 2).contains(at):
            return None
        if self.handle.crops and at.x() <= box.left() + EDGE:
            return BEGIN
        return END if self.handle.crops and at.x() >= box.right() - EDGE else MOVE
