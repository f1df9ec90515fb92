"""Offline help: the list of shortcuts, what the program is, and a report."""

from __future__ import annotations

import subprocess
import sys

from PySide6 import __version__ as binding_version
from PySide6.QtCore import Qt, qVersion
from PySide6.QtGui import QGuiApplication, QKeySequence
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QKeySequenceEdit,
    QLineEdit,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from puresignal import LICENCE, __version__
from puresignal.io import log_file
from puresignal.translation import mark, tr
from puresignal.ui.shell.shortcuts import Shortcuts
from puresignal.ui.widgets.plain_text import PlainLabel

_ELSEWHERE = (
    ("Takes", mark("Left, Right, Page up, Page down, Home, End"), mark("Move through the take")),
    ("Takes", mark("Up, Down"), mark("Move through the rows")),
    ("Takes", "+, \N{MINUS SIGN}, 0", mark("Zoom in, zoom out, whole take")),
    ("Takes", "Shift+Z", mark("Take the edits of the selected notes back")),
    ("Takes", mark("Ctrl and wheel"), mark("Zoom about the pointer")),
    ("Takes", mark("Shift and wheel"), mark("Move through the take")),
    ("Takes", mark("Click, sweep, click a name"), mark("Select notes; with Shift or Ctrl add to the selection")),
    ("Takes", "Ctrl+A, Esc", mark("Select all, select none")),
    ("Takes", mark("K or Insert"), mark("Keep the selected notes")),
    ("Takes", mark("X or Delete"), mark("Remove the selected notes")),
    ("Takes", "U", mark("Let the stages decide again")),
    ("Takes", "D, Shift+D", mark("Next doubtful note, previous one")),
    ("Takes", "E", mark("Play the selected notes in context")),
    ("Takes", "[ ]", mark("Beats of the take: half the speed, double the speed")),
    ("Takes", ", .", mark("Beats of the take: bars begin a beat earlier, later")),
    ("Takes", "T", mark("Beats of the take: tap along while it plays")),
    ("Takes", mark("Drag on the ruler"), mark("Select a time range")),
    ("Mapping", mark("Arrow keys"), mark("Move from name to name")),
    ("Mapping", "Enter", mark("List the destinations of a name")),
    ("Mapping", "Delete", mark("Unmap a name")),
    ("Mapping", "T", mark("Show the hits of a name in Takes")),
    ("Outputs", "F2", mark("Rename a track")),
    ("Outputs", "Space", mark("Include a track, or leave it out")),
    ("Outputs", mark("Alt+Up, Alt+Down"), mark("Move the selected tracks")),
)


class ShortcutsDialog(QDialog):
    """All shortcuts, of the menus and of the views; those of the menus can be changed."""

    def __init__(self, shortcuts: Shortcuts, parent: QWidget | None = None):
        super().__init__(parent)
        self._shortcuts = shortcuts
        self.setWindowTitle(tr("Shortcuts"))
        self.resize(680, 640)
        self.search = QLineEdit()
        self.search.setPlaceholderText(tr("Search"))
        self.search.setClearButtonEnabled(True)
        self.search.setAccessibleName(tr("Search the shortcuts"))
        self.search.textChanged.connect(self._filter)
        self.table = QTableWidget(0, 3)
        self.table.setAccessibleName(tr("Shortcuts"))
        self.table.setHorizontalHeaderLabels([tr("where"), tr("keys"), tr("action")])
        self.table.verticalHeader().hide()
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QTableWidget.SelectionMode.SingleSelection)
        self.table.setShowGrid(False)
        self.table.horizontalHeader().setStretchLastSection(True)
        self.table.itemSelectionChanged.connect(self._choose)
        self.keys = QKeySequenceEdit()
        self.keys.setMaximumSequenceLength(1)
        self.keys.setAccessibleName(tr("Keys of the selected action"))
        self.keys.editingFinished.connect(self._change)
        self.none = QPushButton(tr("No keys"))
        self.none.setToolTip(tr("The selected action gets no keys."))
        self.none.clicked.connect(lambda: self._give(""))
        self.usual = QPushButton(tr("Reset"))
        self.usual.setToolTip(tr("Gives the selected action its usual keys."))
        self.usual.clicked.connect(lambda: self._give(self._shortcuts.usual(self._label())))
        self.all_usual = QPushButton(tr("Reset all"))
        self.all_usual.setToolTip(tr("Gives every action its usual keys."))
        self.all_usual.clicked.connect(self._reset)
        self.says = PlainLabel(tr("Choose an action, then press its new keys in the field below."))
        self.says.setObjectName("faint")
        self.says.setWordWrap(True)
        below = QHBoxLayout()
        below.addWidget(self.keys, 1)
        for button in (self.none, self.usual, self.all_usual):
            below.addWidget(button)
        column = QVBoxLayout(self)
        for widget in (self.search, self.table, self.says):
            column.addWidget(widget)
        column.addLayout(below)
        self._fill()
        self._choose()

    def _fill(self) -> None:
        """Show every action with its keys."""
        native = QKeySequence.SequenceFormat.NativeText
        rows = [
            (tr("everywhere"), action.shortcut().toString(native), tr(label))
            for label, action in self._shortcuts.actions.items()
        ]
        self._labels = list(self._shortcuts.actions)
        rows += [(tr(view), tr(keys), tr(what)) for view, keys, what in _ELSEWHERE]
        self.table.setRowCount(len(rows))
        for i, row in enumerate(rows):
            for j, text in enumerate(row):
                item = QTableWidgetItem(text)
                item.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable)
                self.table.setItem(i, j, item)
        self.table.resizeColumnsToContents()
        self._filter(self.search.text())

    def _filter(self, text: str) -> None:
        """Show only the rows that contain every word."""
        words = text.lower().split()
        for row in range(self.table.rowCount()):
            said = " ".join(item.text() for c in range(3) if (item := self.table.item(row, c)) is not None).lower()
            self.table.setRowHidden(row, not all(word in said for word in words))

    def _label(self) -> str:
        """The selected action, empty if none is that can be changed."""
        row = self.table.currentRow() if self.table.selectedItems() else -1
        return self._labels[row] if 0 <= row < len(self._labels) else ""

    def _choose(self) -> None:
        label = self._label()
        for widget in (self.keys, self.none, self.usual):
            widget.setEnabled(bool(label))
        self.keys.setKeySequence(self._shortcuts.actions[label].shortcut() if label else QKeySequence())

    def _change(self) -> None:
        self._give(self.keys.keySequence().toString(QKeySequence.SequenceFormat.PortableText))

    def _give(self, keys: str) -> None:
        label = self._label()
        if not label:
            return
        taken = self._shortcuts.change(label, keys)
        if taken:
            self.says.setText(tr("{other} had these keys and has none now.", other=tr(taken)))
        row = self.table.currentRow()
        self._fill()
        self.table.selectRow(row)

    def _reset(self) -> None:
        self._shortcuts.reset()
        self._fill()
        self._choose()


class AboutDialog(QDialog):
    """Version, licence, and where help is."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle(tr("About Pure Signal"))
        self.text = PlainLabel(
            tr(
                "Pure Signal {version}\nTurns playing into clean MIDI.\n\nLicence: {licence}\n"
                "Help: the user guide (F1). For a report with versions and the log: Help, Copy report.",
                version=__version__,
                licence=LICENCE,
            )
        )
        self.text.setTextFormat(Qt.TextFormat.PlainText)
        self.text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        close = QPushButton(tr("Close"))
        close.clicked.connect(self.close)
        row = QHBoxLayout()
        row.addStretch()
        row.addWidget(close)
        column = QVBoxLayout(self)
        column.setContentsMargins(24, 20, 24, 16)
        column.setSpacing(16)
        column.addWidget(self.text)
        column.addLayout(row)


def findings() -> str:
    """The findings of `pure-signal doctor`. In a process of its own, to keep port libraries out of the window's."""
    command = [sys.executable, "-m", "puresignal.cli", "doctor"]
    try:
        done = subprocess.run(command, stdin=subprocess.DEVNULL, capture_output=True, text=True, timeout=20)
    except (OSError, subprocess.TimeoutExpired) as error:
        return str(error)
    return done.stdout


def report(machine: str = "") -> str:
    """Versions, system, what the machine offers, and the last lines of the log. machine: see findings."""
    return machine + log_file.report(
        {
            "Qt": qVersion(),
            "Qt binding": binding_version,  # not shown
            "Display": QGuiApplication.platformName(),
            "Scale": ", ".join(f"{s.devicePixelRatio():g}" for s in QGuiApplication.screens()),
        }
    )
