"""The live input: choose a port, see what comes, capture it; and its card, in sight in every view."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QFont, QFontMetricsF, QPainter, QPaintEvent, QShowEvent
from PySide6.QtWidgets import (
    QComboBox,
    QFormLayout,
    QFrame,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from puresignal.core.articulations import STANDARD, sort_key, spoken
from puresignal.core.errors import PureSignalError
from puresignal.core.learn import Learning, missing
from puresignal.core.notemap import check_source
from puresignal.io import jackports, mapfile
from puresignal.ui import theme
from puresignal.ui.listening import Listener
from puresignal.ui.mapchoice import MapChoice

GLOW_MS = 160
"""Milliseconds that the lamp stays lit after a hit."""


class LivePanel(QFrame):
    """Port, kit and output of the live input, and the keys to listen and to capture.

    asked_why  the player wonders why it is silent
    """

    asked_why = Signal()

    def __init__(self, listener: Listener, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("panel")
        self._listener = listener
        title = QLabel(self.tr("Live input"))
        title.setObjectName("figure")
        self.says = QLabel()
        self.says.setObjectName("faint")
        self.says.setWordWrap(True)
        self.source_port = self._combo(
            self.tr("Port that playing comes from"),
            self.tr("Where playing comes from: a MIDI port of the JACK server."),
        )
        self.kit = MapChoice(check_source)
        self.kit.setMinimumWidth(120)
        self.kit.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.kit.setSizeAdjustPolicy(MapChoice.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.kit.setAccessibleName(self.tr("Note map of the live kit"))
        self.kit.setToolTip(self.tr("What this kit sends: which note means which drum."))
        self.kit.show_map(mapfile.shipped("general-midi"))
        self.kit.chosen.connect(lambda note_map: self.kit.show_map(note_map))
        self.target_port = self._combo(
            self.tr("Port that clean MIDI goes to"),
            self.tr("Where clean MIDI goes while you play, on the receiver's notes."),
        )
        form = QFormLayout()
        form.setSpacing(8)
        form.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
        for label, widget in (
            (self.tr("From"), self.source_port),
            (self.tr("Kit"), self.kit),
            (self.tr("To"), self.target_port),
        ):
            form.addRow(label, widget)
        self.listen = self._button(self.tr("Listen"), self.tr("Listen to the port, and send on what comes, clean."))
        self.listen.setCheckable(True)
        self.listen.clicked.connect(self._listen)
        self.capture = self._button(
            self.tr("Capture"), self.tr("What you play from now on becomes a take; press again to end it.")
        )
        self.capture.setObjectName("capture")
        self.capture.setCheckable(True)
        self.capture.setEnabled(False)
        self.capture.clicked.connect(self._capture)
        self.look = self._button(self.tr("Refresh"), self.tr("Look again which ports there are."))
        self.look.clicked.connect(self.refresh)
        keys = QHBoxLayout()
        keys.addWidget(self.listen)
        self.learn = self._button(
            self.tr("Learn"), self.tr("Hit each pad: unknown ones are asked about, and the same pad again says yes.")
        )
        self.learn.setCheckable(True)
        self.learn.setEnabled(False)
        self.learn.clicked.connect(self._listener.learn)
        self.what = QComboBox()
        self.what.setAccessibleName(self.tr("What the pad is"))
        self.what.setToolTip(self.tr("What the pad is that you hit: choose, if the guess is wrong."))
        self.what.activated.connect(lambda: self._listener.choose(self.what.currentData()))
        self.what.hide()
        keys.setSpacing(4)
        keys.addWidget(self.capture)
        keys.addWidget(self.learn)
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 14, 16, 14)
        column.setSpacing(8)
        column.addWidget(title)
        column.addLayout(form)
        column.addLayout(keys)
        self.why = self._button(
            self.tr("Why is it silent?"),
            self.tr("Follows the last hit from the port to the output and names where it stops."),
        )
        self.why.clicked.connect(self.asked_why)
        column.addWidget(self.says)
        column.addWidget(self.what)
        below = QHBoxLayout()
        below.setSpacing(4)
        below.addWidget(self.why, 1)
        below.addWidget(self.look)
        column.addLayout(below)
        listener.said.connect(self._say)
        listener.ended.connect(self._ended)
        listener.asked.connect(self._ask)
        self._looked = False
        self.listen.setEnabled(False)

    def _combo(self, name: str, tip: str) -> QComboBox:
        combo = QComboBox()
        combo.setAccessibleName(name)
        combo.setToolTip(tip)
        combo.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        return combo

    def _button(self, label: str, tip: str) -> QPushButton:
        button = QPushButton(label)
        button.setToolTip(tip)
        button.setAccessibleName(label)
        return button

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        # Asking the server takes a moment that the window's start does not have to wait for.
        if not self._looked:
            QTimer.singleShot(0, self.refresh)

    def refresh(self) -> None:
        """Looks which ports there are; what was chosen stays chosen, though it be gone."""
        self._looked = True
        try:
            ports = jackports.listing()
            self._say(self.tr("Choose a port and press Listen."), True)
        except jackports.NoServerError as error:
            ports = ()
            self._say(str(error), True)
        for combo, gives, none in ((self.source_port, True, None), (self.target_port, False, self.tr("nowhere"))):
            now = combo.currentData()
            combo.clear()
            if none is not None:
                combo.addItem(none, None)
            names = [p.name for p in ports if p.gives == gives and not p.name.startswith("Pure Signal")]
            for name in dict.fromkeys([*names, *([now] if now else [])]):
                combo.addItem(name if name in names else self.tr("{name} (absent)").format(name=name), name)
            combo.setCurrentIndex(max(0, combo.findData(now)) if combo.count() else -1)
        self.listen.setEnabled(self._listener.listening or self.source_port.count() > 0)

    def _listen(self, on: bool) -> None:
        if not on:
            self._listener.stop()
            return
        try:
            self._listener.start(self.source_port.currentData(), self.target_port.currentData(), self.kit.now)
        except (PureSignalError, OSError) as error:
            self.listen.setChecked(False)
            self._say(str(error), False)
            return
        self._settle(True)

    def _capture(self, on: bool) -> None:
        if on:
            self._listener.begin_capture()
        elif self._listener.capturing:
            self._listener.end_capture()
        self.capture.setText(self.tr("End") if on else self.tr("Capture"))

    def _settle(self, listening: bool) -> None:
        self.capture.setEnabled(listening)
        self.learn.setEnabled(listening)
        self.listen.setText(self.tr("Stop") if listening else self.tr("Listen"))
        for widget in (self.source_port, self.target_port, self.kit, self.look):
            widget.setEnabled(not listening)

    def _ended(self) -> None:
        self.listen.setChecked(False)
        self.capture.setChecked(False)
        self.capture.setText(self.tr("Capture"))
        self.learn.setChecked(False)
        self.what.hide()
        self._settle(False)

    def _ask(self, learning: Learning | None) -> None:
        """Asks about a pad, or says how far the learning has come."""
        self.what.setVisible(learning is not None and learning.waiting is not None)
        if learning is None:
            self._say(self.tr("Listening"), True)
            return
        self.kit.show_map(learning.note_map)
        if learning.waiting is None:
            left = len(missing(learning.note_map))
            done = self.tr("{n} known. Hit a pad; unknown ones are asked about.").format(n=len(learning.note_map.pads))
            self._say(done if left else self.tr("Every usual pad is known."), True)
            return
        self.what.clear()
        names = sorted({*STANDARD, *([learning.guess] if learning.guess else [])}, key=sort_key)
        for name in names:
            self.what.addItem(spoken(name), name)
        self.what.setCurrentIndex(self.what.findData(learning.guess))
        guess = spoken(learning.guess) if learning.guess else self.tr("something new")
        text = self.tr("Note {note}: {guess}? Hit it again for yes, or choose:").format(
            note=learning.waiting[1], guess=guess
        )
        self._say(text, True)

    def _say(self, text: str, _: bool) -> None:
        self.says.setText(text)


class LiveCard(QWidget):
    """The live input in the column at the left: lamp, last note in words, how hard. Hidden while nobody listens."""

    def __init__(self, listener: Listener, parent: QWidget | None = None):
        super().__init__(parent)
        self._name, self._words, self._velocity, self._loose, self._well = "", "", 0, False, True
        self._lit = QTimer(self)
        self._lit.setSingleShot(True)
        self._lit.setInterval(GLOW_MS)
        self._lit.timeout.connect(self.update)
        self.setFixedHeight(84)
        self.setToolTip(self.tr("The live input: the lamp is lit by each hit."))
        self.setAccessibleName(self.tr("Live input"))
        self._listener = listener
        listener.began.connect(self._began)
        listener.ended.connect(self.hide)
        listener.heard.connect(self._heard)
        listener.said.connect(self._said)
        self.hide()

    @property
    def words(self) -> str:
        """The last note, in words."""
        return self._words

    @property
    def lit(self) -> bool:
        return self._lit.isActive()

    def sizeHint(self) -> QSize:
        return QSize(200, 84)

    def _began(self) -> None:
        self._name, self._words, self._velocity = "", self.tr("nothing yet"), 0
        self.show()

    def _said(self, text: str, well: bool) -> None:
        self._name, self._well = text, well
        self.update()

    def _heard(self, words: str, velocity: int, loose: bool) -> None:
        self._words, self._velocity, self._loose = f"{words} – {velocity}", velocity, loose
        self.setAccessibleName(self.tr("Live input, last {words}").format(words=self._words))
        self._lit.start()
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        worn = theme.current()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        accent = worn.colour("accent")
        painter.setPen(accent if self._loose and self.lit else worn.colour("edge"))
        painter.setBrush(worn.colour("sheet"))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 6, 6)
        box = QRectF(self.rect()).adjusted(13, 9, -12, -9)
        painter.setBrush(accent if self.lit else worn.colour("line"))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.drawEllipse(QRectF(box.right() - 12, box.top() + 1, 11, 11))
        painter.setPen(worn.colour("faint"))
        painter.setFont(theme.font(8.5, QFont.Weight.Bold))
        painter.drawText(box, Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft, self.tr("LIVE"))
        painter.setPen(accent if self._loose else worn.colour("ink"))
        painter.setFont(theme.font(10.5, QFont.Weight.DemiBold))
        words = QFontMetricsF(painter.font()).elidedText(self._words, Qt.TextElideMode.ElideRight, box.width())
        painter.drawText(box.adjusted(0, 18, 0, 0), Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft, words)
        level = QRectF(box.left(), box.top() + 40, box.width(), 5)
        painter.fillRect(level, worn.colour("line"))
        painter.fillRect(QRectF(level.left(), level.top(), level.width() * self._velocity / 127, 5), worn.colour("ink"))
        painter.setPen(worn.colour("faint") if self._well else accent)
        painter.setFont(theme.font(9))
        said = QFontMetricsF(painter.font()).elidedText(self._name, Qt.TextElideMode.ElideRight, box.width())
        painter.drawText(box, Qt.AlignmentFlag.AlignBottom | Qt.AlignmentFlag.AlignLeft, said)
