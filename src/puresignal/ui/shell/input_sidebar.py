"""The sidebar at the left, visible in every view: live inputs and takes."""

from __future__ import annotations

from collections.abc import Mapping

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QButtonGroup, QMenu, QPushButton, QVBoxLayout, QWidget

from puresignal.core.midi.events import Take
from puresignal.core.session import alternative_edits
from puresignal.core.session import session as edits
from puresignal.core.session.materials import material_of
from puresignal.core.session.take_ref import DRAWN, GENERATED, SOUND, TakeRef
from puresignal.core.timing.session_time import Timeline
from puresignal.io import ports
from puresignal.translation import tr
from puresignal.ui.inputs.found_ports import add_menu
from puresignal.ui.inputs.live_cards import LiveCards
from puresignal.ui.shell.take_card import TakeCard
from puresignal.ui.state.services import Services
from puresignal.ui.widgets import text_format
from puresignal.ui.widgets.plain_text import PlainLabel
from puresignal.ui.widgets.vertical_scroll_area import VerticalScrollArea

WIDTH = 236


class InputSidebar(QWidget):
    """The cards, and the buttons that add takes.

    open_requested     a file should be opened
    drummer_requested  the simulated drummer should play a take
    hear_requested     the notes of a recording should be heard: (path, kind)
    """

    open_requested = Signal()
    drummer_requested = Signal()
    hear_requested = Signal(str, str)

    def __init__(self, services: Services, live: LiveCards, parent: QWidget | None = None):
        """live: the cards of the live inputs."""
        super().__init__(parent)
        self._services, self._workbench, self._actions = services, services.workbench, services.take_actions
        self.live = live
        self.setObjectName("rail")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(WIDTH)
        self.cards: list[TakeCard] = []
        self._made_of: object = None
        self._group = QButtonGroup(self)
        head = PlainLabel(tr("INPUTS"))
        head.setObjectName("section")
        self.open = QPushButton(tr("Open a file…"))
        self.open.setToolTip(
            tr("Adds takes from MIDI files and recordings, or opens a session (Ctrl+O). You can also drop files.")
        )
        self.open.setAccessibleName(tr("Open a file"))
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
        self.add = QPushButton(tr("Add input…"))
        self.add.setToolTip(tr("A port, the keyboard or pads on screen, or a simulated device."))
        self.add.setAccessibleName(tr("Add input"))
        self.add.clicked.connect(self._ask_input)
        for widget in (head, self.live, self.add, takes, self.open, self.play):
            box = QVBoxLayout()
            box.setContentsMargins(14, 6 if widget is takes else 0, 14, 0)
            box.addWidget(widget)
            column.addLayout(box)
        column.addWidget(scroll, 1)

    def show_session(self) -> None:
        """Show the session's takes as cards, newest first."""
        session = self._workbench.session
        idents = [ref.ident for ref in reversed(session.takes)]
        if [card.ident for card in self.cards] != idents:
            self._make(idents)
        timeline, takes = self._workbench.timeline, self._workbench.store.by_ident
        for card, ref in zip(self.cards, reversed(session.takes), strict=True):
            card.setChecked(ref.ident == session.current)
            card.show_take(ref, self._kind(ref, takes), self._detail(ref, takes, timeline))

    def _make(self, idents: list[str]) -> None:
        kept = {card.ident: card for card in self.cards}
        focused = next((card.ident for card in self.cards if card.hasFocus()), None)
        for ident in set(kept) - set(idents):
            card = kept.pop(ident)
            self._group.removeButton(card)
            self._list.removeWidget(card)
            card.hide()
            card.deleteLater()
        self.cards = []
        for place, ident in enumerate(idents):
            found = kept.get(ident)
            if found is None:
                ref = self._workbench.session.take(ident)
                assert ref is not None
                found = self._card(ref)
            self._list.removeWidget(found)
            self._list.insertWidget(place, found)
            self.cards.append(found)
        again = next((card for card in self.cards if card.ident == focused), None)
        if again is not None:
            again.setFocus()

    def _card(self, ref: TakeRef) -> TakeCard:
        card = TakeCard(ref, self._actions, WIDTH - 28)
        card.hear_requested.connect(self.hear_requested)
        card.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        card.customContextMenuRequested.connect(lambda at, c=card: c.context_menu(self).exec(c.mapToGlobal(at)))
        card.clicked.connect(lambda _=False, ident=ref.ident: self._choose(ident))
        self._group.addButton(card)
        return card

    def _kind(self, ref: TakeRef, takes: Mapping[str, Take]) -> str:
        """The kind of a take, and its player."""
        if ref.kind == SOUND:
            return tr("recorded sound")
        if ref.kind == DRAWN:
            return tr("drawn")
        if ref.kind == GENERATED:
            return tr("generated")
        played_on = self._workbench.session.input(ref.input) if ref.input else None
        if ref.heard is not None:
            return tr("heard in {name}", name=ref.heard.recording)
        take = takes[ref.material]
        if take.original is not None:
            return tr("MIDI file")
        kind = tr(ports.kind_of_input(take.ports[0].name))
        return f"{kind} · {played_on.title}" if played_on is not None and played_on.name else kind

    def _detail(self, ref: TakeRef, takes: Mapping[str, Take], timeline: Timeline) -> str:
        """Length, place, and what it follows."""
        if ref.kind == SOUND:
            return tr("plays along, makes no notes")
        length = material_of(ref, takes).length
        length = max(0.0, (length if ref.end is None else min(length, ref.end)) - (ref.begin or 0.0))
        bar, into = timeline.beats_to_bar(self._actions.span(ref.ident)[0])
        to_next = timeline.meter_at(bar).beats - into
        if ref.grid is not None and into > 0.01 and to_next < 0.51:
            # It begins with what may be played early; what was meant is the next bar line.
            bar, into = bar + 1, 0.0
        place = tr("bar {bar}", bar=bar) if into < 0.01 else tr("bar {bar} + {beats:.3g}", bar=bar, beats=into)
        follows = tr("follows beats") if ref.follows_beats else tr("follows the clock")
        group = alternative_edits.group_of(self._workbench.session, ref.ident)
        letter = [] if group is None else [alternative_edits.letter(group, ref.ident)]
        passes = [text_format.counted(len(ref.passes), "pass")] if ref.passes else []
        # What is cut off in a narrow window is the length.
        return " · ".join((*letter, place, follows, *passes, text_format.duration(length)))

    def menu(self, ident: str) -> QMenu:
        """Context menu of a take."""
        return next(card for card in self.cards if card.ident == ident).context_menu(self)

    def _ask_input(self) -> None:
        add_menu(self._services, self).exec(self.add.mapToGlobal(self.add.rect().bottomLeft()))

    def _choose(self, ident: str) -> None:
        bench = self._workbench
        bench.do(tr("choose take"), edits.with_current(bench.session, ident))
