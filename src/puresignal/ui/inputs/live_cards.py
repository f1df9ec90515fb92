"""Cards of the live inputs, visible in every view: lamp, last note in words, velocity, and status."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QFont, QFontMetricsF, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QInputDialog, QMenu, QVBoxLayout, QWidget

from puresignal.core.diagnosis.monitoring import armed, armed_alone
from puresignal.core.session import session as edits
from puresignal.core.session.live_input import LiveInput, ports_of, with_input
from puresignal.io import ports
from puresignal.translation import tr
from puresignal.ui.state.services import Services
from puresignal.ui.widgets import theme
from puresignal.ui.widgets.plain_text import plain_tip

GLOW_MS = 160
"""Milliseconds that the lamp stays lit after a hit."""
HEIGHT = 98


class LiveCard(QWidget):
    """One live input.

    clicked  the card was clicked
    """

    clicked = Signal()
    OWN_KEYS = (Qt.Key.Key_Space, Qt.Key.Key_Return, Qt.Key.Key_Enter)

    def __init__(self, number: int, parent: QWidget | None = None):
        super().__init__(parent)
        self.number = number
        self._one = LiveInput()
        self.chosen = False
        self._standing, self.words, self._velocity, self._loose, self._well = "", "", 0, False, True
        self._lit = QTimer(self)
        self._lit.setSingleShot(True)
        self._lit.setInterval(GLOW_MS)
        self._lit.timeout.connect(self.update)
        self.setFixedHeight(HEIGHT)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.show_standing(LiveInput(), "", True)

    @property
    def lit(self) -> bool:
        return self._lit.isActive()

    @property
    def standing(self) -> str:
        """Status in words: connected, unavailable, simulated or off."""
        return self._standing

    def sizeHint(self) -> QSize:
        return QSize(200, HEIGHT)

    def show_standing(self, one: LiveInput, standing: str, well: bool) -> None:
        """Show the input and its status."""
        self._one, self._standing, self._well = one, standing, well
        self.setToolTip(
            plain_tip(tr("{port}: {standing}. The lamp lights with each hit.").format(port=one.port, standing=standing))
        )
        self._name_it()
        self.update()

    def hear(self, words: str, velocity: int, unmapped: bool) -> None:
        """Show a hit."""
        self.words, self._velocity, self._loose = f"{words} – {velocity}", velocity, unmapped
        self._name_it()
        self._lit.start()
        self.update()

    def forget(self) -> None:
        """Clear the last hit: live input starts anew."""
        self.words, self._velocity, self._loose = tr("nothing yet"), 0, False
        self.update()

    def _name_it(self) -> None:
        text = tr("Input {n}, {port}, {standing}, last {words}")
        self.setAccessibleName(
            text.format(n=self.number + 1, port=self._one.port, standing=self._standing, words=self.words or "–")
        )

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.clicked.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.clicked.emit()
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent) -> None:
        current = theme.current()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        accent = current.colour("accent")
        edge = "ink" if self.hasFocus() else "edge"
        painter.setPen(accent if self._loose and self.lit else current.colour(edge))
        painter.setBrush(current.colour("sheet"))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 6, 6)
        if self.chosen:
            painter.setPen(QPen(current.colour("ink"), 2))
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 6, 6)
        box = QRectF(self.rect()).adjusted(13, 9, -12, -9)
        painter.setBrush(accent if self.lit else current.colour("line"))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.drawEllipse(QRectF(box.right() - 12, box.top() + 1, 11, 11))
        one = self._one
        channel = tr("all channels") if not one.channel else tr("channel {n}").format(n=one.channel)
        painter.setPen(current.colour("faint"))
        painter.setFont(theme.font(8.5, QFont.Weight.Bold))
        head = one.name.upper() or tr("INPUT {n}").format(n=self.number + 1)
        self._line(painter, box.adjusted(0, 0, -18, 0), 0, f"{head} · {channel}")
        painter.setPen(accent if self._loose else current.colour("ink"))
        painter.setFont(theme.font(10.5, QFont.Weight.DemiBold))
        self._line(painter, box, 18, self.words)
        level = QRectF(box.left(), box.top() + 39, box.width(), 5)
        painter.fillRect(level, current.colour("line"))
        painter.fillRect(
            QRectF(level.left(), level.top(), level.width() * self._velocity / 127, 5), current.colour("ink")
        )
        painter.setFont(theme.font(9))
        painter.setPen(current.colour("faint"))
        self._line(painter, box, 49, one.port)
        marks = [tr("Armed")] * one.armed + [tr("monitor") if one.monitor else tr("not monitored")]
        painter.setPen(current.colour("faint") if self._well else accent)
        self._line(painter, box, 65, " · ".join((self._standing, *marks)))

    @staticmethod
    def _line(painter: QPainter, box: QRectF, down: float, text: str) -> None:
        said = QFontMetricsF(painter.font()).elidedText(text, Qt.TextElideMode.ElideRight, box.width())
        painter.drawText(box.adjusted(0, down, 0, 0), Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft, said)


class LiveCards(QWidget):
    """A card for each live input that has a port.

    clicked  a card was clicked: the number of its input
    """

    clicked = Signal(int)

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(parent)
        workbench, live_session = services.workbench, services.live_session
        self._workbench, self._live_session, self._chosen = workbench, live_session, services.chosen_input
        self._port_watch = services.port_watch
        self._chosen.changed.connect(self.show_inputs)
        self.cards: list[LiveCard] = []
        self.arming_follows = False
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(6)
        live_session.started.connect(self._began)
        live_session.stopped.connect(self.show_inputs)
        live_session.router_state_changed.connect(lambda _: self.show_inputs())
        live_session.hit_received.connect(self._heard)
        workbench.changed.connect(self.show_inputs)
        self.show_inputs()

    def card(self, number: int) -> LiveCard | None:
        """The card of an input."""
        return next((card for card in self.cards if card.number == number), None)

    def show_inputs(self) -> None:
        """Update the cards from session and router."""
        wanted = [(i, one) for i, one in enumerate(self._workbench.session.inputs) if one.port]
        if [card.number for card in self.cards] != [i for i, _ in wanted]:
            for card in self.cards:
                self._column.removeWidget(card)
                card.hide()
                card.deleteLater()
            self.cards = [self._make(i) for i, _ in wanted]
        for card, (_, one) in zip(self.cards, wanted, strict=True):
            card.chosen = card.number == self._chosen.number
            card.show_standing(one, *self._standing(one))
        self.setVisible(bool(wanted))

    def _make(self, number: int) -> LiveCard:
        card = LiveCard(number)
        card.clicked.connect(lambda: self._click(number))
        card.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        card.customContextMenuRequested.connect(lambda at: self.menu(number).exec(card.mapToGlobal(at)))
        self._column.addWidget(card)
        return card

    def menu(self, number: int) -> QMenu:
        """Context menu of an input."""
        menu, one = QMenu(self), self._workbench.session.inputs[number]
        menu.addAction(tr("Settings in Inputs")).triggered.connect(lambda: self.clicked.emit(number))
        for label, field, on in ((tr("Armed"), "armed", one.armed), (tr("Monitor"), "monitor", one.monitor)):
            action = menu.addAction(label)
            action.setCheckable(True)
            action.setChecked(on)
            action.triggered.connect(lambda to, f=field, w=label: self._switch(number, f, w, to))
        menu.addAction(tr("Arm only this input")).triggered.connect(lambda: self._arm_alone(number))
        menu.addSeparator()
        menu.addAction(tr("Rename…")).triggered.connect(lambda: self._ask_name(number))
        menu.addAction(tr("Move up")).triggered.connect(lambda: self._move(number, -1))
        menu.addAction(tr("Move down")).triggered.connect(lambda: self._move(number, 1))
        self._also_menu(menu.addMenu(tr("Also listen to")), number)
        tracks = menu.addAction(tr("Tracks of its own"))
        tracks.setCheckable(True)
        tracks.setChecked(one.own)
        tracks.setToolTip(tr("Its drums go to tracks apart from those of other inputs, in new takes and live."))
        tracks.triggered.connect(lambda on: self._switch(number, "own", tr("Tracks of its own"), on))
        menu.addAction(tr("Remove")).triggered.connect(lambda: self._remove(number))
        menu.addSeparator()
        follows = menu.addAction(tr("Arm on click"))
        follows.setCheckable(True)
        follows.setChecked(self.arming_follows)
        follows.triggered.connect(lambda on: setattr(self, "arming_follows", on))
        return menu

    def _also_menu(self, menu: QMenu, number: int) -> None:
        """Further ports of one player: a kit on two devices."""
        one = self._workbench.session.inputs[number]
        there = [p.name for p in (*self._port_watch.ports, *ports.simulated(), *ports.virtual()) if p.gives]
        more = [name for name, _ in one.more]
        for name in dict.fromkeys((*more, *there)):
            if name == one.port:
                continue
            action = menu.addAction(tr(name))
            action.setCheckable(True)
            action.setChecked(name in more)
            action.triggered.connect(lambda on, n=name: self._listen_also(number, n, on))

    def _listen_also(self, number: int, port: str, on: bool) -> None:
        bench = self._workbench
        one = bench.session.inputs[number]
        more = (*one.more, (port, 0)) if on else tuple(pair for pair in one.more if pair[0] != port)
        name = tr("listen to a further port") if on else tr("listen to one port less")
        bench.do(name, edits.with_inputs(bench.session, with_input(bench.session.inputs, number, more=more)))

    def _ask_name(self, number: int) -> None:
        one = self._workbench.session.inputs[number]
        name, well = QInputDialog.getText(self, tr("Rename input"), tr("Name of the input"), text=one.title)
        if well:
            self.rename(number, name)

    def rename(self, number: int, name: str) -> None:
        """Give an input a name; an empty one gives back that of its port."""
        bench = self._workbench
        inputs = with_input(bench.session.inputs, number, name=name.strip())
        bench.do(tr("rename input"), edits.with_inputs(bench.session, inputs))

    def _move(self, number: int, by: int) -> None:
        bench = self._workbench
        inputs, other = list(bench.session.inputs), number + by
        if 0 <= other < len(inputs):
            inputs[number], inputs[other] = inputs[other], inputs[number]
            bench.do(tr("reorder inputs"), edits.with_inputs(bench.session, tuple(inputs)))

    def _remove(self, number: int) -> None:
        bench = self._workbench
        left = tuple(one for i, one in enumerate(bench.session.inputs) if i != number)
        bench.do(tr("remove input"), edits.with_inputs(bench.session, left))

    def _click(self, number: int) -> None:
        if self.arming_follows:
            self._arm_alone(number)
        self.clicked.emit(number)

    def _arm_alone(self, number: int) -> None:
        bench = self._workbench
        inputs = armed_alone(bench.session.inputs, number)
        bench.do(tr("arm an input"), edits.with_inputs(bench.session, inputs))

    def _switch(self, number: int, field: str, label: str, on: bool) -> None:
        bench = self._workbench
        changed = armed(bench.session.inputs[number], on) if field == "armed" else {field: on}
        inputs = with_input(bench.session.inputs, number, **changed)
        bench.do(tr("switch {what}").format(what=label.lower()), edits.with_inputs(bench.session, inputs))

    def _standing(self, one: LiveInput) -> tuple[str, bool]:
        """Status of an input in words, and whether all is well."""
        if not self._live_session.listening:
            return tr("off"), True
        state: dict[str, Any] = self._live_session.state
        names = ports_of(self._workbench.session.inputs)
        found = state.get("inputs") or []
        place = names.index(one.port)
        if place in (state.get("loops") or []):
            return tr("loop, cut"), False
        if one.port in ports.FED:
            return (tr("simulated") if one.port in ports.SIMULATED_DEVICES else tr("ready")), True
        there = place < len(found) and found[place] is not None
        return (tr("connected"), True) if there else (tr("unavailable"), False)

    def _began(self) -> None:
        for card in self.cards:
            card.forget()
        self.show_inputs()

    def _heard(self, number: int, words: str, velocity: int, unmapped: bool) -> None:
        card = self.card(number)
        if card is not None:
            card.hear(words, velocity, unmapped)
