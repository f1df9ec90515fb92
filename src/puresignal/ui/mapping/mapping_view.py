"""The Mapping view: what arrives, what it means, what leaves - shown, and corrected."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPoint, Qt, QTimer
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QInputDialog,
    QLineEdit,
    QMenu,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from puresignal.core.analysis.mapping_flow import Flows, flows, hat_picture, pedal_values
from puresignal.core.kit.articulations import STANDARD, canonical, drum_of, drum_title, sort_key, spoken
from puresignal.core.kit.map_recognition import recognise
from puresignal.core.kit.note_map import HatPedal, NoteMap, with_goal, with_hat, with_meaning
from puresignal.core.session import session as edits
from puresignal.core.session.live_input import with_input
from puresignal.io import note_map_file
from puresignal.translation import tr
from puresignal.ui.mapping.arrivals_table import ArrivalsTable
from puresignal.ui.mapping.flow_diagram import ARRIVING, LEAVING, MEANING, FlowDiagram
from puresignal.ui.mapping.hat_panel import HatPanel
from puresignal.ui.state.services import Services
from puresignal.ui.state.shown import Shown
from puresignal.ui.state.view import TAKE, View
from puresignal.ui.widgets import text_format
from puresignal.ui.widgets.plain_text import PlainLabel
from puresignal.ui.widgets.vertical_scroll_area import VerticalScrollArea

FOLLOW_MS = 40
"""Milliseconds from a hit until it is drawn in motion."""


class MappingView(View):
    """The flow diagram in the middle, the selected node and the hat at the right."""

    shows_maps = True

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(services, parent)
        live_session = services.live_session
        self._workbench, self._live_session = services.workbench, live_session
        self._shown: Shown | None = None
        self._of_take: Shown | None = None
        self._input = TAKE
        self._run_up_to = 0
        self.flows = Flows((), (), (), (), ())
        self.ribbons = FlowDiagram()
        self.ribbons.chosen.connect(self._show_chosen)
        self.ribbons.joined.connect(self._join)
        self.ribbons.menu_requested.connect(self._ask)
        self.ribbons.unmap_requested.connect(self._forget)
        self.ribbons.notes_requested.connect(self._follow)
        self.scroll_area = VerticalScrollArea(self.ribbons)
        self.table = ArrivalsTable()
        self.table.hits_requested.connect(self._show_row)
        self.table_facts, self.table_warnings = PlainLabel(), PlainLabel()
        self.table_facts.setObjectName("faint")
        for label in (self.table_facts, self.table_warnings):
            label.setWordWrap(True)
        self.table_warnings.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.page = QWidget()
        page = QVBoxLayout(self.page)
        page.setContentsMargins(16, 0, 16, 10)
        for widget in (self.table_facts, self.table, self.table_warnings):
            page.addWidget(widget, 1 if widget is self.table else 0)
        self.page.hide()
        self.as_table = QPushButton(tr("Table"))
        self.as_table.setCheckable(True)
        self.as_table.setAccessibleName(tr("Show as a table"))
        self.as_table.setToolTip(tr("The same as a table: arrives, articulation, leaves, count and velocities."))
        self.as_table.toggled.connect(self._turn_table)
        self.whole = QCheckBox(tr("show unplayed"))
        self.whole.setToolTip(tr("Also show pads of the kit and notes of the receiver that were not played."))
        self.whole.setAccessibleName(tr("Show unplayed pads and notes"))
        self.whole.toggled.connect(lambda _: self.show_take(self._shown))
        self.says = PlainLabel()
        self.says.setObjectName("faint")
        self.says.setWordWrap(True)
        self.hat = HatPanel()
        self.hat.changed.connect(self._set_hat)

        self.of = QComboBox()
        self.of.setAccessibleName(tr("Take or live input to show"))
        self.of.setToolTip(tr("Show the current take, or live input: each hit then runs along its ribbon."))
        self.of.activated.connect(lambda: self.look_at(self.of.currentData()))
        self.of.hide()
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(FOLLOW_MS)
        self._soon.timeout.connect(self._follow_live)
        live_session.messages_received.connect(self._arrived)
        live_session.started.connect(self._began)
        live_session.stopped.connect(self._ended)

        top = QHBoxLayout()
        top.setContentsMargins(16, 8, 16, 8)
        top.setSpacing(12)
        top.addWidget(self.of)
        top.addWidget(self.says, 1)
        self.which = QPushButton(tr("Which kit?"))
        self.which.setToolTip(tr("Ranks the note maps by how well they explain the hits."))
        self.which.setAccessibleName(tr("Find the source map from the hits"))
        self.which.clicked.connect(lambda: self.guesses().exec(self.which.mapToGlobal(self.which.rect().bottomLeft())))
        top.addWidget(self.as_table)
        top.addWidget(self.which)
        top.addWidget(self.whole)
        left = QVBoxLayout()
        left.setSpacing(0)
        left.addLayout(top)
        left.addWidget(self.scroll_area, 1)
        left.addWidget(self.page, 1)
        side = QVBoxLayout()
        side.setContentsMargins(12, 8, 14, 4)
        side.setSpacing(8)
        side.addWidget(self._make_chosen())
        side.addWidget(self._make_heard())
        side.addWidget(self.hat)
        side.addStretch()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        row.addLayout(left, 1)
        inner = QWidget()
        inner.setLayout(side)
        self.side = VerticalScrollArea(inner)
        row.addWidget(self.side)
        if live_session.listening:
            self._began()

    def _make_chosen(self) -> QFrame:
        panel = QFrame()
        panel.setObjectName("panel")
        column = QVBoxLayout(panel)
        column.setContentsMargins(14, 12, 14, 12)
        column.setSpacing(7)
        self.title = PlainLabel()
        self.title.setObjectName("figure")
        self.about = PlainLabel()
        self.about.setObjectName("faint")
        self.about.setWordWrap(True)
        self.means = QComboBox()
        self.means.setAccessibleName(tr("Articulation of the note"))
        self.means.setToolTip(tr("What the note means: changes the source map."))
        self.means.activated.connect(self._choose_meaning)
        self.goals = QLineEdit()
        self.goals.setAccessibleName(tr("Outgoing notes"))
        self.goals.setToolTip(tr("Outgoing notes, 0 to 127; several, separated by commas, are sent together."))
        self.goals.setPlaceholderText(tr("note, or notes"))
        self.goals.editingFinished.connect(self._set_goals)
        self.show_hits = QPushButton(tr("Show hits in Takes"))
        self.show_hits.setToolTip(tr("Selects these hits in Takes (T)."))
        self.show_hits.setAccessibleName(tr("Show hits in Takes"))
        self.show_hits.clicked.connect(lambda: self._follow(self.ribbons.selected[0] + 10, self.ribbons.selected[1]))
        self.forget = QPushButton(tr("Unmap"))
        self.forget.setAccessibleName(tr("Unmap"))
        self.forget.setToolTip(tr("Removes the note from its map (Delete)."))
        self.forget.clicked.connect(lambda: self._forget(*self.ribbons.selected))
        for widget in (self.title, self.about, self.means, self.goals, self.show_hits, self.forget):
            column.addWidget(widget)
        panel.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Maximum)
        return panel

    def _make_heard(self) -> QFrame:
        """The check list: which pads of the kit were heard, and which are missing."""
        panel = QFrame()
        panel.setObjectName("panel")
        column = QVBoxLayout(panel)
        column.setContentsMargins(14, 10, 14, 10)
        column.setSpacing(4)
        self.heard_title = PlainLabel()
        self.heard_title.setObjectName("figure")
        self.heard = PlainLabel()
        self.not_heard = PlainLabel()
        for label in (self.heard, self.not_heard):
            label.setWordWrap(True)
        self.heard.setObjectName("faint")
        column.addWidget(self.heard_title)
        column.addWidget(self.not_heard)
        column.addWidget(self.heard)
        panel.setToolTip(tr("Hit each pad once: pads not heard yet come first."))
        self.heard_panel = panel
        return panel

    def _turn_table(self, on: bool) -> None:
        """Show the table, or the ribbons."""
        self.page.setVisible(on)
        self.scroll_area.setVisible(not on)
        self._fill_table()

    def _fill_table(self) -> None:
        """Every note that arrives, with figures of the whole take and warnings about it."""
        shown = self._shown
        if not self.as_table.isChecked():
            return
        if shown is None:
            self.table.show_rows((), 1)
            self.table_facts.setText(tr("Nothing has arrived yet"))
            self.table_warnings.setText("")
            return
        facts = shown.facts
        kinds = ", ".join(text_format.counted(n, kind) for kind, n in facts.kinds)
        self.table_facts.setText(
            tr("{length} · {notes} on channel {channels}\n{messages}: {kinds}").format(
                length=text_format.duration(facts.seconds),
                notes=text_format.counted(facts.notes, "note"),
                channels=", ".join(map(str, facts.channels)) or "–",
                messages=text_format.counted(facts.messages, "message"),
                kinds=kinds,
            )
        )
        self.table_warnings.setText("\n".join(f"• {text}" for text in shown.warnings))
        self.table.show_rows(shown.arrivals, len(facts.channels))

    def _show_row(self, row: int) -> None:
        """Show the hits of a note in Takes."""
        shown, model = self._of_take, self.table.arrivals
        if shown is None or self._input != TAKE or not 0 <= row < model.rowCount():
            return
        here, played = model.row(row), shown.outcome.input_notes
        mine = (played.note == here.note) & (played.channel == here.channel)
        self._services.requests.hits_requested.emit(played.origin[mine])

    # Live input

    def first_focus(self) -> QWidget:
        return self.ribbons

    def set_compact(self, compact: bool) -> None:
        """Use a narrower side panel in a small window."""
        self.side.setFixedWidth(250 if compact else 286)
        self.table.set_compact(compact)

    def maps_shown(self) -> int:
        return self._input

    def prepare_screenshot(self) -> None:
        self.ribbons.select(0, 0)

    def look_at(self, live: int) -> None:
        """Show the take's mapping (TAKE), or that of a live input by its number."""
        self._input = live
        self.of.setCurrentIndex(max(0, self.of.findData(live)))
        self._services.requests.maps_changed.emit()
        self._run_up_to = 0
        self.show_take(self._of_take)

    def _began(self) -> None:
        self.of.clear()
        self.of.addItem(tr("Take"), TAKE)
        for number, one in enumerate(self._live_session.inputs):
            if one.port:
                self.of.addItem(tr("Live: {port}").format(port=one.port), number)
        self.of.show()
        self.look_at(next((n for n, one in enumerate(self._live_session.inputs) if one.port), TAKE))

    def _ended(self) -> None:
        self.of.hide()
        self.look_at(TAKE)

    def _arrived(self) -> None:
        if self._input != TAKE and self.isVisible() and not self._soon.isActive():
            self._soon.start()

    def _follow_live(self) -> None:
        if self._input == TAKE or not self.isVisible():
            return
        self.show_take(self._of_take)
        if self._shown is None:
            return
        played, context = self._shown.outcome.input_notes, self._shown.context
        arriving = {(a.channel, a.note): i for i, a in enumerate(self.flows.arriving)}
        meaning = {m.name: i for i, m in enumerate(self.flows.meanings)}
        first = max(self._run_up_to, len(played) - 8)
        for row in range(first, len(played)):
            place = arriving.get((int(played.channel[row]), int(played.note[row])))
            code = int(played.articulation[row])
            if place is not None:
                self.ribbons.run_hit(place, meaning.get(context.vocabulary[code], -1) if code >= 0 else -1)
        self._run_up_to = len(played)

    # Showing

    def show_take(self, shown: Shown | None) -> None:
        """Show the mapping of the current take or of a live input; the selection is kept where it still exists."""
        self._of_take = shown
        if self._input != TAKE:
            shown = self._live_session.shown(self._input)
        before = self._key(*self.ribbons.selected)
        self._shown = shown
        self._fill_table()
        self.flows = flows(shown.outcome, shown.context, self.whole.isChecked()) if shown else Flows((), (), (), (), ())
        self.ribbons.show_flows(self.flows)
        unmapped = [a for a in self.flows.arriving if a.unmapped]
        nowhere = [m for m in self.flows.meanings if m.unmapped and m.hits]
        hits = sum(a.hits for a in unmapped) + sum(m.hits for m in nowhere)
        if shown is None:
            self.says.setText(tr("No take yet."))
        elif hits:
            self.says.setText(
                tr("{hits} on {ways} are unmapped. Drag each onto what it is, or press Enter.").format(
                    hits=text_format.counted(hits, "hit"),
                    ways=text_format.counted(len(unmapped) + len(nowhere), "note"),
                )
            )
        else:
            self.says.setText(tr("Every hit is mapped."))
        place = next(
            (n.place for n in self.ribbons.nodes if before is not None and self._key(n.column, n.place) == before), -1
        )
        self.ribbons.selected = (before[0], place) if before is not None and place >= 0 else (-1, -1)
        self._show_chosen(*self.ribbons.selected)
        self.which.setEnabled(shown is not None)
        source = shown.context.source if shown else None
        picture = None
        if shown is not None and source is not None and source.hat is not None:
            events = shown.take.events
            values = pedal_values(shown.context, events.status, events.data1, events.data2)
            picture = hat_picture(shown.outcome, shown.context, values)
        self.hat.show_hat(source.hat if source else None, picture)
        self._show_heard()

    def _show_heard(self) -> None:
        pads = self._source().pads
        names = sorted({canonical(p.articulation) for p in pads}, key=sort_key)
        hits = {m.name: m.hits for m in self.flows.meanings}
        heard = [name for name in names if hits.get(name)]
        missing = [name for name in names if not hits.get(name)]
        self.heard_panel.setVisible(bool(names))
        self.heard_title.setText(tr("{n} of {all} pads heard").format(n=len(heard), all=len(names)))
        self.not_heard.setVisible(bool(missing))
        self.not_heard.setText(tr("Missing: {names}").format(names=_by_drum(missing)))
        self.heard.setVisible(bool(heard))
        self.heard.setText(tr("Heard: {names}").format(names=_by_drum(heard)))

    def _key(self, column: int, place: int) -> tuple[int, object] | None:
        """The identity of a node, independent of its place."""
        if self.ribbons.node(column, place) is None:
            return None
        if column == ARRIVING:
            return column, (self.flows.arriving[place].channel, self.flows.arriving[place].note)
        if column == MEANING:
            return column, self.flows.meanings[place].name
        return column, (self.flows.leaving[place].channel, self.flows.leaving[place].note)

    def _show_chosen(self, column: int, place: int) -> None:
        node = self.ribbons.node(column, place)
        self.means.setVisible(node is not None and column == ARRIVING)
        self.goals.setVisible(node is not None and column == MEANING)
        self.show_hits.setVisible(node is not None and node.hits > 0)
        self.forget.setVisible(node is not None and column != LEAVING and not node.unmapped)
        if node is None:
            self.title.setText(tr("Nothing selected"))
            self.about.setText(tr("Click a name to see and change its mapping, or a ribbon to see its hits."))
            return
        self.title.setText(node.label if column != LEAVING or not node.detail else f"{node.label}, {node.detail}")
        hits = text_format.counted(node.hits, "hit")
        if column == ARRIVING:
            here = self.flows.arriving[place]
            on = tr("on channel {channel}").format(channel=here.channel) if here.channel else tr("on any channel")
            self.about.setText(f"{hits} {on}")
            self._fill_means(place)
        elif column == MEANING:
            meaning = self.flows.meanings[place]
            text = hits
            if meaning.stand_in:
                text = tr("{hits}. The receiver lacks this articulation: {name} stands in.").format(
                    hits=hits, name=spoken(meaning.stand_in)
                )
            elif meaning.unmapped:
                text = tr("{hits}. The receiver has no such drum.").format(hits=hits)
            self.about.setText(text)
            pad = self._target().pad_for(meaning.name)
            self.goals.setText(", ".join(map(str, (pad.note, *pad.also))) if pad is not None else "")
        else:
            self.about.setText(hits)

    def _fill_means(self, place: int) -> None:
        self.means.clear()
        self.means.addItem(tr("nothing (unmapped)"), None)
        for name in self._articulations():
            self.means.addItem(spoken(name), name)
        now = [self.flows.meanings[r.last].name for r in self.flows.named if r.first == place]
        source = self._source()
        here = self.flows.arriving[place]
        pads = [p for p in source.pads if p.note == here.note and source.channel_of(p) in (here.channel, None)]
        said = canonical(pads[0].articulation) if pads else now[0] if now else None
        self.means.setCurrentIndex(max(0, self.means.findData(said)))

    def _articulations(self) -> list[str]:
        names = {*STANDARD, *(canonical(p.articulation) for p in (*self._source().pads, *self._target().pads))}
        return sorted(names, key=sort_key)

    def _source(self) -> NoteMap:
        source = self._shown.context.source if self._shown is not None else None
        return source or NoteMap(tr("My kit"), ())

    def _target(self) -> NoteMap:
        return self._workbench.session.target or NoteMap(tr("My receiver"), ())

    # Editing

    def _change_source(self, note_map: NoteMap, name: str) -> None:
        bench = self._workbench
        if self._input != TAKE:
            bench.do(
                name, edits.with_inputs(bench.session, with_input(bench.session.inputs, self._input, source=note_map))
            )
        elif bench.session.current is not None:
            bench.do(name, edits.with_source(bench.session, bench.session.current, note_map))

    def _change_target(self, note_map: NoteMap, name: str) -> None:
        bench = self._workbench
        bench.do(name, edits.with_target(bench.session, note_map))

    def _mean(self, place: int, articulation: str | None) -> None:
        here = self.flows.arriving[place]
        channel = here.channel or self._source().channel or 10
        changed = with_meaning(self._source(), channel, here.note, articulation)
        what = spoken(articulation) if articulation else tr("nothing")
        self._change_source(changed, tr("map note {note} to {what}").format(note=here.note, what=what))

    def _send(self, place: int, notes: tuple[int, ...]) -> None:
        name = self.flows.meanings[place].name
        listed = next((p.articulation for p in self._target().pads if canonical(p.articulation) == name), name)
        what = ", ".join(map(str, notes)) or tr("nothing")
        changed = with_goal(self._target(), listed, notes)
        self._change_target(changed, tr("send {name} to {what}").format(name=spoken(name), what=what))

    def _choose_meaning(self) -> None:
        column, place = self.ribbons.selected
        if column == ARRIVING:
            self._mean(place, self.means.currentData())

    def _set_goals(self) -> None:
        column, place = self.ribbons.selected
        if column != MEANING or not self.goals.isModified():
            return
        self.goals.setModified(False)
        notes = []
        for part in self.goals.text().replace(",", " ").split():
            if not part.isdigit() or int(part) > 127:
                self._workbench.message_shown.emit(
                    tr("“{part}” is not a note number. Write numbers from 0 to 127.").format(part=part), True
                )
                self._show_chosen(column, place)
                return
            notes.append(int(part))
        self._send(place, tuple(dict.fromkeys(notes)))

    def _join(self, column: int, place: int, _to: int, to_place: int) -> None:
        if column == ARRIVING:
            self._mean(place, self.flows.meanings[to_place].name)
        else:
            self._send(place, (self.flows.leaving[to_place].note,))

    def _forget(self, column: int, place: int) -> None:
        if column == ARRIVING:
            self._mean(place, None)
        elif column == MEANING:
            self._send(place, ())

    def _set_hat(self, hat: HatPedal) -> None:
        self._change_source(with_hat(self._source(), hat), tr("set hat pedal"))

    def _ask(self, column: int, place: int, at: QPoint) -> None:
        if column == LEAVING:
            self._follow(column + 10, place)
            return
        self.menu_for(column, place).exec(at)

    def menu_for(self, column: int, place: int) -> QMenu:
        """Context menu of a node."""
        menu = QMenu(self)
        if column == ARRIVING:
            drums: dict[str, QMenu] = {}
            for name in self._articulations():
                drum = drum_of(name)
                if drum not in drums:
                    drums[drum] = menu.addMenu(drum_title(drum))
                action = drums[drum].addAction(spoken(name))
                action.triggered.connect(lambda _=False, n=name: self._mean(place, n))
        else:
            for pad in sorted(self._target().pads, key=lambda p: sort_key(p.articulation)):
                action = menu.addAction(tr("note {note} – {name}").format(note=pad.note, name=spoken(pad.articulation)))
                action.triggered.connect(lambda _=False, n=pad.note: self._send(place, (n,)))
            menu.addAction(tr("Another note…")).triggered.connect(lambda: self._ask_note(place))
        menu.addSeparator()
        menu.addAction(tr("Show hits in Takes")).triggered.connect(lambda: self._follow(column + 10, place))
        menu.addAction(tr("Unmap")).triggered.connect(lambda: self._forget(column, place))
        return menu

    def guesses(self) -> QMenu:
        """The note maps, best first, each with how much of the take it explains."""
        menu = QMenu(self)
        if self._shown is None:
            return menu
        maps = dict.fromkeys(
            (*note_map_file.own(), *(note_map_file.shipped(ident) for ident in note_map_file.shipped_ids()))
        )
        for guess in recognise(self._shown.take, maps):
            text = tr("{name}: explains {n} of {hits}").format(
                name=guess.note_map.name,
                n=text_format.count(guess.explained),
                hits=text_format.counted(guess.hits, "hit"),
            )
            if guess.unknown:
                text += tr(", not {notes}").format(notes=", ".join(str(note) for _, note in guess.unknown[:4]))
                text += " …" if len(guess.unknown) > 4 else ""
            action = menu.addAction(text)
            action.triggered.connect(lambda _=False, m=guess.note_map: self._change_source(m, tr("choose source map")))
        return menu

    def _ask_note(self, place: int) -> None:
        note, chosen = QInputDialog.getInt(self, tr("Another note"), tr("Note, 0 to 127"), 38, 0, 127)
        if chosen:
            self._send(place, (note,))

    # Links to Takes

    def _follow(self, where: int, place: int) -> None:
        origins = self.hits_of(where, place)
        if len(origins) and self._input == TAKE:
            self._services.requests.hits_requested.emit(origins)

    def hits_of(self, where: int, place: int) -> np.ndarray:
        """Origins of the hits of a ribbon (where: 0 or 1) or of a node (where: column + 10)."""
        if self._shown is None:
            return np.zeros(0, np.int64)
        played, context = self._shown.outcome.input_notes, self._shown.context
        if where == 0:
            ribbon = self.flows.named[place]
            here, name = self.flows.arriving[ribbon.first], self.flows.meanings[ribbon.last].name
            mine = (played.note == here.note) & (played.articulation == context.code[name])
        elif where == 1:
            ribbon = self.flows.sent[place]
            mine = played.articulation == context.code[self.flows.meanings[ribbon.first].name]
        elif where == ARRIVING + 10:
            here = self.flows.arriving[place]
            mine = (played.note == here.note) & (played.channel == here.channel)
        elif where == MEANING + 10:
            mine = played.articulation == context.code[self.flows.meanings[place].name]
        else:
            ways = [self.flows.meanings[r.first].name for r in self.flows.sent if r.last == place]
            mine = np.isin(played.articulation, [context.code[name] for name in ways])
        return np.asarray(played.origin[mine])


def _by_drum(names: list[str]) -> str:
    """Articulations in words, grouped by drum: "snare head, rim; kick"."""
    drums: dict[str, list[str]] = {}
    for name in names:
        drum, _, way = spoken(name).partition(", ")
        drums.setdefault(drum, []).append(way)
    return "; ".join(f"{drum} {', '.join(ways)}".strip() for drum, ways in drums.items())
