"""The transport, visible in every view: play, stop, loop, position, what is heard."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PySide6.QtCore import QEvent, Qt, Signal
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QPushButton, QSlider, QWidget

from puresignal.core.diagnosis.monitoring import lines
from puresignal.core.session import recording
from puresignal.core.session import session as edits
from puresignal.core.session.sound_settings import SoundSettings
from puresignal.core.timing.click_beats import counted
from puresignal.translation import tr
from puresignal.ui.state.playback import CLEAN, PLAYED
from puresignal.ui.state.services import Services
from puresignal.ui.widgets import theme, transport_icons
from puresignal.ui.widgets.plain_text import PlainLabel, plain_tip
from puresignal.ui.widgets.transport_icons import LOOP, PLAY, RECORD, STOP, TO_START


class PlaceLabel(PlainLabel):
    """The position: bar, beat and quarter of a beat, or minutes and seconds; a click shows the other.

    pressed  it was clicked, and shows the other from now on
    """

    pressed = Signal()

    def __init__(self, parent: QWidget | None = None):
        super().__init__("", parent)
        self.shows_clock = False
        self.setObjectName("figure")
        self.setMinimumWidth(92)
        self.setAccessibleName(tr("Position"))
        self.setToolTip(tr("Position: bar, beat and quarter of a beat. A click shows minutes and seconds instead."))
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.shows_clock = not self.shows_clock
        self.pressed.emit()


class TransportBar(QWidget):
    """Playback controls, and the switch of the computer keyboard.

    keys_switched       the computer keyboard should play, or not
    settings_requested  the settings of recording and click should be shown
    sync_requested      the settings of playing with other programs should be shown
    """

    keys_switched = Signal(bool)
    settings_requested = Signal()
    sync_requested = Signal()

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(parent)
        workbench, live_session, playback = services.workbench, services.live_session, services.playback
        self._workbench, self._live_session, self._playback = workbench, live_session, playback
        self._capture = services.capture
        self.setObjectName("bar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 6, 14, 6)
        row.setSpacing(6)
        self.start = self._symbol(TO_START, tr("To start"), tr("Go to the start (Home in Takes)."))
        self.start.clicked.connect(lambda: playback.go(0.0))
        self.play = self._symbol(PLAY, tr("Play"), tr("Play from the position line; press again to stop (Space)."))
        self.play.setCheckable(True)
        self.play.clicked.connect(lambda _: self._play_or_stop())
        self.record = self._symbol(RECORD, tr("Record"), "")
        self.record.setObjectName("record")
        self.record.setCheckable(True)
        self.record.clicked.connect(lambda _: services.capture.toggle())
        self.loop = self._symbol(
            LOOP, tr("Loop"), tr("Repeat the range selected on the ruler of Takes, or the whole take (L).")
        )
        self.loop.setCheckable(True)
        self.loop.clicked.connect(playback.set_looping)
        self.place = PlaceLabel()
        self.place.pressed.connect(lambda: self._show_place(playback.place))
        self.how = self._button("", tr("Count-in, click, loop rounds, delays, pads that control (Ctrl+Shift+R)."))
        self.how.setAccessibleName(tr("Recording and click"))
        self.how.clicked.connect(self.settings_requested)
        self.sync = self._button("", tr("Whose time is followed. Click for the settings (Ctrl+Shift+Y)."))
        self.sync.clicked.connect(self.sync_requested)
        self._outside = services.outside
        self._outside.changed.connect(self._show_sync)
        self._gesture = 0
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
        self.level.sliderPressed.connect(self._begin_gesture)
        self.level.valueChanged.connect(self._set_level)
        self.what = self._button(tr("Monitoring"), "")
        self.what.clicked.connect(lambda: services.notices.tell("\n".join(self.monitoring()), False))
        self.says = PlainLabel()
        self.says.setObjectName("faint")
        for widget in (
            self.start, self.play, self.record, self.loop, self.place, self.sync, self.how,
            *self.versions.values(), self.compare,
        ):  # fmt: skip
            row.addWidget(widget)
        row.addStretch()
        for widget in (self.what, self.keys, PlainLabel(tr("Sound")), self.level, self.says):
            row.addWidget(widget)
        playback.moved.connect(self._show_place)
        self._capture.changed.connect(self.show_state)
        playback.changed.connect(self.show_state)
        workbench.changed.connect(self.show_state)
        live_session.sound_state_changed.connect(self._show_sound)
        self.show_state()

    def _symbol(self, name: str, label: str, tip: str) -> QPushButton:
        """A button with a symbol; its name and what it does are in words beside it."""
        button = self._button("", tip)
        button.setAccessibleName(label)
        button.setFixedWidth(42)
        self._name(button, name)
        return button

    def _name(self, button: QPushButton, name: str) -> None:
        """Give a button its symbol, in the theme's colours."""
        current = theme.current()
        colour = current.colour("accent" if name == RECORD else "ink")
        if button.property("symbol") == (name, current.name):
            return
        button.setProperty("symbol", (name, current.name))
        button.setIcon(transport_icons.icon(name, colour, current.colour("sheet")))

    def changeEvent(self, event: QEvent) -> None:
        super().changeEvent(event)
        if event.type() == QEvent.Type.StyleChange:
            for button, name in ((self.start, TO_START), (self.record, RECORD), (self.loop, LOOP)):
                self._name(button, name)
            self.show_state()

    def _button(self, label: str, tip: str) -> QPushButton:
        button = QPushButton(label)
        button.setToolTip(tip)
        button.setAccessibleName(label)
        button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        return button

    def show_state(self) -> None:
        """Update buttons and position."""
        playback, shown = self._playback, self._workbench.seen
        recording = self._capture.running
        self.play.setChecked(playback.playing)
        self._name(self.play, STOP if playback.playing or recording else PLAY)
        self.play.setAccessibleName(tr("Stop") if playback.playing or recording else tr("Play"))
        self.play.setEnabled(shown is not None or recording)
        self.record.setChecked(recording)
        self.record.setAccessibleName(tr("Stop recording") if recording else tr("Record"))
        self.record.setToolTip(
            tr("Stop recording; what was played becomes a take (R, or F12 where keys play).") if recording
            else tr("Record what the armed inputs play, in its place on the timeline (R, or F12 where keys play).")
        )  # fmt: skip
        self.how.setText(self._how_words())
        self._show_sync()
        self.loop.setChecked(playback.looping)
        self.versions[playback.version].setChecked(True)
        self.compare.setText(tr("A/B") if playback.other_path is None else tr("A ⇄ B"))
        level = round(100 * self._workbench.session.sound.level)
        if self.level.value() != level:
            self.level.blockSignals(True)
            self.level.setValue(level)
            self.level.blockSignals(False)
        self._show_place(playback.place)
        self.what.setToolTip(plain_tip("\n".join(self.monitoring())))

    def _show_sync(self) -> None:
        """Show who is followed, where that is another program."""
        words = self._outside.words()
        self.sync.setText(words)
        self.sync.setAccessibleName(tr("Sync: {words}", words=words))
        self.sync.setVisible(bool(words))

    def monitoring(self) -> tuple[str, ...]:
        """One line for everything that could sound now."""
        shown, playback = self._workbench.seen, self._playback
        return lines(
            self._workbench.session, shown.tracks if shown is not None else (), self._live_session.listening,
            playback.version if playback.playing else None,
        )  # fmt: skip

    def _how_words(self) -> str:
        """How a recording would begin, in a word or two."""
        settings = self._workbench.session.recording
        if settings.start == recording.FIRST_HIT:
            return tr("Starts on the first hit")
        if settings.start == recording.AFTER_COUNT_IN and settings.count_in:
            bars = settings.count_in
            return tr("Count-in {n} bars", n=bars) if bars > 1 else tr("Count-in 1 bar")
        return tr("Starts at once")

    def _play_or_stop(self) -> None:
        if self._capture.running:
            self._capture.end()
            self._playback.stop()
        else:
            self._playback.toggle()

    def _show_place(self, seconds: float) -> None:
        if self.place.shows_clock:
            _, shift = self._playback.time()
            at = seconds - shift
            sign = "\N{MINUS SIGN}" if at < -0.05 else ""
            self.place.setText(f"{sign}{int(abs(at) // 60)}:{abs(at) % 60:04.1f}")
            return
        timeline, _ = self._playback.time()
        bar, into = timeline.beats_to_bar(self._playback.beat_of(seconds) + 1e-6)
        long = counted(timeline.meter_at(bar))
        beat, part = int(into / long), into % long
        self.place.setText(f"{bar}.{beat + 1}.{int(4 * part / long) + 1}")

    def _begin_gesture(self) -> None:
        """One drag is one undo step, and so is one press of a key."""
        self._gesture += 1

    def _set_level(self, value: int) -> None:
        if not self.level.isSliderDown():
            self._begin_gesture()
        bench = self._workbench
        sound: SoundSettings = bench.session.sound
        session = edits.with_sound(bench.session, replace(sound, level=value / 100))
        bench.do(tr("set sound level"), session, f"level {self._gesture}")  # not shown

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
            self.says.setToolTip(plain_tip(state["why"]))
