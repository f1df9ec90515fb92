"""The card of a take: what it is, whether it is in the result, where it stands and what it follows."""

from __future__ import annotations

from PySide6.QtCore import QRect, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFont, QFontMetricsF, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import QCheckBox, QInputDialog, QLineEdit, QMenu, QPushButton, QSizePolicy, QWidget

from puresignal.core.session.take_ref import PLAYED, SOUND, TakeRef
from puresignal.translation import tr
from puresignal.ui.state.listener import KINDS
from puresignal.ui.state.take_actions import TakeActions
from puresignal.ui.widgets import theme
from puresignal.ui.widgets.plain_text import plain_tip

HEIGHT, SECOND_LINE = 78, 18
"""Pixels of a card, and more where its name needs two lines."""
MOST_REPEATS = 64
PASSES, MOST_PASSES = 28, 8
"""Pixels that the row of passes adds, and as many of them as it has room for; the others are in the menu."""


def _name_font() -> QFont:
    return theme.font(10.5, QFont.Weight.DemiBold)


class TakeCard(QPushButton):
    """A take. A click chooses it; the box brings it in or takes it out; F2 or a double click renames it.

    hear_requested  the notes of its recording should be heard: (path, kind)
    """

    hear_requested = Signal(str, str)

    def __init__(self, ref: TakeRef, actions: TakeActions, width: int, parent: QWidget | None = None):
        super().__init__(parent)
        self.ident, self._actions, self._width = ref.ident, actions, width
        self._kind = self._name = self._detail = ""
        self._lines = [""]
        self._is_in = True
        self._editor: QLineEdit | None = None
        self.setObjectName("card")
        self.setCheckable(True)
        self.setFixedHeight(HEIGHT)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.box = QCheckBox(self)
        self.box.setToolTip(tr("Whether this take is in the result: heard, counted and saved with the others."))
        self.box.clicked.connect(lambda on: self._actions.switch(on, self.ident))
        self.passes: list[QPushButton] = []

    def sizeHint(self) -> QSize:
        return QSize(self._width, self.height())

    def _show_passes(self, ref: TakeRef) -> None:
        """A button for each pass of a loop recording, pressed if it is in the result."""
        wanted = min(len(ref.passes), MOST_PASSES)
        while len(self.passes) > wanted:
            self.passes.pop().deleteLater()
        while len(self.passes) < wanted:
            button = QPushButton(str(len(self.passes) + 1), self)
            button.setObjectName("pass")
            button.setCheckable(True)
            button.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
            number = len(self.passes)
            button.clicked.connect(lambda on, n=number: self._actions.switch_pass(n, on, self.ident))
            button.customContextMenuRequested.connect(
                lambda at, n=number, b=button: self.pass_menu(n, self).exec(b.mapToGlobal(at))
            )
            button.show()
            self.passes.append(button)
        for number, button in enumerate(self.passes):
            one = ref.passes[number]
            button.setChecked(one.is_in)
            button.setAccessibleName(tr("Pass {n} of {name}", n=number + 1, name=ref.name))  # not shown
            button.setToolTip(
                tr("Pass {n}: in the result. Right click for another track, or to remove it.", n=number + 1)
                if one.is_in
                else tr("Pass {n}: out of the result.", n=number + 1)
            )
        self._place()

    def _place(self) -> None:
        """Give the card the height that its name and passes need, and the passes their places."""
        self._lines = self._in_lines()
        own = self._own_height()
        self.setFixedHeight(own + (PASSES if self.passes else 0))
        wide = (self.width() - 24) // max(1, MOST_PASSES)
        for number, button in enumerate(self.passes):
            button.setGeometry(12 + number * wide, own - 6, wide - 3, PASSES - 6)

    def _own_height(self) -> int:
        return HEIGHT + SECOND_LINE * (len(self._lines) - 1)

    def _in_lines(self) -> list[str]:
        """The name in one line, or in two of which the second may be cut short."""
        metrics, width = QFontMetricsF(_name_font()), self.width() - 25
        if metrics.horizontalAdvance(self._name) <= width:
            return [self._name]
        first = ""
        for word in self._name.split(" "):
            more = f"{first} {word}".strip()
            if metrics.horizontalAdvance(more) > width:
                break
            first = more
        rest = self._name[len(first) :].strip()
        return [first, rest] if first else [self._name]

    def pass_menu(self, number: int, parent: QWidget) -> QMenu:
        """The menu of a pass."""
        menu, actions, ident = QMenu(parent), self._actions, self.ident
        ref = actions.ref(ident)
        if ref is None or number >= len(ref.passes):
            return menu
        one = ref.passes[number]
        inside = menu.addAction(tr("In the result"))
        inside.setCheckable(True)
        inside.setChecked(one.is_in)
        inside.triggered.connect(lambda on: actions.switch_pass(number, on, ident))
        to = menu.addMenu(tr("To track"))
        for key, title in (("", tr("Their own tracks")), *actions.tracks()):
            action = to.addAction(title)
            action.setCheckable(True)
            action.setChecked(one.track == key)
            action.triggered.connect(lambda _=False, k=key: actions.pass_to_track(number, k, ident))
        menu.addSeparator()
        gone = menu.addAction(tr("Remove this pass"))
        gone.setEnabled(len(ref.passes) > 1)
        gone.triggered.connect(lambda: actions.remove_pass(number, ident))
        return menu

    def show_take(self, ref: TakeRef, kind: str, detail: str) -> None:
        """Show what the take is now. kind: where it came from; detail: length, place, and what it follows."""
        self._kind, self._name, self._detail, self._is_in = kind, ref.name, detail, ref.is_in
        self.box.setChecked(ref.is_in)
        self.box.setAccessibleName(tr("{name} in the result", name=ref.name))  # not shown
        standing = tr("in the result") if ref.is_in else tr("not in the result")
        self.setAccessibleName(f"{ref.name}, {kind}, {detail}, {standing}")
        about = tr("{name}\n{kind}, {detail}\nF2 renames it, Alt with arrow keys moves it among the cards.")
        self.setToolTip(plain_tip(about.format(name=ref.name, kind=kind, detail=detail)))
        self._show_passes(ref)
        self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.box.setGeometry(self.width() - 32, 6, 24, 22)
        self._place()
        if self._editor is not None:
            self._editor.setGeometry(self._name_box())

    def _name_box(self) -> QRect:
        return QRect(9, self._own_height() // 2 - 13, self.width() - 18, 26)

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        current = theme.current()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(0, 0, self.width(), self._own_height()).adjusted(13, 9, -12, -9)
        painter.setPen(current.colour("faint"))
        painter.setFont(theme.font(8.5, QFont.Weight.Bold))
        self._line(painter, box.adjusted(0, 0, -22, 0), Qt.AlignmentFlag.AlignTop, self._kind.upper())
        painter.setPen(current.colour("ink" if self._is_in else "faint"))
        painter.setFont(_name_font())
        middle = box.center().y() - SECOND_LINE * (len(self._lines) - 1) / 2
        for number, line in enumerate(self._lines):
            row = QRectF(box.left(), middle - 12 + SECOND_LINE * number, box.width(), 24)
            self._line(painter, row, Qt.AlignmentFlag.AlignVCenter, line)
        painter.setPen(current.colour("faint"))
        painter.setFont(theme.font(9))
        self._line(painter, box, Qt.AlignmentFlag.AlignBottom, self._detail)

    @staticmethod
    def _line(painter: QPainter, box: QRectF, where: Qt.AlignmentFlag, text: str) -> None:
        said = QFontMetricsF(painter.font()).elidedText(text, Qt.TextElideMode.ElideRight, box.width())
        painter.drawText(box, where | Qt.AlignmentFlag.AlignLeft, said)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.rename()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        alt = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        if event.key() == Qt.Key.Key_F2:
            self.rename()
        elif event.key() == Qt.Key.Key_Delete:
            self._actions.remove(self.ident)
        elif alt and event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._actions.reorder(-1 if event.key() == Qt.Key.Key_Up else 1, self.ident)
        else:
            super().keyPressEvent(event)

    def rename(self) -> None:
        """Ask for another name where the name stands."""
        if self._editor is not None:
            return
        editor = QLineEdit(self._name, self)
        editor.setAccessibleName(tr("Name of the take"))
        editor.setGeometry(self._name_box())
        editor.selectAll()
        editor.editingFinished.connect(self._renamed)
        self._editor = editor
        editor.show()
        editor.setFocus()

    def _renamed(self) -> None:
        editor, self._editor = self._editor, None
        if editor is not None:
            name = editor.text()
            editor.hide()
            editor.deleteLater()
            self.setFocus()
            self._actions.rename(name, self.ident)

    def context_menu(self, parent: QWidget) -> QMenu:
        """The menu of the take."""
        menu, actions, ident = QMenu(parent), self._actions, self.ident
        ref = actions.ref(ident)
        if ref is None:
            return menu
        inside = menu.addAction(tr("In the result"))
        inside.setCheckable(True)
        inside.setChecked(ref.is_in)
        inside.triggered.connect(lambda on: actions.switch(on, ident))
        for label, beats in ((tr("Follow the beats"), True), (tr("Follow the clock"), False)):
            follow = menu.addAction(label)
            follow.setCheckable(True)
            follow.setChecked(ref.follows_beats == beats)
            follow.triggered.connect(lambda _=False, b=beats: actions.follow(b, ident))
        menu.addSeparator()
        menu.addAction(tr("Move to bar…")).triggered.connect(lambda: self._ask_bar())
        if ref.kind == PLAYED:
            delay = menu.addAction(tr("Delay, {ms:.1f} ms…").format(ms=1000 * ref.delay))
            delay.triggered.connect(lambda: self._ask_delay())
        if ref.kind == SOUND and ref.sound is not None:
            hear = menu.addMenu(tr("Hear its notes"))
            for kind, label in KINDS:
                path = ref.sound.path
                hear.addAction(tr(label)).triggered.connect(
                    lambda _=False, k=kind, p=path: self.hear_requested.emit(p, k)
                )
        if ref.kind != SOUND:
            menu.addAction(tr("Crop to the selected range")).triggered.connect(lambda: actions.crop_to_range(ident))
            uncrop = menu.addAction(tr("Use the whole take"))
            uncrop.setEnabled(ref.begin is not None or ref.end is not None)
            uncrop.triggered.connect(lambda: actions.uncrop(ident))
        if ref.passes:
            passes = menu.addMenu(tr("Passes"))
            for number, one in enumerate(ref.passes):
                part = self.pass_menu(number, menu)
                part.setTitle(tr("Pass {n}", n=number + 1) + ("" if one.is_in else tr(" (out)")))
                passes.addMenu(part)
        self._offer_alternatives(menu, ref)
        menu.addAction(tr("Duplicate")).triggered.connect(lambda: actions.duplicate(1, ident))
        menu.addAction(tr("Repeat…")).triggered.connect(lambda: self._ask_times())
        menu.addSeparator()
        menu.addAction(tr("Rename")).triggered.connect(self.rename)
        menu.addAction(tr("Move up")).triggered.connect(lambda: actions.reorder(-1, ident))
        menu.addAction(tr("Move down")).triggered.connect(lambda: actions.reorder(1, ident))
        menu.addAction(tr("Remove from the session")).triggered.connect(lambda: actions.remove(ident))
        return menu

    def _offer_alternatives(self, menu: QMenu, ref: TakeRef) -> None:
        actions, ident = self._actions, self.ident
        if ref.kind == SOUND:
            return
        others = menu.addMenu(tr("Choose bar by bar with"))
        group = actions.group(ident)
        for other in reversed(actions.notes_takes()):
            if other.ident != ident and (group is None or other.ident not in group.takes):
                action = others.addAction(other.name.replace("&", "&&"))
                action.triggered.connect(lambda _=False, of=other.ident: actions.make_alternative(of, ident))
        others.setEnabled(bool(others.actions()))
        if group is not None:
            menu.addAction(tr("No longer an alternative")).triggered.connect(lambda: actions.no_alternative(ident))

    def _ask_bar(self) -> None:
        bar, well = QInputDialog.getInt(self, tr("Move take"), tr("Begin at bar"), 1, -999, 99_999)
        if well:
            self._actions.move_to_bar(bar, self.ident)

    def _ask_delay(self) -> None:
        ref = self._actions.ref(self.ident)
        now = 0.0 if ref is None else 1000 * ref.delay
        said = tr("Milliseconds that input and output needed; the take stands earlier by so much")
        delay, well = QInputDialog.getDouble(self, tr("Delay"), said, now, -1000, 1000, 1)
        if well:
            self._actions.set_delay(delay, self.ident)

    def _ask_times(self) -> None:
        times, well = QInputDialog.getInt(self, tr("Repeat take"), tr("Copies behind it"), 3, 1, MOST_REPEATS)
        if well:
            self._actions.duplicate(times, self.ident)
