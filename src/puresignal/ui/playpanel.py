"""How the chosen tracks are played, and the built-in sound: kit, and level, place, tune and damping of a drum."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFormLayout,
    QFrame,
    QLabel,
    QSizePolicy,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from puresignal.core import session as edits
from puresignal.core.articulations import drum_title
from puresignal.core.delivery import TrackSettings
from puresignal.core.sound import drums
from puresignal.core.sound.drums import Drum
from puresignal.core.soundsettings import with_drum
from puresignal.io import ports
from puresignal.ui.knob import Knob
from puresignal.ui.model import Workbench

NONE = -1


class PlayPanel(QFrame):
    """Where the chosen tracks are played to, with what sound, and whether they are heard.

    changed  (name of the step, function from a track's settings to others)
    """

    changed = Signal(str, object)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("panel")
        title = QLabel(self.tr("Playing the chosen tracks"))
        title.setObjectName("figure")
        self.port = QComboBox()
        self.port.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.port.setAccessibleName(self.tr("Port that the chosen tracks are played to"))
        self.port.setToolTip(self.tr("Where playback sends the chosen tracks."))
        self.port.activated.connect(lambda: self._set(self.tr("set the tracks' port"), port=self.port.currentData()))
        self.bank = self._spin(16_383, self.tr("Bank"), self.tr("Bank, sent before the notes."), "bank")
        self.program = self._spin(
            127, self.tr("Program"), self.tr("Program (sound), sent before the notes."), "program"
        )
        self.level = self._spin(
            127, self.tr("Level"),
            self.tr("Drives controller 7 of the receiver, sent before the notes. It changes no note."), "level",
        )  # fmt: skip
        self.muted = self._check(
            self.tr("Mute"), self.tr("Not heard in playback. The file holds it all the same."), "muted"
        )
        self.solo = self._check(self.tr("Solo"), self.tr("Only solo tracks are heard in playback."), "solo")
        form = QFormLayout()
        form.setSpacing(6)
        form.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
        for label, widget in (
            (self.tr("To"), self.port), (self.tr("Bank"), self.bank), (self.tr("Program"), self.program),
            (self.tr("Level"), self.level), (self.muted, self.solo),
        ):  # fmt: skip
            form.addRow(label, widget)  # type: ignore[call-overload]
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 14, 16, 14)
        column.setSpacing(8)
        column.addWidget(title)
        column.addLayout(form)
        self._there: tuple[str, ...] = ()

    def _spin(self, most: int, name: str, tip: str, field: str) -> QSpinBox:
        spin = QSpinBox()
        spin.setRange(NONE, most)
        spin.setSpecialValueText(self.tr("not sent"))
        spin.setAccessibleName(self.tr("{name} of the chosen tracks").format(name=name))
        spin.setToolTip(tip)
        spin.valueChanged.connect(
            lambda value: self._set(
                self.tr("set the tracks' {what}").format(what=name.lower()), **{field: None if value == NONE else value}
            )
        )
        return spin

    def _check(self, label: str, tip: str, field: str) -> QCheckBox:
        box = QCheckBox(label)
        box.setToolTip(tip)
        box.setAccessibleName(self.tr("{what} the chosen tracks").format(what=label))
        box.clicked.connect(lambda on: self._set(label.lower(), **{field: on}))
        return box

    def _set(self, name: str, **values: object) -> None:
        self.changed.emit(name, lambda settings: replace(settings, **values))

    def show_settings(self, chosen: list[TrackSettings], there: tuple[str, ...]) -> None:
        """What the chosen tracks have in common; there: the ports that can be played to."""
        self.setEnabled(bool(chosen))
        self.port.clear()
        self.port.addItem(ports.SOUND, "")
        own = {t.port for t in chosen if t.port}
        for name in dict.fromkeys((*there, *sorted(own))):
            self.port.addItem(name if name in there else self.tr("{name} (absent)").format(name=name), name)
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
        self.muted.setChecked(bool(chosen) and all(t.muted for t in chosen))
        self.solo.setChecked(bool(chosen) and all(t.solo for t in chosen))


class SoundPanel(QFrame):
    """The built-in sound: its kit, and one drum of it."""

    def __init__(self, workbench: Workbench, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("panel")
        self._workbench = workbench
        self.drum = "snare"
        title = QLabel(self.tr("Built-in sound"))
        title.setObjectName("figure")
        self.kit = QComboBox()
        for kit in drums.KITS:
            self.kit.addItem(kit.name, kit.name)
        self.kit.setAccessibleName(self.tr("Kit of the built-in sound"))
        self.kit.setToolTip(self.tr("How the drums sound here. It changes no note."))
        self.kit.activated.connect(self._set_kit)
        self.about = QLabel()
        self.about.setObjectName("faint")
        self.about.setWordWrap(True)
        usual = Drum()
        self.knobs = {
            "level": Knob(
                self.tr("Level"), "dB", -24, 12, 0, self.tr("How loud this drum is in the built-in sound."), 0.5
            ),
            "place": Knob(self.tr("Place"), "", -1, 1, 0, self.tr("From left (-1) to right (1)."), 0.05),
            "tune": Knob(self.tr("Tune"), self.tr("semitones"), -12, 12, 0, self.tr("Higher or lower."), 0.5),
            "damping": Knob(self.tr("Ring"), "%", 0.2, 2, usual.damping, self.tr("How long it rings."), 0.05),
        }
        for field, knob in self.knobs.items():
            knob.moved.connect(lambda value, gesture, f=field: self._set(f, value, gesture))
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 14, 16, 14)
        column.setSpacing(7)
        for widget in (title, self.kit, self.about, *self.knobs.values()):
            column.addWidget(widget)

    def show_drum(self, keys: list[str]) -> None:
        """The sound's settings; the drum is that of the first chosen track that is one."""
        sound = self._workbench.session.sound
        self.kit.setCurrentIndex(max(0, self.kit.findData(sound.kit)))
        chosen = [key for key in keys if "/" not in key and key not in ("kit", "unmapped")]
        if chosen:
            self.drum = chosen[0]
        self.about.setText(self.tr("Drum: {name} (choose a track)").format(name=drum_title(self.drum)))
        drum = sound.drum(self.drum)
        for field, knob in self.knobs.items():
            knob.show_value(getattr(drum, field))

    def _set_kit(self) -> None:
        bench = self._workbench
        sound = replace(bench.session.sound, kit=self.kit.currentData())
        bench.do(self.tr("choose the sound's kit"), edits.with_sound(bench.session, sound))

    def _set(self, field: str, value: float, gesture: str) -> None:
        bench = self._workbench
        sound = bench.session.sound
        changed = with_drum(sound, self.drum, replace(sound.drum(self.drum), **{field: value}))
        bench.do(self.tr("set a drum's {what}").format(what=field), edits.with_sound(bench.session, changed), gesture)


def playable() -> tuple[str, ...]:
    """The ports that tracks can be played to, beside the built-in sound."""
    found, _ = ports.listing()
    names = [p.name for p in (*found, *ports.virtual()) if not p.gives]
    return tuple(name for name in names if not name.startswith("Pure Signal:"))
