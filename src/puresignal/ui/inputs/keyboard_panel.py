"""The face of the computer keyboard: what each key plays, lit while it is down, and its settings."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QContextMenuEvent, QFont, QFontMetricsF, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QMenu, QSpinBox, QVBoxLayout, QWidget

from puresignal.core.kit.articulations import drum_of, drum_title, family_of, sort_key, spoken
from puresignal.core.touch import computer_keyboard
from puresignal.core.touch.computer_keyboard import Keyboard
from puresignal.translation import mark, tr
from puresignal.ui.state.keyboard_player import KeyboardPlayer
from puresignal.ui.state.live_session import LiveSession
from puresignal.ui.widgets import theme
from puresignal.ui.widgets.plain_text import PlainLabel

_CAPS = dict(
    zip(
        (c for row in computer_keyboard.ROWS for c in row), "1234567890-=QWERTYUIOP[]ASDFGHJKL;'ZXCVBNM,./", strict=True
    )
)


class KeyboardPicture(QWidget):
    """Draws the keys; a click on one lists what it could play.

    assignment_requested  (scan code, articulation or None) was chosen for a key
    """

    assignment_requested = Signal(int, object)

    def __init__(self, player: KeyboardPlayer, parent: QWidget | None = None):
        super().__init__(parent)
        self._player = player
        self.setMinimumHeight(130)
        self.setAccessibleName(tr("Keys of the computer keyboard and what they play"))
        self.setToolTip(tr("Click a key to choose what it plays."))
        player.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(760, 250)

    def boxes(self) -> dict[int, QRectF]:
        """Box of each key, by scan code."""
        unit = min(self.width() / 13.3, 76.0)
        tall = min(self.height() / 4.0, unit * 0.95)
        found = {}
        for row, (codes, shift) in enumerate(zip(computer_keyboard.ROWS, computer_keyboard.SHIFTED, strict=True)):
            for i, code in enumerate(codes):
                found[code] = QRectF((i + shift) * unit + 1, row * tall + 1, unit - 4, tall - 4)
        return found

    def label_of(self, code: int) -> tuple[str, str]:
        """(what a key plays, in words; the family for its colour); empty for an unassigned key."""
        keyboard = self._player.keyboard
        if keyboard.mode == computer_keyboard.DRUMS:
            drum = keyboard.drum(code)
            return (spoken(drum), family_of(drum)) if drum else ("", "other")
        note = keyboard.note(code)
        return (computer_keyboard.name_of(note), "other") if note is not None else ("", "other")

    def paintEvent(self, event: QPaintEvent) -> None:
        current, painter = theme.current(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for code, box in self.boxes().items():
            label, family = self.label_of(code)
            down = code in self._player.held.down
            painter.setPen(QPen(current.colour("edge" if label else "line"), 1))
            painter.setBrush(current.colour("accent") if down else current.colour("sheet" if label else "paper"))
            painter.drawRoundedRect(box, 5, 5)
            if label and not down:
                painter.fillRect(QRectF(box.left() + 4, box.bottom() - 5, box.width() - 8, 3), current.family(family))
            painter.setPen(current.colour("sheet" if down else "faint"))
            painter.setFont(theme.font(8))
            painter.drawText(box.adjusted(6, 3, -4, 0), Qt.AlignmentFlag.AlignTop, _CAPS[code])
            painter.setPen(current.colour("sheet" if down else "ink"))
            self._words(painter, box.adjusted(5, 17, -1, -6), label)

    @staticmethod
    def _words(painter: QPainter, box: QRectF, label: str) -> None:
        """The drum on one line and its articulation on the next."""
        down = box.top()
        for part, size in zip(label.split(", "), (8.5, 7.5), strict=False):
            painter.setFont(theme.font(size, QFont.Weight.DemiBold if size > 8 else QFont.Weight.Normal))
            metrics = QFontMetricsF(painter.font())
            if down > box.top() and down + metrics.ascent() > box.bottom() + 2:
                # On small keys the drum alone has room; the tip and the menu say the rest.
                break
            text = metrics.elidedText(part.replace("hi-hat", "hat"), Qt.TextElideMode.ElideRight, box.width())
            painter.drawText(QPointF(box.left(), down + metrics.ascent()), text)
            down += metrics.height() - 1

    def _code_at(self, at: QPointF) -> int | None:
        return next((code for code, box in self.boxes().items() if box.contains(at)), None)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        code = self._code_at(event.position())
        if (
            code is not None
            and event.button() == Qt.MouseButton.LeftButton
            and self._player.keyboard.mode == computer_keyboard.DRUMS
        ):
            self.menu(code).exec(event.globalPosition().toPoint())

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        code = self._code_at(QPointF(event.pos()))
        if code is not None and self._player.keyboard.mode == computer_keyboard.DRUMS:
            self.menu(code).exec(event.globalPos())

    def menu(self, code: int) -> QMenu:
        """The choices for a key."""
        menu, drums = QMenu(self), {}
        for name in sorted(computer_keyboard.PLAYABLE, key=sort_key):
            drum = drum_of(name)
            if drum not in drums:
                drums[drum] = menu.addMenu(drum_title(drum))
            action = drums[drum].addAction(spoken(name))
            action.triggered.connect(lambda _=False, n=name: self.assignment_requested.emit(code, n))
        menu.addSeparator()
        menu.addAction(tr("Nothing")).triggered.connect(lambda: self.assignment_requested.emit(code, None))
        return menu


class KeyboardPanel(QWidget):
    """The keyboard with its settings.

    settings_changed  new settings: a Keyboard
    """

    settings_changed = Signal(object)

    def __init__(self, player: KeyboardPlayer, live_session: LiveSession, parent: QWidget | None = None):
        super().__init__(parent)
        self._player, self._live_session = player, live_session
        self.picture = KeyboardPicture(player)
        self.picture.assignment_requested.connect(
            lambda code, name: self.settings_changed.emit(computer_keyboard.with_drum(player.keyboard, code, name))
        )
        self.mode = self._combo(tr("Keyboard mode"), tr("Play drums, all notes, or the notes of a scale."))
        for name, label in (
            (computer_keyboard.DRUMS, "drums"),
            (computer_keyboard.CHROMATIC, mark("all notes")),
            (computer_keyboard.SCALE, mark("notes of a scale")),
        ):
            self.mode.addItem(tr(label), name)
        self.mode.activated.connect(lambda: self._change(mode=self.mode.currentData()))
        self.root = self._combo(tr("Root of the scale"), tr("The root note of the scale."))
        for i, name in enumerate(computer_keyboard.NAMES):
            self.root.addItem(name, i)
        self.root.activated.connect(lambda: self._change(root=self.root.currentData()))
        self.scale = self._combo(tr("Scale"), tr("Only the notes of this scale are on the keys."))
        for name in computer_keyboard.SCALES:
            self.scale.addItem(tr(name), name)
        self.scale.activated.connect(lambda: self._change(scale=self.scale.currentData()))
        self.octave = self._spin(0, 7, tr("octave "), tr("Octave of the lowest key."), "octave")
        self.velocity = self._spin(1, 127, tr("velocity "), tr("Velocity of a plain stroke."), "velocity")
        self.randomness = self._spin(
            0,
            40,
            tr("random "),
            tr("Random variation of plain strokes, up or down; 0: none."),
            "randomness",
        )
        top = QHBoxLayout()
        top.setSpacing(6)
        for widget in (self.mode, self.root, self.scale, self.octave):
            top.addWidget(widget)
        top.addStretch()
        for widget in (self.velocity, self.randomness):
            top.addWidget(widget)
        self.says = PlainLabel()
        self.says.setObjectName("faint")
        self.says.setWordWrap(True)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 8, 0, 0)
        column.setSpacing(10)
        column.addLayout(top)
        column.addWidget(self.picture)
        column.addWidget(self.says)
        column.addStretch()
        player.changed.connect(self.show_keyboard)
        live_session.sound_state_changed.connect(lambda _: self.show_keyboard())
        self.show_keyboard()

    def _combo(self, name: str, tip: str) -> QComboBox:
        combo = QComboBox()
        combo.setAccessibleName(name)
        combo.setToolTip(tip)
        return combo

    def _spin(self, least: int, most: int, prefix: str, tip: str, field: str) -> QSpinBox:
        spin = QSpinBox()
        spin.setRange(least, most)
        spin.setPrefix(prefix)
        spin.setToolTip(tip)
        spin.setAccessibleName(prefix.strip().capitalize())
        spin.valueChanged.connect(lambda value: self._change(**{field: value}))
        return spin

    def _change(self, **changed: object) -> None:
        keyboard = replace(self._player.keyboard, **changed)  # type: ignore[arg-type]
        if keyboard != self._player.keyboard:
            self.settings_changed.emit(keyboard)

    def show_keyboard(self) -> None:
        """Show the settings in use."""
        keyboard: Keyboard = self._player.keyboard
        self.mode.setCurrentIndex(self.mode.findData(keyboard.mode))
        self.root.setCurrentIndex(keyboard.root)
        self.scale.setCurrentIndex(self.scale.findData(keyboard.scale))
        for spin, value in (
            (self.octave, keyboard.octave), (self.velocity, keyboard.velocity), (self.randomness, keyboard.randomness),
        ):  # fmt: skip
            spin.blockSignals(True)
            spin.setValue(value)
            spin.blockSignals(False)
        self.octave.setVisible(keyboard.mode != computer_keyboard.DRUMS)
        for combo in (self.root, self.scale):
            combo.setVisible(keyboard.mode == computer_keyboard.SCALE)
        text = tr("Shift plays accents; hold the key left of 1 for ghost notes.")
        if not self._player.on:
            text = tr("The keyboard is off: press Keyboard at the bottom (Ctrl+K). ") + text
        if self._player.held.most:
            text += tr(" Most keys at once so far: {n}; few keyboards send more than six.").format(
                n=self._player.held.most
            )
        sound = self._live_session.sound_state
        if self._player.delay is not None:
            text += tr(" Key to output: {ms:.1f} ms").format(ms=1000 * self._player.delay)
            if sound.get("system"):
                text += tr(", to sound: {ms:.0f} ms").format(ms=1000 * (self._player.delay + sound["delay"]))
            text += "."
        self.says.setText(text)
