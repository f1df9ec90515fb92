"""How recording goes: start, count-in and click, rounds, where the position goes, delays, pads that control."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from typing import Any

from PySide6.QtCore import QLineF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QDoubleSpinBox,
    QFormLayout,
    QHBoxLayout,
    QPushButton,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from puresignal.core.session import recording
from puresignal.core.session import session as edits
from puresignal.core.session.recording import ClickSettings, RecordingSettings
from puresignal.core.timing.jitter import Jitter
from puresignal.core.timing.loop_back import LoopBack
from puresignal.translation import mark, tr
from puresignal.ui.state.delay_meter import DelayMeter
from puresignal.ui.state.jitter_meter import JitterMeter
from puresignal.ui.state.services import Services
from puresignal.ui.widgets import theme
from puresignal.ui.widgets.plain_text import PlainLabel

STARTS = (
    (recording.AT_ONCE, mark("At once")), (recording.AFTER_COUNT_IN, mark("After the count-in")),
    (recording.FIRST_HIT, mark("On the first hit")),
)  # fmt: skip
WHENS = (
    (recording.NEVER, mark("Never")), (recording.COUNTING, mark("Only while counting in")),
    (recording.RECORDING, mark("While recording")), (recording.ALWAYS, mark("Whenever something plays")),
)  # fmt: skip
PARTS = ((1, mark("Beats")), (2, mark("Halves of beats")), (3, mark("Thirds of beats")), (4, mark("Quarters of beats")))
PLACES = ((recording.BACK, mark("Back to where it began")), (recording.STAY, mark("Where it stopped")))
ROUNDS = (
    (recording.LAYER, mark("On top of what is there")), (recording.REPLACE, mark("In place of what is there")),
)  # fmt: skip


class RecordSettings(QDialog):
    """Every choice acts at once, and can be undone."""

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(parent, Qt.WindowType.Tool)
        self.setWindowTitle(tr("Recording and click"))
        self._services, self._workbench = services, services.workbench
        self._setting = False
        self.start = self._choice(tr("Start"), STARTS, lambda v: self._set(start=v))
        self.count_in = self._number(tr("Count-in, bars"), 0, recording.MOST_BARS, lambda v: self._set(count_in=v))
        self.pre_roll = self._number(tr("Pre-roll, bars"), 0, recording.MOST_BARS, lambda v: self._set(pre_roll=v))
        self.rounds = self._choice(tr("What is recorded"), ROUNDS, lambda v: self._set(rounds=v))
        self.punch = QCheckBox(tr("Only within the range selected on the ruler"))
        self.punch.toggled.connect(lambda on: self._set(punch=on))
        self.early = QDoubleSpinBox()
        self.early.setRange(0, 4)
        self.early.setSingleStep(0.25)
        self.early.setSuffix(tr(" beats"))
        self.early.valueChanged.connect(lambda v: self._set(early=v))
        self.after = self._choice(tr("Position after recording"), PLACES, lambda v: self._set(after=v))
        self.after_play = self._choice(tr("Position after playback"), PLACES, lambda v: self._set(after_play=v))
        self.when = self._choice(tr("Click"), WHENS, lambda v: self._click(when=v))
        self.parts = self._choice(tr("Clicks on"), PARTS, lambda v: self._click(parts=v))
        self.level = QDoubleSpinBox()
        self.level.setRange(-40, 12)
        self.level.setSuffix(tr(" dB"))
        self.level.valueChanged.connect(lambda v: self._click(level=v))
        self.sounds = QCheckBox(tr("Built-in sound"))
        self.sounds.toggled.connect(lambda on: self._click(sounds=on))
        self.port = QComboBox()
        self.port.activated.connect(lambda _: self._click(port=self.port.currentData()))
        self.in_delay, self.out_delay = (self._delay(name) for name in ("in_delay", "out_delay"))
        right = (self.when, self.parts, self.level, self.sounds, self.port, self.in_delay, self.out_delay)
        # In two columns: a low screen has no room for all of it in one.
        recorded, clicked = QFormLayout(), QFormLayout()
        for form in (recorded, clicked):
            form.setHorizontalSpacing(14)
            form.setVerticalSpacing(7)
        for label, widget, tip in (
            (tr("Start"), self.start, tr("When recording begins after Record is pressed.")),
            (tr("Count-in"), self.count_in, tr("Bars of click before the record point; nothing else plays in them.")),
            (tr("Pre-roll"), self.pre_roll, tr("Bars before the record point that are played, with the other takes.")),
            (tr("Record"), self.rounds, tr("Whether a take, and each round of a loop, adds to what is there.")),
            ("", self.punch, tr("Recording begins and ends with the range; what plays before it leads in.")),
            (tr("Early hits"), self.early, tr("What is played so shortly before the record point is in the take.")),
            (tr("Afterwards"), self.after, tr("Where the position goes after recording.")),
            (tr("After playback"), self.after_play, tr("Where the position goes when playback is stopped.")),
            (tr("Click"), self.when, tr("When the click sounds.")),
            (tr("Clicks on"), self.parts, tr("The first beat of a bar is higher and louder, parts of beats softer.")),
            (tr("Click level"), self.level, tr("Level of the click against the built-in sound.")),
            (tr("Click to"), self.sounds, tr("The click is played by the built-in sound.")),
            ("", self.port, tr("A MIDI port that gets the click as notes 76 and 77 on channel 10.")),
            (tr("Input delay"), self.in_delay, tr("How late playing arrives. Takes are placed earlier by so much.")),
            (tr("Output delay"), self.out_delay, tr("How late what plays is heard. Takes are placed earlier by it.")),
        ):
            widget.setToolTip(tip)
            widget.setAccessibleName(label or widget.accessibleName() or tip)
            form = clicked if widget in right else recorded
            form.addRow(PlainLabel(label), widget)
        self.measure = DelayRow(services)
        self.measure.measured.connect(lambda ms: self._set(in_delay=ms, out_delay=0.0))
        clicked.addRow(PlainLabel(tr("Measure")), self.measure)
        self.jitter = JitterRow(services)
        clicked.addRow(PlainLabel(tr("Jitter")), self.jitter)
        self.controls = ControlRows(services)
        self.setMinimumWidth(800)
        column = QVBoxLayout(self)
        column.setContentsMargins(18, 16, 18, 16)
        column.setSpacing(12)
        both = QHBoxLayout()
        both.setSpacing(28)
        both.addLayout(recorded, 1)
        both.addLayout(clicked, 1)
        column.addLayout(both)
        head = PlainLabel(tr("PADS AND SWITCHES THAT CONTROL"))
        head.setObjectName("section")
        column.addWidget(head)
        column.addWidget(self.controls)
        self._workbench.changed.connect(self.show_settings)
        services.port_watch.changed.connect(lambda *_: self.show_settings())
        self.show_settings()

    def _choice(self, name: str, options: tuple[tuple[Any, str], ...], act: Callable[[Any], None]) -> QComboBox:
        combo = QComboBox()
        combo.setAccessibleName(name)
        for value, label in options:
            combo.addItem(tr(label), value)
        combo.activated.connect(lambda _: act(combo.currentData()))
        return combo

    def _number(self, name: str, low: int, high: int, act: Callable[[int], None]) -> QSpinBox:
        box = QSpinBox()
        box.setAccessibleName(name)
        box.setRange(low, high)
        box.valueChanged.connect(act)
        return box

    def _delay(self, field: str) -> QDoubleSpinBox:
        box = QDoubleSpinBox()
        box.setRange(-1000, 1000)
        box.setDecimals(1)
        box.setSuffix(tr(" ms"))
        box.valueChanged.connect(lambda v: self._set(**{field: v}))
        return box

    def _set(self, **changed: Any) -> None:
        bench = self._workbench
        now = replace(bench.session.recording, **changed)
        if not self._setting and now != bench.session.recording:
            bench.do(
                tr("change recording settings"), edits.with_recording(bench.session, now), "recording"
            )  # not shown

    def _click(self, **changed: Any) -> None:
        self._set(click=replace(self._workbench.session.recording.click, **changed))

    def show_settings(self) -> None:
        """Show the session's settings."""
        settings: RecordingSettings = self._workbench.session.recording
        clicks: ClickSettings = settings.click
        self._setting = True
        for combo, value in (
            (self.start, settings.start), (self.rounds, settings.rounds), (self.after, settings.after),
            (self.after_play, settings.after_play), (self.when, clicks.when), (self.parts, clicks.parts),
        ):  # fmt: skip
            combo.setCurrentIndex(combo.findData(value))
        self.count_in.setValue(settings.count_in)
        self.pre_roll.setValue(settings.pre_roll)
        for box, number in (
            (self.early, settings.early), (self.level, clicks.level),
            (self.in_delay, settings.in_delay), (self.out_delay, settings.out_delay),
        ):  # fmt: skip
            box.setValue(number)
        self.punch.setChecked(settings.punch)
        self.sounds.setChecked(clicks.sounds)
        there = [port.name for port in self._services.port_watch.ports if not port.gives]
        self.port.clear()
        self.port.addItem(tr("no MIDI port"), "")
        for name in dict.fromkeys((*there, *([clicks.port] if clicks.port else []))):
            self.port.addItem(name, name)
        self.port.setCurrentIndex(max(0, self.port.findData(clicks.port)))
        self.count_in.setEnabled(settings.start == recording.AFTER_COUNT_IN)
        self._setting = False


class Histogram(QWidget):
    """How often which delay was measured."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.found: LoopBack | Jitter | None = None
        self.setFixedHeight(56)
        self.setAccessibleName(tr("Delays measured"))
        self.hide()

    def show_found(self, found: LoopBack | Jitter | None) -> None:
        self.found = found
        self.setVisible(found is not None)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        if self.found is None:
            return
        current, painter, counts = theme.current(), QPainter(self), self.found.counts
        base, wide = self.height() - 18, self.width() / len(counts)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(current.colour("ink"))
        for i, count in enumerate(counts.tolist()):
            tall = count / max(1, int(counts.max())) * (base - 2)
            painter.drawRect(QRectF(i * wide, base - tall, max(1.0, wide - 1), tall))
        painter.setPen(QPen(current.colour("edge"), 1))
        painter.drawLine(QLineF(0, base + 0.5, self.width(), base + 0.5))
        painter.setPen(current.colour("faint"))
        painter.setFont(theme.font(8.5))
        ends = QRectF(0, base + 2, self.width(), 16)
        for at, side in zip(self.found.spread, (Qt.AlignmentFlag.AlignLeft, Qt.AlignmentFlag.AlignRight), strict=True):
            painter.drawText(ends, side, tr("{ms:.1f} ms").format(ms=1000 * at))


class MeasuringRow(QWidget):
    """Measures something of a port: the port, a button, what was found in words and as a picture."""

    def __init__(self, meter: DelayMeter | JitterMeter, parent: QWidget | None = None):
        super().__init__(parent)
        self._meter = meter
        self.port, self.button = QComboBox(), QPushButton(tr("Measure"))
        self.said, self.picture = PlainLabel(), Histogram()
        self.button.clicked.connect(lambda: meter.start(self.port.currentText()))
        self.said.setObjectName("faint")
        self.said.setWordWrap(True)
        row = QHBoxLayout()
        row.addWidget(self.port, 1)
        row.addWidget(self.button)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addLayout(row)
        column.addWidget(self.said)
        column.addWidget(self.picture)
        meter.changed.connect(self._show)

    def _list(self, names: Iterable[str]) -> None:
        """Offer these ports; the chosen one stays chosen."""
        chosen = self.port.currentText()
        self.port.clear()
        self.port.addItems(list(names))
        self.port.setCurrentIndex(max(0, self.port.findText(chosen)))
        self.button.setEnabled(self.port.count() > 0 and not self._meter.running)

    def _show(self) -> None:
        """Show how the measurement stands."""
        self.button.setEnabled(self.port.count() > 0 and not self._meter.running)
        self.picture.show_found(self._meter.found)
        text = self._text()
        if text:
            self.said.setText(text)
        self.said.setVisible(bool(self.said.text()))
        self.window().adjustSize()

    def _text(self) -> str:
        """How it stands, in words; empty to leave what was said."""
        raise NotImplementedError


class DelayRow(MeasuringRow):
    """Measures the delay by a loop-back.

    measured  milliseconds
    """

    measured = Signal(float)

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(services.delay_meter, parent)
        self._delay, self._watch = services.delay_meter, services.port_watch
        self.port.setAccessibleName(tr("Port to measure through"))
        self.port.setToolTip(tr("A MIDI output that is wired to one of the inputs: what is sent there comes back in."))
        self.button.setToolTip(tr("Sends notes for four seconds and sets the input delay to what they needed."))
        self.button.setAccessibleName(tr("Measure the delay"))
        self._watch.changed.connect(lambda *_: self.show_ports())
        self.show_ports()
        self._show()

    def show_ports(self) -> None:
        """List the ports that are there."""
        self._list(dict.fromkeys(port.name for port in self._watch.ports if not port.gives))

    def _show(self) -> None:
        super()._show()
        found = self._delay.found
        if found is not None and not self._delay.running:
            self.measured.emit(round(1000 * found.delay, 1))

    def _text(self) -> str:
        found = self._delay.found
        if self._delay.running:
            return tr("Measuring…")
        if found is None:
            return ""
        text = tr("{delay:.1f} ms there and back, within {jitter:.1f} ms.")
        if found.lost:
            text = tr("{delay:.1f} ms there and back, within {jitter:.1f} ms; {lost} notes did not come back.")
        return text.format(delay=1000 * found.delay, jitter=1000 * found.jitter, lost=found.lost)


class JitterRow(MeasuringRow):
    """Measures how evenly an input's messages arrive."""

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(services.jitter_meter, parent)
        self._jitter, self._live = services.jitter_meter, services.live_session
        self.port.setAccessibleName(tr("Input to measure"))
        self.port.setToolTip(tr("An input that is listened to: what it sends evenly is compared with an even clock."))
        self.button.setToolTip(tr("Listens for ten seconds to the device's clock, its active sensing, or even notes."))
        self.button.setAccessibleName(tr("Measure the jitter"))
        self.picture.setAccessibleName(tr("How late messages were"))
        self._live.started.connect(self._show)
        self._live.stopped.connect(self._show)
        self._show()

    def _show(self) -> None:
        self._list(self._live.port_names if self._live.listening else ())
        super()._show()

    def _text(self) -> str:
        found = self._jitter.found
        if self._jitter.running:
            return tr("Listening for ten seconds…")
        if found is None:
            return ""
        text = tr("By {what}, every {interval:.1f} ms: within {jitter:.1f} ms.")
        if found.lost:
            text = tr("By {what}, every {interval:.1f} ms: within {jitter:.1f} ms; {lost} did not come.")
        what = tr(self._jitter.by)
        return text.format(what=what, interval=1000 * found.interval, jitter=1000 * found.jitter, lost=found.lost)


class ControlRows(QWidget):
    """A row for each thing that a pad or switch can do, learned by hitting it."""

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(parent)
        self._controls = services.hand_controls
        self.buttons: dict[str, QPushButton] = {}
        self.forgets: dict[str, QPushButton] = {}
        form = QFormLayout(self)
        form.setContentsMargins(0, 0, 0, 0)
        for name, label in self._controls.ACTIONS.items():
            button, forget = QPushButton(), QPushButton(tr("Forget"))
            button.setCheckable(True)
            button.setToolTip(tr("Press, then hit the pad, key, pedal or switch that should do it."))
            button.setAccessibleName(tr(label))
            button.clicked.connect(lambda on, n=name: self._controls.learn(n if on else None))
            forget.setAccessibleName(tr("Forget what controls {what}", what=tr(label)))
            forget.clicked.connect(lambda _=False, n=name: self._controls.forget(n))
            row = QHBoxLayout()
            row.addWidget(button, 1)
            row.addWidget(forget)
            form.addRow(PlainLabel(tr(label)), row)
            self.buttons[name], self.forgets[name] = button, forget
        self._controls.changed.connect(self.show_controls)
        self.show_controls()

    def show_controls(self) -> None:
        """Show what controls what."""
        for name, button in self.buttons.items():
            learning = self._controls.learning == name
            button.setChecked(learning)
            words = self._controls.words(name)
            button.setText(tr("Hit it now…") if learning else words or tr("Learn…"))
            self.forgets[name].setEnabled(bool(words))
