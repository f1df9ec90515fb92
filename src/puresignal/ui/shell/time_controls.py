"""Tempo, meter and key of the session, in the header: typed, wheeled, nudged and tapped."""

from __future__ import annotations

import time

import numpy as np
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QPushButton, QWidget

from puresignal.core.harmony import keys
from puresignal.core.session import session as edits
from puresignal.core.timing import timeline_edits
from puresignal.core.timing.session_time import Timeline
from puresignal.core.timing.tap_tempo import TapTempo
from puresignal.translation import tr
from puresignal.ui.state.services import Services
from puresignal.ui.widgets.tempo_box import TempoBox

ONE_STEP_MS = 900
"""Milliseconds within which nudges of the tempo are one step of the history."""
TAPS_SHOWN_MS = 2600
"""Milliseconds that the button shows the taps."""
METERS = ("4/4", "3/4", "2/4", "5/4", "6/8", "7/8", "9/8", "12/8")


class TimeControls(QWidget):
    """The session's tempo, meter and key at the position."""

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(parent)
        self._services, self._workbench, self._playback = services, services.workbench, services.playback
        self._taps = TapTempo()
        self._step = 0
        self._nudges = QTimer(self)
        self._nudges.setSingleShot(True)
        self._nudges.setInterval(ONE_STEP_MS)
        self._quiet = QTimer(self)
        self._quiet.setSingleShot(True)
        self._quiet.setInterval(TAPS_SHOWN_MS)
        self._quiet.timeout.connect(self._forget_taps)
        self.tempo = TempoBox()
        self.tempo.setObjectName("time")
        self.tempo.setAccessibleName(tr("Tempo"))
        self._tip = tr(
            "Tempo at the position, in quarter notes per minute: type it, or turn the wheel (Shift for tenths). "
            "Takes that follow beats move along. The ruler of Takes has changes along the bars."
        )
        self._tip_followed = tr("The tempo of the MIDI clock that is followed. Its settings: Ctrl+Shift+Y.")
        self.tempo.setToolTip(self._tip)
        self.tempo.setFixedWidth(104)
        self.tempo.valueChanged.connect(self._set_tempo)
        self.tap = QPushButton(tr("Tap"))
        self.tap.setAccessibleName(tr("Tap the tempo"))
        self.tap.setToolTip(tr("Tap here in time, three times or more. A missed or doubled tap does no harm."))
        self.tap.setFixedWidth(58)
        self.tap.pressed.connect(self._tap)
        self.meter = self._combo(tr("Meter"), tr("Meter at the position: choose one, or type it like 7/8."), 64)
        self.meter.setEditable(True)
        self.meter.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        self.meter.addItems(METERS)
        self.meter.activated.connect(lambda _: self._set_meter())
        line = self.meter.lineEdit()
        assert line is not None
        line.editingFinished.connect(self._set_meter)
        self.key = self._combo(tr("Key"), tr("Key of the session. Files state it."), 104)
        self.key.addItem(tr("no key"), "")
        for name in keys.NAMES:
            self.key.addItem(name.replace("#", "\N{MUSIC SHARP SIGN}").replace("b ", "\N{MUSIC FLAT SIGN} "), name)
        self.key.activated.connect(lambda _: self._set_key())
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(5)
        for widget in (self.tempo, self.tap, self.meter, self.key):
            row.addWidget(widget)
        self._workbench.changed.connect(self.show_time)
        self._playback.moved.connect(lambda _: self.show_time())
        services.outside.changed.connect(self.show_time)
        self.show_time()

    def _combo(self, name: str, tip: str, width: int) -> QComboBox:
        combo = QComboBox()
        combo.setObjectName("time")
        combo.setAccessibleName(name)
        combo.setToolTip(tip)
        combo.setFixedWidth(width)
        combo.setMaxVisibleItems(26)
        return combo

    def set_compact(self, compact: bool) -> None:
        """In a narrow window without the button, whose key stays."""
        self.tap.setVisible(not compact)

    def _timeline(self) -> Timeline:
        return self._workbench.timeline

    def _beat(self) -> float:
        """The beat from bar 1 at the position."""
        heard = self._workbench.heard
        if heard is None or heard.several is None:
            return 0.0
        return heard.several.beat_of(self._playback.place)

    def show_time(self) -> None:
        """Show tempo, meter and key at the position."""
        timeline, beat = self._timeline(), self._beat()
        outside = self._services.outside
        followed = outside.bpm if outside.follows_clock else None
        bpm = timeline.bpm_at(max(0.0, beat)) if followed is None else round(followed, 1)
        self._show_followed(followed is not None)
        if abs(self.tempo.value() - bpm) > 0.005 and not self._is_typed_in():
            self.tempo.blockSignals(True)
            self.tempo.setValue(bpm)
            self.tempo.blockSignals(False)
        meter = timeline.meter_at(timeline.beats_to_bar(max(0.0, beat))[0])
        line = self.meter.lineEdit()
        text = f"{meter.numerator}/{meter.denominator}"
        if line is not None and line.text() != text and not line.hasFocus():
            self.meter.setCurrentText(text)
        self.key.setCurrentIndex(max(0, self.key.findData(self._workbench.session.key)))

    def _show_followed(self, followed: bool) -> None:
        """Let the tempo be set, or only be read while it is a clock's."""
        if followed != self.tempo.isReadOnly():
            self.tempo.setReadOnly(followed)
            self.tempo.setToolTip(self._tip_followed if followed else self._tip)
            self.tap.setEnabled(not followed)

    def _is_typed_in(self) -> bool:
        line = self.tempo.lineEdit()
        return self.tempo.hasFocus() and line.isModified()

    def _set_tempo(self, bpm: float) -> None:
        if not self._nudges.isActive():
            self._step += 1
        self._nudges.start()
        if not self.tempo.isReadOnly():
            self._do_tempo(bpm, f"tempo {self._step}")  # not shown

    def _do_tempo(self, bpm: float, gesture: str) -> None:
        bench = self._workbench
        # A file's own tempos are whole microseconds: the one that is shown is not set again.
        if abs(self._timeline().bpm_at(max(0.0, self._beat())) - bpm) < 0.005:
            return
        timeline = timeline_edits.with_tempo_in_force(self._timeline(), max(0.0, self._beat()), round(bpm, 2))
        bench.do(tr("set tempo"), edits.with_timeline(bench.session, timeline), gesture)

    def tap_now(self) -> None:
        """One tap, by key."""
        self._tap()

    def _tap(self) -> None:
        before = len(self._taps.taps)
        self._taps = self._taps.tapped(time.monotonic())
        if len(self._taps.taps) <= before:
            self._step += 1
        self._quiet.start()
        bpm = None if self.tempo.isReadOnly() else self._taps.bpm
        self.tap.setText("\N{BULLET}" * min(4, len(self._taps.taps)) if bpm is None else tr("Tap ✓"))
        if bpm is not None:
            # Nobody taps a tempo to hundredths.
            self._do_tempo(float(np.round(bpm, 1)), f"tap {self._step}")  # not shown

    def _forget_taps(self) -> None:
        self.tap.setText(tr("Tap"))
        if len(self._taps.taps) < 3:
            self._services.notices.tell(tr("Tap the tempo three times or more, in time."), False)
        self._taps = TapTempo()

    def _set_meter(self) -> None:
        bench, text = self._workbench, self.meter.currentText()
        meter = timeline_edits.meter_of(text)
        timeline = self._timeline()
        bar, _ = timeline.beats_to_bar(max(0.0, self._beat()))
        there = timeline.meter_at(bar)
        if meter is None:
            self._services.notices.tell(
                tr("{given} is no meter: write beats and note value, like 7/8.", given=text), True
            )
            self.meter.setCurrentText(f"{there.numerator}/{there.denominator}")
            return
        if meter == (there.numerator, there.denominator):
            return
        # In force since the last change: that one is changed, as with the tempo.
        since = max((one.bar for one in timeline.meters if one.bar <= bar), default=1)
        made = timeline_edits.with_meter_at(timeline, since, *meter)
        bench.do(tr("set meter"), edits.with_timeline(bench.session, made))

    def _set_key(self) -> None:
        bench = self._workbench
        bench.do(tr("set key"), edits.with_key(bench.session, self.key.currentData()))
