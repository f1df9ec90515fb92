"""The face of a microphone: pitch now, level and floor, the last note in words, the player's voice, taught sounds."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QLineF, QRectF, QSize, Qt
from PySide6.QtGui import QFont, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QFileDialog,
    QFormLayout,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QInputDialog,
    QMenu,
    QPushButton,
    QSizePolicy,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from puresignal.core.harmony import keys, scales
from puresignal.core.kit.articulations import spoken
from puresignal.engine import ear_names
from puresignal.io import audio_ports, ports, profiles
from puresignal.translation import mark, tr
from puresignal.ui.state.microphone import LOUD, QUIET, Microphone
from puresignal.ui.state.services import Services
from puresignal.ui.widgets import text_format, theme
from puresignal.ui.widgets.field_row import field_row
from puresignal.ui.widgets.labelled_slider import LabelledSlider
from puresignal.ui.widgets.plain_text import PlainLabel
from puresignal.ui.widgets.vertical_scroll_area import VerticalScrollArea

LOWEST_DB = -80.0
CHORDS = (
    (scales.NONE, mark("the note alone")), (scales.OCTAVE, mark("octave")), (scales.FIFTH, mark("fifth")),
    (scales.TRIAD, mark("triad of the key")), (scales.SEVENTH, mark("seventh of the key")),
)  # fmt: skip
TAUGHT = ("kick", "snare.head", "snare.side", "hat.closed", "hat.open", "tom1.head", "tom3.head", "crash1.bow")
"""Drums that can be taught, in the order in which they are offered."""
CLEAR, CLOSE = 1.6, 1.1
"""How far two sounds must be apart to be told well, and at all."""


class VoicePicture(QWidget):
    """The pitch now as a name with its distance in cents, and the level between the floor and the end."""

    def __init__(self, microphone: Microphone, parent: QWidget | None = None):
        super().__init__(parent)
        self._microphone = microphone
        self.setMinimumHeight(118)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.show_state()

    def sizeHint(self) -> QSize:
        return QSize(480, 164)

    def words(self) -> str:
        """The pitch by name; a dash for none."""
        pitch = self._microphone.state.get("pitch")
        return "\N{EN DASH}" if pitch is None else keys.note_name(round(pitch))

    def show_state(self) -> None:
        level = self._microphone.state.get("level", -120.0)
        self.setAccessibleName(tr("Pitch {pitch}, level {level:.0f} dB").format(pitch=self.words(), level=level))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, current, state = QPainter(self), theme.current(), self._microphone.state
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        painter.fillRect(box, current.colour("sheet"))
        painter.setPen(QPen(current.colour("edge"), 1))
        painter.drawRect(box)
        left = QRectF(box.left() + 20, box.top() + 10, 150, box.height() - 60)
        painter.setPen(current.colour("ink"))
        painter.setFont(theme.font(44, QFont.Weight.Bold))
        painter.drawText(left, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, self.words())
        self._paint_cents(painter, QRectF(190, box.top() + 34, box.width() - 215, 34), state.get("pitch"))
        self._paint_level(painter, QRectF(20, box.bottom() - 42, box.width() - 40, 14))

    @staticmethod
    def _paint_cents(painter: QPainter, box: QRectF, pitch: float | None) -> None:
        """How far the pitch is from its note: half a semitone either way."""
        current = theme.current()
        painter.setPen(QPen(current.colour("line"), 1))
        for tenth in range(-5, 6):
            x = box.center().x() + tenth / 10 * box.width()
            high = box.height() / 2 if tenth else box.height()
            painter.drawLine(QLineF(x, box.bottom() - high, x, box.bottom()))
        painter.setFont(theme.font(8))
        painter.setPen(current.colour("faint"))
        for part, words in ((-0.5, tr("50 cents flat")), (0.5, tr("50 cents sharp"))):
            x = box.center().x() + part * box.width()
            where = QRectF(x if part < 0 else x - 120, box.bottom() + 2, 120, 14)
            side = Qt.AlignmentFlag.AlignLeft if part < 0 else Qt.AlignmentFlag.AlignRight
            painter.drawText(where, side, words)
        if pitch is not None:
            off = pitch - round(pitch)
            x = box.center().x() + off * box.width()
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(current.family("kick") if abs(off) < 0.25 else current.colour("accent"))
            painter.drawRect(QRectF(x - 3, box.top() - 4, 6, box.height() + 4))

    def _paint_level(self, painter: QPainter, box: QRectF) -> None:
        current, state = theme.current(), self._microphone.state

        def x(level: float) -> float:
            part = (max(LOWEST_DB, min(0.0, level)) - LOWEST_DB) / -LOWEST_DB
            return float(box.left() + box.width() * part)

        painter.fillRect(box, current.colour("shade"))
        level, floor = state.get("level", -120.0), state.get("floor", -120.0)
        gate = self._microphone.profile.settings.gate
        loud = level > -3
        colour = current.colour("accent") if loud else current.family("kick" if level > gate else "other")
        painter.fillRect(QRectF(box.left(), box.top(), x(level) - box.left(), box.height()), colour)
        painter.setFont(theme.font(8))
        for at, _words in ((floor, tr("floor")), (gate, tr("threshold")), (0.0, tr("too loud"))):
            if at < LOWEST_DB:
                continue
            painter.setPen(QPen(current.colour("ink"), 1))
            painter.drawLine(QLineF(x(at), box.top() - 3, x(at), box.bottom() + 3))
        painter.setPen(current.colour("faint"))
        marks = tr("floor {floor:.0f} dB, threshold {gate:.0f} dB, now {level:.0f} dB").format(
            floor=max(floor, -120), gate=gate, level=max(level, -120)
        )
        below = QRectF(box.left(), box.bottom() + 4, box.width(), 16)
        painter.drawText(below, Qt.AlignmentFlag.AlignLeft, marks)
        painter.drawText(below, Qt.AlignmentFlag.AlignRight, tr("too loud"))


class MicrophoneFace(QWidget):
    """Both kinds of microphone input, for sung notes and for taught sounds, show the same voice."""

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(parent)
        self._services, self._microphone, self._claps = services, services.microphone, services.clap_meter
        self._claps.changed.connect(lambda: self.show_state())
        self._melody = True
        self.picture = VoicePicture(self._microphone)
        self.last = PlainLabel()
        self.last.setObjectName("figure")
        self.says = PlainLabel()
        self.says.setWordWrap(True)
        self.says.setMinimumHeight(36)
        self.says.setAlignment(Qt.AlignmentFlag.AlignTop)
        inner = QWidget()
        panels = QHBoxLayout(inner)
        panels.setContentsMargins(0, 0, 0, 0)
        panels.setSpacing(12)
        panels.addWidget(self._voice_panel(), 1)
        self._melody_side, self._hits_side = self._melody_panel(), self._hits_panel()
        panels.addWidget(self._melody_side, 1)
        panels.addWidget(self._hits_side, 1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        column.addWidget(self.picture)
        column.addWidget(self.last)
        column.addWidget(self.says)
        column.addWidget(VerticalScrollArea(inner), 1)
        self._microphone.changed.connect(self.show_state)
        self.show_profile()
        self.show_state()

    # Panels

    @staticmethod
    def _panel(title: str) -> tuple[QFrame, QVBoxLayout]:
        panel = QFrame()
        panel.setObjectName("panel")
        column = QVBoxLayout(panel)
        column.setContentsMargins(16, 12, 16, 12)
        column.setSpacing(8)
        head = PlainLabel(title)
        head.setObjectName("figure")
        column.addWidget(head)
        return panel, column

    def _voice_panel(self) -> QFrame:
        panel, column = self._panel(tr("Voice"))
        self.profile = QComboBox()
        self.profile.setAccessibleName(tr("Voice profile"))
        self.profile.setToolTip(tr("Calibration, range, response and taught sounds of one player."))
        self.profile.activated.connect(lambda _: self._microphone.choose(self.profile.currentText()))
        more = QPushButton("…")
        more.setObjectName("small")
        more.setFixedWidth(34)
        more.setAccessibleName(tr("More for this profile"))
        menu = QMenu(more)
        for label, act in (
            (mark("New profile…"), self._ask_new), (mark("Share as a file…"), self._ask_share),
            (mark("Take in a shared file…"), self._ask_take_in),
        ):  # fmt: skip
            menu.addAction(tr(label)).triggered.connect(lambda _=False, a=act: a())
        more.setMenu(menu)
        row = QHBoxLayout()
        row.addWidget(self.profile, 1)
        row.addWidget(more)
        self.source = QComboBox()
        self.source.setAccessibleName(tr("Microphone"))
        self.source.setToolTip(tr("Where the sound comes from. Two simulated voices need no microphone."))
        self.source.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.source.activated.connect(lambda _: self._microphone.set_source(self.source.currentData()))
        self.calibrate = QPushButton(tr("Calibrate"))
        self.calibrate.setToolTip(
            tr("Two seconds of quiet, then your voice: sets the threshold below which nothing is heard.")
        )
        self.calibrate.clicked.connect(self._microphone.calibrate)
        tip = tr("Higher hears softer beginnings, and more that was not meant.")
        self.sensitivity = LabelledSlider(tr("Sensitivity"), "%", 0.0, 1.0, 0.5, tip, 0.05)
        self.sensitivity.moved.connect(lambda value, _: self._microphone.change(sensitivity=value))
        tip = tr("Below 1 soft sounds become louder notes, above 1 softer ones.")
        self.response = LabelledSlider(tr("Response"), "", 0.25, 4.0, 1.0, tip, 0.05)
        self.response.moved.connect(lambda value, _: self._microphone.change(response=value))
        self.delay = QDoubleSpinBox()
        self.delay.setRange(0.0, 500.0)
        self.delay.setDecimals(1)
        self.delay.setSuffix(tr(" ms"))
        self.delay.setAccessibleName(tr("Delay of the microphone"))
        self.delay.setToolTip(tr("Taken off the place of the recorded sound: the way from mouth to program."))
        self.delay.valueChanged.connect(self._microphone.set_delay)
        self.clap = QPushButton(tr("Clap along"))
        self.clap.setToolTip(
            tr("A click plays sixteen times: clap along from the fifth on, and the delay is set by it. It also says if "
               "the microphone hears the click itself.")
        )  # fmt: skip
        self.clap.clicked.connect(self._claps.start)
        form = QFormLayout()
        form.setSpacing(8)
        form.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
        form.addRow(tr("Profile"), row)
        form.addRow(tr("From"), self.source)
        form.addRow(tr("Delay"), field_row(self.delay, self.clap))
        column.addLayout(form)
        column.addWidget(self.calibrate)
        column.addWidget(self.sensitivity)
        column.addWidget(self.response)
        column.addStretch()
        return panel

    def _melody_panel(self) -> QFrame:
        panel, column = self._panel(tr("Sung notes"))
        self.low, self.high = self._note_box(tr("Lowest note")), self._note_box(tr("Highest note"))
        self.low.activated.connect(lambda _: self._set_range())
        self.high.activated.connect(lambda _: self._set_range())
        span = QHBoxLayout()
        span.addWidget(self.low, 1)
        span.addWidget(PlainLabel(tr("to")))
        span.addWidget(self.high, 1)
        self.key = QComboBox()
        self.key.setAccessibleName(tr("Key that sung notes are held to"))
        self.key.setToolTip(tr("Each sung note becomes the nearest one of the key."))
        self.key.addItem(tr("as sung"), "")
        for name in keys.NAMES:
            self.key.addItem(name, name)
        self.key.setMaxVisibleItems(26)
        self.key.activated.connect(lambda _: self._microphone.change(key=self.key.currentData()))
        self.chord = QComboBox()
        self.chord.setAccessibleName(tr("Chord on the sung note"))
        self.chord.setToolTip(tr("What is built on each sung note. Without a key, triads and sevenths are major."))
        for kind, label in CHORDS:
            self.chord.addItem(tr(label), kind)
        self.chord.activated.connect(lambda _: self._microphone.change(chord=self.chord.currentData()))
        self.shift = QSpinBox()
        self.shift.setRange(-48, 48)
        self.shift.setSuffix(tr(" semitones"))
        self.shift.setAccessibleName(tr("Shift of sung notes"))
        self.shift.setToolTip(tr("Plays the notes higher or lower than they are sung."))
        self.shift.valueChanged.connect(lambda value: self._microphone.change(shift=value))
        self.bends = QCheckBox(tr("glides and vibrato as bends"))
        self.bends.setToolTip(tr("Sends pitch bends over two semitones either way while a note sounds."))
        self.bends.clicked.connect(lambda on: self._microphone.change(bends=on))
        form = QFormLayout()
        form.setSpacing(8)
        form.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
        form.addRow(tr("Range"), span)
        form.addRow(tr("Held to"), self.key)
        form.addRow(tr("Plays"), self.chord)
        form.addRow(tr("Shift"), self.shift)
        form.addRow("", self.bends)
        column.addLayout(form)
        column.addStretch()
        return panel

    def _hits_panel(self) -> QFrame:
        panel, column = self._panel(tr("Taught sounds"))
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(4)
        self.teach: dict[str, QPushButton] = {}
        self.forget: dict[str, QPushButton] = {}
        self.counts: dict[str, PlainLabel] = {}
        for row, drum in enumerate(TAUGHT):
            teach, forget, count = QPushButton(tr("Teach")), QPushButton(tr("Forget")), PlainLabel()
            for button in (teach, forget):
                button.setObjectName("small")
            teach.setCheckable(True)
            teach.setAccessibleName(tr("Teach {drum}", drum=spoken(drum)))
            teach.setToolTip(tr("Make the sound six times or more, not all alike, then press again."))
            teach.clicked.connect(lambda on, d=drum: self._teach(d, on))
            forget.setAccessibleName(tr("Forget {drum}", drum=spoken(drum)))
            forget.clicked.connect(lambda _=False, d=drum: self._forget(d))
            count.setObjectName("faint")
            grid.addWidget(PlainLabel(spoken(drum)), row, 0)
            grid.addWidget(count, row, 1)
            grid.addWidget(teach, row, 2)
            grid.addWidget(forget, row, 3)
            self.teach[drum], self.forget[drum], self.counts[drum] = teach, forget, count
        grid.setColumnStretch(1, 1)
        self.apart = PlainLabel()
        self.apart.setWordWrap(True)
        self.apart.setObjectName("faint")
        column.addLayout(grid)
        column.addWidget(self.apart)
        column.addStretch()
        return panel

    def _note_box(self, name: str) -> QComboBox:
        box = QComboBox()
        box.setAccessibleName(name)
        box.setToolTip(tr("What is sung outside this range is ignored."))
        box.setMaxVisibleItems(24)
        for note in range(24, 97):
            box.addItem(keys.note_name(note), note)
        return box

    # Showing

    def show_input(self, port: str) -> None:
        """Show the face for sung notes, or for taught sounds."""
        self._melody = port == ports.MIC_MELODY
        self._melody_side.setVisible(self._melody)
        self._hits_side.setVisible(not self._melody)
        self.show_profile()

    def show_profile(self) -> None:
        """Show the settings of the voice."""
        own, profile = self._microphone.profile.settings, self._microphone.profile
        names = list(dict.fromkeys((*profiles.names(), profile.name)))
        if [self.profile.itemText(i) for i in range(self.profile.count())] != names:
            self.profile.clear()
            self.profile.addItems(names)
        self.profile.setCurrentText(profile.name)
        sources = [("", tr("JACK, PipeWire or the default device")), *((name, name) for name in audio_ports.inputs())]
        sources += [(ear_names.SINGER, tr("Simulated singer")), (ear_names.MOUTH, tr("Simulated mouth drummer"))]
        if profile.source not in [name for name, _ in sources]:
            sources.append((profile.source, tr("{name} (unavailable)").format(name=profile.source)))
        self.source.clear()
        for name, label in sources:
            self.source.addItem(label, name)
        self.source.setCurrentIndex(self.source.findData(profile.source))
        self.sensitivity.show_value(own.sensitivity)
        self.response.show_value(own.response)
        for box, number in ((self.delay, profile.delay), (self.shift, own.shift)):
            box.blockSignals(True)
            box.setValue(number)  # type: ignore[arg-type]
            box.blockSignals(False)
        for combo, value in ((self.low, own.low), (self.high, own.high), (self.key, own.key), (self.chord, own.chord)):
            combo.setCurrentIndex(max(0, combo.findData(value)))
        self.bends.setChecked(own.bends)
        self.bends.setEnabled(not own.key)

    def show_state(self) -> None:
        """Show what is heard now."""
        if not self.isVisible():
            return
        microphone, state = self._microphone, self._microphone.state
        profile = microphone.profile
        if (self.profile.currentText(), self.source.currentData()) != (profile.name, profile.source):
            self.show_profile()
        if not self.delay.hasFocus() and self.delay.value() != profile.delay:
            self.delay.blockSignals(True)
            self.delay.setValue(profile.delay)
            self.delay.blockSignals(False)
        self.picture.show_state()
        self.bends.setEnabled(not microphone.profile.settings.key)
        note, hit = state.get("note"), state.get("hit", "")
        last = ""
        if self._melody and note is not None:
            last = tr("Last note: {note}", note=keys.note_name(note))
        elif not self._melody and hit:
            last = tr("Last sound: {drum}", drum=spoken(hit))
        self.last.setText(last or tr("Nothing heard yet"))
        self.says.setText(self._words())
        self.calibrate.setEnabled(not microphone.calibrating and microphone.running)
        self.clap.setEnabled(microphone.running and not microphone.calibrating and not self._claps.running)
        self._show_taught()

    def _words(self) -> str:
        microphone = self._microphone
        if self._claps.running:
            return tr("Clap along with the click, from the fifth on.")
        if microphone.calibrating == QUIET:
            return tr("Be quiet for a moment: the room is measured.")
        if microphone.calibrating == LOUD:
            return tr("Now sing, or make your sounds, as loud as you will play.")
        if microphone.teaching:
            n = microphone.taught().get(microphone.teaching, 0)
            return tr("Teaching {drum}: {n} so far. Make the sound again, soft and loud, six times or more.").format(
                drum=spoken(microphone.teaching), n=text_format.counted(n, "example")
            )
        warnings = microphone.state.get("warnings", []) if not self._melody else []
        said = "\n".join(warnings[:2])
        for drum in TAUGHT:
            said = said.replace(drum, spoken(drum))
        return microphone.problem() or said

    def _show_taught(self) -> None:
        microphone = self._microphone
        taught, teaching = microphone.taught(), microphone.teaching
        for drum, button in self.teach.items():
            n = taught.get(drum, 0)
            self.counts[drum].setText(text_format.counted(n, "example") if n else "")
            button.setChecked(drum == teaching)
            button.setText(tr("Done") if drum == teaching else tr("Teach"))
            button.setEnabled(microphone.running and teaching in ("", drum))
            self.forget[drum].setEnabled(bool(n) and not teaching)
        pairs = sorted((row for row in microphone.state.get("apart", [])), key=lambda row: row[2])[:3]
        words = []
        for one, other, far in pairs:
            how = tr("told well") if far >= CLEAR else tr("told narrowly") if far >= CLOSE else tr("easily confused")
            words.append(tr("{one} and {other}: {how}", one=one, other=other, how=how))
        self.apart.setText("\n".join(words))

    # Doing

    def _set_range(self) -> None:
        low, high = self.low.currentData(), self.high.currentData()
        self._microphone.change(low=min(low, high - 1), high=max(high, low + 1))

    def _teach(self, drum: str, on: bool) -> None:
        self._microphone.teach(drum if on else None)

    def _forget(self, drum: str) -> None:
        self._microphone.forget(drum)

    def _ask_new(self) -> None:
        name, good = QInputDialog.getText(self, tr("New profile"), tr("Name of the player"))
        if good and name.strip():
            self._microphone.choose(name.strip())
            self.show_profile()

    def _ask_share(self) -> None:
        name = f"{self._microphone.profile.name}{profiles.ENDING}"  # not shown
        path, _ = QFileDialog.getSaveFileName(self, tr("Share the voice profile"), name)
        if path:
            self._microphone.share(Path(path))

    def _ask_take_in(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, tr("Take in a voice profile"), "", f"*{profiles.ENDING}")
        if path:
            self._microphone.take_in(Path(path))
            self.show_profile()
