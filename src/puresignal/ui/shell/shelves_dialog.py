"""Everything that is kept by name in one window: note maps, grooves, chord books, lists of sounds, templates."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QSize, Qt, QTimer
from PySide6.QtWidgets import (
    QDialog,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QMessageBox,
    QPushButton,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from puresignal.core.errors import PureSignalError
from puresignal.io import file_access
from puresignal.io.shelves import SHELVES, Item, Shelf
from puresignal.translation import mark, tr
from puresignal.ui.state.workbench import Workbench
from puresignal.ui.widgets.plain_text import PlainLabel

ROW = 28
"""Pixels of a row."""


class ShelvesDialog(QDialog):
    """Kinds at the left, what is kept of one at the right; a name is changed in place."""

    def __init__(self, workbench: Workbench, parent: QWidget | None = None):
        super().__init__(parent)
        self._workbench = workbench
        self.setWindowTitle(tr("What is kept"))
        self.kinds = QListWidget()
        self.kinds.setAccessibleName(tr("Kinds of things"))
        self.kinds.addItems([tr(shelf.title) for shelf in SHELVES])
        self.kinds.setFixedWidth(150)
        self.kinds.setSpacing(4)
        self.kinds.currentRowChanged.connect(lambda _: self.show_shelf())
        self.table = QTreeWidget()
        self.table.setRootIsDecorated(False)
        self.table.setHeaderLabels([tr("name"), tr("used")])
        self.table.setAccessibleName(tr("What is kept of this kind"))
        self.table.setColumnWidth(0, 280)
        self.table.setEditTriggers(QTreeWidget.EditTrigger.EditKeyPressed | QTreeWidget.EditTrigger.DoubleClicked)
        self.table.itemSelectionChanged.connect(self._show_buttons)
        self.table.itemChanged.connect(self._renamed)
        self.search = QLineEdit()
        self.search.setPlaceholderText(tr("Filter"))
        self.search.setAccessibleName(tr("Filter the names"))
        self.search.textChanged.connect(lambda _: self.show_shelf())
        self.buttons: dict[str, QPushButton] = {}
        row = QHBoxLayout()
        for name, label, tip, act in (
            ("import", mark("Import…"), mark("Keep what files hold; nothing that is there is written over."),
             self._ask_import),
            ("export", mark("Export…"), mark("Write the selected one to a file, to share it."), self._ask_export),
            ("rename", mark("Rename"), mark("Give the selected one another name (F2)."), self._rename),
            ("delete", mark("Delete…"), mark("Delete the selected one; sessions that use it keep their own copy."),
             self._ask_delete),
        ):  # fmt: skip
            button = QPushButton(tr(label))
            button.setToolTip(tr(tip))
            button.clicked.connect(act)
            self.buttons[name] = button
            row.addWidget(button)
        self.said = PlainLabel()
        self.said.setObjectName("faint")
        self.said.setWordWrap(True)
        right = QVBoxLayout()
        right.setSpacing(8)
        right.addWidget(self.search)
        right.addWidget(self.table, 1)
        right.addLayout(row)
        right.addWidget(self.said)
        whole = QHBoxLayout(self)
        whole.setContentsMargins(14, 14, 14, 14)
        whole.setSpacing(12)
        whole.addWidget(self.kinds)
        whole.addLayout(right, 1)
        self.resize(620, 420)
        self._items: list[Item] = []
        self._quiet = False
        self.kinds.setCurrentRow(0)

    @property
    def shelf(self) -> Shelf:
        return SHELVES[max(0, self.kinds.currentRow())]

    @property
    def item(self) -> Item | None:
        """The selected one."""
        chosen = self.table.selectedItems()
        return self._items[self.table.indexOfTopLevelItem(chosen[0])] if chosen else None

    def show_shelf(self, name: str = "") -> None:
        """Show what is kept of the chosen kind. name: what is selected then"""
        wanted, session = self.search.text().strip().casefold(), self._workbench.session
        self._items = [one for one in self.shelf.items() if wanted in one.name.casefold()]
        self._quiet = True
        self.table.clear()
        for one in self._items:
            used = tr("in this session") if self.shelf.used(session, one.value) else ""
            row = QTreeWidgetItem([one.name, used])
            row.setFlags(row.flags() | Qt.ItemFlag.ItemIsEditable)
            row.setSizeHint(0, QSize(0, ROW))
            self.table.addTopLevelItem(row)
            row.setSelected(one.name == name)
        self._quiet = False
        self.said.setText("" if self._items or wanted else tr("Nothing of this kind is kept yet."))
        self._show_buttons()

    def _show_buttons(self) -> None:
        for name in ("export", "rename", "delete"):
            self.buttons[name].setEnabled(self.item is not None)

    def _tell(self, error: PureSignalError) -> None:
        self.said.setText(str(error))

    def _rename(self) -> None:
        chosen = self.table.selectedItems()
        if chosen:
            self.table.editItem(chosen[0], 0)

    def _renamed(self, row: QTreeWidgetItem, column: int) -> None:
        """A name was typed."""
        if self._quiet:
            return
        item = self._items[self.table.indexOfTopLevelItem(row)]
        text = item.name if column else row.text(0)
        # The list is filled anew, which must not happen while a row of it is told what was typed.
        QTimer.singleShot(0, self, lambda: self.rename(item, text))

    def rename(self, item: Item, name: str) -> None:
        """Give one another name, or say why not."""
        try:
            made = self.shelf.rename(item, name)
        except PureSignalError as error:
            self.show_shelf(item.name)
            self._tell(error)
            return
        self.show_shelf(made.name)

    def _ask_import(self) -> None:
        kinds = f"*{self.shelf.ending}"
        names, _ = QFileDialog.getOpenFileNames(self, tr("Import"), "", tr("Files of this kind ({kinds})", kinds=kinds))
        self.take_in([Path(name) for name in names])

    def take_in(self, paths: list[Path]) -> None:
        """Keep what files hold, and say what cannot be kept."""
        wrong, made = [], ""
        for path in paths:
            try:
                made = self.shelf.take_in(path).name
            except PureSignalError as error:
                wrong.append(str(error))
        self.show_shelf(made)
        if wrong:
            self.said.setText("\n".join(wrong))

    def _ask_export(self) -> None:
        item = self.item
        if item is None:
            return
        name = f"{file_access.as_file_name(item.name)}{self.shelf.ending}"
        chosen, _ = QFileDialog.getSaveFileName(self, tr("Export"), name)
        if chosen:
            self.export_to(Path(chosen))

    def export_to(self, path: Path) -> None:
        """Write the selected one to a file."""
        item = self.item
        if item is None:
            return
        try:
            self.shelf.share(item, path)
        except PureSignalError as error:
            self._tell(error)
            return
        self.said.setText(tr("Written: {path}", path=path))

    def _ask_delete(self) -> None:
        item = self.item
        if item is None:
            return
        question = tr("Delete “{name}” for good?", name=item.name)
        box = QMessageBox(QMessageBox.Icon.Question, tr("Delete"), question, parent=self)
        box.setTextFormat(Qt.TextFormat.PlainText)
        delete = box.addButton(tr("Delete"), QMessageBox.ButtonRole.DestructiveRole)
        box.addButton(tr("Keep"), QMessageBox.ButtonRole.RejectRole)
        box.exec()
        if box.clickedButton() is delete:
            self.delete()

    def delete(self) -> None:
        """Delete the selected one."""
        item = self.item
        if item is None:
            return
        try:
            self.shelf.remove(item)
        except PureSignalError as error:
            self._tell(error)
            return
        self.show_shelf()
