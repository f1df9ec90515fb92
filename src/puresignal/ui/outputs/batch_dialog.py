"""Cleaning whole folders: what was recognised for each file, what would be removed, and the run."""

from __future__ import annotations

import shlex
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, QTimer, QUrl
from PySide6.QtGui import QCloseEvent, QDesktopServices, QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QComboBox,
    QDialog,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QProgressBar,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from puresignal.core.errors import PureSignalError
from puresignal.core.kit.note_map import NoteMap
from puresignal.io import file_access, note_map_file
from puresignal.translation import mark, tr
from puresignal.ui.state.batch_cleaner import SUMMARY, BatchCleaner, BatchJob
from puresignal.ui.state.services import Services
from puresignal.ui.widgets import text_format
from puresignal.ui.widgets.field_row import field_row
from puresignal.ui.widgets.plain_text import PlainLabel, plain_tip

HEADS = (
    mark("File"), mark("Kit"), mark("Notes"), mark("Clean"), mark("Removed"), mark("Why, and what else"),
)  # fmt: skip
NUMBERS = (2, 3, 4)
RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
LOOK_AFTER_MS = 300


class BatchDialog(QDialog):
    """Stays open; a folder that is named or dropped is looked at at once."""

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle(tr("Clean a folder"))
        self.setMinimumSize(900, 560)
        self.setAcceptDrops(True)
        self._workbench = services.workbench
        self._cleaner = BatchCleaner(self)
        self._running = False
        self._found = self._done = self._failed = 0
        self._dropped: tuple[Path, ...] = ()
        self.folder, choose = self._folder_line(tr("Folder with the recordings"), self._choose_folder)
        self.folder.textEdited.connect(lambda _: self._forget_dropped())
        self.folder.textChanged.connect(lambda _: self._look_soon())
        self.out, choose_out = self._folder_line(tr("Folder for the results"), self._choose_out)
        self.source, self.target = QComboBox(), QComboBox()
        self.source.setAccessibleName(tr("Kit"))
        self.target.setAccessibleName(tr("Receiver"))
        for combo in (self.source, self.target):
            combo.setMinimumWidth(260)
            combo.activated.connect(lambda _: self._look_soon())
        self.force = QCheckBox(tr("overwrite"))
        self.force.setToolTip(tr("Replaces results of the same name."))
        form = QFormLayout()
        form.setSpacing(8)
        form.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
        form.addRow(tr("Recordings"), field_row(self.folder, choose))
        form.addRow(tr("Results"), field_row(self.out, choose_out, self.force))
        form.addRow(tr("Kit"), field_row(self.source, PlainLabel(tr("Receiver")), self.target))
        self.table = QTableWidget(0, len(HEADS))
        self.table.setAccessibleName(tr("Files"))
        self.table.verticalHeader().hide()
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setShowGrid(False)
        self.table.setWordWrap(False)
        head = self.table.horizontalHeader()
        head.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        head.setStretchLastSection(True)
        for i, text in enumerate(HEADS):
            item = QTableWidgetItem(tr(text))
            if i in NUMBERS:
                item.setTextAlignment(RIGHT)
            self.table.setHorizontalHeaderItem(i, item)
        for i, width in enumerate((230, 190, 70, 70, 80)):
            self.table.setColumnWidth(i, width)
        head.setSectionResizeMode(len(HEADS) - 1, QHeaderView.ResizeMode.Stretch)
        self.says = PlainLabel()
        self.says.setWordWrap(True)
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.summary = QPushButton(tr("Show summary"))
        self.summary.setAutoDefault(False)
        self.summary.setToolTip(tr("The page with what was done to every file."))
        self.summary.setEnabled(False)
        self.summary.clicked.connect(self._show_summary)
        self.go = QPushButton(tr("Clean"))
        self.go.setDefault(True)
        self.go.clicked.connect(self._go)
        lower = QHBoxLayout()
        lower.addWidget(self.bar, 1)
        lower.addWidget(self.summary)
        lower.addWidget(self.go)
        column = QVBoxLayout(self)
        column.setContentsMargins(18, 16, 18, 16)
        column.setSpacing(12)
        column.addLayout(form)
        column.addWidget(self.table, 1)
        column.addWidget(self.says)
        column.addLayout(lower)
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(LOOK_AFTER_MS)
        self._soon.timeout.connect(self._look)
        self._cleaner.counted.connect(self._count)
        self._cleaner.told.connect(self._add_file)
        self._cleaner.ended.connect(self._end)
        self.show_maps()
        self._rest()

    def _folder_line(self, name: str, choose: object) -> tuple[QLineEdit, QPushButton]:
        line = QLineEdit()
        line.setAccessibleName(name)
        button = QPushButton(tr("Choose…"))
        button.setAccessibleName(tr("Choose: {what}", what=name))
        button.setAutoDefault(False)
        button.clicked.connect(choose)
        return line, button

    def show_maps(self) -> None:
        """Offer the note maps there are; the receiver is that of the session."""
        if self._running:
            return
        maps = [*note_map_file.own(), *(note_map_file.shipped(ident) for ident in note_map_file.shipped_ids())]
        session_target = self._workbench.session.target
        if session_target is not None and session_target not in maps:
            maps.insert(0, session_target)
        for combo, first, chosen in (
            (self.source, tr("recognised in each file"), None),
            (self.target, tr("notes keep their numbers"), session_target),
        ):
            combo.clear()
            combo.addItem(first, None)
            for one in maps:
                combo.addItem(one.name, one)
            combo.setCurrentIndex(1 + maps.index(chosen) if chosen in maps else 0)

    # Folders

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls() and not self._running:
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        self.use(paths)

    def use(self, paths: list[Path]) -> None:
        """Clean these files and folders."""
        if not paths:
            return
        self._dropped = tuple(paths)
        several = len(paths) > 1
        self.folder.setText(" ".join(shlex.quote(str(path)) for path in paths) if several else str(paths[0]))
        where = paths[0]
        self.out.setText(str(where.parent / f"{where.name if where.is_dir() else where.stem}, clean"))  # not shown

    def _forget_dropped(self) -> None:
        self._dropped = ()

    def _inputs(self) -> tuple[Path, ...]:
        text = self.folder.text().strip()
        return self._dropped or ((Path(text).expanduser(),) if text else ())

    def _choose_folder(self) -> None:
        chosen = QFileDialog.getExistingDirectory(self, tr("Folder with the recordings"), self.folder.text())
        if chosen:
            self.use([Path(chosen)])

    def _choose_out(self) -> None:
        chosen = QFileDialog.getExistingDirectory(self, tr("Folder for the results"), self.out.text())
        if chosen:
            self.out.setText(chosen)

    # Looking and cleaning

    def _job(self) -> BatchJob:
        source, target = self.source.currentData(), self.target.currentData()
        assert source is None or isinstance(source, NoteMap)
        return BatchJob(self._inputs(), self._workbench.session.path, source, target, self.force.isChecked())

    def _look_soon(self) -> None:
        if not self._running:
            self._cleaner.cancel()
            self._soon.start()

    def _look(self) -> None:
        self._begin()
        if not self._inputs():
            self._rest()
            return
        self.says.setText(tr("Looking at the files…"))
        self._cleaner.look(self._job())

    def _begin(self) -> None:
        self.table.setRowCount(0)
        self._found = self._done = self._failed = 0
        self.bar.setRange(0, 1)
        self.bar.setValue(0)
        self.summary.setEnabled(False)
        self.go.setEnabled(False)

    def _go(self) -> None:
        if self._running:
            self._cleaner.cancel()
            self._running = False
            self._rest()
            said = tr("Cancelled. {done} done and kept; nothing is half written.")
            self.says.setText(said.format(done=text_format.counted(self._done - self._failed, "file")))
            return
        out = self.out.text().strip()
        if not out:
            self.says.setText(tr("Choose a folder for the results."))
            return
        self._soon.stop()
        self._begin()
        self._running = True
        self.go.setText(tr("Cancel"))
        self.go.setEnabled(True)
        self._cleaner.clean(self._job(), Path(out).expanduser())

    def _count(self, files: int) -> None:
        self._found = files
        self.bar.setRange(0, max(1, files))

    def _add_file(self, told: dict[str, Any]) -> None:
        self._done += 1
        self.bar.setValue(self._done)
        path = Path(told["file"])
        inside = next((one for one in self._inputs() if one in path.parents), path.parent)
        name = file_access.shown_name(str(path.relative_to(inside)))
        if "error" in told:
            self._failed += 1
            cells = [name, "", "", "", "", told["error"]]
        else:
            counts = [text_format.count(told[key]) for key in ("in", "out", "removed")]
            reasons = sorted(told["reasons"].items(), key=lambda pair: -pair[1])
            words = [tr("{reason} {n}", reason=tr(reason), n=text_format.count(n)) for reason, n in reasons]
            sentences = [", ".join(words)] if words else []
            cells = [name, told["map"], *counts, ". ".join([*sentences, *told["notes"]])]
        row = self.table.rowCount()
        self.table.insertRow(row)
        for column, text in enumerate(cells):
            item = QTableWidgetItem(text)
            item.setToolTip(plain_tip(str(path) if column == 0 else text))
            if column in NUMBERS:
                item.setTextAlignment(RIGHT)
            self.table.setItem(row, column, item)
        if self._running:
            self.says.setText(tr("Cleaned: {name}", name=name))

    def _end(self, why: object) -> None:
        ran, self._running = self._running, False
        self._rest()
        if why is not None:
            what, where, remedy = (*why, "", "")[:3] if isinstance(why, list) else (why, "", "")
            self.says.setText(str(PureSignalError(what, where, remedy)) if remedy else str(what))
            self.go.setEnabled(ran)
            return
        good = text_format.counted(self._done - self._failed, "file")
        bad = text_format.counted(self._failed, "file")
        if ran:
            said = tr("{good} cleaned into {folder}.", good=good, folder=self.out.text())
            failed = tr("{bad} could not be; the list says why.", bad=bad)
            self.summary.setEnabled(self._done > self._failed)
        else:
            said = tr("{good} found; the settings are those of this session.", good=good)
            failed = tr("{bad} cannot be read; the list says why.", bad=bad)
        self.says.setText(f"{said} {failed}" if self._failed else said)

    def _rest(self) -> None:
        self.bar.setValue(0)
        self.go.setText(tr("Clean"))
        self.go.setEnabled(self._done > self._failed)
        if not self._inputs():
            self.says.setText(tr("Choose a folder with MIDI files, or drop files and folders here."))

    def _show_summary(self) -> None:
        QDesktopServices.openUrl(QUrl.fromLocalFile(str(Path(self.out.text()).expanduser() / SUMMARY)))

    def closeEvent(self, event: QCloseEvent) -> None:
        self._stop()
        super().closeEvent(event)

    def reject(self) -> None:
        self._stop()
        super().reject()

    def _stop(self) -> None:
        self._soon.stop()
        self._cleaner.cancel()
        if self._running:
            self._running = False
            self._rest()
