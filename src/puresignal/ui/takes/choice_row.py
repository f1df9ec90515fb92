"""The choice row under the ruler: of several takes of one thing, which one is used in each bar."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

from PySide6.QtCore import QEvent, QLineF, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QFont,
    QFontMetricsF,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
)
from PySide6.QtWidgets import QMenu, QToolTip, QWidget

from puresignal.core.export.session_result import SeveralTakes
from puresignal.core.session import alternative_edits
from puresignal.core.session.arrangement import Alternatives
from puresignal.translation import tr
from puresignal.ui.takes.row_labels import GUTTER
from puresignal.ui.takes.time_axis import TimeAxis
from puresignal.ui.widgets import theme
from puresignal.ui.widgets.plain_text import plain_tip

HEIGHT = 24
_MOVING = tuple(int(key) for key in (Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Return, Qt.Key.Key_Enter))


@dataclass(frozen=True, eq=False)
class Choices:
    """The content of the row.

    group    the alternatives
    names    of the takes, by ident
    several  everything that is shown, for the places of bars
    """

    group: Alternatives
    names: dict[str, str]
    several: SeveralTakes

    def bar_at(self, second: float) -> int:
        return self.several.timeline.beats_to_bar(self.several.beat_of(second) + 1e-6)[0]

    def second_of(self, bar: int) -> float:
        return self.several.second_of(self.several.timeline.bar_to_beats(bar))


class ChoiceRow(QWidget):
    """The row. A click takes the next one for a bar, or for the range that is selected; a letter takes that one.

    chosen  a take should be used from a bar on, before another: (first bar, bar after the last, its ident)
    """

    chosen = Signal(int, int, str)

    def __init__(self, axis: TimeAxis, parent: QWidget):
        super().__init__(parent)
        self._axis = axis
        self.choices: Choices | None = None
        # First and last second of the range that is selected on the ruler.
        self.stretch: tuple[float, float] | None = None
        self._bar = 1
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName(tr("Choice row"))
        self.hide()

    @property
    def OWN_KEYS(self) -> tuple[int, ...]:
        """Keys that the row wants for itself: the letters of its takes, and what moves along it."""
        takes = () if self.choices is None else self.choices.group.takes[:26]
        letters = (int(Qt.Key.Key_A) + number for number in range(len(takes)))
        return (*_MOVING, *letters)

    def show_choices(self, choices: Choices | None) -> bool:
        """Show other choices, or none. Returns whether the row has come or gone."""
        was, self.choices = self.choices is not None, choices
        self.setVisible(choices is not None)
        if choices is not None:
            self._describe()
        self.update()
        return was != (choices is not None)

    def _describe(self) -> None:
        self.setAccessibleDescription(self.words(self._bar))

    def words(self, bar: int) -> str:
        """A bar in words."""
        choices = self.choices
        if choices is None:
            return ""
        ident = alternative_edits.take_at(choices.group, bar)
        which = alternative_edits.letter(choices.group, ident)
        return tr("bar {bar}: {letter}, {name}").format(bar=bar, letter=which, name=choices.names.get(ident, ""))

    def bars_at(self, bar: int) -> tuple[int, int]:
        """The bars that a choice at a bar is for, (first, bar after the last): the selected range if it is in there."""
        choices = self.choices
        if choices is not None and self.stretch is not None:
            first = choices.bar_at(self.stretch[0])
            after = choices.bar_at(self.stretch[1] - 1e-3) + 1
            if first <= bar < after:
                return first, after
        return bar, bar + 1

    def take(self, bar: int, ident: str) -> None:
        """Use a take at a bar, or in the whole selected range around it."""
        self._bar = bar
        self.chosen.emit(*self.bars_at(bar), ident)

    def _next(self, bar: int, by: int = 1) -> None:
        if self.choices is not None:
            takes = self.choices.group.takes
            now = takes.index(alternative_edits.take_at(self.choices.group, bar))
            self.take(bar, takes[(now + by) % len(takes)])

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        choices = self.choices
        if choices is None:
            return
        current, painter = theme.current(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), current.colour("shade"))
        painter.setPen(QPen(current.colour("edge"), 1))
        painter.drawLine(QLineF(0, HEIGHT - 0.5, self.width(), HEIGHT - 0.5))
        painter.setFont(theme.font(9, QFont.Weight.Bold))
        painter.setPen(current.colour("faint"))
        middle = Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(14, 0, GUTTER - 26, HEIGHT), middle, tr("which take"))
        painter.save()
        painter.setClipRect(QRectF(GUTTER, 0, self.width() - GUTTER, HEIGHT))
        for first, after, ident in self._runs():
            self._paint_run(painter, choices, first, after, ident)
        if self.hasFocus():
            left, right = (self._axis.x_of(choices.second_of(bar)) for bar in self.bars_at(self._bar))
            painter.setPen(QPen(current.colour("accent"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(left + 1, 1, right - left - 2, HEIGHT - 3))
        painter.restore()

    def _paint_run(self, painter: QPainter, choices: Choices, first: int, after: int, ident: str) -> None:
        current = theme.current()
        left, right = self._axis.x_of(choices.second_of(first)), self._axis.x_of(choices.second_of(after))
        number = choices.group.takes.index(ident)
        box = QRectF(left + 1, 3, right - left - 2, HEIGHT - 7)
        # One take is filled, the next is outline, so that joins are seen without reading.
        painter.setPen(QPen(current.colour("edge"), 1))
        painter.setBrush(current.colour("chosen") if number % 2 == 0 else current.colour("sheet"))
        painter.drawRoundedRect(box, 3, 3)
        seen = box.adjusted(max(6.0, GUTTER - left + 6), 0, -4, 0)
        font = theme.font(9, QFont.Weight.Bold)
        painter.setFont(font)
        painter.setPen(current.colour("ink"))
        text = f"{alternative_edits.letter(choices.group, ident)}  {choices.names.get(ident, '')}"
        text = QFontMetricsF(font).elidedText(text, Qt.TextElideMode.ElideRight, seen.width())
        painter.drawText(seen, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, text)

    def _runs(self) -> list[tuple[int, int, str]]:
        """The stretches of bars in view that use one take."""
        choices = self.choices
        assert choices is not None
        first = choices.bar_at(self._axis.second_at(GUTTER))
        last = choices.bar_at(self._axis.second_at(self.width()))
        edges = [first, *(bar for bar, _ in choices.group.choice if first < bar <= last), last + 1]
        return [(a, b, alternative_edits.take_at(choices.group, a)) for a, b in itertools.pairwise(edges) if b > a]

    # Pointer and keys

    def _bar_at(self, at: QPointF) -> int | None:
        if self.choices is None or at.x() < GUTTER:
            return None
        return self.choices.bar_at(self._axis.second_at(at.x()))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        bar = self._bar_at(event.position())
        if event.button() == Qt.MouseButton.LeftButton and bar is not None:
            self._next(bar, -1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        bar = self._bar_at(QPointF(event.pos()))
        if bar is not None:
            self.menu(bar).exec(event.globalPos())

    def menu(self, bar: int) -> QMenu:
        """The takes to choose from."""
        menu = QMenu(self)
        if self.choices is not None:
            group = self.choices.group
            for ident in group.takes:
                text = f"{alternative_edits.letter(group, ident)}  {self.choices.names.get(ident, '')}"
                action = menu.addAction(text.replace("&", "&&"))
                action.setCheckable(True)
                action.setChecked(ident == alternative_edits.take_at(group, bar))
                action.triggered.connect(lambda _=False, one=ident: self.take(bar, one))
        return menu

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, choices = event.key(), self.choices
        steps = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        if choices is None or event.modifiers() & ~Qt.KeyboardModifier.ShiftModifier:
            super().keyPressEvent(event)
        elif key in steps:
            self._bar += steps[Qt.Key(key)]
            self._describe()
            self.update()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._next(self._bar)
        else:
            letters = {alternative_edits.letter(choices.group, ident): ident for ident in choices.group.takes}
            ident = letters.get(event.text().upper())
            if ident is None:
                super().keyPressEvent(event)
            else:
                self.take(self._bar, ident)

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            bar = self._bar_at(QPointF(event.pos()))
            text = tr("Which take each bar has: click for the next one, or type its letter. With bars selected on the "
                      "ruler, it is for all of them.")  # fmt: skip
            QToolTip.showText(event.globalPos(), plain_tip(self.words(bar) if bar is not None else text), self)
            return True
        return super().event(event)
