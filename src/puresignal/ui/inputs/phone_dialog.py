"""The way of a phone onto the touch surface: a QR code, an address with a short code, and how far away it is."""

from __future__ import annotations

import segno
from PySide6.QtCore import QRectF, QSize, Qt, QTimer
from PySide6.QtGui import QColor, QHideEvent, QPainter, QPaintEvent, QShowEvent
from PySide6.QtWidgets import QComboBox, QDialog, QFormLayout, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from puresignal.translation import tr
from puresignal.ui.state.phone_input import THIS_COMPUTER, PhoneInput, networks
from puresignal.ui.widgets import theme
from puresignal.ui.widgets.field_row import field_row
from puresignal.ui.widgets.plain_text import PlainLabel

QUIET = 4
"""Modules of white around a QR code (ISO/IEC 18004)."""


class QrPicture(QWidget):
    """A QR code, or nothing."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.text = ""
        self._modules: tuple[bytearray, ...] = ()
        self.setFixedSize(220, 220)
        self.setAccessibleName(tr("QR code of the page"))

    def sizeHint(self) -> QSize:
        return QSize(220, 220)

    def show_text(self, text: str) -> None:
        """Show another text; empty shows none."""
        if text != self.text:
            self.text = text
            self._modules = tuple(segno.make(text, error="m", micro=False).matrix) if text else ()
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, current = QPainter(self), theme.current()
        if not self._modules:
            painter.setPen(current.colour("line"))
            painter.drawRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5))
            return
        # Dark on white in either theme: many cameras read nothing else.
        painter.fillRect(self.rect(), QColor("#ffffff"))
        count = len(self._modules) + 2 * QUIET
        size = self.width() // count
        edge = (self.width() - size * count) // 2 + size * QUIET
        for row, line in enumerate(self._modules):
            for column, dark in enumerate(line):
                if dark:
                    painter.fillRect(edge + column * size, edge + row * size, size, size, QColor("#000000"))


class PhoneDialog(QDialog):
    """Stays open beside the window while phones play."""

    def __init__(self, phone: PhoneInput, parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle(tr("Phone as a touch surface"))
        self.setMinimumWidth(560)
        self._phone = phone
        self.network = QComboBox()
        self.network.setAccessibleName(tr("Network"))
        self.network.setToolTip(tr("The page is served here and nowhere else. The phone must be in the same network."))
        self.network.activated.connect(self._change_network)
        self.switch = QPushButton(tr("Switch on"))
        self.switch.clicked.connect(self._switch)
        self.picture = QrPicture()
        self.how = self._words(16)
        self.address = self._words(13, True)
        self.code_label = self._words()
        self.code = self._words(26, True)
        self.renew = QPushButton(tr("New code"))
        self.renew.setToolTip(tr("Lets one more phone in. The code before serves no more."))
        self.renew.clicked.connect(phone.renew)
        self.phones = self._words()
        note = PlainLabel(
            tr("The page plays this surface and can do nothing else. It is not encrypted: use a network that you "
               "trust. It is off when the program ends.")
        )  # fmt: skip
        note.setObjectName("faint")
        note.setWordWrap(True)
        form = QFormLayout()
        form.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
        form.addRow(tr("Network"), self.network)
        words = QVBoxLayout()
        words.setSpacing(6)
        for widget in (self.how, self.address, self.code_label, self.code):
            words.addWidget(widget)
        words.addWidget(field_row(self.renew))
        words.addStretch()
        self.inside = QWidget()
        beside = QHBoxLayout(self.inside)
        beside.setContentsMargins(0, 0, 0, 0)
        beside.setSpacing(18)
        beside.addWidget(self.picture, 0, Qt.AlignmentFlag.AlignTop)
        beside.addLayout(words, 1)
        close = QPushButton(tr("Close"))
        close.setToolTip(tr("Phones that are connected go on playing."))
        close.clicked.connect(self.accept)
        column = self._column = QVBoxLayout(self)
        column.setContentsMargins(18, 16, 18, 16)
        column.setSpacing(12)
        column.addLayout(form)
        column.addWidget(self.inside)
        column.addWidget(self.phones)
        column.addWidget(note)
        column.addWidget(field_row(self.switch, close))
        self._problem = ""
        self._timer = QTimer(self)
        self._timer.setInterval(500)
        self._timer.timeout.connect(self.show_state)
        phone.changed.connect(self.show_state)
        self._fill()
        self.show_state()

    @staticmethod
    def _words(size: float = 0, selectable: bool = False) -> PlainLabel:
        label = PlainLabel("")
        label.setWordWrap(not selectable)
        if size > 13 and selectable:
            label.setFont(theme.font(size))
        if selectable:
            label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        return label

    def _fill(self) -> None:
        chosen = self.network.currentData()
        self.network.clear()
        for name, address in networks():
            self.network.addItem(
                tr("this computer only") if address == THIS_COMPUTER else f"{name}: {address}", address
            )  # fmt: skip
        self.network.setCurrentIndex(max(0, self.network.findData(chosen)))

    def _switch(self) -> None:
        if self._phone.on:
            self._phone.switch_off()
        else:
            self._problem = self._phone.switch_on(self.network.currentData())
        self.show_state()

    def _change_network(self) -> None:
        if self._phone.on:
            self._problem = self._phone.switch_on(self.network.currentData())
        self.show_state()

    def show_state(self) -> None:
        """Show the code, and the phones that play."""
        server = self._phone.server
        self.switch.setText(tr("Switch off") if server is not None else tr("Switch on"))
        self.inside.setVisible(server is not None)
        if server is None:
            self.phones.setText(
                self._problem or tr("Switched off. Switch it on, then open the page with the phone's camera.")
            )
            self.picture.show_text("")
            self._fit()
            return
        offer = server.offer
        self.picture.show_text(server.way_in)
        for widget in (self.address, self.code_label, self.code):
            widget.setVisible(offer is not None)
        if offer is not None:
            self.how.setText(tr("Point the phone's camera at the picture, or open this address on it:"))
            self.address.setText(server.url)
            self.code_label.setText(tr("and type this code:"))
            self.code.setText(f"{offer.code[:3]} {offer.code[3:]}")
        elif server.withdrawn:
            self.how.setText(tr("Wrong codes came in a row, so the code was withdrawn. Ask for a new one."))
        else:
            self.how.setText(tr("The code was used. Another phone needs a new one."))
        rows = [
            tr("Phone {n}: connected", n=number + 1) if delay is None or jitter is None
            else tr("Phone {n}: {delay} ms away, up to {jitter} ms more", n=number + 1, delay=f"{delay:.1f}",
                    jitter=f"{jitter:.1f}")
            for number, delay, jitter in server.phones
        ]  # fmt: skip
        self.phones.setText("\n".join(rows) or tr("No phone yet."))
        self._fit()

    def _fit(self) -> None:
        self._column.activate()
        self.setFixedHeight(self._column.sizeHint().height())

    def showEvent(self, event: QShowEvent) -> None:
        self._fill()
        self.show_state()
        self._timer.start()
        super().showEvent(event)

    def hideEvent(self, event: QHideEvent) -> None:
        self._timer.stop()
        super().hideEvent(event)
