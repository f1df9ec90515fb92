"""Playback of the selected tracks, and the built-in sound: kit, and level, pan, tune and decay of a drum."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QDragEnterEvent, QDropEvent, QShowEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QCompleter,
    QDoubleSpinBox,
    QFileDialog,
    QFormLayout,
    QFrame,
    QHBoxLayout,
    QPushButton,
    QSizePolicy,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from puresignal.core.errors import PureSignalError
from puresignal.core.export.frozen import FRESH, GONE, STALE
from puresignal.core.kit.articulations import drum_title
from puresignal.core.midi.sound_names import GENERAL_MIDI, SoundNames
from puresignal.core.session import session as edits
from puresignal.core.session.sound_settings import with_drum
from puresignal.core.session.track_settings import MOST_OFFSET, TrackSettings
from puresignal.core.sound import drums
from puresignal.core.sound.drums import Drum
from puresignal.io import audio_ports, file_kinds, ports, sample_kits
from puresignal.io.ports import MidiPort
from puresignal.io.preferences import BLOCKS, RATES, SoundOut
from puresignal.translation import tr
from puresignal.ui.state.workbench import Workbench
from puresignal.ui.widgets import text_format
from puresignal.ui.widgets.field_row import field_row
from puresignal.ui.widgets.labelled_slider import LabelledSlider
from puresignal.ui.widgets.plain_text import PlainLabel

NONE = -1
FROM_FOLDER = "\0folder"
"""The entry of the list of kits that makes one; no kit has such a name."""
MOST_NAMED = 5
DESTINATIONS = "\0destinations"
"""The entry of the lists of ports that opens the destinations; no port has such a name."""


class PlaybackPanel(QFrame):
    """Destination and sound of the selected tracks in playback, and whether they are heard.

    changed                 (name of the step, function from a track's settings to new ones)
    destinations_requested  the destinations should be shown
    freeze_requested        the selected tracks should be frozen, or unfrozen
    sound_named             (name, bank or None, program): the sound that is sent was given a name
    """

    changed = Signal(str, object)
    destinations_requested = Signal()
    freeze_requested = Signal()
    sound_named = Signal(str, object, int)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("panel")
        title = PlainLabel(tr("Track"))
        title.setObjectName("figure")
        self.port = QComboBox()
        self.port.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.port.setAccessibleName(tr("Destination of the selected tracks"))
        self.port.setToolTip(
            tr("Where the selected tracks go, in playback and live: a destination, or a port as it is.")
        )
        self.port.activated.connect(self._choose_port)
        self.names = GENERAL_MIDI
        self.sound = QComboBox()
        self.sound.setEditable(True)
        self.sound.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        self.sound.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.sound.setAccessibleName(tr("Sound of the selected tracks"))
        self.sound.setToolTip(
            tr("The receiver's sound by name: type a part of it, or go through them with the arrow keys in playback. "
               "A destination can have a list of its own: type a new name for the sound that is sent, and Enter.")
        )  # fmt: skip
        completer = QCompleter(self.sound.model(), self.sound)
        completer.setFilterMode(Qt.MatchFlag.MatchContains)
        completer.setCompletionMode(QCompleter.CompletionMode.PopupCompletion)
        completer.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        self.sound.setCompleter(completer)
        self.sound.activated.connect(self._choose_sound)
        edit = self.sound.lineEdit()
        assert edit is not None
        edit.returnPressed.connect(self._name_sound)
        self.bank = self._spin(16_383, tr("Bank"), tr("Bank number, sent before the notes."), "bank")
        self.program = self._spin(127, tr("Program"), tr("Program number (sound), sent before the notes."), "program")
        self.level = self._spin(
            127, tr("Level"),
            tr("Sets controller 7 at the receiver, sent before the notes. It changes no note."), "level",
        )  # fmt: skip
        self.offset = QDoubleSpinBox()
        self.offset.setRange(-MOST_OFFSET, MOST_OFFSET)
        self.offset.setDecimals(1)
        self.offset.setSuffix(tr(" ms"))
        self.offset.setAccessibleName(tr("Offset of the selected tracks"))
        self.offset.setToolTip(
            tr("Notes leave later by so much, or earlier if negative, in files and in playback. Live, early "
               "is a choice in Destinations.")
        )  # fmt: skip
        self.offset.valueChanged.connect(lambda value: self._set(tr("set offset"), offset=value))
        self.muted = self._check(
            tr("Mute"), tr("Silence in playback. The file contains the track regardless."), "muted"
        )
        self.solo = self._check(tr("Solo"), tr("Only soloed tracks are heard in playback."), "solo")
        self.drives = PlainLabel()
        self.drives.setObjectName("faint")
        self.drives.setToolTip(tr("What the level does where the track goes; a destination can have another."))
        self.freeze = QPushButton(tr("Freeze"))
        self.freeze.setAccessibleName(tr("Freeze the selected tracks"))
        self.freeze.setToolTip(
            tr("Renders the selected tracks, which then play from that, while others are worked on. Files keep notes.")
        )
        self.freeze.clicked.connect(self.freeze_requested)
        self.state = PlainLabel()
        self.state.setObjectName("faint")
        self.state.setWordWrap(True)
        form = QFormLayout()
        form.setSpacing(6)
        form.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
        for label, widget in (
            (tr("To"), self.port), (tr("Sound"), self.sound), (tr("Bank"), self.bank), (tr("Program"), self.program),
            (tr("Level"), self.level), ("", self.drives), (tr("Offset"), self.offset),
            (self.muted, field_row(self.solo, self.freeze)),
        ):  # fmt: skip
            form.addRow(label, widget)
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 14, 16, 14)
        column.setSpacing(8)
        column.addWidget(title)
        column.addLayout(form)
        column.addWidget(self.state)
        self._there: tuple[str, ...] = ()

    def show_level(self, words: set[str]) -> None:
        """Show what the level of the selected tracks does."""
        self.drives.setText(words.pop() if len(words) == 1 else "")

    def show_frozen(self, states: list[str], busy: bool) -> None:
        """Show whether the selected tracks are frozen. states: of each, see core/export/frozen.py; empty: not frozen"""
        fresh = bool(states) and all(state == FRESH for state in states)
        self.freeze.setText(tr("Unfreeze") if fresh else tr("Freeze again") if STALE in states else tr("Freeze"))
        self.freeze.setEnabled(bool(states) and not busy)
        said = tr("Being rendered…") if busy else ""
        if not busy and STALE in states:
            said = tr("Something has changed since it was frozen: it sounds as it did then.")
        elif not busy and GONE in states:
            said = tr("Its rendering is gone: it plays from its notes.")
        self.state.setText(said)
        self.state.setVisible(bool(said))

    def _choose_port(self) -> None:
        if self.port.currentData() == DESTINATIONS:
            self.destinations_requested.emit()
        else:
            self._set(tr("set destination"), port=self.port.currentData())

    def _choose_sound(self, row: int) -> None:
        if row == 0:
            self._set(tr("choose sound"), bank=None, program=None)
        else:
            one = self.names.sounds[row - 1]
            self._set(tr("choose sound"), bank=one.bank, program=one.program)

    def _name_sound(self) -> None:
        """A name that is not in the list becomes that of the sound that is sent."""
        text = self.sound.currentText().strip()
        program = self.program.value()
        if text and self.sound.findText(text, Qt.MatchFlag.MatchFixedString) < 0 and program != NONE:
            bank = self.bank.value()
            self.sound_named.emit(text, None if bank == NONE else bank, program)

    def _show_sound(self, chosen: list[TrackSettings], names: SoundNames) -> None:
        if names is not self.names or not self.sound.count():
            self.names = names
            self.sound.clear()
            self.sound.addItems([tr("not sent"), *(one.name for one in names.sounds)])
        sent = {(t.bank, t.program) for t in chosen}
        place = names.place(*next(iter(sent))) if len(sent) == 1 else None
        silent = sent == {(None, None)}
        self.sound.setCurrentIndex(0 if silent else -1 if place is None else 1 + place)
        if not silent and place is None:
            self.sound.setEditText("" if len(sent) != 1 else tr("not in the list"))

    def _spin(self, most: int, name: str, tip: str, field: str) -> QSpinBox:
        spin = QSpinBox()
        spin.setRange(NONE, most)
        spin.setSpecialValueText(tr("not sent"))
        spin.setAccessibleName(tr("{name} of the selected tracks").format(name=name))
        spin.setToolTip(tip)
        spin.valueChanged.connect(
            lambda value: self._set(
                tr("set {what}").format(what=name.lower()), **{field: None if value == NONE else value}
            )
        )
        return spin

    def _check(self, label: str, tip: str, field: str) -> QCheckBox:
        box = QCheckBox(label)
        box.setToolTip(tip)
        box.setAccessibleName(tr("{what} the selected tracks").format(what=label))
        box.clicked.connect(lambda on: self._set(label.lower(), **{field: on}))
        return box

    def _set(self, name: str, **values: object) -> None:
        self.changed.emit(name, lambda settings: replace(settings, **values))

    def show_settings(
        self, chosen: list[TrackSettings], there: tuple[str, ...], names: SoundNames = GENERAL_MIDI
    ) -> None:
        """Show what the selected tracks have in common. there: the available ports; names: of the receiver's sounds"""
        self._show_sound(chosen, names)
        self.setEnabled(bool(chosen))
        self.port.clear()
        self.port.addItem(ports.SOUND, "")
        own = {t.port for t in chosen if t.port}
        for name in dict.fromkeys((*there, *sorted(own))):
            self.port.addItem(name if name in there else tr("{name} (unavailable)").format(name=name), name)
        self.port.insertSeparator(self.port.count())
        self.port.addItem(tr("Destinations…"), DESTINATIONS)
        values = {t.port for t in chosen}
        self.port.setCurrentIndex(self.port.findData(values.pop()) if len(values) == 1 else -1 if values else 0)
        for spin, found in (
            (self.bank, {t.bank for t in chosen}), (self.program, {t.program for t in chosen}),
            (self.level, {t.level for t in chosen}),
        ):  # fmt: skip
            spin.blockSignals(True)
            value = next(iter(found)) if len(found) == 1 else None
            spin.setValue(NONE if value is None else value)
            spin.blockSignals(False)
        late = {t.offset for t in chosen}
        self.offset.blockSignals(True)
        self.offset.setValue(late.pop() if len(late) == 1 else 0.0)
        self.offset.blockSignals(False)
        self.muted.setChecked(bool(chosen) and all(t.muted for t in chosen))
        self.solo.setChecked(bool(chosen) and all(t.solo for t in chosen))


class SoundPanel(QFrame):
    """The built-in sound: its kit, one of its drums, and its output device.

    A recording dropped on it is the drum that is shown; a folder of them is a kit.

    sound_out_changed  another sound device, rate or block size: a SoundOut
    kit_changed        the kit has other recordings now
    """

    sound_out_changed = Signal(object)
    kit_changed = Signal()

    def __init__(self, workbench: Workbench, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("panel")
        self.setAcceptDrops(True)
        self._workbench = workbench
        self.drum = "snare"
        self._asked = False
        title = PlainLabel(tr("Built-in sound"))
        title.setObjectName("figure")
        self.kit = QComboBox()
        self.kit.setAccessibleName(tr("Kit of the built-in sound"))
        self.kit.setToolTip(
            tr("The sound of the drums here; no note is changed. Drop a recording: it is the drum below.")
        )
        self.kit.activated.connect(self._set_kit)
        self._fill_kits()
        self.about = PlainLabel()
        self.about.setObjectName("faint")
        self.about.setWordWrap(True)
        usual = Drum()
        self.knobs = {
            "level": LabelledSlider(
                tr("Level"), "dB", -24, 12, 0, tr("Level of this drum in the built-in sound."), 0.5
            ),
            "place": LabelledSlider(tr("Pan"), "", -1, 1, 0, tr("From left (-1) to right (1)."), 0.05),
            "tune": LabelledSlider(tr("Tune"), tr("semitones"), -12, 12, 0, tr("Pitch of this drum."), 0.5),
            "damping": LabelledSlider(tr("Decay"), "%", 0.2, 2, usual.damping, tr("How long the drum rings."), 0.05),
        }
        for field, knob in self.knobs.items():
            knob.moved.connect(lambda value, gesture, f=field: self._set(f, value, gesture))
        self.font_file = QPushButton()
        self.font_file.setAccessibleName(tr("SoundFont file"))
        self.font_file.setToolTip(tr("Your own .sf2 or .sf3 file, for tracks sent to SoundFont."))
        self.font_file.clicked.connect(self.ask_font)
        self.along = QPushButton()
        self.along.setAccessibleName(tr("Backing track"))
        self.along.setToolTip(tr("A recording that plays along. It never enters the MIDI."))
        self.along.clicked.connect(self.ask_along)
        self.along_level = LabelledSlider(
            tr("Backing level"), "dB", -40, 12, -6, tr("Level of the backing track."), 0.5
        )
        self.along_level.moved.connect(lambda value, gesture: self._set_along(gesture, level=value))
        self.along_offset = LabelledSlider(
            tr("Offset"),
            "s",
            -30,
            30,
            0,
            tr("When the backing track starts; a negative offset skips its beginning."),
            0.01,
        )
        self.along_offset.moved.connect(lambda value, gesture: self._set_along(gesture, offset=value))
        self.device, self.rate, self.block = QComboBox(), QComboBox(), QComboBox()
        self.device.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.device.addItem(tr("default device"), "")
        for combo, name, tip in (
            (self.device, tr("Sound device"), tr("Sound output when there is no JACK server.")),
            (self.rate, tr("Sample rate of the sound device"), tr("Samples per second.")),
            (
                self.block,
                tr("Block size of the sound device"),
                tr("Smaller blocks respond faster, but may cause dropouts."),
            ),
        ):
            combo.setAccessibleName(name)
            combo.setToolTip(tip)
            combo.activated.connect(lambda _: self._set_out())
        for rate in RATES:
            self.rate.addItem(tr("{khz:g} kHz").format(khz=rate / 1000), rate)
        for block in BLOCKS:
            self.block.addItem(tr("{n} frames").format(n=block), block)
        self.delay = PlainLabel()
        self.delay.setObjectName("faint")
        self.delay.setWordWrap(True)
        device = QHBoxLayout()
        device.addWidget(self.rate)
        device.addWidget(self.block)
        self.problem = PlainLabel()
        self.problem.setWordWrap(True)
        self.problem.setObjectName("faint")
        self.problem.hide()
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 14, 16, 14)
        column.setSpacing(7)
        for widget in (
            title,
            self.kit,
            self.about,
            *self.knobs.values(),
            self.font_file,
            self.along,
            self.along_level,
            self.along_offset,
            self.problem,
            self.device,
        ):
            column.addWidget(widget)
        column.addLayout(device)
        column.addWidget(self.delay)

    def show_drum(self, keys: list[str]) -> None:
        """Show the sound's settings; the drum is that of the first selected drum track."""
        sound = self._workbench.session.sound
        if self.kit.findData(sound.kit) < 0:
            self._fill_kits(sound.kit)
        self.kit.setCurrentIndex(max(0, self.kit.findData(sound.kit)))
        chosen = [key for key in keys if "/" not in key and key not in ("kit", "unmapped")]
        if chosen:
            self.drum = chosen[0]
        self.about.setText(tr("Drum: {name} (select a track)").format(name=drum_title(self.drum)))
        drum = sound.drum(self.drum)
        for field, knob in self.knobs.items():
            knob.show_value(getattr(drum, field))
        self.font_file.setText(Path(sound.font).name if sound.font else tr("SoundFont…"))
        backing = self._workbench.session.backing
        self.along.setText(tr("Backing track…") if backing is None else Path(backing.path).name)
        for knob, value in (
            (self.along_level, backing and backing.level),
            (self.along_offset, backing and backing.offset),
        ):
            knob.setVisible(backing is not None)
            knob.show_value(value or 0.0)

    def show_out(self, out: SoundOut) -> None:
        """Show the chosen sound device."""
        self._add_devices((out.device,) if out.device else ())
        for combo, value in ((self.device, out.device), (self.rate, out.rate), (self.block, out.block)):
            combo.setCurrentIndex(max(0, combo.findData(value)))

    def _add_devices(self, names: tuple[str, ...]) -> None:
        there = [self.device.itemData(i) for i in range(self.device.count())]
        for name in names:
            if name not in there:
                self.device.addItem(name, name)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        # Listing devices takes a moment that the window's start need not wait for.
        if not self._asked:
            self._asked = True
            QTimer.singleShot(0, lambda: self._add_devices(audio_ports.outputs()))

    def _set_out(self) -> None:
        self.sound_out_changed.emit(
            SoundOut(self.device.currentData(), self.rate.currentData(), self.block.currentData())
        )

    def show_problem(self, state: dict[str, Any]) -> None:
        """Show output and delay, and why a SoundFont or backing track is silent."""
        if state.get("system"):
            text = tr("{system}, {khz:g} kHz, {block} frames: {ms:.1f} ms").format(
                system=state["system"], khz=state["rate"] / 1000, block=state["block"], ms=1000 * state["delay"]
            )
            if state.get("sink"):
                text += "\n" + tr("to {sink}").format(sink=state["sink"])
            if state["system"] == "device" and state["block"] > state.get("wanted", state["block"]):
                text += "\n" + tr("Larger blocks than chosen, since those underran here.")
            if state.get("underruns"):
                text += "\n" + text_format.counted(state["underruns"], "underrun")
            self.delay.setText(text)
            self._add_devices(tuple(state.get("sinks") or ()))
        else:
            self.delay.setText(state.get("why", ""))
        text = "\n".join(filter(None, (state.get("kit", ""), state.get("font", ""), state.get("along", ""))))
        self.problem.setText(text)
        self.problem.setVisible(bool(text))

    def ask_font(self) -> None:
        """Ask for a SoundFont; cancelling removes the present one."""
        name, _ = QFileDialog.getOpenFileName(self, tr("Open a SoundFont"), "", tr("SoundFonts (*.sf2 *.sf3)"))
        self.set_font(name)

    def set_font(self, path: str) -> None:
        """Use another SoundFont, or none."""
        self._workbench.set_font(Path(path) if path else None)

    def ask_along(self) -> None:
        """Ask for a backing track; cancelling removes the present one."""
        kinds = tr("Audio files ({pattern})").format(pattern=file_kinds.AUDIO.pattern)
        name, _ = QFileDialog.getOpenFileName(self, tr("Open an audio file"), "", kinds)
        self.set_along(name)

    def set_along(self, path: str) -> None:
        """Use another backing track, or none."""
        try:
            self._workbench.set_backing(Path(path) if path else None)
        except PureSignalError as error:
            self._workbench.message_shown.emit(str(error), True)

    def _set_along(self, gesture: str, **changed: float) -> None:
        bench = self._workbench
        if bench.session.backing is not None:
            backing = replace(bench.session.backing, **changed)  # type: ignore[arg-type]
            bench.do(tr("set backing track"), edits.with_backing(bench.session, backing), gesture)

    def _fill_kits(self, wanted: str = "") -> None:
        """List our kits, the player's own, and the wanted one even if it is not there."""
        own = sample_kits.names()
        self.kit.clear()
        for kit in drums.KITS:
            self.kit.addItem(tr(kit.name), kit.name)
        for name in own:
            self.kit.addItem(name, name)
        if wanted and self.kit.findData(wanted) < 0:
            self.kit.addItem(tr("{name} (missing)", name=wanted), wanted)
        self.kit.insertSeparator(self.kit.count())
        self.kit.addItem(tr("From a folder of recordings…"), FROM_FOLDER)

    def use_folder(self, folder: Path) -> None:
        """Make a kit of the recordings in a folder, and use it."""
        bench = self._workbench
        try:
            name, left_out = sample_kits.add(folder)
        except PureSignalError as error:
            bench.message_shown.emit(str(error), True)
            return
        self._fill_kits()
        edit = edits.with_sound(bench.session, replace(bench.session.sound, kit=name))
        bench.do(tr("choose kit of the built-in sound"), edit)
        text = tr("{name} is the kit now; its recordings were copied.", name=name)
        if left_out:
            shown = ", ".join(left_out[:MOST_NAMED]) + (", …" if len(left_out) > MOST_NAMED else "")
            text += " " + tr("Not named after a drum, or not readable: {names}.", names=shown)
        bench.message_shown.emit(text, bool(left_out))

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if self._dropped(event):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        path = self._dropped(event)
        if path is not None:
            event.acceptProposedAction()
            self.use_sample(path)

    @staticmethod
    def _dropped(event: QDropEvent) -> Path | None:
        """The recording, or the folder of recordings, that is dropped."""
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        good = len(paths) == 1 and (paths[0].is_dir() or file_kinds.by_ending(paths[0]) is file_kinds.AUDIO)
        return paths[0] if good else None

    def use_sample(self, path: Path) -> None:
        """Let a recording be the drum that is shown; a folder of them is a kit."""
        if path.is_dir():
            self.use_folder(path)
            return
        bench = self._workbench
        try:
            name = sample_kits.with_sample(bench.session.sound.kit, self.drum, path)
        except PureSignalError as error:
            bench.message_shown.emit(str(error), True)
            return
        self._fill_kits()
        edit = edits.with_sound(bench.session, replace(bench.session.sound, kit=name))
        if edit == bench.session:
            # The same kit, with another recording in it.
            self.kit_changed.emit()
        bench.do(tr("choose kit of the built-in sound"), edit)
        said = tr("{drum} of {kit} is {file} now.", drum=drum_title(self.drum), kit=name, file=path.name)
        bench.message_shown.emit(said, False)

    def _set_kit(self) -> None:
        bench = self._workbench
        if self.kit.currentData() == FROM_FOLDER:
            self.show_drum([])
            folder = QFileDialog.getExistingDirectory(self, tr("Folder with kick.wav, snare.wav, hat.open.wav …"))
            if folder:
                self.use_folder(Path(folder))
            return
        sound = replace(bench.session.sound, kit=self.kit.currentData())
        bench.do(tr("choose kit of the built-in sound"), edits.with_sound(bench.session, sound))

    def _set(self, field: str, value: float, gesture: str) -> None:
        bench = self._workbench
        sound = bench.session.sound
        changed = with_drum(sound, self.drum, replace(sound.drum(self.drum), **{field: value}))
        bench.do(tr("set {what} of a drum").format(what=field), edits.with_sound(bench.session, changed), gesture)


def playable(found: tuple[MidiPort, ...]) -> tuple[str, ...]:
    """The ports that tracks can be sent to, besides the built-in sound. found: all ports of the machine."""
    names = [ports.FONT, *(p.name for p in (*found, *ports.virtual()) if not p.gives)]
    return tuple(name for name in names if not name.startswith("Pure Signal:"))
