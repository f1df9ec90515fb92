"""The Inputs view: the notes of a take in words and numbers, the live inputs, and the simulated drummer."""

from __future__ import annotations

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFont, QKeyEvent, QPainter
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFormLayout,
    QFrame,
    QHBoxLayout,
    QHeaderView,
    QPushButton,
    QSizePolicy,
    QSpinBox,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QTabWidget,
    QVBoxLayout,
    QWidget,
)

from puresignal.core.analysis.take_overview import Arrival
from puresignal.core.kit.articulations import canonical, family_of, sort_key, spoken
from puresignal.core.kit.note_map import NoteMap, to_json
from puresignal.core.touch.computer_keyboard import Keyboard, own_map
from puresignal.io import note_map_file, ports
from puresignal.sim import drum_module, drummer
from puresignal.translation import mark, tr
from puresignal.ui.inputs.diagnosis import Diagnosis
from puresignal.ui.inputs.keyboard_panel import KeyboardPanel
from puresignal.ui.inputs.live_panel import LivePanel
from puresignal.ui.inputs.message_list import MessageList
from puresignal.ui.inputs.pad_sheet import PadSheet
from puresignal.ui.state.services import Services
from puresignal.ui.state.view import View
from puresignal.ui.state.workbench import Shown, Workbench
from puresignal.ui.widgets import text_format, theme
from puresignal.ui.widgets.map_combo_box import MapComboBox
from puresignal.ui.widgets.plain_text import PlainLabel
from puresignal.ui.widgets.vertical_scroll_area import VerticalScrollArea

_HEADS = (mark("note"), mark("channel"), mark("articulation"), mark("hits"), mark("velocities"),
          mark("softest"), mark("median"), mark("loudest"))  # fmt: skip
_PICTURE = 4
_Index = QModelIndex | QPersistentModelIndex


class ArrivalsModel(QAbstractTableModel):
    """The notes that arrive, one per line."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self._rows: tuple[Arrival, ...] = ()

    def show_rows(self, rows: tuple[Arrival, ...]) -> None:
        self.beginResetModel()
        self._rows = rows
        self.endResetModel()

    def row(self, index: int) -> Arrival:
        return self._rows[index]

    def rowCount(self, parent: _Index | None = None) -> int:
        return 0 if parent is not None and parent.isValid() else len(self._rows)

    def columnCount(self, parent: _Index | None = None) -> int:
        return len(_HEADS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = 0) -> object:
        if orientation == Qt.Orientation.Horizontal:
            if role == Qt.ItemDataRole.DisplayRole:
                return tr(_HEADS[section])
            if role == Qt.ItemDataRole.TextAlignmentRole:
                return Qt.AlignmentFlag.AlignVCenter | _side(section)
        return None

    def data(self, index: _Index, role: int = 0) -> object:
        row, column = self._rows[index.row()], index.column()
        if role == Qt.ItemDataRole.DisplayRole:
            named = " / ".join(spoken(name) for name in row.articulations)
            what = tr("unmapped") if row.unmapped else named or tr("not a drum of this kit")
            texts = (
                str(row.note), str(row.channel), what, text_format.count(row.count), "",
                str(row.softest), str(row.middle), str(row.loudest),
            )  # fmt: skip
            return texts[column]
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignVCenter | _side(column)
        if role == Qt.ItemDataRole.ForegroundRole and column == 2:
            current = theme.current()
            return current.colour("accent") if row.unmapped else current.family(_family(row))
        if role == Qt.ItemDataRole.FontRole and column in (0, 2):
            return theme.font(10, QFont.Weight.DemiBold)
        if role == Qt.ItemDataRole.AccessibleTextRole and column == _PICTURE:
            return tr(
                "{softest} to {loudest}, median {middle}", softest=row.softest, loudest=row.loudest, middle=row.middle
            )
        if role == Qt.ItemDataRole.ToolTipRole:
            if row.unmapped:
                return tr("This note is not in the source map. Choose another map, or add the note in Mapping.")
            return tr("{hits} on note {note}, channel {channel}").format(
                hits=text_format.counted(row.count, "hit"), note=row.note, channel=row.channel
            )
        return None


def _side(column: int) -> Qt.AlignmentFlag:
    left = column in (2, _PICTURE)
    return Qt.AlignmentFlag.AlignLeft if left else Qt.AlignmentFlag.AlignRight


def _family(row: Arrival) -> str:
    return family_of(row.articulations[0]) if row.articulations else "other"


class VelocityPicture(QStyledItemDelegate):
    """Draws a row's velocity histogram, eight velocities per column."""

    def __init__(self, model: ArrivalsModel, parent: QWidget | None = None):
        super().__init__(parent)
        self._model = model

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: _Index) -> None:
        super().paint(painter, option, index)
        row = self._model.row(index.row())
        current = theme.current()
        box = QRectF(option.rect).adjusted(8, 5, -8, -5)
        most = max(row.histogram)
        step = box.width() / len(row.histogram)
        painter.save()
        painter.setPen(current.colour("line"))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(current.colour("accent") if row.unmapped else current.family(_family(row)))
        for i, count in enumerate(row.histogram):
            if count:
                height = max(2.0, count / most * box.height())
                painter.drawRect(QRectF(box.left() + i * step + 1, box.bottom() - height, step - 2, height))
        painter.restore()


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


class PressableTable(QTableView):
    """A table whose rows are pressed with Enter or Space.

    pressed_by_key  the row
    """

    pressed_by_key = Signal(int)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        plain = not event.modifiers() & ~Qt.KeyboardModifier.KeypadModifier
        if plain and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.pressed_by_key.emit(self.currentIndex().row())
        else:
            super().keyPressEvent(event)


class InputsView(View):
    """The notes of the current take, the live inputs, and the drummer."""

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(services, parent)
        workbench, live_session = services.workbench, services.live_session
        self._workbench = workbench
        self._live_session = live_session
        self.live = LivePanel(services)
        self._seed = 0
        self.title = PlainLabel()
        self.title.setObjectName("title")
        self.facts = PlainLabel()
        self.facts.setObjectName("faint")
        self.facts.setWordWrap(True)
        self.warnings = PlainLabel()
        self.warnings.setWordWrap(True)
        self.warnings.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.model = ArrivalsModel(self)
        self.table = self._make_table()
        self.drummer = DrummerPanel(workbench)
        self.drummer.take_played.connect(lambda take, kit: workbench.add_take(take, kit, tr("play a take")))
        self.drummer.kit.failed.connect(lambda text: services.notices.tell(text, True))
        self.questions = Diagnosis(services, self.live)
        self.live.device_switched.connect(self.play_device)
        self.drummer.streaming_switched.connect(lambda on: self.play_device(ports.DRUM_MODULE, on))
        self.drummer.pad_played.connect(self.strike)
        live_session.stopped.connect(lambda: self.drummer.show_streaming(False))

        left = QVBoxLayout()
        left.setSpacing(8)
        self.messages = MessageList(live_session)
        self.pages = QTabWidget()
        self.pages.setAccessibleName(tr("Notes of the take, or messages of the live input"))
        self.pages.addTab(self.table, tr("Notes of the take"))
        self.pages.addTab(self.messages, tr("Messages in"))
        self.leaving = MessageList(live_session, leaving=True)
        self.pages.addTab(self.leaving, tr("Messages out"))
        self.keys = KeyboardPanel(services.keyboard, live_session)
        self.keys.settings_changed.connect(self._set_keyboard)
        self.pages.addTab(self.keys, tr("Computer keyboard"))
        self.pads = PadSheet(services.pads)
        self.pages.addTab(self.pads, tr("Pads"))
        # Hitting a pad starts listening to it.
        self.pages.currentChanged.connect(self._turn)
        left.addWidget(self.title)
        left.addWidget(self.facts)
        left.addWidget(self.pages, 1)
        left.addWidget(self.warnings)
        row = QHBoxLayout(self)
        row.setContentsMargins(20, 16, 8, 16)
        row.setSpacing(16)
        row.addLayout(left, 1)
        inner = QWidget()
        side = QVBoxLayout(inner)
        side.setContentsMargins(0, 0, 0, 0)
        side.setSpacing(12)
        side.addWidget(self.live)
        side.addWidget(self.drummer)
        side.addStretch()
        self.side = VerticalScrollArea(inner)
        row.addWidget(self.side)

    def _show_hits(self, row: int) -> None:
        """Show the hits of a note in Takes."""
        shown = self._services.workbench.shown
        if shown is None or not 0 <= row < self.model.rowCount():
            return
        here, played = self.model.row(row), shown.outcome.input_notes
        mine = (played.note == here.note) & (played.channel == here.channel)
        self._services.requests.hits_requested.emit(played.origin[mine])

    def _make_table(self) -> PressableTable:
        table = PressableTable()
        table.setModel(self.model)
        table.setItemDelegateForColumn(_PICTURE, VelocityPicture(self.model, table))
        table.setAccessibleName(tr("Notes that arrive"))
        table.setToolTip(tr("Every note of the take. Unmapped notes come first. Enter shows the hits in Takes."))
        table.verticalHeader().hide()
        table.verticalHeader().setDefaultSectionSize(30)
        table.setShowGrid(False)
        table.setWordWrap(False)
        table.setAlternatingRowColors(True)
        table.setSelectionBehavior(QTableView.SelectionBehavior.SelectRows)
        table.setTabKeyNavigation(False)
        table.pressed_by_key.connect(self._show_hits)
        table.doubleClicked.connect(lambda index: self._show_hits(index.row()))
        head = table.horizontalHeader()
        head.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        head.setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        head.setMinimumSectionSize(48)
        return table

    def sizeHint(self) -> QSize:
        return QSize(900, 600)

    def first_focus(self) -> QWidget:
        return self.table

    def play_take(self) -> None:
        """Let the simulated drummer play a take, as it is set up here."""
        self.drummer.play.click()

    def _set_keyboard(self, keyboard: Keyboard) -> None:
        self._services.keyboard.set_keyboard(keyboard)
        self._services.preferences.change(keyboard=keyboard)

    def _turn(self, _: int) -> None:
        if self.pages.currentWidget() is self.pads and self.isVisible():
            self._live_session.listen_to(ports.SCREEN_PADS, own_map())

    # Live playing of the simulated devices

    def play_device(self, port: str, on: bool) -> None:
        """Start or stop a simulated device; its port becomes a live input."""
        if port == ports.DRUM_MODULE:
            self.drummer.show_streaming(on)
        if not on:
            self._live_session.device(stop=port)
            self.live.show_inputs()
            return
        kits = {ports.DRUM_MODULE: self.drummer.kit_now, ports.PAD_BOX: note_map_file.shipped("lantern-pads")}
        kit = kits.get(port)
        self._live_session.listen_to(port, kit)
        self._seed += 1
        self._live_session.device(
            play=port, kit=None if kit is None else to_json(kit), bpm=self.drummer.tempo.value(),
            faults=self.drummer.chosen_faults(), seed=self._seed,
        )  # fmt: skip
        self.live.show_inputs()

    def strike(self, articulation: str, velocity: int) -> None:
        """Hit a pad of the simulated module once."""
        kit = self.drummer.kit_now
        self._live_session.listen_to(ports.DRUM_MODULE, kit)
        self._live_session.device(hit=ports.DRUM_MODULE, kit=to_json(kit), articulation=articulation, velocity=velocity)

    def set_compact(self, compact: bool) -> None:
        """Use narrower columns in a small window."""
        for panel in (self.drummer, self.live):
            panel.setFixedWidth(246 if compact else 268)
        # Leaves room for a scroll bar, so that nothing jumps when one appears.
        self.side.setFixedWidth(260 if compact else 282)
        widths = (54, 72, 140, 54, 112, 66, 62, 68) if compact else (58, 76, 240, 58, 160, 70, 70, 74)
        for i, width in enumerate(widths):
            if i != 2:
                self.table.setColumnWidth(i, width)

    def show_take(self, shown: Shown | None) -> None:
        """Show the current take, or what to do if there is none."""
        if shown is None:
            self.title.setText(tr("Nothing has arrived yet"))
            self.facts.setText(
                tr("Open a MIDI file, drop one on this window, or let the simulated drummer play a take.")
            )
            self.warnings.setText("")
            self.model.show_rows(())
            return
        facts, tempo = shown.facts, shown.take.tempo
        self.title.setText(shown.ref.name)
        kinds = ", ".join(text_format.counted(n, kind) for kind, n in facts.kinds)
        channels = ", ".join(map(str, facts.channels))
        self.facts.setText(
            tr("{length} · {notes} on channel {channels} · {tempo}, {meter}\n{messages}: {kinds}").format(
                length=text_format.duration(facts.seconds),
                notes=text_format.counted(facts.notes, "note"),
                channels=channels or "–",
                tempo=text_format.tempo(tempo),
                meter=text_format.meter(tempo),
                messages=text_format.counted(facts.messages, "message"),
                kinds=kinds,
            )
        )
        self.warnings.setText("\n".join(f"• {text}" for text in shown.warnings))
        self.model.show_rows(shown.arrivals)
        # A single channel is named above; a column of it would waste space.
        self.table.setColumnHidden(1, len(facts.channels) < 2)
