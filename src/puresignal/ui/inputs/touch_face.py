"""The face of the touch surface: cells for fingers, pen, mouse and keys; how they are filled; and the chord book."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import (
    QContextMenuEvent,
    QEventPoint,
    QFocusEvent,
    QFont,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QTabletEvent,
    QTouchEvent,
)
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QInputDialog,
    QLineEdit,
    QMenu,
    QPushButton,
    QSizePolicy,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from puresignal.core.generators.recipe import RATES
from puresignal.core.harmony import keys
from puresignal.core.harmony.chord_book import BookChord
from puresignal.core.harmony.keys import note_name
from puresignal.core.kit.articulations import drum_of, drum_title, spoken
from puresignal.core.touch import computer_keyboard, surface
from puresignal.core.touch.surface import Cell
from puresignal.translation import mark, tr
from puresignal.ui.inputs.phone_dialog import PhoneDialog
from puresignal.ui.state.services import Services
from puresignal.ui.state.touch_input import TouchInput
from puresignal.ui.widgets import text_format, theme
from puresignal.ui.widgets.flow_layout import FlowLayout
from puresignal.ui.widgets.plain_text import PlainLabel

MOUSE, PEN, KEYS = -1, -2, 1000
"""Numbers of the mouse, the pen, and the first of the keys, among those of fingers."""
KEY_ROWS = ("zxcvbnm,./", "asdfghjkl;", "qwertyuiop", "1234567890")
APART = 4.0
WAYS = (
    (surface.STEPS, mark("steps of a scale")), (surface.ROWS, mark("tuned rows")),
    (surface.LATTICE, mark("chords in thirds")), (surface.BOOK, mark("my chords")), (surface.DRUMS, mark("drums")),
)  # fmt: skip
SLIDES = (
    (surface.STEP, mark("plays the next cell")), (surface.BEND, mark("bends the note")),
    (surface.STAY, mark("does nothing")),
)  # fmt: skip
LADDER_LOW, LADDER_HIGH = surface.LADDER


class Sheet(QWidget):
    """The cells."""

    def __init__(self, touch: TouchInput, parent: QWidget | None = None):
        super().__init__(parent)
        self._touch = touch
        self._keys: dict[int, int] = {}
        self.setAttribute(Qt.WidgetAttribute.WA_AcceptTouchEvents)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumHeight(120)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(tr("Touch surface"))
        self.setToolTip(
            tr("Play with fingers, pen, mouse, or the keys from Z up: the middle of a cell is loud, its edge soft.")
        )
        touch.changed.connect(self.update)
        touch.held_changed.connect(self._light)
        self._lit: dict[tuple[int, int], int] = {}

    def _light(self) -> None:
        """Paint only the cells whose light changed: a touch must not wait for a picture."""
        held = self._touch.player.held
        changed = {place for place, _ in held.items() ^ self._lit.items()}
        self._lit = held
        for cell in self._touch.player.cells:
            if (cell.row, cell.column) in changed:
                self.update(self.box(cell).toAlignedRect().adjusted(-2, -2, 2, 2))

    def sizeHint(self) -> QSize:
        return QSize(720, 320)

    def box(self, cell: Cell) -> QRectF:
        """Where a cell is."""
        player = self._touch.player
        wide, high = self.width() / player.columns, self.height() / player.rows
        return QRectF(
            cell.column * wide, self.height() - (cell.row + 1) * high, wide, high
        ).adjusted(APART / 2, APART / 2, -APART / 2, -APART / 2)  # fmt: skip

    def _part(self, at: QPointF) -> tuple[float, float]:
        return at.x() / max(1, self.width()), 1 - at.y() / max(1, self.height())

    # Fingers, pen, mouse, keys

    def event(self, event: QEvent) -> bool:
        if isinstance(event, QTouchEvent) and event.type() in (
            QEvent.Type.TouchBegin, QEvent.Type.TouchUpdate, QEvent.Type.TouchEnd, QEvent.Type.TouchCancel,
        ):  # fmt: skip
            for point in event.points():
                self._finger(point)
            if event.type() == QEvent.Type.TouchCancel:
                self._touch.lift_all()
            event.accept()
            return True
        return super().event(event)

    def _finger(self, point: QEventPoint) -> None:
        state, number = point.state(), point.id()
        if state == QEventPoint.State.Pressed:
            # Surfaces without pressure report 0 or 1.
            pressure = point.pressure() if 0 < point.pressure() < 1 else None
            self._touch.press(number, *self._part(point.position()), pressure)
        elif state == QEventPoint.State.Updated:
            pressure = point.pressure() if 0 < point.pressure() < 1 else None
            self._touch.move(number, *self._part(point.position()), pressure)
        elif state == QEventPoint.State.Released:
            self._touch.lift(number)

    def tabletEvent(self, event: QTabletEvent) -> None:
        if event.type() == QEvent.Type.TabletPress:
            self._touch.press(PEN, *self._part(event.position()), event.pressure())
        elif event.type() == QEvent.Type.TabletMove:
            self._touch.move(PEN, *self._part(event.position()), event.pressure())
        elif event.type() == QEvent.Type.TabletRelease:
            self._touch.lift(PEN)
        event.accept()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.setFocus()
            x, y = self._part(event.position())
            found = self._touch.player.place(x, y)
            if found is not None and self._touch.settings.way == surface.BOOK:
                rows = self._touch.player.rows
                self._touch.choose((rows - 1 - found[0].row) * self._touch.player.columns + found[0].column)
            self._touch.press(MOUSE, x, y)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        found = self._touch.player.place(*self._part(QPointF(event.pos())))
        if found is not None and self._touch.settings.way == surface.DRUMS:
            self.menu(found[0]).exec(event.globalPos())

    def menu(self, cell: Cell) -> QMenu:
        """The choices for a drum cell."""
        menu = QMenu(self)
        drums: dict[str, QMenu] = {}
        for name in computer_keyboard.PLAYABLE:
            drum = drum_of(name)
            under = drums.get(drum) or drums.setdefault(drum, menu.addMenu(drum_title(drum)))
            under.addAction(spoken(name)).triggered.connect(
                lambda _=False, n=name: self._touch.set_drum(cell.row, cell.column, n)
            )
        menu.addSeparator()
        menu.addAction(tr("Hat with pedal slide")).triggered.connect(
            lambda: self._touch.set_drum(cell.row, cell.column, surface.HAT)
        )
        menu.addAction(tr("A note…")).triggered.connect(lambda: self._ask_note(cell))
        menu.addAction(tr("Nothing")).triggered.connect(
            lambda: self._touch.set_drum(cell.row, cell.column, surface.NOTHING)
        )
        return menu

    def _ask_note(self, cell: Cell) -> None:
        number, good = QInputDialog.getInt(self, tr("A note…"), tr("Number of the note, 0 to 127"), 36, 0, 127)
        if good:
            self._touch.set_drum(cell.row, cell.column, str(number))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self._touch.move(MOUSE, *self._part(event.position()))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._touch.lift(MOUSE)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        place = self._place_of(event)
        if place is None or event.modifiers() & ~Qt.KeyboardModifier.ShiftModifier:
            super().keyPressEvent(event)
            return
        if not event.isAutoRepeat():
            player = self._touch.player
            # Shift plays softly, near the edge of the cell.
            across = 0.9 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 0.62
            self._touch.press(KEYS + event.key(), (place[1] + across) / player.columns, (place[0] + 0.5) / player.rows)

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        if self._place_of(event) is None:
            super().keyReleaseEvent(event)
        elif not event.isAutoRepeat():
            self._touch.lift(KEYS + event.key())

    def _place_of(self, event: QKeyEvent) -> tuple[int, int] | None:
        """Row and column of the cell that a key plays."""
        text = chr(event.key()).lower() if 0 < event.key() < 128 else ""
        player = self._touch.player
        for row, letters in enumerate(KEY_ROWS):
            if text and text in letters:
                column = letters.index(text)
                return (row, column) if row < player.rows and column < player.columns else None
        return None

    def focusOutEvent(self, event: QFocusEvent) -> None:
        # Keys that are still down are not heard of any more.
        self._touch.lift_all()
        super().focusOutEvent(event)

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, current, touch = QPainter(self), theme.current(), self._touch
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        held, player = touch.player.held, touch.player
        pictured = touch.settings.way in (surface.BOOK, surface.LATTICE)
        for cell in player.cells:
            box = self.box(cell)
            if not box.adjusted(-2, -2, 2, 2).intersects(QRectF(event.rect())):
                continue
            lit = held.get((cell.row, cell.column), 0)
            colour = current.family(cell.family)
            painter.setPen(QPen(colour if not cell.pale else current.colour("line"), 2 if cell.root else 1.2))
            painter.setBrush(colour if lit else current.colour("shade" if cell.pale else "sheet"))
            painter.drawRoundedRect(box, 5, 5)
            if pictured:
                self._ladder(painter, box.adjusted(box.width() * 0.45, 7, -8, -7), cell.notes, bool(lit))
            painter.setPen(current.colour("sheet" if lit else "faint" if cell.pale else "ink"))
            painter.setFont(theme.font(10, QFont.Weight.DemiBold))
            inside = box.adjusted(8, 5, -6, -5)
            painter.drawText(inside, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, cell.label)
            painter.setFont(theme.font(8.5))
            if cell.below:
                painter.drawText(inside, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom, cell.below)
            if lit:
                painter.drawText(inside, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignBottom, str(lit))
            chosen = touch.settings.way == surface.BOOK and touch.chord is not None
            if chosen and (player.rows - 1 - cell.row) * player.columns + cell.column == touch.chosen:
                painter.setPen(QPen(current.colour("ink"), 2))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRoundedRect(box, 5, 5)

    @staticmethod
    def _ladder(painter: QPainter, box: QRectF, notes: tuple[int, ...], lit: bool) -> None:
        """The notes of a chord as bars at their height."""
        current = theme.current()
        low, high = LADDER_LOW, LADDER_HIGH
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(current.colour("sheet") if lit else current.family("tom"))
        for note in notes:
            y = box.bottom() - (min(high, max(low, note)) - low) / (high - low) * box.height()
            painter.drawRect(QRectF(box.left(), y - 1.5, box.width(), 3))


class Ladder(QWidget):
    """The chosen chord, large: bars on a ladder of pitches. A click adds or takes away, a drag moves."""

    def __init__(self, touch: TouchInput, parent: QWidget | None = None):
        super().__init__(parent)
        self._touch = touch
        self._held: int | None = None
        self._moved = False
        self.setMinimumSize(190, 150)
        self.setAccessibleName(tr("Notes of the chord"))
        self.setToolTip(tr("Click to add a note or take one away; drag a note up or down."))
        touch.changed.connect(self.update)

    def _note_at(self, y: float) -> int:
        part = 1 - (y - 6) / max(1.0, self.height() - 12)
        return round(LADDER_LOW + part * (LADDER_HIGH - LADDER_LOW))

    def y_of(self, note: int) -> float:
        """Where a note is."""
        part = (note - LADDER_LOW) / (LADDER_HIGH - LADDER_LOW)
        return float(6 + (1 - part) * (self.height() - 12))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        chord = self._touch.chord or BookChord(())
        near = [note for note in chord.notes if abs(self.y_of(note) - event.position().y()) < 5]
        self._moved = False
        if near:
            self._held = near[0]
        else:
            self._held = None
            self._set(chord.with_note(self._note_at(event.position().y())))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        chord, to = self._touch.chord, self._note_at(event.position().y())
        if chord is not None and self._held is not None and to != self._held and to not in chord.notes:
            self._set(chord.moved(self._held, to))
            self._held, self._moved = to, True

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        chord = self._touch.chord
        if chord is not None and self._held is not None and not self._moved and len(chord.notes) > 1:
            self._set(chord.with_note(self._held))
        self._held = None

    def _set(self, chord: BookChord) -> None:
        if self._touch.chord is None:
            self._touch.add_chords([chord])
        else:
            self._touch.set_chord(chord)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, current, chord = QPainter(self), theme.current(), self._touch.chord
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), current.colour("sheet"))
        painter.setFont(theme.font(8))
        for note in range(LADDER_LOW, LADDER_HIGH + 1):
            if note % 12 == 0:
                y = self.y_of(note)
                painter.setPen(QPen(current.colour("line"), 1))
                painter.drawLine(QPointF(34, y), QPointF(self.width() - 4, y))
                painter.setPen(current.colour("faint"))
                painter.drawText(QRectF(2, y - 8, 28, 16), Qt.AlignmentFlag.AlignRight, note_name(note))
        for note in chord.notes if chord is not None else ():
            y = self.y_of(note)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(current.family("tom"))
            painter.drawRect(QRectF(40, y - 3, self.width() - 92, 6))
            painter.setPen(current.colour("ink"))
            painter.drawText(QRectF(self.width() - 48, y - 8, 44, 16), Qt.AlignmentFlag.AlignLeft, note_name(note))


class TouchFace(QWidget):
    """The surface with its settings, and the chord book while its cells are chords of one's own."""

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(parent)
        self._touch = services.touch
        self.sheet = Sheet(self._touch)
        self._settings = QWidget()
        flow = FlowLayout(self._settings, 6)
        flow.setContentsMargins(0, 0, 0, 0)
        self.way = self._combo(tr("Cells"), WAYS, "way")
        self.rows, self.columns = self._number(tr("Rows"), 1, 8, "rows"), self._number(tr("Columns"), 2, 16, "columns")
        self.low = self._notes(tr("Lowest note"))
        self.key = self._combo(
            tr("Key"), (("", mark("the session's key")), *((name, name) for name in keys.NAMES)), "key"
        )
        self.apart = self._number(tr("From row to row"), 1, 12, "apart")
        self.under = self._number(tr("Notes under a finger"), 1, 5, "under")
        self.slide = self._combo(tr("A finger that moves"), SLIDES, "slide")
        self.strum = self._number(tr("Strum"), -400, 400, "strum", float)
        self.strum.setSuffix(tr(" ms"))
        self.strum.setToolTip(tr("From the first note of a chord to the last; below 0 downwards."))
        self.wide = self._number(tr("Voices opened"), 0, 2, "wide")
        self.page = self._number(tr("Page of drums"), 1, surface.PAGES, "page", lambda value: value - 1)
        self.page.setToolTip(tr("Each page has cells of its own. A right click on a cell chooses what it plays."))
        self.roll = self._combo(tr("Roll while held"), (("", mark("none")), *((name, name) for name in RATES)), "roll")
        self.roll.setToolTip(
            tr("A drum whose finger stays down is struck again and again; pressed hard, twice as often.")
        )
        self.one_voice = QCheckBox(tr("one voice a row"))
        self.one_voice.setToolTip(tr("Each row plays one note at a time, bound to the next."))
        self.one_voice.clicked.connect(lambda on: self._touch.set(one_voice=on))
        self.phone = QPushButton(tr("Phone…"))
        self.phone.setToolTip(tr("Play this surface on the screen of a phone in the same network."))
        self.phone.clicked.connect(self.show_phone)
        self._services = services
        self._phone_dialog: PhoneDialog | None = None
        self.labels: dict[str, PlainLabel] = {}
        for name, label, widget in (
            ("way", mark("Cells"), self.way), ("key", mark("of"), self.key), ("rows", mark("rows"), self.rows),
            ("columns", mark("columns"), self.columns), ("low", mark("from"), self.low),
            ("apart", mark("row to row"), self.apart), ("under", mark("notes a finger"), self.under),
            ("slide", mark("moving"), self.slide), ("strum", mark("strum"), self.strum),
            ("wide", mark("opened"), self.wide), ("page", mark("page"), self.page), ("roll", mark("roll"), self.roll),
            ("one_voice", "", self.one_voice),
        ):  # fmt: skip
            self.labels[name] = PlainLabel(tr(label) if label else "")
            pair = QWidget()
            row = QHBoxLayout(pair)
            row.setContentsMargins(0, 0, 4, 0)
            row.setSpacing(4)
            if label:
                row.addWidget(self.labels[name])
            row.addWidget(widget)
            setattr(pair, "name", name)  # noqa: B010
            self._pairs = [*getattr(self, "_pairs", []), (name, pair)]
            flow.addWidget(pair)
        flow.addWidget(self.phone)
        self.book = self._book_panel()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        column.addWidget(self._settings)
        column.addWidget(self.sheet, 1)
        column.addWidget(self.book)
        self._touch.changed.connect(self.show_settings)
        self.show_settings()

    def show_phone(self) -> PhoneDialog:
        """Show how a phone gets onto this surface."""
        if self._phone_dialog is None:
            self._phone_dialog = PhoneDialog(self._services.phone, self)
        self._phone_dialog.show()
        self._phone_dialog.raise_()
        return self._phone_dialog

    def _combo(self, name: str, rows: tuple[tuple[str, str], ...], field: str) -> QComboBox:
        combo = QComboBox()
        combo.setAccessibleName(name)
        combo.setMaxVisibleItems(26)
        for value, label in rows:
            combo.addItem(tr(label), value)
        combo.activated.connect(lambda _: self._touch.set(**{field: combo.currentData()}))
        return combo

    def _number(self, name: str, low: int, high: int, field: str, kind: Callable[[int], float] = int) -> QSpinBox:
        box = QSpinBox()
        box.setRange(low, high)
        box.setAccessibleName(name)
        box.setKeyboardTracking(False)
        box.valueChanged.connect(lambda value: self._touch.set(**{field: kind(value)}))
        return box

    def _notes(self, name: str) -> QComboBox:
        combo = QComboBox()
        combo.setAccessibleName(name)
        for note in range(24, 73):
            combo.addItem(note_name(note), note)
        combo.activated.connect(lambda _: self._touch.set(low=combo.currentData()))
        return combo

    def _book_panel(self) -> QWidget:
        panel = QWidget()
        self.ladder = Ladder(self._touch)
        self.books = QComboBox()
        self.books.setAccessibleName(tr("Chord book"))
        self.books.activated.connect(lambda _: self._touch.use_book(self.books.currentText()))
        more = QPushButton("…")
        more.setObjectName("small")
        more.setAccessibleName(tr("More for chord books"))
        menu = QMenu(more)
        for label, ask in (
            (mark("New book…"), self._ask_new), (mark("Share as a file…"), self._ask_share),
            (mark("Take in a shared file…"), self._ask_take_in),
            (mark("Add the chords of the chosen take"), self._touch.from_take),
        ):  # fmt: skip
            menu.addAction(tr(label)).triggered.connect(lambda _=False, a=ask: a())
        more.setMenu(menu)
        self.play_in = QPushButton(tr("Play chords in"))
        self.play_in.setCheckable(True)
        self.play_in.setToolTip(tr("Play chords on any other input, one after the other, then press again."))
        self.play_in.clicked.connect(self._touch.play_in)
        self.name = QLineEdit()
        self.name.setAccessibleName(tr("Name of the chord"))
        self.name.setPlaceholderText(tr("name of the chord"))
        self.name.editingFinished.connect(lambda: self._edit(lambda c: replace(c, name=self.name.text().strip())))
        self.velocity = QSpinBox()
        self.velocity.setRange(1, 127)
        self.velocity.setAccessibleName(tr("Velocity of the chord"))
        self.velocity.valueChanged.connect(lambda v: self._edit(lambda c: replace(c, velocity=v)))
        self.own_strum = QSpinBox()
        self.own_strum.setRange(-400, 400)
        self.own_strum.setSuffix(tr(" ms"))
        self.own_strum.setAccessibleName(tr("Strum of the chord"))
        self.own_strum.valueChanged.connect(lambda v: self._edit(lambda c: replace(c, strum=float(v))))
        grid = QGridLayout()
        grid.setHorizontalSpacing(6)
        grid.setVerticalSpacing(5)
        head = QHBoxLayout()
        head.addWidget(self.books, 1)
        head.addWidget(more)
        grid.addLayout(head, 0, 0, 1, 4)
        grid.addWidget(self.play_in, 1, 0, 1, 4)
        grid.addWidget(self.name, 2, 0, 1, 4)
        self.edits: dict[str, QPushButton] = {}
        for i, (key, label, tip, act) in enumerate((
            ("up", mark("Up"), mark("All notes a semitone up."), lambda c: c.shifted(1)),
            ("down", mark("Down"), mark("All notes a semitone down."), lambda c: c.shifted(-1)),
            ("turn_up", mark("Turn up"), mark("The lowest note an octave up."), lambda c: c.turned(True)),
            ("turn_down", mark("Turn down"), mark("The highest note an octave down."), lambda c: c.turned(False)),
            ("wider", mark("Wider"), mark("The second voice from the top an octave down."), lambda c: c.wider()),
            ("closer", mark("Closer"), mark("All notes within an octave."), lambda c: c.closer()),
        )):  # fmt: skip
            button = self._small(label, tip)
            button.clicked.connect(lambda _=False, a=act: self._edit(a))
            self.edits[key] = button
            grid.addWidget(button, 3 + i // 4, i % 4)
        for i, (key, label, tip, call) in enumerate((
            ("add", mark("Add"), mark("A copy of this chord behind the others."), self._add),
            ("remove", mark("Remove"), mark("Take this chord out of the book."), lambda: self._touch.set_chord(None)),
            ("earlier", "◂", mark("A cell to the left."), lambda: self._touch.move_chord(-1)),
            ("later", "▸", mark("A cell to the right."), lambda: self._touch.move_chord(1)),
        )):  # fmt: skip
            button = self._small(label, tip)
            button.clicked.connect(lambda _=False, c=call: c())
            self.edits[key] = button
            grid.addWidget(button, 5, i)
        grid.addWidget(PlainLabel(tr("velocity")), 4, 2)
        grid.addWidget(self.velocity, 4, 3)
        grid.addWidget(PlainLabel(tr("strum")), 6, 2)
        grid.addWidget(self.own_strum, 6, 3)
        row = QHBoxLayout(panel)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(12)
        row.addWidget(self.ladder, 1)
        row.addLayout(grid, 1)
        return panel

    @staticmethod
    def _small(label: str, tip: str) -> QPushButton:
        button = QPushButton(tr(label))
        button.setObjectName("small")
        button.setToolTip(tr(tip))
        button.setAccessibleName(tr(tip).rstrip("."))
        return button

    def show_settings(self) -> None:
        """Show how the surface is filled, and the chosen chord."""
        own = self._touch.settings
        shown = {
            surface.STEPS: {"key", "rows", "columns", "low", "apart", "under", "slide", "one_voice", "strum"},
            surface.ROWS: {"key", "rows", "columns", "low", "apart", "slide", "one_voice"},
            surface.LATTICE: {"key", "low", "strum", "wide"}, surface.BOOK: {"columns"},
            surface.DRUMS: {"rows", "columns", "page", "roll"},
        }[own.way] | {"way"}  # fmt: skip
        for name, pair in self._pairs:
            pair.setVisible(name in shown)
        for combo, value in (
            (self.way, own.way),
            (self.key, own.key),
            (self.slide, own.slide),
            (self.low, own.low),
            (self.roll, own.roll),
        ):
            combo.setCurrentIndex(max(0, combo.findData(value)))
        for box, number in (
            (self.rows, own.rows), (self.columns, own.columns), (self.apart, own.apart), (self.under, own.under),
            (self.strum, round(own.strum)), (self.wide, own.wide), (self.page, own.page + 1),
        ):  # fmt: skip
            box.blockSignals(True)
            box.setValue(number)
            box.blockSignals(False)
        self.one_voice.setChecked(own.one_voice)
        self.book.setVisible(own.way == surface.BOOK)
        if own.way == surface.BOOK:
            self._show_book()

    def _show_book(self) -> None:
        touch, chord = self._touch, self._touch.chord
        names = touch.names()
        if [self.books.itemText(i) for i in range(self.books.count())] != names:
            self.books.clear()
            self.books.addItems(names)
        self.books.setCurrentText(touch.book.name)
        self.play_in.setChecked(touch.playing_in)
        self.play_in.setText(
            tr("Done: {chords}", chords=text_format.counted(touch.played, "chord")) if touch.playing_in
            else tr("Play chords in")
        )  # fmt: skip
        for key, button in self.edits.items():
            button.setEnabled(chord is not None or key == "add")
        if not self.name.hasFocus():
            self.name.setText(chord.name if chord is not None else "")
        for box, number in (
            (self.velocity, chord.velocity if chord else 84), (self.own_strum, round(chord.strum) if chord else 0),
        ):  # fmt: skip
            box.blockSignals(True)
            box.setValue(number)
            box.setEnabled(chord is not None)
            box.blockSignals(False)

    def _edit(self, how: object) -> None:
        chord = self._touch.chord
        if chord is not None and callable(how):
            made = how(chord)
            if made != chord:
                self._touch.set_chord(made)

    def _add(self) -> None:
        self._touch.add_chords([self._touch.chord or BookChord((48, 55, 60, 64))])

    def _ask_new(self) -> None:
        name, good = QInputDialog.getText(self, tr("New chord book"), tr("Name of the book"))
        if good and name.strip():
            self._touch.use_book(name.strip())

    def _ask_share(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self, tr("Share the chord book"), f"{self._touch.book.name}.json")
        if path:
            self._touch.share(Path(path))

    def _ask_take_in(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, tr("Take in a chord book"), "", "*.json")
        if path:
            self._touch.take_in(Path(path))
