"""Sections under the ruler: brackets over their bars, with name and repeats; hidden bars are hatched."""

from __future__ import annotations

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
    QWheelEvent,
)
from PySide6.QtWidgets import QInputDialog, QMenu, QPushButton, QToolTip, QWidget

from puresignal.core.export.session_result import SeveralTakes
from puresignal.translation import tr
from puresignal.ui.state.section_actions import SectionActions
from puresignal.ui.takes.row_labels import GUTTER
from puresignal.ui.takes.time_axis import TimeAxis
from puresignal.ui.widgets import theme
from puresignal.ui.widgets.plain_text import plain_tip

HEIGHT = 24
EDGE = 7.0
"""Pixels at the right end of a bracket that change its length."""
MOST_REPEATS = 8
"""Repeats that the menu offers; others are typed."""


@dataclass(frozen=True)
class Bracket:
    """A section as it is drawn. bar: its first; bars: heard; hidden: behind them; ident: empty where it only names."""

    ident: str
    name: str
    bar: int
    bars: int
    hidden: int = 0
    repeats: int = 1


class SectionRow(QWidget):
    """The row.

    arrived_or_gone  brackets have come, or the last has gone
    """

    arrived_or_gone = Signal()

    def __init__(self, axis: TimeAxis, parent: QWidget):
        super().__init__(parent)
        self._axis = axis
        self.actions_of: SectionActions | None = None
        self.brackets: tuple[Bracket, ...] = ()
        self._several: SeveralTakes | None = None
        # The bracket whose end is dragged, and its bars while it is.
        self._drag: tuple[Bracket, int] | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName(tr("Sections"))
        self.hide()

    def add_button(self, button: QPushButton) -> None:
        """A button at the right end of the gutter."""
        button.setParent(self)
        button.setCursor(Qt.CursorShape.ArrowCursor)
        wide = button.sizeHint().width()
        button.setGeometry(GUTTER - 8 - wide, 2, wide, HEIGHT - 5)

    @property
    def OWN_KEYS(self) -> tuple[int, ...]:
        """Keys that the row wants for itself."""
        return tuple(int(key) for key in _KEYS)

    def show_brackets(self, brackets: tuple[Bracket, ...], several: SeveralTakes | None) -> bool:
        """Show sections. Returns whether the row has come or gone."""
        was, self.brackets, self._several = bool(self.brackets), brackets if several is not None else (), several
        self.setVisible(bool(self.brackets))
        self._describe()
        self.update()
        return was != bool(self.brackets)

    def _describe(self) -> None:
        chosen = self.chosen()
        self.setAccessibleDescription(self.words(chosen) if chosen is not None else "")

    def chosen(self) -> Bracket | None:
        """The chosen section."""
        ident = self.actions_of.chosen if self.actions_of is not None else ""
        return next((one for one in self.brackets if one.ident and one.ident == ident), None)

    def words(self, one: Bracket) -> str:
        """A section in words."""
        said = tr("{name}, bars {first} to {last}").format(name=one.name, first=one.bar, last=one.bar + one.bars - 1)
        if one.repeats > 1:
            said += tr(", played {n} times").format(n=one.repeats)
        if one.hidden:
            said += tr(", {n} bars hidden").format(n=one.hidden)
        return said

    # Where things are

    def _x(self, bar: int) -> float:
        assert self._several is not None
        return self._axis.x_of(self._several.second_of(self._several.timeline.bar_to_beats(bar)))

    def box(self, one: Bracket) -> QRectF:
        """Where a section's bracket is."""
        bars = self._drag[1] if self._drag is not None and self._drag[0].ident == one.ident else one.bars
        left, right = self._x(one.bar), self._x(one.bar + bars)
        return QRectF(left, 2, right - left, HEIGHT - 5)

    def at(self, at: QPointF) -> Bracket | None:
        """The section at a point."""
        if at.x() < GUTTER:
            return None
        return next((one for one in self.brackets if self.box(one).adjusted(0, -2, EDGE, 3).contains(at)), None)

    def _bar_at(self, x: float) -> int:
        """The bar line nearest to a pixel."""
        assert self._several is not None
        timeline = self._several.timeline
        bar, into = timeline.beats_to_bar(self._several.beat_of(self._axis.second_at(x)))
        return bar + (1 if into > timeline.meter_at(bar).beats / 2 else 0)

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        if not self.brackets:
            return
        current, painter = theme.current(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), current.colour("shade"))
        painter.setPen(QPen(current.colour("edge"), 1))
        painter.drawLine(QLineF(0, HEIGHT - 0.5, self.width(), HEIGHT - 0.5))
        painter.setFont(theme.font(9, QFont.Weight.Bold))
        painter.setPen(current.colour("faint"))
        painter.drawText(QRectF(14, 0, GUTTER - 26, HEIGHT), Qt.AlignmentFlag.AlignVCenter, tr("sections"))
        painter.setClipRect(QRectF(GUTTER, 0, self.width() - GUTTER, HEIGHT))
        for one in self.brackets:
            self._paint_bracket(painter, one)

    def _paint_bracket(self, painter: QPainter, one: Bracket) -> None:
        current, box = theme.current(), self.box(one)
        if one.hidden:
            hidden = QRectF(
                box.right(), box.top(), self._x(one.bar + one.bars + one.hidden) - box.right(), box.height()
            )
            painter.fillRect(hidden, Qt.BrushStyle.BDiagPattern)
        chosen = self.chosen()
        if chosen is not None and chosen.ident == one.ident:
            painter.fillRect(box.adjusted(1, 0, -1, 3), current.colour("chosen"))
        # A bracket that opens downwards, over its bars.
        painter.setPen(QPen(current.colour("ink"), 1.5))
        left, right, top, foot = box.left() + 1, box.right() - 2, box.top() + 0.5, box.bottom() + 2
        painter.drawPolyline([QPointF(left, foot), QPointF(left, top), QPointF(right, top), QPointF(right, foot)])
        font = theme.font(9.5, QFont.Weight.Bold)
        metrics = QFontMetricsF(font)
        painter.setFont(font)
        times = f"×{one.repeats}" if one.repeats > 1 else ""
        wide = metrics.horizontalAdvance(times)
        seen = box.adjusted(max(7.0, GUTTER - box.left() + 7), 2, -9, 2)
        if times and seen.width() > wide:
            painter.setPen(current.colour("accent"))
            painter.drawText(seen, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, times)
            seen.adjust(0, 0, -wide - 6, 0)
        painter.setPen(current.colour("ink"))
        text = metrics.elidedText(one.name, Qt.TextElideMode.ElideRight, max(0.0, seen.width()))
        painter.drawText(seen, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, text)
        if self.hasFocus() and chosen is not None and chosen.ident == one.ident:
            painter.setPen(QPen(current.colour("accent"), 2))
            painter.drawRect(box.adjusted(1, 0, -1, 2))

    # Pointer and keys

    def mousePressEvent(self, event: QMouseEvent) -> None:
        one = self.at(event.position())
        if event.button() != Qt.MouseButton.LeftButton or one is None or not one.ident or self.actions_of is None:
            return
        self.actions_of.choose(one.ident)
        if abs(event.position().x() - self.box(one).right()) <= EDGE:
            self._drag = one, one.bars
        else:
            self.actions_of.select(one.ident)
        self._describe()
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        one = self.at(event.position())
        at_edge = one is not None and bool(one.ident) and abs(event.position().x() - self.box(one).right()) <= EDGE
        busy = at_edge or self._drag is not None
        self.setCursor(Qt.CursorShape.SizeHorCursor if busy else Qt.CursorShape.ArrowCursor)
        if self._drag is not None:
            held = self._drag[0]
            self._drag = held, max(1, self._bar_at(event.position().x()) - held.bar)
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._drag is not None and self.actions_of is not None:
            held = self._drag[0]
            bars = max(1, self._bar_at(event.position().x()) - held.bar)
            self._drag = None
            self.actions_of.set_bars(bars, held.ident)
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        one = self.at(event.position())
        if one is not None and one.ident:
            self.ask_name(one)

    def wheelEvent(self, event: QWheelEvent) -> None:
        one = self.at(event.position())
        turns = event.angleDelta().y()
        if one is not None and one.ident and turns and self.actions_of is not None:
            gesture = f"repeats {one.ident}"  # not shown
            self.actions_of.set_repeats(one.repeats + (1 if turns > 0 else -1), one.ident, gesture)
            event.accept()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        one = self.at(QPointF(event.pos()))
        if one is not None and one.ident:
            self.menu(one).exec(event.globalPos())

    def menu(self, one: Bracket) -> QMenu:
        """The menu of a section."""
        menu, act = QMenu(self), self.actions_of
        assert act is not None
        menu.addAction(tr("Play it alone")).triggered.connect(lambda: act.play_alone(one.ident))
        menu.addAction(tr("Rename…")).triggered.connect(lambda: self.ask_name(one))
        repeats = menu.addMenu(tr("Play it"))
        for times in range(1, MOST_REPEATS + 1):
            said = tr("once") if times == 1 else tr("{n} times", n=times)
            action = repeats.addAction(said)
            action.setCheckable(True)
            action.setChecked(one.repeats == times)
            action.triggered.connect(lambda _=False, n=times: act.set_repeats(n, one.ident))
        repeats.addAction(tr("More…")).triggered.connect(lambda: self._ask_repeats(one))
        menu.addAction(tr("A bar longer")).triggered.connect(lambda: act.set_bars(one.bars + 1, one.ident))
        shorter = menu.addAction(tr("A bar shorter"))
        shorter.setEnabled(one.bars > 1)
        shorter.triggered.connect(lambda: act.set_bars(one.bars - 1, one.ident))
        menu.addAction(tr("Duplicate")).triggered.connect(lambda: act.duplicate(one.ident))
        menu.addSeparator()
        menu.addAction(tr("Playing order…")).triggered.connect(self.ask_order)
        out = menu.addAction(tr("Write out repeats"))
        out.setEnabled(any(other.repeats > 1 for other in self.brackets))
        out.triggered.connect(act.write_out)
        menu.addSeparator()
        menu.addAction(tr("Remove the bracket")).triggered.connect(lambda: act.remove(one.ident))
        return menu

    def ask_name(self, one: Bracket) -> None:
        name, well = QInputDialog.getText(self, tr("Section"), tr("Name"), text=one.name)
        if well and self.actions_of is not None:
            self.actions_of.rename(name, one.ident)

    def _ask_repeats(self, one: Bracket) -> None:
        times, well = QInputDialog.getInt(self, tr("Section"), tr("Play it so many times"), one.repeats, 1, 99)
        if well and self.actions_of is not None:
            self.actions_of.set_repeats(times, one.ident)

    def ask_order(self) -> None:
        """Ask for the playing order, until it makes sense or is given up."""
        act = self.actions_of
        assert act is not None
        said = tr("Names in the order in which they are played, like: {example}. Empty: as they stand.").format(
            example=", ".join([*list(act.names())[:2], tr("{name}*2", name=next(iter(act.names()), "A"))])
        )
        text = act.order_text()
        while True:
            text, well = QInputDialog.getText(self, tr("Playing order"), said, text=text)
            if not well or act.set_order(text):
                return

    def keyPressEvent(self, event: QKeyEvent) -> None:
        act, key, one = self.actions_of, event.key(), self.chosen()
        own = [bracket for bracket in self.brackets if bracket.ident]
        if act is None or not own or event.modifiers() & ~Qt.KeyboardModifier.KeypadModifier:
            super().keyPressEvent(event)
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            place = own.index(one) + (1 if key == Qt.Key.Key_Right else -1) if one in own else 0
            act.choose(own[max(0, min(len(own) - 1, place))].ident)
        elif one is None:
            super().keyPressEvent(event)
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Minus):
            act.set_bars(one.bars + (1 if key == Qt.Key.Key_Plus else -1), one.ident)
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            act.set_repeats(one.repeats + (1 if key == Qt.Key.Key_Up else -1), one.ident)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            act.select(one.ident)
        elif key == Qt.Key.Key_F2:
            self.ask_name(one)
        elif key == Qt.Key.Key_Delete:
            act.remove(one.ident)
        else:
            super().keyPressEvent(event)
            return
        self._describe()
        self.update()

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            one = self.at(QPointF(event.pos()))
            text = tr("Sections: drag an end for another length, turn the wheel for repeats, right-click for more.")
            QToolTip.showText(event.globalPos(), plain_tip(self.words(one) if one is not None else text), self)
            return True
        return super().event(event)


_KEYS = (
    Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Plus, Qt.Key.Key_Minus,
    Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_F2, Qt.Key.Key_Delete,
)  # fmt: skip
