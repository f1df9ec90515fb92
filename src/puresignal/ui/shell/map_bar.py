"""The bar with the two note maps, kit and receiver, and the menus to save them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QFileDialog, QHBoxLayout, QInputDialog, QMenu, QPushButton, QWidget

from puresignal.core.errors import PureSignalError
from puresignal.core.kit.note_map import NoteMap, check_source, renamed
from puresignal.core.session import session as edits
from puresignal.core.session.destination import Destination
from puresignal.core.session.live_input import with_input
from puresignal.io import note_map_file
from puresignal.translation import tr
from puresignal.ui.state.workbench import Workbench
from puresignal.ui.widgets.map_combo_box import MapComboBox
from puresignal.ui.widgets.plain_text import PlainLabel


class MapBar(QWidget):
    """The two maps with a menu each to save and export."""

    def __init__(self, workbench: Workbench, parent: QWidget | None = None):
        super().__init__(parent)
        self._workbench = workbench
        self.setObjectName("bar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(self)
        row.setContentsMargins(20, 8, 20, 8)
        row.setSpacing(8)
        self.source = MapComboBox(check_source)
        self.source.setAccessibleName(tr("Source map"))
        self.source.setToolTip(tr("The notes of the kit: which note means which drum."))
        self.source.chosen.connect(self.set_source)
        self.target = MapComboBox()
        self.target.setAccessibleName(tr("Target map"))
        self.target.setToolTip(tr("The notes of the receiving instrument: which note plays which drum."))
        self.target.chosen.connect(self.set_target)
        self._input = -1
        self.menus: dict[str, QMenu] = {}
        for key, label, choice, setter in (
            ("source", tr("Source map"), self.source, self.set_source),
            ("target", tr("Target map"), self.target, self.set_target),
        ):
            text = PlainLabel(label)
            text.setBuddy(choice)
            row.addWidget(text)
            row.addWidget(choice)
            row.addWidget(self._menu_button(key, choice, setter))
            if key == "source":
                row.addSpacing(14)
            choice.failed.connect(lambda message: workbench.message_shown.emit(message, True))
        self.goal = QComboBox()
        self.goal.setAccessibleName(tr("Destination of the target map"))
        self.goal.setToolTip(tr("Whose note map this is: that of all destinations, or of one that has its own."))
        self.goal.activated.connect(lambda _: self.show_session())
        row.addWidget(self.goal)
        row.addStretch()

    def _show_goals(self) -> None:
        names = [one.name for one in self._workbench.session.destinations]
        if [self.goal.itemData(i) for i in range(1, self.goal.count())] != names or not self.goal.count():
            now = self.goal.currentData()
            self.goal.clear()
            self.goal.addItem(tr("for all destinations"), "")
            for name in names:
                self.goal.addItem(tr("for {name}", name=name), name)  # not shown
            self.goal.setCurrentIndex(max(0, self.goal.findData(now)))
        self.goal.setVisible(bool(names))

    def _destination(self) -> Destination | None:
        """The destination whose note map is shown, None for that of the session."""
        name = self.goal.currentData()
        return next((one for one in self._workbench.session.destinations if one.name == name), None)

    def _menu_button(self, key: str, choice: MapComboBox, setter: Callable[[NoteMap], None]) -> QPushButton:
        button = QPushButton(tr("Save…"))
        button.setAccessibleName(tr("Save or export this map: {name}").format(name=choice.accessibleName()))
        button.setToolTip(tr("Save this note map under a name, or export it to a file for others."))
        menu = QMenu(button)
        menu.addAction(tr("Save map as…")).triggered.connect(lambda: self._ask_name(choice, setter))
        menu.addAction(tr("Export to a file…")).triggered.connect(lambda: self._ask_file(choice))
        menu.addAction(tr("Import from a file…")).triggered.connect(choice.ask_file)
        button.setMenu(menu)
        self.menus[key] = menu
        choice.keep_button = button
        return button

    def show_session(self) -> None:
        """Show the maps in use."""
        session = self._workbench.session
        ref = session.take()
        live = 0 <= self._input < len(session.inputs)
        self.source.setEnabled(live or ref is not None)
        take_map = ref.source if ref is not None else None
        self.source.show_map(session.inputs[self._input].source if live else take_map)
        self._show_goals()
        to = self._destination()
        self.target.show_map(session.target if to is None or to.target is None else to.target)

    def look_at(self, live: int) -> None:
        """Show the kit of a live input by its number, or (-1) of the take."""
        self._input = live
        self.show_session()

    def set_source(self, note_map: NoteMap) -> None:
        bench = self._workbench
        if 0 <= self._input < len(bench.session.inputs):
            inputs = with_input(bench.session.inputs, self._input, source=note_map)
            bench.do(tr("choose source map"), edits.with_inputs(bench.session, inputs))
        elif bench.session.current is not None:
            edit = edits.with_source(bench.session, bench.session.current, note_map)
            bench.do(tr("choose source map"), edit)

    def set_target(self, note_map: NoteMap) -> None:
        bench = self._workbench
        to = self._destination()
        if to is not None:
            session = edits.with_destination(bench.session, replace(to, target=note_map))
        else:
            session = edits.with_target(bench.session, note_map)
        bench.do(tr("choose target map"), session)

    def keep(self, choice: MapComboBox, setter: Callable[[NoteMap], None], name: str) -> None:
        """Save the map in use under a name, among the player's own."""
        if choice.now is None:
            return
        note_map = renamed(choice.now, name)
        try:
            note_map_file.keep(note_map)
        except PureSignalError as error:
            self._workbench.message_shown.emit(str(error), True)
            return
        setter(note_map)
        choice.show_map(note_map, anew=True)
        self._workbench.message_shown.emit(
            tr("Saved: {name}. It is now in the lists of maps.").format(name=note_map.name), False
        )

    def write(self, choice: MapComboBox, path: Path) -> None:
        """Export the map in use to a file."""
        if choice.now is None:
            return
        try:
            note_map_file.write(path, choice.now)
        except PureSignalError as error:
            self._workbench.message_shown.emit(str(error), True)
        else:
            self._workbench.message_shown.emit(tr("Saved: {path}").format(path=path), False)

    def _ask_name(self, choice: MapComboBox, setter: Callable[[NoteMap], None]) -> None:
        if choice.now is None:
            return
        name, chosen = QInputDialog.getText(self, tr("Save map as"), tr("Name of the note map"), text=choice.now.name)
        if chosen and name.strip():
            self.keep(choice, setter, name)

    def _ask_file(self, choice: MapComboBox) -> None:
        if choice.now is None:
            return
        name, _ = QFileDialog.getSaveFileName(
            self, tr("Export note map"), f"{choice.now.name}.json", tr("Note maps (*.json)")
        )
        if name:
            self.write(choice, Path(name) if Path(name).suffix else Path(f"{name}.json"))
