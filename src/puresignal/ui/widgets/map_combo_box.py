"""Chooses a note map: the one in use, the player's own, a shipped one, or a file."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QFileDialog, QPushButton, QWidget

from puresignal.core.errors import PureSignalError
from puresignal.core.kit.note_map import NoteMap
from puresignal.io import note_map_file
from puresignal.translation import tr


class MapComboBox(QComboBox):
    """Offers note maps.

    chosen   the player chose a map
    failed   a file could not be used: the error text
    """

    chosen = Signal(object)
    failed = Signal(str)

    def __init__(self, check: Callable[[NoteMap, str], None] | None = None, parent: QWidget | None = None):
        """check: raises NoteMapError for a map that is unsuitable here."""
        super().__init__(parent)
        self._check = check
        self.now: NoteMap | None = None
        self.keep_button: QPushButton | None = None
        self._filled = False
        self.setMinimumWidth(190)
        self.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.activated.connect(self._activate)

    def show_map(self, note_map: NoteMap | None, anew: bool = False) -> None:
        """Show the map in use, first in the list if it is in no collection.

        anew  the collections may have changed
        """
        if self.keep_button is not None:
            self.keep_button.setEnabled(note_map is not None)
        if self._filled and note_map == self.now and not anew:
            return
        self.now, self._filled = note_map, True
        self.clear()
        own = list(note_map_file.own())
        shipped = [note_map_file.shipped(ident) for ident in note_map_file.shipped_ids()]
        if note_map is not None and note_map not in (*own, *shipped):
            names = {entry.name for entry in (*own, *shipped)}
            changed = note_map.name in names
            self.addItem(tr("{name} (changed)").format(name=note_map.name) if changed else note_map.name, note_map)
        for entry in own:
            self.addItem(entry.name, entry)
        if self.count():
            self.insertSeparator(self.count())
        for entry in shipped:
            self.addItem(entry.name, entry)
        self.insertSeparator(self.count())
        self.addItem(tr("From a file…"), None)
        found = [i for i in range(self.count()) if self.itemData(i) == note_map and note_map is not None]
        self.setCurrentIndex(found[0] if found else -1)

    def open_file(self, path: Path) -> None:
        """Choose a map from a file, or report why not."""
        try:
            note_map = note_map_file.read(path)
            if self._check is not None:
                self._check(note_map, path.name)
        except PureSignalError as error:
            self.show_map(self.now, anew=True)
            self.failed.emit(str(error))
        else:
            self.chosen.emit(note_map)

    def ask_file(self) -> None:
        """Ask for a file and choose the map in it."""
        name, _ = QFileDialog.getOpenFileName(self, tr("Open a note map"), "", tr("Note maps (*.json)"))
        if name:
            self.open_file(Path(name))
        else:
            self.show_map(self.now, anew=True)

    def _activate(self, index: int) -> None:
        note_map = self.itemData(index)
        if note_map is None:
            self.ask_file()
        elif note_map != self.now:
            self.chosen.emit(note_map)
