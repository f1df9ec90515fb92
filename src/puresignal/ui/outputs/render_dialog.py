"""Rendering to audio files: what, how, where to, and how far it is."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtGui import QCloseEvent, QShowEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QProgressBar,
    QPushButton,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from puresignal.commands import rendering
from puresignal.commands.rendering import RenderJob
from puresignal.core.errors import PureSignalError
from puresignal.engine import outside_render
from puresignal.translation import mark, tr
from puresignal.ui.state.services import Services
from puresignal.ui.widgets import text_format
from puresignal.ui.widgets.field_row import field_row
from puresignal.ui.widgets.plain_text import PlainLabel

WHAT = (
    (rendering.MIX, mark("the mix, as it sounds")), (rendering.TRACKS, mark("a file for each track")),
    (rendering.SECTIONS, mark("a file for each section")), (rendering.TAKES, mark("a file for each take")),
)  # fmt: skip
KINDS = (
    ("wav16", mark("WAV, 16 bits")), ("wav24", mark("WAV, 24 bits")), ("wav32f", mark("WAV, 32 bits floating")),
    ("flac", mark("FLAC, 24 bits")), ("ogg", mark("Ogg Vorbis")), ("mp3", mark("MP3")),
)  # fmt: skip
MOST_BARS = 9999


class RenderDialog(QDialog):
    """Stays open, and shows what was written."""

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle(tr("Render to audio"))
        self.setMinimumSize(720, 440)
        self._workbench, self._renderer = services.workbench, services.renderer
        self.what = self._combo(tr("What is rendered"), WHAT)
        self.kind = self._combo(tr("Format"), KINDS)
        self.kind.setCurrentIndex(1)
        self.rate = QComboBox()
        self.rate.setAccessibleName(tr("Sample rate"))
        for rate in rendering.RATES:
            self.rate.addItem(tr("{khz:g} kHz").format(khz=rate / 1000), rate)
        self.rate.setCurrentIndex(1)
        self.only = QCheckBox(tr("only bars"))
        self.first, self.last = self._bar(tr("First bar"), 1), self._bar(tr("Last bar"), 8)
        bars = field_row(self.only, self.first, PlainLabel(tr("to")), self.last)
        self.only.toggled.connect(lambda _: self.show_files())
        self.normalise = self._check(
            tr("normalise"), tr("Raises each file to 0.3 dB below full scale; several files then lose their balance.")
        )
        self.dither = self._check(tr("dither"), tr("In files of 16 bits: soft sound fades without distortion."), True)
        self.tail = self._check(tr("whole tail"), tr("What sounds at the end fades out, and so ends the file."), True)
        self.trim = self._check(tr("no silence before"), tr("Begins with the first sound."))
        self.through = QComboBox()
        self.through.setAccessibleName(tr("Sound of tracks that go to ports"))
        self.through.setToolTip(
            tr("Tracks that go to a port are played there in real time, and what comes back from the chosen program or "
               "device is recorded, without its delay. Without one, the built-in sound stands in for them.")
        )  # fmt: skip
        self.through.addItem(tr("the built-in sound"), "")
        self._background = services.background
        self.pattern = QLineEdit(rendering.PATTERN)
        self.pattern.setAccessibleName(tr("Pattern of the file names"))
        self.pattern.setToolTip(tr("{session}, {name} and {number} stand for the session, the part, and its number."))
        self.pattern.textChanged.connect(lambda _: self.show_files())
        self.folder = QLineEdit(str(Path.home()))
        self.folder.setAccessibleName(tr("Folder"))
        choose = QPushButton(tr("Choose…"))
        choose.setAutoDefault(False)
        choose.clicked.connect(self._choose_folder)
        self.force = self._check(tr("overwrite"), tr("Replaces files of these names."))
        form = QFormLayout()
        form.setSpacing(8)
        form.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
        form.addRow(tr("Render"), self.what)
        form.addRow(tr("Format"), field_row(self.kind, self.rate))
        form.addRow(tr("Range"), bars)
        form.addRow("", field_row(self.tail, self.trim))
        form.addRow("", field_row(self.normalise, self.dither))
        form.addRow(tr("Ports by"), self.through)
        form.addRow(tr("Names"), self.pattern)
        form.addRow(tr("Folder"), field_row(self.folder, choose))
        form.addRow("", self.force)
        self.files = QListWidget()
        self.files.setAccessibleName(tr("Files"))
        head = PlainLabel(tr("FILES"))
        head.setObjectName("section")
        right = QVBoxLayout()
        right.addWidget(head)
        right.addWidget(self.files, 1)
        upper = QHBoxLayout()
        upper.setSpacing(18)
        upper.addLayout(form, 3)
        upper.addLayout(right, 2)
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setTextVisible(False)
        self.says = PlainLabel()
        self.says.setWordWrap(True)
        self.go = QPushButton(tr("Render"))
        self.go.setDefault(True)
        self.go.clicked.connect(self._go)
        lower = QHBoxLayout()
        lower.addWidget(self.bar, 1)
        lower.addWidget(self.go)
        column = QVBoxLayout(self)
        column.setContentsMargins(18, 16, 18, 16)
        column.setSpacing(12)
        column.addLayout(upper, 1)
        column.addWidget(self.says)
        column.addLayout(lower)
        for combo in (self.what, self.kind, self.rate):
            combo.activated.connect(lambda _: self.show_files())
        self._workbench.changed.connect(self._follow)
        self._renderer.progressed.connect(self._show_progress)
        self._renderer.finished.connect(self._finished)
        self._renderer.failed.connect(self._failed)
        self.show_files()

    def _combo(self, name: str, rows: tuple[tuple[str, str], ...]) -> QComboBox:
        combo = QComboBox()
        combo.setAccessibleName(name)
        for value, label in rows:
            combo.addItem(tr(label), value)
        return combo

    def _bar(self, name: str, value: int) -> QSpinBox:
        box = QSpinBox()
        box.setRange(1, MOST_BARS)
        box.setValue(value)
        box.setAccessibleName(name)
        box.valueChanged.connect(lambda _: self.show_files())
        return box

    @staticmethod
    def _check(label: str, tip: str, on: bool = False) -> QCheckBox:
        box = QCheckBox(label)
        box.setToolTip(tip)
        box.setChecked(on)
        return box

    def job(self) -> RenderJob:
        """The job as it is chosen."""
        bars = None
        if self.only.isChecked() and self.what.currentData() != rendering.SECTIONS:
            bars = (self.first.value(), max(self.first.value(), self.last.value()))
        return RenderJob(
            self.what.currentData(), self.kind.currentData(), self.rate.currentData(), self.normalise.isChecked(),
            self.dither.isChecked(), self.tail.isChecked(), self.trim.isChecked(), bars, self.pattern.text(),
            through=self.through.currentData() or "",
        )  # fmt: skip

    def _show_sources(self, found: tuple[str, ...]) -> None:
        now = self.through.currentData()
        while self.through.count() > 1:
            self.through.removeItem(1)
        for name in dict.fromkeys((*found, *([now] if now else []))):
            self.through.addItem(tr("what comes back from {name}", name=name), name)
        self.through.setCurrentIndex(max(0, self.through.findData(now)))

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._background.run("sources", outside_render.sources, self._show_sources)

    def _follow(self) -> None:
        if self.isVisible():
            self.show_files()

    def show_files(self) -> None:
        """Show the names that would be written."""
        if self._renderer.busy:
            return
        sections = self.what.currentData() == rendering.SECTIONS
        for box in (self.first, self.last):
            box.setEnabled(self.only.isChecked() and not sections)
        self.only.setEnabled(not sections)
        self.dither.setEnabled(self.kind.currentData() == "wav16")
        names = self._renderer.names(self.job())
        self.files.clear()
        self.files.addItems(names)
        self.go.setEnabled(bool(names))
        if not names:
            self.says.setText(
                tr("There are no sections: select bars in Takes and press S.") if sections
                else tr("There is nothing to render: switch a take in.")
            )  # fmt: skip
        elif not self._renderer.done:
            self.says.setText("")

    def _choose_folder(self) -> None:
        chosen = QFileDialog.getExistingDirectory(self, tr("Folder for the files"), self.folder.text())
        if chosen:
            self.folder.setText(chosen)

    def _go(self) -> None:
        if self._renderer.busy:
            self._renderer.cancel()
            self._rest()
            self.says.setText(tr("Cancelled. Files that were done are kept; nothing is half written."))
            return
        try:
            self._renderer.start(self.job(), Path(self.folder.text()).expanduser(), self.force.isChecked())
        except PureSignalError as error:
            self.says.setText(str(error))
            return
        self.go.setText(tr("Cancel"))

    def _rest(self) -> None:
        self.go.setText(tr("Render"))
        self.bar.setValue(0)

    def _show_progress(self, part: float, name: str) -> None:
        self.bar.setValue(round(1000 * part))
        self.says.setText(tr("Rendering {name}", name=name) if name else tr("Preparing…"))

    def _finished(self) -> None:
        self._rest()
        done = self._renderer.done
        self.files.clear()
        for one in done:
            self.files.addItem(
                tr("{name}: {long}, peak {peak:.1f} dB").format(
                    name=one["done"], long=text_format.duration(one["seconds"]), peak=one["peak"]
                )
            )
        warnings = list(dict.fromkeys(text for one in done for text in one["warnings"]))
        said = tr("{files} in {folder}", files=text_format.counted(len(done), "file"), folder=self.folder.text())
        self.says.setText("\n".join([said, *warnings]))

    def _failed(self, why: str) -> None:
        self._rest()
        self.says.setText(why)

    def closeEvent(self, event: QCloseEvent) -> None:
        self._renderer.cancel()
        super().closeEvent(event)

    def reject(self) -> None:
        self._renderer.cancel()
        self._rest()
        super().reject()
