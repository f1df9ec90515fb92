"""The large display: what is armed and waiting, the count-in, the beat and the round, readable from three metres."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QFont, QFontMetricsF, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from puresignal.core.timing import click_beats as click
from puresignal.translation import tr
from puresignal.ui.state.capture import COUNTING, RECORDING, WAITING
from puresignal.ui.state.services import Services
from puresignal.ui.widgets import theme

HEIGHT = 104
MOST_BEATS = 12


class RecordDisplay(QWidget):
    """Painted anew for each beat. A click makes it fill the view, another one small again.

    enlarged  it wants to fill the view, or not
    """

    enlarged = Signal(bool)

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(parent)
        self._capture, self._playback, self._workbench = services.capture, services.playback, services.workbench
        self.large = False
        self._said: object = None
        self.setAccessibleName(tr("Recording"))
        self.setToolTip(tr("Click to fill the view with it, and once more to make it small."))
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(HEIGHT)
        self.hide()
        self._capture.changed.connect(self.show_state)
        self._playback.moved.connect(lambda _: self._beat())

    def sizeHint(self) -> QSize:
        return QSize(800, HEIGHT)

    def show_state(self) -> None:
        """Appear while something is recorded or waited for."""
        self.setVisible(self._capture.running)
        if not self._capture.running and self.large:
            self.set_large(False)
        self._beat(anew=True)

    def set_large(self, on: bool) -> None:
        """Fill the view, or be one line."""
        self.large = on
        if on:
            self.setMinimumHeight(HEIGHT)
            self.setMaximumHeight(1 << 16)
            self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        else:
            self.setFixedHeight(HEIGHT)
        self.enlarged.emit(on)
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.set_large(not self.large)

    def words(self) -> tuple[str, str]:
        """State and place, in words."""
        state, capture = self._capture.state, self._capture
        if capture.waits_for_master:
            return tr("Waiting for Start"), tr("Recording begins when {port} starts.", port=self._clock_port())
        if state == WAITING:
            bar, _ = self._playback.time()[0].beats_to_bar(capture.point + 1e-6)
            return tr("Waiting for the first hit"), tr("It becomes beat one of bar {bar}.", bar=bar)
        _, _, bar, _ = self._place()
        if state == COUNTING:
            return tr("Count-in"), tr("Recording begins at bar {bar}.", bar=self._bar_of(capture.point))
        if state != RECORDING:
            return "", ""
        where = tr("bar {bar}", bar=bar)
        rounds = capture.round
        return tr("Recording"), tr("round {n}, {where}", n=rounds, where=where) if rounds else where

    def _clock_port(self) -> str:
        return self._workbench.session.sync.port

    def _bar_of(self, beat: float) -> int:
        return self._playback.time()[0].beats_to_bar(beat + 1e-6)[0]

    def _place(self) -> tuple[int, int, int, float]:
        """Number of the beat in its bar from 1, beats in the bar, the bar, and how far into the beat it is."""
        timeline, _ = self._playback.time()
        beat = self._playback.beat_of(self._playback.place)
        bar, into = timeline.beats_to_bar(beat + 1e-6)
        meter = timeline.meter_at(bar)
        long = click.counted(meter)
        return int(into / long) + 1, round(meter.beats / long), bar, into % long

    def _beat(self, anew: bool = False) -> None:
        """Paint, if another beat has begun."""
        if not self.isVisible():
            return
        said = (*self.words(), *self._place()[:3])
        if anew or said != self._said:
            self._said = said
            self.setAccessibleDescription(". ".join(self.words()))
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        current, painter = theme.current(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        recording = self._capture.state == RECORDING
        ground = current.colour("accent" if recording else "sheet")
        ink = current.colour("sheet" if recording else "ink")
        painter.fillRect(self.rect(), ground)
        if not recording:
            painter.setPen(QPen(current.colour("accent"), 4))
            painter.drawRect(QRectF(self.rect()).adjusted(2, 2, -2, -2))
        what, where = self.words()
        painter.setPen(ink)
        box = QRectF(self.rect()).adjusted(24, 8, -24, -8)
        big = min(box.height() * (0.2 if self.large else 0.52), box.width() / 15)
        left = box if self.large else box.adjusted(0, 0, -box.width() * 0.42, 0)
        painter.setFont(self._font(what, big, left.width()))
        top = QRectF(left.left(), left.top(), left.width(), left.height() * (0.25 if self.large else 0.62))
        along = Qt.AlignmentFlag.AlignHCenter if self.large else Qt.AlignmentFlag.AlignLeft
        painter.drawText(top, along | Qt.AlignmentFlag.AlignVCenter, what)
        painter.setFont(self._font(where, big * 0.5, left.width()))
        below = QRectF(left.left(), top.bottom(), left.width(), left.height() * (0.15 if self.large else 0.36))
        painter.drawText(below, along | Qt.AlignmentFlag.AlignVCenter, where)
        if self._capture.state == WAITING:
            return
        right = box.adjusted(box.width() * 0.6, 0, 0, 0)
        area = QRectF(box.left(), below.bottom() + 10, box.width(), box.bottom() - below.bottom() - 10)
        self._paint_beats(painter, area if self.large else right, ink, ground)

    def _font(self, text: str, pixels: float, width: float) -> QFont:
        """As large as wanted, or as fits."""
        font = theme.font(10, QFont.Weight.Bold)
        font.setPixelSize(max(12, round(pixels)))
        wide = QFontMetricsF(font).horizontalAdvance(text)
        if wide > width:
            font.setPixelSize(max(12, round(pixels * width / wide)))
        return font

    def _paint_beats(self, painter: QPainter, box: QRectF, ink: QColor, ground: QColor) -> None:
        """A box for each beat of the bar, the one that sounds filled, with its number."""
        now, count, _, _ = self._place()
        shown = min(count, MOST_BEATS)
        side = min(box.height(), (box.width() - 8 * (shown - 1)) / shown)
        left = box.right() - shown * side - 8 * (shown - 1) if not self.large else (
            box.center().x() - (shown * side + 8 * (shown - 1)) / 2
        )  # fmt: skip
        font = theme.font(10, QFont.Weight.Bold)
        font.setPixelSize(max(12, round(side * 0.55)))
        painter.setFont(font)
        for i in range(shown):
            one = QRectF(left + i * (side + 8), box.center().y() - side / 2, side, side)
            painter.setPen(QPen(ink, 2))
            painter.setBrush(ink if i + 1 == now else Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(one.adjusted(1, 1, -1, -1), 5, 5)
            painter.setPen(ground if i + 1 == now else ink)
            painter.drawText(one, Qt.AlignmentFlag.AlignCenter, str(i + 1))
