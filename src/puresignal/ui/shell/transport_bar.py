"""The transport, visible in every view: play, stop, loop, position, what is heard."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QLabel, QPushButton, QSlider, QWidget

from puresignal.core.diagnosis.monitoring import lines
from puresignal.core.session import session as edits
from puresignal.core.session.sound_settings import SoundSettings
from puresignal.translation import tr
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.state.playback import CLEAN, PLAYED, Playback
from puresignal.ui.state.workbench import Workbench


class TransportBar(QWidget):
    """Playback controls, and the switch of the computer keyboard.

    keys_switched         the computer keyboard should play, or not
    monitoring_requested  show what sounds, and why
    """

    keys_switched = Signal(bool)
    monitoring_requested = Signal()

    def __init__(self, workbench: Workbench, listener: LiveSession, playback: Playback, parent: QWidget | None = None):
        super().__init__(parent)
        self._workbench, self._listener, self._playback = workbench, listener, playback
        self.setObjectName("bar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 6, 14, 6)
        row.setSpacing(6)
        self.start = self._button(tr("To start"), tr("Go to the start (Home in Takes)."))
        self.start.clicked.connect(lambda: playback.go(0.0))
        self.play = self._button(tr("Play"), tr("Play from the position line; press again to stop (Space)."))
        self.play.setCheckable(True)
        self.play.setMinimumWidth(66)
        self.play.clicked.connect(lambda _: playback.toggle())
        self.loop = self._button(
            tr("Loop"), tr("Repeat the range selected on the ruler of Takes, or the whole take (L).")
        )
        self.loop.setCheckable(True)
        self.loop.clicked.connect(playback.set_looping)
        self.place = QLabel()
        self.place.setObjectName("figure")
        self.place.setMinimumWidth(170)
        self.place.setToolTip(tr("Position: bar and beat, minutes and seconds."))
        self.versions: dict[str, QPushButton] = {}
        group = QButtonGroup(self)
        for name, label, tip in (
            (PLAYED, tr("Hear played"), tr("Play every hit as it was played, faults included (H switches).")),
            (CLEAN, tr("Hear clean"), tr("Play the clean result (H switches).")),
        ):
            button = self._button(label, tip)
            button.setCheckable(True)
            button.clicked.connect(lambda _=False, n=name: playback.set_version(n))
            group.addButton(button)
            self.versions[name] = button
        self.versions[CLEAN].setChecked(True)
        self.compare = self._button(
            tr("A/B"),
            tr("The first press stores these settings of the path as the other side; after that it swaps the two (B)."),
        )
        self.compare.clicked.connect(lambda _: playback.compare_settings())
        self.keys = self._button(
            tr("Keyboard"), tr("Play the computer keyboard (Ctrl+K). Inputs shows what each key plays.")
        )
        self.keys.setCheckable(True)
        self.keys.clicked.connect(self.keys_switched)
        self.level = QSlider(Qt.Orientation.Horizontal)
        self.level.setRange(0, 100)
        self.level.setFixedWidth(96)
        self.level.setAccessibleName(tr("Level of the built-in sound"))
        self.level.setToolTip(tr("Level of the built-in sound. It changes no note."))
        self.level.valueChanged.connect(self._set_level)
        self.what = self._button(tr("Monitoring"), "")
        self.what.clicked.connect(self.monitoring_requested)
        self.says = QLabel()
        self.says.setObjectName("faint")
        for widget in (self.start, self.play, self.loop, self.place, *self.versions.values(), self.compare):
            row.addWidget(widget)
        row.addStretch()
        for widget in (self.what, self.keys, QLabel(tr("Sound")), self.level, self.says):
            row.addWidget(widget)
        playback.moved.connect(self._show_place)
        playback.changed.connect(self.show_state)
        workbench.changed.connect(self.show_state)
        listener.sound_state_changed.connect(self._show_sound)
        self.show_state()

    def _button(self, label: str, tip: str) -> QPushButton:
        button = QPushButton(label)
        button.setToolTip(tip)
        button.setAccessibleName(label)
        button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        return button

    def show_state(self) -> None:
        """Update buttons and position."""
        playback, shown = self._playback, self._workbench.shown
        self.play.setChecked(playback.playing)
        self.play.setText(tr("Stop") if playback.playing else tr("Play"))
        self.play.setEnabled(shown is not None)
        self.loop.setChecked(playback.looping)
        self.versions[playback.version].setChecked(True)
        self.compare.setText(tr("A/B") if playback.other_path is None else tr("A ⇄ B"))
        level = round(100 * self._workbench.session.sound.level)
        if self.level.value() != level:
            self.level.blockSignals(True)
            self.level.setValue(level)
            self.level.blockSignals(False)
        self._show_place(playback.place)
        self.what.setToolTip("\n".join(self.monitoring()))

    def monitoring(self) -> tuple[str, ...]:
        """One line for everything that could sound now."""
        shown, playback = self._workbench.shown, self._playback
        return lines(
            self._workbench.session, shown.tracks if shown is not None else (), self._listener.listening,
            playback.version if playback.playing else None,
        )  # fmt: skip

    def _show_place(self, seconds: float) -> None:
        shown = self._workbench.shown
        if shown is None:
            self.place.setText("–")
            return
        bar, beat, _ = shown.take.tempo.position(seconds)
        self.place.setText(f"{bar}.{beat}   {int(seconds // 60)}:{seconds % 60:04.1f}")

    def _set_level(self, value: int) -> None:
        bench = self._workbench
        sound: SoundSettings = bench.session.sound
        session = edits.with_sound(bench.session, replace(sound, level=value / 100))
        bench.do(tr("set sound level"), session, "level")

    def _show_sound(self, state: dict[str, Any]) -> None:
        """Show the sound output and its delay, or why it is silent."""
        if not state:
            self.says.setText("")
            self.says.setToolTip("")
        elif state["system"]:
            self.says.setText(tr("{system}, {ms:.0f} ms").format(system=state["system"], ms=1000 * state["delay"]))
            self.says.setToolTip(
                tr("{rate} Hz, {block} frames; {load:.0f} % load; {n} dropouts.").format(
                    rate=state["rate"], block=state["block"], load=100 * state["load"], n=state["underruns"]
                )
            )
        else:
            self.says.setText(tr("silent: no sound device"))
            self.says.setToolTip(state["why"])
