"""The Outputs view: the tracks, the contents of the file, and exporting clips."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from PySide6.QtCore import (
    QItemSelectionModel,
    Qt,
)
from PySide6.QtGui import QGuiApplication, QShowEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QHeaderView,
    QInputDialog,
    QMenu,
    QPushButton,
    QTableView,
    QTabWidget,
    QVBoxLayout,
    QWidget,
)

from puresignal.core.analysis.warnings import unplayable
from puresignal.core.errors import PureSignalError
from puresignal.core.export.frozen import FRESH
from puresignal.core.export.song_builder import Clip
from puresignal.core.kit.articulations import spoken
from puresignal.core.midi.sound_names import GENERAL_MIDI, with_name
from puresignal.core.session import session as edits
from puresignal.core.session.track_settings import BY_VELOCITY, COLOURS, TrackSettings, moved
from puresignal.io.ports import FONT, SOUND, MidiPort
from puresignal.io.preferences import SoundOut
from puresignal.translation import mark, tr
from puresignal.ui.outputs import clip_export
from puresignal.ui.outputs.destinations_dialog import DestinationsDialog
from puresignal.ui.outputs.playback_panel import PlaybackPanel, SoundPanel, playable
from puresignal.ui.outputs.render_dialog import RenderDialog
from puresignal.ui.outputs.tracks_table import PICTURE, StretchPicture, TracksModel, TracksTable
from puresignal.ui.state.services import Services
from puresignal.ui.state.shown import Shown
from puresignal.ui.state.view import View
from puresignal.ui.widgets import text_format
from puresignal.ui.widgets.plain_text import PlainLabel
from puresignal.ui.widgets.vertical_scroll_area import VerticalScrollArea

_COLOUR_WORDS = {
    "kick": "blue", "snare": "orange", "hat": "teal", "tom": "purple", "cymbal": "gold", "percussion": "green",
    "other": "grey",
}  # fmt: skip
MOST_LISTED = 6


class OutputsView(View):
    """Tracks on the left, file and clip on the right."""

    _SPLITS = (
        ("drum", mark("Track per drum")),
        ("family", mark("Track per family")),
        ("one", mark("All on one track")),
    )

    shows_file = True

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(services, parent)
        workbench = services.workbench
        self._workbench = workbench
        self._shown: Shown | None = None
        self._stretch: tuple[float, float] | None = None
        self.model = TracksModel(self)
        self.model.renamed.connect(self._rename)
        self.model.out_switched.connect(self._tick)
        self.table = self._make_table()

        self.left_out = PlainLabel()
        self.left_out.setObjectName("faint")
        self.left_out.setWordWrap(True)
        left = QVBoxLayout()
        left.setSpacing(10)
        left.addLayout(self._make_top())
        left.addWidget(self.table, 1)
        left.addWidget(self.left_out)
        row = QHBoxLayout(self)
        row.setContentsMargins(20, 16, 20, 16)
        row.setSpacing(18)
        row.addLayout(left, 1)
        self.panels: list[QFrame] = []
        side = QVBoxLayout()
        side.setSpacing(14)
        side.addWidget(self._make_file_panel())
        side.addWidget(self._make_clip_panel())
        self.play = PlaybackPanel()
        self._destinations: DestinationsDialog | None = None
        self._render: RenderDialog | None = None
        self.play.destinations_requested.connect(self.show_destinations)
        self.play.freeze_requested.connect(self._freeze)
        self.play.sound_named.connect(self._name_sound)
        services.freezer.changed.connect(lambda: self.show_take(self._shown))
        self.play.changed.connect(lambda name, change: self._change(name, self.chosen_keys(), change))
        self.sound = SoundPanel(workbench)
        self.panels += [self.play, self.sound]
        side.addStretch()
        side.setContentsMargins(0, 10, 8, 0)
        inner = QWidget()
        inner.setLayout(side)
        # What is seldom needed has a page of its own, so that nothing scrolls.
        self.side = QTabWidget()
        self.side.setAccessibleName(tr("File, track or sound"))
        self.side.addTab(VerticalScrollArea(inner), tr("File"))
        for widget, label in ((self.play, mark("Track")), (self.sound, mark("Sound"))):
            page = QWidget()
            column = QVBoxLayout(page)
            column.setContentsMargins(0, 10, 8, 0)
            column.addWidget(widget)
            column.addStretch()
            self.side.addTab(VerticalScrollArea(page), tr(label))
        row.addWidget(self.side)
        self._ports = playable(services.port_watch.ports)
        self.sound.show_out(services.preferences.now.sound)
        self.sound.sound_out_changed.connect(self._set_sound_out)
        self.sound.kit_changed.connect(services.live_session.follow_sound)
        services.port_watch.changed.connect(self._show_ports)
        services.live_session.sound_state_changed.connect(self.sound.show_problem)
        self.sound.show_problem(services.live_session.sound_state)
        services.playback.span_changed.connect(self.set_stretch)
        self.set_stretch(services.playback.span)

    def first_focus(self) -> QWidget:
        return self.table

    def _set_sound_out(self, out: SoundOut) -> None:
        self._services.live_session.set_sound_out(out)
        self._services.preferences.change(sound=out)

    def _make_top(self) -> QHBoxLayout:
        title = PlainLabel(tr("Tracks"))
        title.setObjectName("title")
        self.split = QComboBox()
        for key, label in self._SPLITS:
            self.split.addItem(tr(label), key)
        self.split.setAccessibleName(tr("Split of the drums to tracks"))
        self.split.setToolTip(tr("How the drums are split to tracks. You can change this back and forth without loss."))
        self.split.activated.connect(self._split)
        self.channel = QComboBox()
        self.channel.addItem(tr("own channel"), None)
        for number in range(1, 17):
            self.channel.addItem(tr("channel {n}").format(n=number), number)
        self.channel.setAccessibleName(tr("Channel of the selected tracks"))
        self.channel.setToolTip(tr("The channel of the selected tracks."))
        self.channel.activated.connect(lambda: self._set(mark("set channel"), channel=self.channel.currentData()))
        self.colour = QComboBox()
        self.colour.addItem(tr("own colour"), "")
        for name in COLOURS:
            self.colour.addItem(tr(_COLOUR_WORDS[name]), name)
        self.colour.setAccessibleName(tr("Colour of the selected tracks"))
        self.colour.setToolTip(tr("The colour of the selected tracks, here and in Takes."))
        self.colour.activated.connect(lambda: self._set(mark("set colour"), colour=self.colour.currentData()))
        self.hidden = QPushButton()
        self.hidden.setCheckable(True)
        self.hidden.setToolTip(tr("Lists hidden tracks too, so that they can be shown again."))
        self.hidden.clicked.connect(self._list_hidden)
        self.hidden.hide()
        top = QHBoxLayout()
        top.setSpacing(8)
        top.addWidget(title)
        top.addWidget(self.hidden)
        top.addStretch()
        self.track_tools: list[QWidget] = [self.colour, self.channel]
        for label, name, tip, by in (
            ("↑", mark("Move up"), mark("Move the selected tracks up (Alt+Up)."), -1),
            ("↓", mark("Move down"), mark("Move the selected tracks down (Alt+Down)."), 1),
        ):
            button = QPushButton(label)
            button.setAccessibleName(tr(name))
            button.setToolTip(tr(tip))
            button.setShortcut("Alt+Up" if by < 0 else "Alt+Down")
            button.clicked.connect(lambda _=False, b=by: self._move(b))
            self.track_tools.append(button)
        for widget in (*self.track_tools, self.split):
            top.addWidget(widget)
        return top

    def _make_table(self) -> TracksTable:
        table = TracksTable()
        table.setModel(self.model)
        table.setItemDelegateForColumn(PICTURE, StretchPicture(self.model, table))
        table.setAccessibleName(tr("Tracks of the file"))
        table.setToolTip(tr("The tracks of the file, in order. Select several to change them together."))
        table.verticalHeader().hide()
        table.verticalHeader().setDefaultSectionSize(34)
        table.setShowGrid(False)
        table.setWordWrap(False)
        table.setSelectionBehavior(QTableView.SelectionBehavior.SelectRows)
        table.setTabKeyNavigation(False)
        table.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        table.customContextMenuRequested.connect(lambda at: self.menu().exec(table.viewport().mapToGlobal(at)))
        head = table.horizontalHeader()
        head.setMinimumSectionSize(6)
        head.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        head.setSectionResizeMode(PICTURE, QHeaderView.ResizeMode.Stretch)
        table.switch_requested.connect(self._switch)
        table.selectionModel().selectionChanged.connect(lambda *_: self._show_chosen())
        return table

    def _panel(self, title: str) -> tuple[QFrame, QVBoxLayout]:
        panel = QFrame()
        panel.setObjectName("panel")
        self.panels.append(panel)
        column = QVBoxLayout(panel)
        column.setContentsMargins(16, 14, 16, 14)
        column.setSpacing(8)
        label = PlainLabel(title)
        label.setObjectName("figure")
        column.addWidget(label)
        return panel, column

    def _make_file_panel(self) -> QFrame:
        panel, column = self._panel(tr("File"))
        self.contents = PlainLabel()
        self.contents.setWordWrap(True)
        self.contents.setTextFormat(Qt.TextFormat.PlainText)
        self.with_tempo = QCheckBox(tr("with tempo and meter"))
        self.with_tempo.setToolTip(tr("When off, the file takes on the tempo of the project you drop it into."))
        self.with_tempo.setAccessibleName(tr("Write tempo and meter"))
        self.with_tempo.clicked.connect(self._write_tempo)
        self.running = QCheckBox(tr("running status"))
        self.running.setToolTip(tr("Leaves out status bytes that repeat: the file is smaller."))
        self.zero_ends = QCheckBox(tr("note-offs as velocity 0"))
        self.zero_ends.setToolTip(tr("Notes end by a note-on of velocity 0; how fast they were let go is lost."))
        for box in (self.running, self.zero_ends):
            box.clicked.connect(self._write_form)
        self.save = QPushButton(tr("Save MIDI file…"))
        self.save.setObjectName("main")
        self.save.setToolTip(tr("Save the clean result as a Standard MIDI File (Ctrl+E)."))
        self.save.setAccessibleName(tr("Save MIDI file"))
        self.save.clicked.connect(self._services.requests.save_midi_requested)
        self.render_button = QPushButton(tr("Render to audio…"))
        self.render_button.setToolTip(tr("Write the mix, tracks, sections or takes as audio files (Ctrl+R)."))
        self.render_button.clicked.connect(self.ask_render)
        for widget in (
            self.contents, self.with_tempo, self.running, self.zero_ends, self.save, self.render_button,
        ):  # fmt: skip
            column.addWidget(widget)
        return panel

    def _make_clip_panel(self) -> QFrame:
        panel, column = self._panel(tr("Export clip"))
        self.what = QComboBox()
        self.what.setAccessibleName(tr("Contents of the clip"))
        self.what.setToolTip(
            tr("What is dragged or copied. Select tracks here, or a time range on the ruler of Takes.")
        )
        for key, label in (
            ("all", mark("everything")),
            ("tracks", mark("selected tracks")),
            ("stretch", mark("selected bars")),
        ):
            self.what.addItem(tr(label), key)
        self.what.activated.connect(lambda: self._show_clip())
        self.handle = clip_export.ClipHandle()
        self.handle.drag_requested.connect(self._drag)
        self.handle.copy_requested.connect(self.copy)
        copy = QPushButton(tr("Copy as file"))
        copy.setToolTip(tr("Copies the clip to the clipboard as a .mid file (Ctrl+Shift+C)."))
        copy.setAccessibleName(tr("Copy the clip as a file"))
        copy.clicked.connect(self.copy)
        self.copy_button = copy
        for widget in (self.what, self.handle, copy):
            column.addWidget(widget)
        return panel

    # Showing

    def set_compact(self, compact: bool) -> None:
        """Use narrower columns and panels in a small window."""
        for panel in self.panels:
            panel.setFixedWidth(222 if compact else 262)
        self.side.setFixedWidth(246 if compact else 286)
        widths = (6, 108, 56, 64, 70, 50, 96, 60) if compact else (6, 130, 62, 72, 84, 62, 120, 120)
        for i, width in enumerate(widths):
            self.table.setColumnWidth(i, width)

    def show_take(self, shown: Shown | None) -> None:
        """Show the current take's tracks and file; the selection is kept."""
        chosen = self.chosen_keys()
        self._shown = shown
        self.model.show_take(shown, self._workbench.session, self._services.freezer.states())
        self.hidden.setVisible(self.model.hidden > 0)
        self.hidden.setText(tr("{n} hidden", n=self.model.hidden))
        self.save.setEnabled(shown is not None)
        session = self._workbench.session
        self.split.setCurrentIndex(self.split.findData(session.path.split.by))
        self.with_tempo.setChecked(session.delivery.with_tempo)
        self.running.setChecked(session.delivery.running)
        self.zero_ends.setChecked(session.delivery.zero_ends)
        rows = [] if shown is None else unplayable(shown.outcome)
        self.left_out.setVisible(bool(rows))
        listed = ", ".join(f"{spoken(name)} ({n})" for name, n in rows[:MOST_LISTED])
        listed += ", …" if len(rows) > MOST_LISTED else ""
        said = tr("The receiver has no sound for {drums}. Choose what plays them in Mapping.", drums=listed)
        self.left_out.setText(said)
        self._choose_keys(chosen)
        self._show_chosen()
        if shown is None:
            self.contents.setText(tr("There is nothing to save yet."))
            return
        tempo = shown.take.tempo
        leaving = [t for t in shown.tracks if t.out]
        notes = int(np.isin(shown.outcome.output_notes.track, [t.index for t in leaving]).sum())
        timing = [f"{text_format.tempo(tempo)}, {text_format.meter(tempo)}"] if session.delivery.with_tempo else []
        ticks = tr("{n} ticks per quarter note").format(n=text_format.count(tempo.ppq))
        tracks = text_format.counted(len(leaving), "named track")
        lines = [
            tr("Standard MIDI File, type 1"),
            " · ".join((tracks, text_format.counted(notes, "note"))),
            " · ".join((*timing, ticks)),
            text_format.duration(shown.take.length),
        ]
        self.contents.setText("\n".join(lines))

        def show_size(size: int) -> None:
            self.contents.setText(f"{self.contents.text()}, {text_format.size(size)}")

        self._services.background.run("file-size", self._workbench.midi_job(), show_size)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._services.port_watch.start()

    def _show_ports(self, found: tuple[MidiPort, ...], _: str) -> None:
        self._ports = playable(found)
        self._show_chosen()

    def _switch(self, field: str) -> None:
        """Mute or solo the selected tracks, or undo that if it is set for all of them."""
        keys = self.chosen_keys()
        if not keys:
            return
        on = not all(getattr(self._workbench.session.delivery.track(key), field) for key in keys)
        self._set({"muted": mark("mute"), "solo": mark("solo"), "out": mark("include tracks")}[field], **{field: on})

    def _list_hidden(self, on: bool) -> None:
        self.model.with_hidden = on
        self.show_take(self._shown)

    def _hide(self, hidden: bool) -> None:
        self._set(mark("hide tracks") if hidden else mark("show tracks"), hidden=hidden)

    def _freeze(self) -> None:
        """Freeze the selected tracks, again where their renderings are stale, or unfreeze them."""
        freezer, keys = self._services.freezer, self.chosen_keys()
        states = freezer.states()
        if keys and all(states.get(key) == FRESH for key in keys):
            freezer.unfreeze(keys)
        else:
            freezer.freeze([key for key in keys if states.get(key) != FRESH])

    def set_stretch(self, stretch: tuple[float, float] | None) -> None:
        """Use the time range selected in Takes."""
        self._stretch = stretch
        if stretch is not None:
            self.what.setCurrentIndex(self.what.findData("stretch"))
        elif self.what.currentData() == "stretch":
            self.what.setCurrentIndex(self.what.findData("all"))
        self._show_clip()

    def chosen_keys(self) -> list[str]:
        """Keys of the selected tracks, in order."""
        rows = sorted({index.row() for index in self.table.selectionModel().selectedRows()})
        return [self.model.track(row).track.key for row in rows] if self._shown is not None else []

    def _choose_keys(self, keys: list[str]) -> None:
        chosen = self.table.selectionModel()
        flags = QItemSelectionModel.SelectionFlag.Select | QItemSelectionModel.SelectionFlag.Rows
        for row in range(self.model.rowCount()):
            if self.model.track(row).track.key in keys:
                chosen.select(self.model.index(row, 0), flags)

    def _show_chosen(self) -> None:
        keys = self.chosen_keys()
        for widget in self.track_tools:
            widget.setEnabled(bool(keys))
        delivery = self._workbench.session.delivery
        settings = [delivery.track(key) for key in keys]
        for box, values in ((self.channel, {t.channel for t in settings}), (self.colour, {t.colour for t in settings})):
            box.setCurrentIndex(box.findData(next(iter(values))) if len(values) == 1 else 0 if not values else -1)
        named = tuple(one.name for one in self._workbench.session.destinations)
        goals = {t.port for t in settings}
        to = next((one for one in self._workbench.session.destinations if goals == {one.name}), None)
        names = GENERAL_MIDI if to is None or to.sounds is None else to.sounds
        self.play.show_settings(settings, (*named, *self._ports), names)
        self.play.show_level({self._drives(t) for t in settings})
        states = self._services.freezer.states()
        self.play.show_frozen([states.get(key, "") for key in keys], self._services.freezer.busy)
        self.sound.show_drum(keys)
        self._show_clip()

    def _name_sound(self, name: str, bank: int | None, program: int) -> None:
        """Name a sound in the list of the destination that the selected tracks go to."""
        bench = self._workbench
        goals = {bench.session.delivery.track(key).port for key in self.chosen_keys()}
        to = next((one for one in bench.session.destinations if goals == {one.name}), None)
        if to is None:
            said = tr("Sounds are named in a destination: make one for this port in Destinations.")
            bench.message_shown.emit(said, False)
            return
        before = to.sounds or replace(GENERAL_MIDI, name=to.name)
        names = with_name(before, name, bank, program)
        bench.do(tr("name a sound"), edits.with_destination(bench.session, replace(to, sounds=names)))

    def _drives(self, settings: TrackSettings) -> str:
        """Chooses whether a track's level is sent as a controller or as velocity."""
        to = self._workbench.session.destination(settings.port)
        if to.drives == BY_VELOCITY:
            return tr("velocity")
        return tr("built-in sound") if to.port in ("", SOUND, FONT) else tr("controller 7")

    def _show_clip(self) -> None:
        clip = self.clip()
        if self._shown is None or clip is None:
            why = {"tracks": tr("Select tracks first."), "stretch": tr("Drag on the ruler of Takes first.")}
            text = why.get(str(self.what.currentData()), "")
            self.handle.show_clip(tr("Nothing to drag"), text, False)
        else:
            self.handle.show_clip(self.clip_name(), tr("Drag into your music program"), True)
        self.copy_button.setEnabled(self._shown is not None and clip is not None)

    # Audio

    def ask_render(self) -> None:
        """Show what can be rendered to audio files."""
        if self._render is None:
            self._render = RenderDialog(self._services, self.window())
        self._render.show_files()
        self._render.show()
        self._render.raise_()

    # Clip

    def show_destinations(self) -> None:
        """Show the destinations; one that is made or renamed there is where the selected tracks go."""
        if self._destinations is None:
            self._destinations = DestinationsDialog(self._services, self)
        self._destinations.show()
        self._destinations.raise_()
        self.show_take(self._shown)

    def clip(self) -> Clip | None:
        """The clip to be dragged, or None."""
        what = self.what.currentData()
        if what == "tracks":
            keys = self.chosen_keys()
            return Clip(frozenset(keys)) if keys else None
        if what == "stretch":
            return Clip(None, *self._stretch) if self._stretch is not None else None
        return Clip()

    def clip_name(self) -> str:
        """A name for the clip's file."""
        assert self._shown is not None
        what = self.what.currentData()
        name = self._shown.take.name if self._shown.is_several else self._shown.ref.name
        if what == "tracks":
            titles = [t.title for t in self._shown.tracks if t.track.key in self.chosen_keys()]
            return f"{name}, {', '.join(titles[:3])}{' …' if len(titles) > 3 else ''}"
        if what == "stretch" and self._stretch is not None:
            first, _, _ = self._shown.take.tempo.position(self._stretch[0])
            last, _, _ = self._shown.take.tempo.position(max(self._stretch[0], self._stretch[1] - 0.001))
            return (
                tr("{name}, bar {first}", name=name, first=first)
                if first == last
                else tr("{name}, bars {first}-{last}", name=name, first=first, last=last)
            )
        return name

    def clip_file(self) -> object:
        """The clip as a file that lives until the program ends, or None if there is none or it could not be written."""
        clip = self.clip()
        if clip is None or self._shown is None:
            return None
        try:
            return clip_export.write(self.clip_name(), self._workbench.midi_bytes(clip))
        except PureSignalError as error:
            self._workbench.message_shown.emit(str(error), True)
            return None

    def _drag(self) -> None:
        path = self.clip_file()
        if path is not None:
            self.handle.drag(path)  # type: ignore[arg-type]

    def copy(self) -> None:
        """Copy the clip to the clipboard as a file."""
        path = self.clip_file()
        if path is not None:
            clipboard = QGuiApplication.clipboard()
            clipboard.setMimeData(clip_export.mime_data(path))  # type: ignore[arg-type]
            there = clipboard.mimeData()
            if there is not None and there.urls() == clip_export.mime_data(path).urls():  # type: ignore[arg-type]
                self._workbench.message_shown.emit(tr("Copied: {name}").format(name=self.clip_name()), False)
            else:
                said = tr("The clipboard did not take the clip. Copy it again, or drag it out.")
                self._workbench.message_shown.emit(said, True)

    # Editing

    def _rename(self, key: str, title: str) -> None:
        bench = self._workbench
        bench.do(tr("rename track"), edits.with_title(bench.session, key, title))

    def _tick(self, key: str, out: bool) -> None:
        keys = self.chosen_keys()
        name = tr("include track") if out else tr("leave track out")
        self._change(name, keys if key in keys else [key], lambda t: replace(t, out=out))

    def _set(self, name: str, **values: object) -> None:
        self._change(tr(name), self.chosen_keys(), lambda t: replace(t, **values))  # type: ignore[arg-type]

    def _change(self, name: str, keys: list[str], change: Callable[[TrackSettings], TrackSettings]) -> None:
        bench = self._workbench
        changed = [change(bench.session.delivery.track(key)) for key in keys]
        bench.do(name, edits.with_tracks(bench.session, changed))

    def add_layer(self) -> None:
        """Send the selected tracks to a further track each as well: a layer, with a destination of its own."""
        bench, session = self._workbench, self._workbench.session
        if self._shown is None:
            return
        titles = {t.track.key: t.title for t in self._shown.tracks}
        for key in self.chosen_keys():
            session = edits.with_layer(session, key, tr("{track}, layer", track=titles[key]))
        bench.do(tr("layer tracks"), session)

    def remove_layer(self) -> None:
        """Send nothing to the selected layers any more."""
        bench, session = self._workbench, self._workbench.session
        layers = {one for _, to in session.sends for one in to}
        for key in self.chosen_keys():
            if key in layers and key not in dict(session.sends):
                session = edits.without_layer(session, key)
        bench.do(tr("remove layer"), session)

    def _move(self, by: int) -> None:
        bench = self._workbench
        if self._shown is None:
            return
        keys = tuple(t.track.key for t in self._shown.tracks)
        bench.do(tr("move tracks"), edits.with_track_order(bench.session, moved(keys, set(self.chosen_keys()), by)))

    def _write_tempo(self) -> None:
        bench = self._workbench
        written = self.with_tempo.isChecked()
        bench.do(
            tr("write tempo") if written else tr("leave out tempo"),
            edits.with_tempo_written(bench.session, written),
        )

    def _write_form(self) -> None:
        bench = self._workbench
        running, zero_ends = self.running.isChecked(), self.zero_ends.isChecked()
        bench.do(tr("form of files"), edits.with_file_form(bench.session, running, zero_ends))

    def _split(self) -> None:
        bench = self._workbench
        bench.do(tr("split tracks"), edits.with_split(bench.session, str(self.split.currentData())))

    def menu(self) -> QMenu:
        """Context menu of the selected tracks."""
        menu = QMenu(self)
        some = bool(self.chosen_keys())
        layers = {one for _, to in self._workbench.session.sends for one in to} - set(
            dict(self._workbench.session.sends)
        )
        add = menu.addAction(tr("Layer on a further track"))
        add.setEnabled(some)
        add.triggered.connect(self.add_layer)
        gone = menu.addAction(tr("Remove layer"))
        gone.setEnabled(any(key in layers for key in self.chosen_keys()))
        gone.triggered.connect(self.remove_layer)
        menu.addSeparator()
        for label, act in (
            (mark("Rename…"), self._ask_name),
            (mark("Include"), lambda: self._set(mark("include tracks"), out=True)),
            (mark("Leave out"), lambda: self._set(mark("leave out tracks"), out=False)),
            (mark("Hide"), lambda: self._hide(True)),
            (mark("Show"), lambda: self._hide(False)),
            (mark("Freeze"), lambda: self._services.freezer.freeze(self.chosen_keys())),
            (mark("Unfreeze"), lambda: self._services.freezer.unfreeze(self.chosen_keys())),
            (mark("Lock"), lambda: self._set(mark("lock tracks"), locked=True)),
            (mark("Unlock"), lambda: self._set(mark("unlock tracks"), locked=False)),
            (mark("Move up"), lambda: self._move(-1)),
            (mark("Move down"), lambda: self._move(1)),
            (
                mark("Reset"),
                lambda: self._change(tr("reset tracks"), self.chosen_keys(), lambda t: TrackSettings(t.key)),
            ),
        ):
            action = menu.addAction(tr(label))
            action.setEnabled(bool(self.chosen_keys()))
            action.triggered.connect(lambda _=False, a=act: a())
        return menu

    def _ask_name(self) -> None:
        """Ask for the name of the selected track; of several, for the pattern that names them."""
        keys = self.chosen_keys()
        if not keys or self._shown is None:
            return
        now = next(t.title for t in self._shown.tracks if t.track.key == keys[0])
        if len(keys) == 1:
            asked, text = tr("Name of the track"), now
        else:
            asked, text = tr("Name of each track: * is its own name, # its number among these"), "*"
        name, chosen = QInputDialog.getText(self, tr("Rename"), asked, text=text)
        if chosen:
            self.rename_all(keys, name)

    def rename_all(self, keys: list[str], pattern: str) -> None:
        """Name tracks by a pattern: * is what each is called, # its number among them."""
        if self._shown is None:
            return
        titles = {t.track.key: t.title for t in self._shown.tracks}
        session = self._workbench.session
        for number, key in enumerate(keys, 1):
            title = pattern if len(keys) == 1 else pattern.replace("*", titles[key]).replace("#", str(number))
            session = edits.with_title(session, key, title)
        self._workbench.do(tr("rename track") if len(keys) == 1 else tr("rename tracks"), session)
