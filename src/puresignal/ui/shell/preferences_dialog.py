"""The preferences of the program in one window: they belong to the computer, not to a session."""

from __future__ import annotations

from PySide6.QtCore import Qt, QUrl, Signal
from PySide6.QtGui import QDesktopServices
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFormLayout,
    QLabel,
    QPushButton,
    QTabWidget,
    QVBoxLayout,
    QWidget,
)

from puresignal.io import audio_ports, xdg_folders
from puresignal.io.preferences import BLOCKS, RATES, Preferences, SoundOut
from puresignal.translation import languages, mark, tr
from puresignal.ui.state.services import Services
from puresignal.ui.widgets.field_row import field_row
from puresignal.ui.widgets.plain_text import PlainLabel

THEMES = (("system", mark("as the system")), ("light", mark("light")), ("dim", mark("dim")))


class PreferencesDialog(QDialog):
    """Everything takes effect at once, and is kept at once; there is nothing to confirm.

    theme_chosen  another theme
    keys_requested, recording_requested  show the shortcuts, or the settings of recording
    """

    theme_chosen = Signal(str)
    keys_requested = Signal()
    recording_requested = Signal()

    def __init__(self, services: Services, window: QWidget):
        super().__init__(window)
        self._services, self._store = services, services.preferences
        self.setWindowTitle(tr("Preferences"))
        self.pages = QTabWidget()
        self.pages.setAccessibleName(tr("Groups of preferences"))
        for name, page in (
            (tr("Look"), self._make_look()), (tr("Sound"), self._make_sound()),
            (tr("Playing"), self._make_playing()), (tr("Files"), self._make_files()),
        ):  # fmt: skip
            self.pages.addTab(page, name)
        buttons = QDialogButtonBox()
        close = buttons.addButton(tr("Close"), QDialogButtonBox.ButtonRole.RejectRole)
        close.setToolTip(tr("Everything is kept already."))
        usual = buttons.addButton(tr("Usual ones"), QDialogButtonBox.ButtonRole.ResetRole)
        usual.setToolTip(tr("All preferences of this window as they come with the program."))
        usual.clicked.connect(self._reset)
        buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 14, 16, 14)
        column.setSpacing(12)
        column.addWidget(self.pages)
        column.addWidget(buttons)
        self.setMinimumWidth(520)
        self.show_preferences()

    def _page(self) -> tuple[QWidget, QFormLayout]:
        page = QWidget()
        form = QFormLayout(page)
        form.setContentsMargins(14, 14, 14, 14)
        form.setVerticalSpacing(10)
        form.setLabelAlignment(Qt.AlignmentFlag.AlignRight)
        return page, form

    def _combo(self, name: str, rows: tuple[tuple[object, str], ...], tip: str) -> QComboBox:
        combo = QComboBox()
        combo.setAccessibleName(name)
        combo.setToolTip(tip)
        for value, label in rows:
            combo.addItem(label, value)
        return combo

    def _make_look(self) -> QWidget:
        page, form = self._page()
        self.theme = self._combo(
            tr("Theme"), tuple((value, tr(label)) for value, label in THEMES), tr("Light, dim, or as the system is.")
        )
        self.theme.activated.connect(lambda _: self.theme_chosen.emit(self.theme.currentData()))
        form.addRow(tr("Theme"), self.theme)
        names = {"en": "English", "de": "Deutsch"}
        self.language = self._combo(
            tr("Language"),
            (("", tr("as the system")), *((code, names.get(code, code)) for code in languages())),
            tr("The language of the program, from its next start on."),
        )
        self.language.activated.connect(lambda _: self._set_language())
        self.restart = PlainLabel(tr("Start the program again to see it."))
        self.restart.setObjectName("faint")
        self.restart.hide()
        form.addRow(tr("Language"), self.language)
        form.addRow("", self.restart)
        keys = QPushButton(tr("Shortcuts…"))
        keys.setToolTip(tr("See, search and change all shortcuts."))
        keys.clicked.connect(self.keys_requested)
        form.addRow(tr("Keys"), field_row(keys))
        return page

    def _make_sound(self) -> QWidget:
        page, form = self._page()
        self.device = self._combo(
            tr("Sound device"), (("", tr("default device")),), tr("Sound output when there is no JACK server.")
        )
        for name in audio_ports.outputs():
            self.device.addItem(name, name)
        self.rate = self._combo(
            tr("Sample rate"), tuple((rate, f"{rate / 1000:g} kHz") for rate in RATES), tr("Samples per second.")
        )
        self.block = self._combo(
            tr("Block"), tuple((block, tr("{n} frames", n=block)) for block in BLOCKS),
            tr("Smaller blocks respond faster, but may cause dropouts."),
        )  # fmt: skip
        self.delay = PlainLabel()
        self.delay.setObjectName("faint")
        for combo in (self.device, self.rate, self.block):
            combo.activated.connect(lambda _: self._set_sound())
        form.addRow(tr("Device"), self.device)
        form.addRow(tr("Rate and block"), field_row(self.rate, self.block, self.delay))
        note = PlainLabel(tr("With JACK or PipeWire the sound is a client of the server, which says rate and block."))
        note.setObjectName("faint")
        note.setWordWrap(True)
        form.addRow("", note)
        return page

    def _make_playing(self) -> QWidget:
        page, form = self._page()
        self.learn = QCheckBox(tr("learn the kit while it is played"))
        self.learn.setToolTip(tr("Live, the kit is judged by what this sitting has shown so far."))
        self.learn.clicked.connect(self._services.live_lessons.set_on)
        form.addRow(tr("Kits"), self.learn)
        more = QPushButton(tr("Recording and click…"))
        more.setToolTip(tr("Click, count-in, delays, and pads that control recording: kept with each session."))
        more.clicked.connect(self.recording_requested)
        form.addRow(tr("Recording"), field_row(more))
        return page

    def _make_files(self) -> QWidget:
        page, form = self._page()
        self.tells = QCheckBox(tr("say on closing that unsaved work is kept"))
        self.tells.setToolTip(tr("Unsaved work is always kept, and offered under File, Unsaved work."))
        self.tells.clicked.connect(lambda on: self._store.change(tells_kept=on))
        form.addRow(tr("Closing"), self.tells)
        for label, folder in (
            (tr("Own maps and books"), xdg_folders.data()), (tr("Preferences"), xdg_folders.config()),
            (tr("Unsaved work, log"), xdg_folders.state()),
        ):  # fmt: skip
            path = QLabel()
            path.setTextFormat(Qt.TextFormat.PlainText)
            path.setText(str(folder))
            path.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
            opens = QPushButton(tr("Open"))
            opens.setAccessibleName(tr("Open the folder of {what}", what=label))
            opens.clicked.connect(lambda _=False, f=folder: self._open(str(f)))
            form.addRow(label, field_row(opens, path))
        return page

    def _open(self, folder: str) -> None:
        if not QDesktopServices.openUrl(QUrl.fromLocalFile(folder)):
            self._services.notices.tell(tr("No program opens folders here. The folder is {path}", path=folder), True)

    def show_preferences(self) -> None:
        """Show what is kept."""
        now = self._store.now
        out = now.sound
        if out.device and self.device.findData(out.device) < 0:
            self.device.addItem(out.device, out.device)
        for combo, value in (
            (self.theme, now.theme), (self.language, now.language), (self.device, out.device),
            (self.rate, out.rate), (self.block, out.block),
        ):  # fmt: skip
            combo.setCurrentIndex(max(0, combo.findData(value)))
        self.learn.setChecked(now.learn_live)
        self.tells.setChecked(now.tells_kept)
        self.delay.setText(tr("{ms:.1f} ms", ms=1000 * out.block / out.rate))

    def _set_language(self) -> None:
        self._store.change(language=self.language.currentData())
        self.restart.show()

    def _set_sound(self) -> None:
        out = SoundOut(self.device.currentData(), self.rate.currentData(), self.block.currentData())
        self._services.live_session.set_sound_out(out)
        self._store.change(sound=out)
        self.show_preferences()

    def _reset(self) -> None:
        """The usual preferences of what this window shows."""
        usual = Preferences()
        self.theme_chosen.emit(usual.theme)
        self._services.live_session.set_sound_out(usual.sound)
        self._services.live_lessons.set_on(usual.learn_live)
        self._store.change(sound=usual.sound, tells_kept=usual.tells_kept, language=usual.language)
        self.show_preferences()
