"""Changes since the session was saved."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QDialog, QHBoxLayout, QListWidget, QPushButton, QVBoxLayout, QWidget

from puresignal.core.session import changes
from puresignal.translation import tr
from puresignal.ui.state.workbench import Workbench
from puresignal.ui.widgets.plain_text import PlainLabel


class ChangesDialog(QDialog):
    """A list of steps, which follows the session while it is open."""

    def __init__(self, workbench: Workbench, save: Callable[[], object], parent: QWidget | None = None):
        super().__init__(parent)
        self._workbench = workbench
        self.setWindowTitle(tr("Changes since saving"))
        self.setMinimumSize(420, 360)
        self.head = PlainLabel()
        self.head.setWordWrap(True)
        self.steps = QListWidget()
        self.steps.setAccessibleName(tr("Steps since the session was saved"))
        self.save = QPushButton(tr("Save session"))
        self.save.clicked.connect(lambda: save())
        close = QPushButton(tr("Close"))
        close.clicked.connect(self.accept)
        buttons = QHBoxLayout()
        buttons.addStretch()
        buttons.addWidget(self.save)
        buttons.addWidget(close)
        column = QVBoxLayout(self)
        column.setContentsMargins(18, 16, 18, 16)
        column.setSpacing(10)
        column.addWidget(self.head)
        column.addWidget(self.steps, 1)
        column.addLayout(buttons)
        workbench.changed.connect(self.show_changes)
        self.show_changes()

    def show_changes(self) -> None:
        """Show the steps since the session was saved, the newest first."""
        bench = self._workbench
        found = changes.since(bench.saved, bench.history)
        rows = [self._row(*one) for one in reversed(found.made)]
        rows += [tr("taken back: {step}", step=self._row(*one)) for one in found.undone]
        self.steps.clear()
        self.steps.addItems(rows)
        if not bench.unsaved:
            said = tr("Nothing has changed since this session was saved.")
        elif bench.saved is None and bench.file is None:
            said = tr("This session was never saved. Everything in it is kept for now under Unsaved work.")
        else:
            said = tr("Since it was saved, the newest first:")
        self.head.setText(said)
        self.save.setEnabled(bench.unsaved)

    @staticmethod
    def _row(name: str, times: int) -> str:
        shown = name[:1].upper() + name[1:]
        return shown if times == 1 else tr("{step}, {n} times", step=shown, n=times)
