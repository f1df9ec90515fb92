"""The hat panel: the pedal's travel, the openings as zones on a scale, and the hits where they were played."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QLineF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QFont, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QCheckBox, QFrame, QGridLayout, QPushButton, QSpinBox, QVBoxLayout, QWidget

from puresignal.core.analysis.mapping_flow import HatPicture
from puresignal.core.kit.note_map import HatPedal
from puresignal.core.path.opening import CLOSED_FROM, OPEN_TO
from puresignal.translation import mark, tr
from puresignal.ui.widgets import theme
from puresignal.ui.widgets.plain_text import PlainLabel


class HatScale(QWidget):
    """Draws the pedal's travel and the hits: open at the left, closed at the right."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self._picture: HatPicture | None = None
        self._hat: HatPedal | None = None
        self.setMinimumHeight(112)
        self.setAccessibleName(tr("Openings of the hat"))
        self.setToolTip(
            tr("Above the line: hits at the opening they were played. Below it: how often the pedal was there.")
        )

    def sizeHint(self) -> QSize:
        return QSize(250, 112)

    def show_picture(self, picture: HatPicture | None, hat: HatPedal | None) -> None:
        self._picture, self._hat = picture, hat
        self.update()

    def x_of(self, closedness: float) -> float:
        """Pixel of a closedness, 0 open .. 1 closed."""
        return 6 + closedness * (self.width() - 12)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        current = theme.current()
        base, colour = 70.0, current.family("hat")
        zones = (
            (0.0, OPEN_TO, tr("open")),
            (OPEN_TO, CLOSED_FROM, tr("half")),
            (CLOSED_FROM, 1.0, tr("closed")),
        )
        painter.setFont(theme.font(8.5, QFont.Weight.Bold))
        for i, (low, high, word) in enumerate(zones):
            box = QRectF(self.x_of(low), 0, self.x_of(high) - self.x_of(low), base)
            painter.fillRect(box, current.colour("shade") if i % 2 == 0 else current.colour("chosen"))
            painter.setPen(current.colour("faint"))
            painter.drawText(box.adjusted(0, 3, 0, 0), Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignHCenter, word)
        painter.setPen(QPen(current.colour("edge"), 1))
        painter.drawLine(QLineF(self.x_of(0), base, self.x_of(1), base))
        if self._picture is None or self._hat is None:
            return
        self._paint_hits(painter, base, colour)
        self._paint_travel(painter, base, current.colour("faint"))
        painter.setFont(theme.font(8.5))
        painter.setPen(current.colour("faint"))
        feet = QRectF(self.x_of(0), 96, self.x_of(1) - self.x_of(0), 15)
        painter.drawText(feet, Qt.AlignmentFlag.AlignLeft, str(self._hat.open_at))
        painter.drawText(feet, Qt.AlignmentFlag.AlignRight, str(self._hat.closed_at))

    def _paint_hits(self, painter: QPainter, base: float, colour: QColor) -> None:
        assert self._picture is not None
        closedness = self._picture.closedness
        places = np.clip(np.nan_to_num(closedness[~np.isnan(closedness)]), 0, 1)
        bins = np.bincount(np.rint(places * 50).astype(int), minlength=51)
        most = max(1, int(bins.max(initial=0)))
        painter.setPen(QPen(colour, 3.2))
        painter.drawLines(
            [
                QLineF(self.x_of(i / 50), base - 1, self.x_of(i / 50), base - 4 - 42 * count / most)
                for i, count in enumerate(bins.tolist())
                if count
            ]
        )

    def _paint_travel(self, painter: QPainter, base: float, colour: QColor) -> None:
        assert self._picture is not None
        assert self._hat is not None
        travel = self._picture.travel
        most = max(1, int(travel.max(initial=0)))
        painter.setPen(QPen(colour, 1.6))
        painter.drawLines(
            [
                QLineF(self.x_of(place), base + 3, self.x_of(place), base + 5 + 18 * (count / most) ** 0.5)
                for value, count in enumerate(travel.tolist())
                if count
                for place in [self._hat.closedness(value)]
            ]
        )


class HatPanel(QFrame):
    """The scale with the pedal's settings.

    changed  new settings: a HatPedal
    """

    changed = Signal(object)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("panel")
        self._hat: HatPedal | None = None
        self._picture: HatPicture | None = None
        title = PlainLabel(tr("Hi-hat"))
        title.setObjectName("figure")
        self.says = PlainLabel()
        self.says.setObjectName("faint")
        self.says.setWordWrap(True)
        self.scale = HatScale()
        self.controller = self._spin(0, 119, tr("The pedal's controller number."), tr("Pedal controller"))
        self.closed_at = self._spin(0, 127, tr("Controller value with the hat closed."), tr("Value when closed"))
        self.open_at = self._spin(0, 127, tr("Controller value with the hat fully open."), tr("Value when open"))
        self.follow = QCheckBox(tr("a note per opening"))
        self.follow.setToolTip(tr("When off, the kit sends one note for all openings, and the pedal decides."))
        self.follow.setAccessibleName(tr("The kit sends a note per opening"))
        self.follow.clicked.connect(self._edited)
        self.fit = QPushButton(tr("Fit to the take"))
        self.fit.setToolTip(tr("Sets the two ends to the pedal's travel in this take."))
        self.fit.setAccessibleName(tr("Fit the pedal's travel to the take"))
        self.fit.clicked.connect(self._fit)
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(6)
        for row, (label, spin) in enumerate(
            (
                (mark("Controller"), self.controller),
                (mark("Open at"), self.open_at),
                (mark("Closed at"), self.closed_at),
            )
        ):
            text = PlainLabel(tr(label))
            text.setBuddy(spin)
            grid.addWidget(text, row, 0)
            grid.addWidget(spin, row, 1)
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 12, 14, 12)
        column.setSpacing(7)
        column.addWidget(title)
        column.addWidget(self.says)
        column.addWidget(self.scale)
        column.addLayout(grid)
        column.addWidget(self.follow)
        column.addWidget(self.fit)

    def _spin(self, low: int, high: int, tip: str, name: str) -> QSpinBox:
        spin = QSpinBox()
        spin.setRange(low, high)
        spin.setToolTip(tip)
        spin.setAccessibleName(name)
        spin.setKeyboardTracking(False)
        spin.valueChanged.connect(self._edited)
        return spin

    def show_hat(self, hat: HatPedal | None, picture: HatPicture | None) -> None:
        """Show the pedal of the source map and its movement in the take."""
        self._hat, self._picture = hat, picture
        controls = (self.controller, self.closed_at, self.open_at, self.follow)
        for control in controls:
            control.blockSignals(True)
        pedal = hat or HatPedal()
        self.controller.setValue(pedal.controller)
        self.closed_at.setValue(pedal.closed_at)
        self.open_at.setValue(pedal.open_at)
        self.follow.setChecked(pedal.notes_follow_pedal)
        for control in controls:
            control.blockSignals(False)
            control.setEnabled(hat is not None)
        moved = picture is not None and picture.lowest is not None and picture.lowest != picture.highest
        self.fit.setEnabled(hat is not None and moved)
        self.scale.show_picture(picture, hat)
        if hat is None:
            self.says.setText(tr("This source map has no hat pedal."))
        elif not moved or picture is None:
            self.says.setText(tr("The pedal did not move in this take."))
        else:
            self.says.setText(
                tr("The pedal went from {low} to {high}.").format(low=picture.lowest, high=picture.highest)
            )

    def _edited(self) -> None:
        closed, opened = self.closed_at.value(), self.open_at.value()
        if self._hat is None or closed == opened:
            return
        self.changed.emit(HatPedal(self.controller.value(), closed, opened, self.follow.isChecked()))

    def _fit(self) -> None:
        picture, hat = self._picture, self._hat
        if picture is None or hat is None or picture.lowest is None or picture.highest is None:
            return
        low, high = picture.lowest, picture.highest
        closed, opened = (high, low) if hat.closed_at > hat.open_at else (low, high)
        self.changed.emit(HatPedal(hat.controller, closed, opened, hat.notes_follow_pedal))
