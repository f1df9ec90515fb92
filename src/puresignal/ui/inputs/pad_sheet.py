"""On-screen pads for mouse and fingers, several at once, with a pedal slide for the hat."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, QTimer
from PySide6.QtGui import QEventPoint, QFont, QFontMetricsF, QMouseEvent, QPainter, QPaintEvent, QPen, QTouchEvent
from PySide6.QtWidgets import QWidget

from puresignal.core.kit.articulations import family_of, spoken
from puresignal.core.touch import computer_keyboard, pad_velocity
from puresignal.translation import tr
from puresignal.ui.state.screen_pads import ScreenPads
from puresignal.ui.widgets import theme

HAT = "hat"
PADS = (
    ("crash1.bow", "tom1.head", "tom2.head", "ride.bow", "ride.bell"),
    ("snare.rim", "snare.side", "tom3.head", "tom4.head", "crash2.bow"),
    ("kick", "snare.head", HAT, "hat.pedal", "claps"),
)
SLIDE = 56.0
GLOW_MS = 140
MOUSE = -1


class PadSheet(QWidget):
    """A sheet of pads. Their hits are live input like any other."""

    def __init__(self, pads: ScreenPads, parent: QWidget | None = None):
        super().__init__(parent)
        self._pads = pads
        pads.struck.connect(self._light)
        self.setAttribute(Qt.WidgetAttribute.WA_AcceptTouchEvents)
        self.setMinimumHeight(130)
        self.setAccessibleName(tr("Pads"))
        self.setToolTip(
            tr("Play with mouse or fingers: the middle of a pad is hard, its edge soft. The slide opens the hat.")
        )
        self.openness = 0.0
        self._held: dict[int, tuple[str, int]] = {}
        self._lit: dict[str, int] = {}
        self._dark = QTimer(self)
        self._dark.setInterval(GLOW_MS)
        self._dark.timeout.connect(self._fade)

    def sizeHint(self) -> QSize:
        return QSize(760, 320)

    def boxes(self) -> dict[str, QRectF]:
        """Box of each pad, by articulation; the hat has one pad for all openings."""
        wide = (self.width() - SLIDE - 10) / len(PADS[0])
        tall = min(140.0, self.height() / len(PADS))
        return {
            name: QRectF(i * wide + 3, row * tall + 3, wide - 6, tall - 6)
            for row, names in enumerate(PADS)
            for i, name in enumerate(names)
        }

    def slide(self) -> QRectF:
        """Box of the hat's pedal slide: closed at the bottom, open at the top."""
        bottom = max(box.bottom() for box in self.boxes().values())
        return QRectF(self.width() - SLIDE, 3, SLIDE - 4, bottom - 3)

    # Playing

    def press(self, point: int, at: QPointF, pressure: float | None = None) -> None:
        """A finger (by its number) or the mouse goes down."""
        if self.slide().contains(at):
            self._held[point] = ("slide", -1)
            self._set_slide(at)
            return
        for name, box in self.boxes().items():
            if box.contains(at):
                x = (at.x() - box.center().x()) / (box.width() / 2)
                y = (at.y() - box.center().y()) / (box.height() / 2)
                struck = pad_velocity.hat_at(self.openness) if name == HAT else name
                self._pads.strike(struck, pad_velocity.velocity(x, y, pressure))
                self._held[point] = (name, computer_keyboard.note_of(struck))
                return

    def _light(self, articulation: str, velocity: int) -> None:
        shown = HAT if articulation in ("hat.closed", "hat.half", "hat.open") else articulation
        self._lit[shown] = velocity
        self._dark.start()
        self.update()

    def slide_to(self, point: int, at: QPointF) -> None:
        """A finger moves; this matters only on the pedal slide."""
        if self._held.get(point, ("", 0))[0] == "slide":
            self._set_slide(at)

    def lift(self, point: int) -> None:
        """A finger or the mouse goes up."""
        _, note = self._held.pop(point, ("", -1))
        if note >= 0:
            self._pads.release(note)

    def _set_slide(self, at: QPointF) -> None:
        box, before = self.slide(), self.openness
        self.openness = min(1.0, max(0.0, (box.bottom() - at.y()) / box.height()))
        if pad_velocity.hat_at(before) != "hat.closed" and pad_velocity.hat_at(self.openness) == "hat.closed":
            # The foot goes down: this closes a ringing hat and is audible.
            self._pads.strike("hat.pedal", 60, GLOW_MS)
        self.update()

    def _fade(self) -> None:
        self._lit.clear()
        self._dark.stop()
        self.update()

    def event(self, event: QEvent) -> bool:
        if isinstance(event, QTouchEvent) and event.type() in (
            QEvent.Type.TouchBegin, QEvent.Type.TouchUpdate, QEvent.Type.TouchEnd, QEvent.Type.TouchCancel,
        ):  # fmt: skip
            for point in event.points():
                self._touch(point)
            if event.type() == QEvent.Type.TouchCancel:
                for number in tuple(self._held):
                    self.lift(number)
            event.accept()
            return True
        return super().event(event)

    def _touch(self, point: QEventPoint) -> None:
        state, number = point.state(), point.id()
        # The second finger's event reports the first one's press again.
        if state == QEventPoint.State.Pressed and number not in self._held:
            # Surfaces without pressure report 0 or 1.
            pressure = point.pressure() if 0 < point.pressure() < 1 else None
            self.press(number, point.position(), pressure)
        elif state == QEventPoint.State.Updated:
            self.slide_to(number, point.position())
        elif state == QEventPoint.State.Released:
            self.lift(number)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.press(MOUSE, event.position())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self.slide_to(MOUSE, event.position())

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self.lift(MOUSE)

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        current, painter = theme.current(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for name, box in self.boxes().items():
            velocity = self._lit.get(name, 0)
            colour = current.family(family_of("hat.closed" if name == HAT else name))
            painter.setPen(QPen(colour, 2))
            painter.setBrush(colour if velocity else current.colour("sheet"))
            painter.drawRoundedRect(box, 8, 8)
            painter.setPen(current.colour("sheet" if velocity else "ink"))
            painter.setFont(theme.font(10, QFont.Weight.DemiBold))
            label = spoken(pad_velocity.hat_at(self.openness)) if name == HAT else spoken(name)
            metrics = QFontMetricsF(painter.font())
            for i, part in enumerate(label.split(", ")):
                text = metrics.elidedText(part, Qt.TextElideMode.ElideRight, box.width() - 16)
                painter.drawText(
                    QPointF(box.left() + 10, box.top() + 8 + metrics.ascent() + i * metrics.height()), text
                )
            if velocity:
                painter.setFont(theme.font(10))
                side = Qt.AlignmentFlag.AlignBottom | Qt.AlignmentFlag.AlignRight
                painter.drawText(box.adjusted(8, 8, -10, -8), side, str(velocity))
        self._paint_slide(painter)

    def _paint_slide(self, painter: QPainter) -> None:
        current, box = theme.current(), self.slide()
        painter.setPen(QPen(current.colour("edge"), 1))
        painter.setBrush(current.colour("sheet"))
        painter.drawRoundedRect(box, 6, 6)
        painter.setPen(QPen(current.colour("line"), 1))
        for part in (pad_velocity.CLOSED_TO, pad_velocity.HALF_TO):
            y = box.bottom() - part * box.height()
            painter.drawLine(QPointF(box.left() + 4, y), QPointF(box.right() - 4, y))
        painter.setPen(current.colour("faint"))
        painter.setFont(theme.font(8.5))
        zones = (
            (tr("open"), pad_velocity.HALF_TO, 1.0),
            (tr("half"), pad_velocity.CLOSED_TO, pad_velocity.HALF_TO),
            (tr("closed"), 0.0, pad_velocity.CLOSED_TO),
        )
        for label, low, high in zones:
            zone = QRectF(box.left(), box.bottom() - high * box.height(), box.width(), (high - low) * box.height())
            painter.drawText(zone, Qt.AlignmentFlag.AlignCenter, label)
        y = box.bottom() - self.openness * box.height()
        painter.fillRect(QRectF(box.left() + 3, min(box.bottom() - 5, max(box.top(), y - 2)), box.width() - 6, 5),
                         current.family("hat"))  # fmt: skip
