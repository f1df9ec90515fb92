"""The simulated drummer's face: what it plays on, which faults its kit has, and what it is asked to play."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFormLayout,
    QFrame,
    QHBoxLayout,
    QPushButton,
    QSizePolicy,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from puresignal.core.kit.articulations import canonical, sort_key, spoken
from puresignal.core.kit.note_map import NoteMap
from puresignal.io import note_map_file
from puresignal.sim import drum_module, drummer
from puresignal.translation import mark, tr
from puresignal.ui.state.workbench import Workbench
from puresignal.ui.widgets.map_combo_box import MapComboBox
from puresignal.ui.widgets.plain_text import PlainLabel


class DrummerPanel(QFrame):
    """The simulated drummer: choose a kit and its faults, and add a take or play live.

    take_played         a new take: (take, kit's note map)
    streaming_switched  the module should play live on its port, or stop
    pad_played          hit one pad: (articulation, velocity)
    """

    take_played = Signal(object, object)
    streaming_switched = Signal(bool)
    pad_played = Signal(str, int)

    _FAULTS = (
        ("doubles", mark("Double triggers"), mark("Sometimes a pad sends a weak second hit for one stroke.")),
        ("crosstalk", mark("Crosstalk"), mark("A hard hit shakes a neighbouring pad on the same stand.")),
        ("hanging", mark("Hanging notes"), mark("Sometimes a note-off is never sent.")),
        ("no_length", mark("Notes without length"), mark("Sometimes a note ends the moment it starts.")),
        ("stray", mark("Stray messages"), mark("The module sends unsolicited messages.")),
    )

    def __init__(self, workbench: Workbench, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("panel")
        self._workbench = workbench
        self._seed = 0
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 14, 16, 14)
        column.setSpacing(8)
        title = PlainLabel(tr("Simulated drummer"))
        title.setObjectName("figure")
        about = PlainLabel(tr("No kit at hand? This drummer plays grooves of its own on the kit you choose."))
        about.setObjectName("faint")
        about.setWordWrap(True)
        column.addWidget(title)
        column.addWidget(about)

        self.kit = MapComboBox(parent=self)
        self.kit.setMinimumWidth(120)
        self.kit.setSizeAdjustPolicy(MapComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.kit.setMinimumContentsLength(10)
        self.kit.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.kit.show_map(note_map_file.shipped("practice-five"))
        self.kit.setAccessibleName(tr("Kit of the simulated drummer"))
        self.kit.setToolTip(tr("The kit determines which notes arrive."))
        self.kit.chosen.connect(self._choose_kit)
        self.tempo = _spin(40, 240, 92, tr(" BPM"), tr("Tempo of the drummer, in quarter notes per minute."))
        self.bars = _spin(1, 400, 16, tr(" bars"), tr("How long the drummer plays."))
        form = QFormLayout()
        form.setSpacing(8)
        form.setLabelAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        form.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
        for label, control in ((mark("Kit"), self.kit), (mark("Tempo"), self.tempo), (mark("Length"), self.bars)):
            control.setAccessibleName(control.accessibleName() or tr(label))
            form.addRow(tr(label), control)
        column.addLayout(form)

        faults = PlainLabel(tr("FAULTS OF THE KIT"))
        faults.setObjectName("section")
        column.addWidget(faults)
        self.faults: dict[str, QCheckBox] = {}
        for name, label, tip in self._FAULTS:
            box = QCheckBox(tr(label))
            box.setChecked(True)
            box.setToolTip(tr(tip))
            box.setAccessibleName(tr(label))
            self.faults[name] = box
            column.addWidget(box)
        self.play = QPushButton(tr("Play a take"))
        self.play.setObjectName("main")
        self.play.setToolTip(tr("Adds a new take at once, different each time."))
        self.play.setAccessibleName(tr("Let the simulated drummer play a take"))
        self.play.clicked.connect(self._play)
        self.stream = QPushButton(tr("Play live"))
        self.stream.setCheckable(True)
        self.stream.setToolTip(tr("Plays continuously on the port Simulated drum module, like a kit on a cable."))
        self.stream.setAccessibleName(tr("Let the simulated drum module play live"))
        self.stream.clicked.connect(self._stream)
        self.pad = QComboBox()
        self.pad.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.pad.setAccessibleName(tr("Pad to hit"))
        self.pad.setToolTip(tr("The pad to hit."))
        self.hit = QPushButton(tr("Hit"))
        self.hit.setToolTip(tr("One hit on this pad, on the port Simulated drum module."))
        self.hit.setAccessibleName(tr("Hit the pad once"))
        self.hit.clicked.connect(lambda: self.pad_played.emit(self.pad.currentData(), 96))
        self._fill_pads()
        workbench.changed.connect(self._follow_tempo)
        self._tempo_of = 0.0
        self._follow_tempo()
        keys, once = QHBoxLayout(), QHBoxLayout()
        keys.setSpacing(4)
        keys.addWidget(self.play, 1)
        keys.addWidget(self.stream, 1)
        once.setSpacing(4)
        once.addWidget(self.pad, 1)
        once.addWidget(self.hit)
        column.addSpacing(4)
        column.addLayout(keys)
        column.addLayout(once)
        column.addStretch()

    def _follow_tempo(self) -> None:
        """The drummer plays at the session's tempo, until he is told another."""
        bpm = self._workbench.timeline.bpm_at(0.0)
        if bpm != self._tempo_of and self._workbench.session.takes:
            self._tempo_of = bpm
            self.tempo.setValue(round(bpm))

    def _fill_pads(self) -> None:
        self.pad.clear()
        names = sorted({canonical(p.articulation) for p in self.kit_now.pads}, key=sort_key)
        for name in names:
            self.pad.addItem(spoken(name), name)
        self.pad.setCurrentIndex(max(0, self.pad.findData("snare.head")))

    @property
    def kit_now(self) -> NoteMap:
        """The selected kit."""
        note_map = self.kit.now
        return note_map if note_map is not None else note_map_file.shipped("practice-five")

    def chosen_faults(self) -> dict[str, float]:
        """How often each selected fault occurs."""
        usual = drum_module.Faults.usual()
        return {name: getattr(usual, name) for name, box in self.faults.items() if box.isChecked()}

    def show_streaming(self, on: bool) -> None:
        """Show whether the module is playing live."""
        self.stream.setChecked(on)
        self.stream.setText(tr("Stop") if on else tr("Play live"))

    def _stream(self, on: bool) -> None:
        self.show_streaming(on)
        self.streaming_switched.emit(on)

    def _choose_kit(self, note_map: NoteMap) -> None:
        self.kit.show_map(note_map)
        self._fill_pads()

    def _play(self) -> None:
        kit = self.kit_now
        self._seed += 1
        chosen = self.chosen_faults()
        bpm = float(self.tempo.value())
        performance = drummer.improvise(self.bars.value(), bpm, self._seed)
        sent = drum_module.DrumModule(kit, drum_module.Faults(**chosen), self._seed).perform(performance)
        ident = self._workbench.store.free_ident()
        name = tr("Simulated drummer, take {number}").format(number=self._seed)
        self.take_played.emit(drum_module.to_take(sent, ident, name, bpm, f"{kit.name} (simulated)"), kit)


def _spin(low: int, high: int, value: int, unit: str, tip: str) -> QSpinBox:
    spin = QSpinBox()
    spin.setRange(low, high)
    spin.setValue(value)
    spin.setSuffix(unit)
    spin.setToolTip(tip)
    return spin
