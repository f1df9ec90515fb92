"""Offline help: the user guide, the list of shortcuts, and a report."""

from __future__ import annotations

from importlib import resources

from PySide6 import __version__ as binding_version
from PySide6.QtCore import Qt, qVersion
from PySide6.QtGui import QAction, QGuiApplication, QKeySequence
from PySide6.QtWidgets import QDialog, QHeaderView, QTableWidget, QTableWidgetItem, QTextBrowser, QVBoxLayout, QWidget

from puresignal.io import log_file
from puresignal.translation import mark, tr

_ELSEWHERE = (
    ("Takes", mark("Left, Right, Page up, Page down, Home, End"), mark("Move through the take")),
    ("Takes", mark("Up, Down"), mark("Move through the rows")),
    ("Takes", "+, \N{MINUS SIGN}, 0", mark("Zoom in, zoom out, whole take")),
    ("Takes", mark("Ctrl and wheel"), mark("Zoom about the pointer")),
    ("Takes", mark("Shift and wheel"), mark("Move through the take")),
    ("Takes", mark("Click, sweep, click a name"), mark("Select notes; with Shift or Ctrl add to the selection")),
    ("Takes", "Ctrl+A, Esc", mark("Select all, select none")),
    ("Takes", mark("K or Insert"), mark("Keep the selected notes")),
    ("Takes", mark("X or Delete"), mark("Remove the selected notes")),
    ("Takes", "U", mark("Let the stages decide again")),
    ("Takes", "D, Shift+D", mark("Next doubtful note, previous one")),
    ("Takes", "E", mark("Play the selected notes in context")),
    ("Takes", mark("Drag on the ruler"), mark("Select a time range")),
    ("Mapping", mark("Arrow keys"), mark("Move from name to name")),
    ("Mapping", "Enter", mark("List the destinations of a name")),
    ("Mapping", "Delete", mark("Unmap a name")),
    ("Mapping", "T", mark("Show the hits of a name in Takes")),
    ("Outputs", "F2", mark("Rename a track")),
    ("Outputs", "Space", mark("Include a track, or leave it out")),
    ("Outputs", mark("Alt+Up, Alt+Down"), mark("Move the selected tracks")),
)


class GuideDialog(QDialog):
    """The user guide."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle(tr("User guide"))
        self.resize(760, 700)
        self.text = QTextBrowser()
        self.text.setAccessibleName(tr("User guide"))
        self.text.setOpenLinks(False)
        guide = resources.files("puresignal") / "ui" / "assets" / "user-guide.md"
        self.text.setMarkdown(guide.read_text("utf-8"))
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.text)


class ShortcutsDialog(QDialog):
    """All shortcuts, of the menus and of the views."""

    def __init__(self, actions: list[QAction], parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle(tr("Shortcuts"))
        self.resize(620, 640)
        rows = [
            (tr("everywhere"), action.shortcut().toString(QKeySequence.SequenceFormat.NativeText), action.text())
            for action in actions
            if not action.shortcut().isEmpty()
        ]
        rows += [(tr(view), tr(keys), tr(what)) for view, keys, what in _ELSEWHERE]
        self.table = QTableWidget(len(rows), 3)
        self.table.setAccessibleName(tr("Shortcuts"))
        self.table.setHorizontalHeaderLabels([tr("where"), tr("keys"), tr("action")])
        self.table.verticalHeader().hide()
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setShowGrid(False)
        for i, row in enumerate(rows):
            for j, text in enumerate(row):
                item = QTableWidgetItem(text.replace("&", "").split(":")[0] if j == 2 else text)
                item.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable)
                self.table.setItem(i, j, item)
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.table.horizontalHeader().setStretchLastSection(True)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.table)


def report() -> str:
    """Versions, system and the last lines of the log."""
    return log_file.report(
        {
            "Qt": qVersion(),
            "Qt binding": binding_version,  # not shown
            "Display": QGuiApplication.platformName(),
            "Scale": ", ".join(f"{s.devicePixelRatio():g}" for s in QGuiApplication.screens()),
        }
    )
