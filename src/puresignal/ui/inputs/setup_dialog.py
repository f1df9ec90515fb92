"""The one-minute set-up: one pad after the other is asked for, then proposals say what they would change."""

from __future__ import annotations

from PySide6.QtCore import QLineF, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QCloseEvent, QKeySequence, QPainter, QPaintEvent, QPen, QShortcut
from PySide6.QtWidgets import (
    QCheckBox,
    QDialog,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QSizePolicy,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from puresignal.core.analysis import setup_proposals
from puresignal.core.analysis.setup_proposals import Effect, Proposal
from puresignal.core.kit import guided_setup
from puresignal.core.kit.articulations import drum_of, drum_title, family_of, spoken
from puresignal.core.kit.guided_setup import GuidedSetup
from puresignal.translation import mark, tr
from puresignal.ui.state.services import Services
from puresignal.ui.widgets import text_format, theme
from puresignal.ui.widgets.plain_text import PlainLabel
from puresignal.ui.widgets.vertical_scroll_area import VerticalScrollArea

HOW = {
    "hat.open": mark("Foot off the pedal. Hit the hat softly, then harder, then as hard as you play."),
    "hat.edge.open": mark("Foot off the pedal. Hit the edge softly, then harder, then hard."),
    "hat.closed": mark("Press the pedal down and keep it there. Hit the hat softly, then harder, then hard."),
    "hat.edge.closed": mark("Pedal down. Hit the edge of the hat softly, then harder, then hard."),
    "hat.half": mark("Pedal half-way. Hit the hat softly, then harder, then hard."),
    "hat.pedal": mark("No sticks: close the hat with your foot four times."),
    "hat.splash": mark("No sticks: close the hat and let it spring open at once, four times."),
    guided_setup.REST: mark("Is there any pad left? Hit each of them a few times, then press Next."),
}
USUALLY = mark("Hit it softly, then harder, then as hard as you play. Five or six times will do.")
BAR, GAP = 16.0, 7.0
ROW = 18
"""Pixels."""


class HitBars(QWidget):
    """The hits of a step, one bar each, as high as they were hard; those of shaken pads are pale."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.setMinimumHeight(170)
        # The keys are the dialog's, so that nothing is pressed by a Space.
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self._setup = GuidedSetup()
        self.show_hits(self._setup)

    def sizeHint(self) -> QSize:
        return QSize(420, 190)

    def show_hits(self, setup: GuidedSetup) -> None:
        self._setup = setup
        told = ", ".join(str(hit.velocity) for hit in setup.hits)
        self.setAccessibleName(tr("Hits: {velocities}", velocities=told or tr("none yet")))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, current = QPainter(self), theme.current()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        painter.fillRect(box, current.colour("sheet"))
        painter.setPen(QPen(current.colour("edge"), 1))
        painter.drawRect(box)
        inside = box.adjusted(64, 12, -12, -14)

        def y(velocity: float) -> float:
            return float(inside.bottom() - inside.height() * velocity / 127)

        painter.setFont(theme.font(9))
        for velocity, words in ((guided_setup.HARD, tr("hard")), (45, tr("soft"))):
            painter.setPen(QPen(current.colour("line"), 1))
            painter.drawLine(QLineF(inside.left(), y(velocity), inside.right(), y(velocity)))
            painter.setPen(current.colour("faint"))
            where = QRectF(8, y(velocity) - 9, 50, 18)
            painter.drawText(where, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, words)
        found = guided_setup.answer(self._setup)
        many = max(1, int((inside.width()) // (BAR + GAP)))
        colour = current.family(family_of(self._setup.asked)) if self._setup.asked else current.colour("ink")
        for i, hit in enumerate(self._setup.hits[-many:]):
            mine = found is None or (hit.channel, hit.note) == (found.channel, found.note)
            bar = QRectF(inside.left() + i * (BAR + GAP), y(hit.velocity), BAR, inside.bottom() - y(hit.velocity))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour if mine else current.colour("line"))
            painter.drawRect(bar)
            painter.setPen(current.colour("ink") if mine else current.colour("faint"))
            painter.setFont(theme.font(8))
            above = QPointF(
                bar.center().x() - painter.fontMetrics().horizontalAdvance(str(hit.velocity)) / 2, bar.top() - 3
            )
            painter.drawText(above, str(hit.velocity))


class SetupDialog(QDialog):
    """Asks, then proposes. It stays above the window, and nothing is set before the last button."""

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle(tr("Set up the kit"))
        self.setMinimumSize(760, 500)
        self._services, self._kit = services, services.kit_setup
        self.pages = QStackedWidget()
        self.pages.addWidget(self._asking_page())
        self.pages.addWidget(self._proposals_page())
        column = QVBoxLayout(self)
        column.setContentsMargins(18, 16, 18, 16)
        column.addWidget(self.pages)
        self.boxes: list[tuple[QCheckBox, Proposal]] = []
        self._kit.changed.connect(self._show)
        self._kit.proposed.connect(self._show_proposals)

    def _asking_page(self) -> QWidget:
        page = QWidget()
        self.steps = QListWidget()
        self.steps.setAccessibleName(tr("Pads of the kit"))
        self.steps.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.steps.setFixedWidth(232)
        self.asked = PlainLabel()
        self.asked.setObjectName("title")
        self.how = PlainLabel()
        self.how.setWordWrap(True)
        self.bars = HitBars()
        self.found = PlainLabel()
        self.found.setObjectName("faint")
        self.found.setWordWrap(True)
        self.back = self._button(tr("Back"), tr("Ask for the pad before once more."), self._kit.back)
        self.none = self._button(tr("I have none"), tr("This kit has no such pad (N)."), self._kit.skip)
        self.next = self._button(tr("Next"), tr("Go on with what was heard (Enter)."), self._kit.go_on)
        self.enough = self._button(tr("That is all"), tr("Ask no more, and see what follows."), self._kit.finish)
        self.next.setDefault(True)
        none = QShortcut(QKeySequence("N"), page)
        none.activated.connect(self._kit.skip)
        buttons = QHBoxLayout()
        buttons.setSpacing(8)
        buttons.addWidget(self.back)
        buttons.addWidget(self.enough)
        buttons.addStretch()
        buttons.addWidget(self.none)
        buttons.addWidget(self.next)
        right = QVBoxLayout()
        right.setSpacing(10)
        right.addWidget(self.asked)
        right.addWidget(self.how)
        right.addWidget(self.bars, 1)
        right.addWidget(self.found)
        right.addLayout(buttons)
        row = QHBoxLayout(page)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(18)
        row.addWidget(self.steps)
        row.addLayout(right, 1)
        return page

    def _proposals_page(self) -> QWidget:
        page = QWidget()
        self.says = PlainLabel()
        self.says.setObjectName("title")
        self.about = PlainLabel(tr("Nothing is set yet. Each line says what it would change in what you just played."))
        self.about.setObjectName("faint")
        self.about.setWordWrap(True)
        inner = QWidget()
        self._list = QVBoxLayout(inner)
        self._list.setContentsMargins(0, 0, 0, 0)
        self._list.setSpacing(12)
        self._list.addStretch()
        self.use = self._button(tr("Use what is ticked"), tr("One step, which Undo takes back."), self._use)
        self.again = self._button(tr("Ask again"), tr("Begin with the first pad."), self._again)
        buttons = QHBoxLayout()
        buttons.addWidget(self.again)
        buttons.addStretch()
        buttons.addWidget(self.use)
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(10)
        column.addWidget(self.says)
        column.addWidget(self.about)
        column.addWidget(VerticalScrollArea(inner), 1)
        column.addLayout(buttons)
        return page

    def _button(self, label: str, tip: str, act: object) -> QPushButton:
        button = QPushButton(label)
        button.setToolTip(tip)
        button.setAutoDefault(False)
        button.clicked.connect(act)
        return button

    # Both pages

    def ask(self, number: int) -> None:
        """Ask a live input."""
        self._number = number
        if not self._services.live_session.start_or_tell():
            return
        self._kit.begin(number)
        self.again.show()
        self.show()
        self.bars.setFocus()

    def ask_take(self) -> bool:
        """Propose what the chosen take suggests. False: there is none."""
        if not self._kit.from_take():
            return False
        self.again.hide()
        self.show()
        return True

    def _again(self) -> None:
        self.ask(self._number)

    def closeEvent(self, event: QCloseEvent) -> None:
        self._kit.end()
        super().closeEvent(event)

    def reject(self) -> None:
        self._kit.end()
        super().reject()

    def _show(self) -> None:
        setup = self._kit.setup
        if self._kit.is_working:
            self.pages.setCurrentIndex(1)
            self.says.setText(tr("Working it out…"))
            self._clear()
            self.use.setEnabled(False)
            return
        if setup is None or not setup.asked:
            return
        self.pages.setCurrentIndex(0)
        rest = setup.asked == guided_setup.REST
        self.asked.setText(tr("Anything else?") if rest else _title(setup.asked))
        self.how.setText(tr(HOW.get(setup.asked, USUALLY)))
        self.bars.show_hits(setup)
        self.found.setText(_found(setup))
        self.back.setEnabled(setup.step > 0)
        self.next.setEnabled(rest or bool(setup.hits))
        self.none.setVisible(not rest)
        self._show_steps(setup)

    def _show_steps(self, setup: GuidedSetup) -> None:
        learnt = {one.articulation: one for one in setup.learnt}
        self.steps.clear()
        for i, name in enumerate(guided_setup.STEPS):
            if name == guided_setup.REST:
                words = tr("Anything else")
            elif name in learnt:
                words = tr("{pad}  ✓ note {note}", pad=_title(name), note=learnt[name].note)
            elif name in setup.skipped:
                words = tr("{pad}  – none", pad=_title(name))
            elif i < setup.step:
                continue
            else:
                words = _title(name)
            item = QListWidgetItem(words)
            item.setSizeHint(QSize(0, ROW))
            self.steps.addItem(item)
            if i == setup.step:
                font = item.font()
                font.setBold(True)
                item.setFont(font)
                self.steps.setCurrentItem(item)
        self.steps.scrollToItem(self.steps.currentItem())

    def _clear(self) -> None:
        self.boxes = []
        while self._list.count() > 1:
            item = self._list.takeAt(0)
            widget = None if item is None else item.widget()
            if widget is not None:
                widget.deleteLater()

    def _show_proposals(self) -> None:
        self._clear()
        found = self._kit.proposals
        self.pages.setCurrentIndex(1)
        self.says.setText(text_format.counted(len(found), "proposal") if found else tr("Nothing to set"))
        self.about.setVisible(bool(found))
        for place, one in enumerate(found):
            box = QCheckBox(_words(one))
            box.setChecked(True)
            box.toggled.connect(lambda _: self.use.setEnabled(any(b.isChecked() for b, _ in self.boxes)))
            effect = PlainLabel(_effect(one.effect))
            effect.setObjectName("faint")
            effect.setIndent(26)
            effect.setWordWrap(True)
            part = QWidget()
            column = QVBoxLayout(part)
            column.setContentsMargins(0, 0, 0, 0)
            column.setSpacing(2)
            column.addWidget(box)
            column.addWidget(effect)
            self._list.insertWidget(place, part)
            self.boxes.append((box, one))
        self.use.setEnabled(bool(found))
        self.use.setFocus()

    def _use(self) -> None:
        self._kit.use([one for box, one in self.boxes if box.isChecked()])
        self._services.notices.tell(tr("The kit is set up. Undo takes it back."), False)
        self.accept()
        self._kit.end()


def _title(name: str) -> str:
    words = spoken(name)
    return words[:1].upper() + words[1:]


def _found(setup: GuidedSetup) -> str:
    """The hits that the step heard so far, in words."""
    if not setup.hits:
        return tr("Nothing heard yet.")
    if setup.asked == guided_setup.REST:
        taken = {(one.channel, one.note) for one in setup.learnt}
        new = sorted(
            note for (channel, note), _ in guided_setup.own_hits(setup).items() if (channel, note) not in taken
        )
        return tr("New notes: {notes}", notes=", ".join(map(str, new))) if new else tr("These pads are known already.")
    found = guided_setup.answer(setup)
    if found is None:
        same = guided_setup.same_pad(setup)
        if same:
            return tr("This pad sends the note of {pad}. Next goes on without it.", pad=spoken(same))
        return tr("Several pads answer at once. Hit only this one, a few times more.")
    velocities = found.velocities
    said = tr("Note {note} on channel {channel}: {hits}, {low} to {high}.").format(
        note=found.note, channel=found.channel, hits=text_format.counted(len(velocities), "hit"),
        low=min(velocities), high=max(velocities),
    )  # fmt: skip
    if guided_setup.is_enough(setup):
        return tr("{said} Enough: wait a moment, or press Enter.", said=said)
    if len(velocities) < guided_setup.ENOUGH:
        return said
    if max(velocities) < guided_setup.HARD:
        return tr("{said} Now harder. If it is as hard as you play, press Next.", said=said)
    return tr("{said} Now softer.", said=said)


def _words(one: Proposal) -> str:
    """A proposal in words."""
    source = one.source
    if one.kind == setup_proposals.MAP and source is not None:
        return tr("Note map “{name}” with {pads}", name=source.name, pads=text_format.counted(one.pads, "pad"))
    if one.kind == setup_proposals.HAT and source is not None and source.hat is not None:
        return tr("Hat pedal: controller {c}, closed at {closed}, open at {open}").format(
            c=source.hat.controller, closed=source.hat.closed_at, open=source.hat.open_at
        )
    if one.kind == setup_proposals.STANDS:
        stands = "; ".join(", ".join(drum_title(drum) for drum in drums) for drums in one.stands)
        return tr("Pads that shake each other: {stands}", stands=stands)
    if one.kind == setup_proposals.THRESHOLD:
        return tr("{drum}: nothing up to velocity {n}", drum=drum_title(one.drum), n=round(one.threshold))
    points = " · ".join(f"{round(x)} → {round(y)}" for x, y in one.curve[1:-1])
    title = drum_title(drum_of(one.drum)) if "." not in one.drum else _title(one.drum)
    return tr("{pad}: velocities {points}", pad=title, points=points)


def _effect(effect: Effect) -> str:
    """The changes of a proposal, in words."""
    parts = []
    if effect.mapped:
        parts.append(tr("{hits} get another name", hits=text_format.counted(effect.mapped, "hit")))
    if effect.removed:
        parts.append(tr("{hits} less", hits=text_format.counted(effect.removed, "hit")))
    if effect.kept:
        parts.append(tr("{hits} more", hits=text_format.counted(effect.kept, "hit")))
    if effect.changed:
        parts.append(
            tr("{hits} change by up to {most}", hits=text_format.counted(effect.changed, "velocity"), most=effect.most)
        )
    said = ", ".join(parts) if parts else tr("no note of these changes")
    return tr("Of {hits}: {said}.", hits=text_format.counted(effect.hits, "hit"), said=said)
