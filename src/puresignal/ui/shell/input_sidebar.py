"""The sidebar at the left, visible in every view: live inputs and takes."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFont, QFontMetricsF, QPainter, QPaintEvent
from PySide6.QtWidgets import QButtonGroup, QMenu, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from puresignal.core.session import session as edits
from puresignal.core.session.materials import material_of
from puresignal.core.session.take_ref import TakeRef
from puresignal.io import ports
from puresignal.translation import tr
from puresignal.ui.inputs.live_cards import LiveCards
from puresignal.ui.state.workbench import Workbench
from puresignal.ui.widgets import text_format, theme
from puresignal.ui.widgets.plain_text import PlainLabel, plain_tip
from puresignal.ui.widgets.vertical_scroll_area import VerticalScrollArea

WIDTH = 236


class Card(QPushButton):
    """The card of a take: source, name and size."""

    def __init__(self, ref: TakeRef, kind: str, detail: str, parent: QWidget | None = None):
        super().__init__(parent)
        self.ident = ref.ident
        self._kind, self._name, self._detail = kind, ref.name, detail
        self.setObjectName("card")
        self.setCheckable(True)
        self.setFixedHeight(76)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(f"{ref.name}, {kind}, {detail}")
        self.setToolTip(plain_tip(tr("{name}\n{kind}, {detail}").format(name=ref.name, kind=kind, detail=detail)))

    def sizeHint(self) -> QSize:
        return QSize(WIDTH - 28, 76)

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        current = theme.current()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(13, 9, -12, -9)
        painter.setPen(current.colour("faint"))
        painter.setFont(theme.font(8.5, QFont.Weight.Bold))
        painter.drawText(box, Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft, self._kind.upper())
        painter.setPen(current.colour("ink"))
        painter.setFont(theme.font(10.5, QFont.Weight.DemiBold))
        name = QFontMetricsF(painter.font()).elidedText(self._name, Qt.TextElideMode.ElideRight, box.width())
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, name)
        painter.setPen(current.colour("faint"))
        painter.setFont(theme.font(9))
        painter.drawText(box, Qt.AlignmentFlag.AlignBottom | Qt.AlignmentFlag.AlignLeft, self._detail)


class InputSidebar(QWidget):
    """The cards, and the buttons that add takes.

    open_requested     a file should be opened
    drummer_requested  the simulated drummer should play a take
    """

    open_requested = Signal()
    drummer_requested = Signal()

    def __init__(self, workbench: Workbench, live: LiveCards, parent: QWidget | None = None):
        """live: the cards of the live inputs."""
        super().__init__(parent)
        self._workbench = workbench
        self.live = live
        self.setObjectName("rail")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(WIDTH)
        self.cards: list[Card] = []
        self._made_of: object = None
        self._group = QButtonGroup(self)
        head = PlainLabel(tr("INPUTS"))
        head.setObjectName("section")
        self.open = QPushButton(tr("Open a MIDI file…"))
        self.open.setToolTip(
            tr("Add a take from a Standard MIDI File (Ctrl+O). You can also drop files on the window.")
        )
        self.open.setAccessibleName(tr("Open a MIDI file"))
        self.open.clicked.connect(self.open_requested)
        self.play = QPushButton(tr("Let the drummer play"))
        self.play.setToolTip(tr("Adds a take by the simulated drummer, as set up in Inputs."))
        self.play.setAccessibleName(tr("Let the simulated drummer play a take"))
        self.play.clicked.connect(self.drummer_requested)
        takes = PlainLabel(tr("TAKES"))
        takes.setObjectName("section")
        self._list = QVBoxLayout()
        self._list.setSpacing(8)
        self._list.setContentsMargins(14, 0, 14, 8)
        self._list.addStretch()
        inner = QWidget()
        inner.setLayout(self._list)
        inner.setObjectName("rail")
        scroll = VerticalScrollArea(inner)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 14, 0, 0)
        column.setSpacing(8)
        for widget in (head, self.live, self.open, self.play, takes):
            box = QVBoxLayout()
            box.setContentsMargins(14, 6 if widget is takes else 0, 14, 0)
            box.addWidget(widget)
            column.addLayout(box)
        column.addWidget(scroll, 1)

    def show_session(self) -> None:
        """Show the session's takes as cards, newest first."""
        session = self._workbench.session
        made_of = (tuple((t.ident, t.name) for t in session.takes), id(self._workbench.store))
        if made_of == self._made_of:
            for card in self.cards:
                card.setChecked(card.ident == session.current)
            return
        self._made_of = made_of
        for card in self.cards:
            self._group.removeButton(card)
            card.hide()
            card.deleteLater()
        self.cards = []
        bench = self._workbench
        for ref in reversed(bench.session.takes):
            take = material_of(ref, bench.store.by_ident)
            kind = tr("MIDI file") if take.original is not None else tr(ports.kind_of_input(take.ports[0].name))
            card = Card(
                ref, kind, f"{text_format.duration(take.length)} · {text_format.counted(len(take.events), 'message')}"
            )
            card.setChecked(ref.ident == bench.session.current)
            card.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
            card.customContextMenuRequested.connect(lambda at, c=card: self.menu(c.ident).exec(c.mapToGlobal(at)))
            card.clicked.connect(lambda _=False, ident=ref.ident: self._choose(ident))
            self._group.addButton(card)
            self._list.insertWidget(self._list.count() - 1, card)
            self.cards.append(card)

    def menu(self, ident: str) -> QMenu:
        """Context menu of a take."""
        menu = QMenu(self)
        menu.addAction(tr("Show")).triggered.connect(lambda: self._choose(ident))
        menu.addAction(tr("Remove from the session")).triggered.connect(lambda: self._take_out(ident))
        return menu

    def _take_out(self, ident: str) -> None:
        bench = self._workbench
        bench.do(tr("remove take"), edits.without_take(bench.session, ident))

    def _choose(self, ident: str) -> None:
        bench = self._workbench
        bench.do(tr("choose take"), edits.with_current(bench.session, ident))
