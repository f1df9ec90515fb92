"""The Velocity view: a plot for each drum, and the settings of the selected one."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from puresignal.core.analysis import drum_statistics
from puresignal.core.analysis.drum_statistics import DrumStats
from puresignal.core.kit.articulations import drum_of, drum_title, family_of, sort_key
from puresignal.core.midi import messages
from puresignal.core.path.cleaning_path import CleaningPath
from puresignal.core.path.scoped import Scoped
from puresignal.core.path.setting import settings_of
from puresignal.core.path.vary import Vary
from puresignal.core.path.velocity import Velocity
from puresignal.core.path.velocity_curve import ALL, TRACK, Shape, evened, leaves_as, with_field
from puresignal.core.session import session as edits
from puresignal.engine.ring import Record
from puresignal.translation import mark, tr
from puresignal.ui.state.services import Services
from puresignal.ui.state.shown import Shown
from puresignal.ui.state.view import View
from puresignal.ui.velocity.velocity_plot import VelocityPlot
from puresignal.ui.widgets import text_format
from puresignal.ui.widgets.labelled_slider import LabelledSlider
from puresignal.ui.widgets.plain_text import PlainLabel
from puresignal.ui.widgets.vertical_scroll_area import VerticalScrollArea

COLUMNS = 4
VARIED = ("amount", "bias")
"""Settings of the knobs that are the Vary stage's."""


def _value_for(setting: Scoped, key: str) -> float:
    """The value that applies to a drum, or to all."""
    own = dict(setting.articulations) | {TRACK + track: value for track, value in setting.tracks}
    return setting.value if key == ALL else own.get(key, setting.value)


class VelocityView(View):
    """Plots in the middle, the selected drum's settings at the right."""

    _GROUPS = (
        (mark("RANGE"), "low", "high"),
        (mark("SCALE AND OFFSET"), "scale", "offset"),
        (mark("SPREAD"), "spread", "centre", "accents"),
        (mark("THRESHOLD AND FIXED"), "threshold", "fixed"),
        (mark("RANDOM"), "amount", "bias"),
    )
    """Title and settings of each group; what a setting is called, and how far it goes, stands in `Shape` and `Vary`."""

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(services, parent)
        live_session = services.live_session
        self._workbench, self._live_session = services.workbench, live_session
        self._shown: Shown | None = None
        self.key = ALL
        self.plots: dict[str, VelocityPlot] = {}
        self._grid = QGridLayout()
        self._grid.setSpacing(10)
        self._grid.setContentsMargins(16, 12, 12, 12)
        self.says = PlainLabel()
        self.says.setObjectName("faint")
        self.on = QCheckBox(tr("on"))
        self.on.setAccessibleName(tr("Shape velocities"))
        self.on.setToolTip(tr("When off, no shape applies. Varying has a switch of its own in Takes."))
        self.on.clicked.connect(lambda on: self._do(tr("shape velocities"), replace(self._stage(), on=on)))
        self.fine = QCheckBox(tr("fine steps"))
        self.fine.setAccessibleName(tr("Send velocities in more than 127 steps"))
        self.fine.setToolTip(
            tr("Sends fractions of a velocity as controller 88 before the note, for receivers that support it.")
        )
        self.fine.clicked.connect(lambda on: self._do_path(tr("send fine velocities"), "target", "fine", on))
        self.even = QPushButton(tr("Match pads"))
        self.even.setAccessibleName(tr("Match pads"))
        self.even.setToolTip(
            tr("Makes a curve for each drum, so that soft, medium and hard hits of all match. Undo goes back.")
        )
        self.even.clicked.connect(self._even)
        self.anew = QPushButton(tr("New variation"))
        self.anew.setAccessibleName(tr("New random variation"))
        self.anew.setToolTip(tr("Draws the random variation again."))
        self.anew.clicked.connect(
            lambda: self._do_path(tr("draw new variation"), "vary", "round", self._path.vary.round + 1)
        )
        top = QHBoxLayout()
        top.setSpacing(8)
        top.setContentsMargins(16, 8, 16, 0)
        top.addWidget(self.says, 1)
        for widget in (self.on, self.fine, self.even, self.anew):
            top.addWidget(widget)
        inner = QWidget()
        holder = QVBoxLayout(inner)
        holder.setContentsMargins(0, 0, 0, 0)
        holder.addLayout(self._grid)
        holder.addStretch()
        scroll = QScrollArea()
        scroll.setWidget(inner)
        scroll.setWidgetResizable(True)
        scroll.setFrameShape(QFrame.Shape.NoFrame)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        left = QVBoxLayout()
        left.setSpacing(0)
        left.addLayout(top)
        left.addWidget(scroll, 1)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addLayout(left, 1)
        row.addWidget(self._make_side())
        live_session.messages_received.connect(self._mark)

    def _make_side(self) -> VerticalScrollArea:
        panel = QFrame()
        panel.setObjectName("panel")
        column = QVBoxLayout(panel)
        column.setContentsMargins(14, 10, 14, 10)
        column.setSpacing(3)
        self.title = PlainLabel()
        self.title.setObjectName("figure")
        self.about = PlainLabel()
        self.about.setObjectName("faint")
        self.about.setWordWrap(True)
        column.addWidget(self.title)
        column.addWidget(self.about)
        self.knobs: dict[str, LabelledSlider] = {}
        known = {one.name: one for one in (*settings_of(Shape), *settings_of(Vary))}
        for title, *names in self._GROUPS:
            head = PlainLabel(tr(title))
            head.setObjectName("section")
            head.setContentsMargins(0, 5, 0, 0)
            column.addWidget(head)
            for one in map(known.__getitem__, names):
                highest = one.high if one.reach is None else one.reach
                lowest = max(one.low, -highest) if one.low < 0 else one.low
                usual = one.default.value if isinstance(one.default, Scoped) else one.default
                assert isinstance(usual, float)
                knob = LabelledSlider(tr(one.label), one.unit, lowest, highest, usual, tr(one.tip), one.step)
                change = self._vary if one.name in VARIED else self._set
                knob.moved.connect(lambda value, gesture, f=one.name, do=change: do(f, value, gesture))
                self.knobs[one.name] = knob
                column.addWidget(knob)
        self.reset = QPushButton(tr("Reset"))
        self.reset.setAccessibleName(tr("Reset the velocities of this drum"))
        self.reset.setToolTip(tr("Clears all settings of this drum; it then follows all drums."))
        self.reset.clicked.connect(self._reset)
        column.addWidget(self.reset)
        inner = QWidget()
        holder = QVBoxLayout(inner)
        holder.setContentsMargins(4, 12, 12, 12)
        holder.addWidget(panel)
        holder.addStretch()
        self.side = VerticalScrollArea(inner)
        self.side.setFixedWidth(272)
        return self.side

    def first_focus(self) -> QWidget:
        return self.on

    # Showing

    def show_take(self, shown: Shown | None) -> None:
        """Show the current take's drums and settings."""
        self._shown = shown
        drums: tuple[DrumStats, ...] = ()
        if shown is not None:
            drums = drum_statistics.of_take(shown.outcome, shown.grid)
            drums += drum_statistics.of_pitched(shown.outcome, shown.grid)
        self._stats = {one.name: one for one in drums}
        wanted = [ALL, *self._stats]
        if list(self.plots) != wanted:
            for plot in self.plots.values():
                self._grid.removeWidget(plot)
                plot.hide()
                plot.deleteLater()
            self.plots = {key: self._plot(key, i) for i, key in enumerate(wanted)}
        if self.key not in self.plots:
            self.key = ALL
        stage = self._stage()
        shapes = dict(stage.shapes)
        for key, plot in self.plots.items():
            one = self._stats.get(key)
            arrived = one.arrived if one else np.concatenate([d.arrived for d in drums] or [np.zeros(0)])
            left = one.left if one else np.concatenate([d.left for d in drums] or [np.zeros(0)])
            shape = shapes.get(key) or (shapes.get(ALL) if key != ALL else None) or Shape()
            plot.show_hits(arrived, left, shape if stage.on else Shape(), key in shapes)
            plot.selected = key == self.key
        self.on.setChecked(stage.on)
        self.fine.setChecked(self._path.target.fine)
        self.says.setText(tr("Drag a curve.") if shown is not None else tr("No take yet."))
        self.even.setEnabled(len(self._drums) > 1)
        self.anew.setEnabled(not self._path.vary.plain)
        self._show_chosen()

    def _plot(self, key: str, place: int) -> VelocityPlot:
        family = "other" if key == ALL or key.startswith(TRACK) else family_of(key)
        plot = VelocityPlot(key, self._title_of(key), family)
        plot.chosen.connect(lambda: self.choose(key))
        plot.curve_changed.connect(lambda shape, gesture: self._shape(key, shape, gesture))
        self._grid.addWidget(plot, place // COLUMNS, place % COLUMNS)
        return plot

    def show_settings(self) -> None:
        self.on.setChecked(self._stage().on)
        self._show_chosen()

    @property
    def _drums(self) -> dict[str, DrumStats]:
        """The statistics of drums alone: pads are matched, tracks are not."""
        return {name: one for name, one in self._stats.items() if not name.startswith(TRACK)}

    def _title_of(self, key: str) -> str:
        """The name of a drum, of a pitched track, or of all."""
        if key == ALL:
            return tr("All drums") if len(self._drums) == len(self._stats) else tr("All drums and tracks")
        if not key.startswith(TRACK):
            return drum_title(key)
        entries = () if self._shown is None else self._shown.tracks
        return next((one.title for one in entries if TRACK + one.track.key == key), key.removeprefix(TRACK))

    def choose(self, key: str) -> None:
        """Show the settings of a drum, or of all."""
        self.key = key
        for other, plot in self.plots.items():
            plot.selected = other == key
            plot.update()
        self._show_chosen()

    def _show_chosen(self) -> None:
        shapes = dict(self._stage().shapes)
        shape = shapes.get(self.key) or (shapes.get(ALL) if self.key != ALL else None) or Shape()
        vary = self._path.vary
        for field, knob in self.knobs.items():
            knob.show_value(_value_for(getattr(vary, field), self.key) if field in VARIED else getattr(shape, field))
        self.title.setText(self._title_of(self.key))
        own = [key for key, _ in vary.amount.articulations] + [TRACK + key for key, _ in vary.amount.tracks]
        varies = self.key in own or (self.key == ALL and bool(vary.amount.value))
        self.reset.setEnabled(self.key in shapes or varies)
        one = self._stats.get(self.key) if self._shown is not None else None
        if one is None:
            self.about.setText(tr("Applies to every drum and track without a shape of its own."))
            return
        (a, b), (c, d), (late, jitter) = one.middle, one.spread, one.timing
        side = tr("late") if late >= 0 else tr("early")
        shaped = tr("own shape") if self.key in shapes else tr("shaped like all others")
        lines = (
            tr("{hits}, {own}.").format(hits=text_format.counted(len(one.arrived), "hit"), own=shaped),
            tr("Median {a:.0f} → {b:.0f}, spread ±{c:.0f} → ±{d:.0f}.").format(a=a, b=b, c=c, d=d),
            tr("{late:.1f} ms {side}, ±{jitter:.1f} ms.").format(late=abs(late), side=side, jitter=jitter)
            if late == late
            else tr("Its beats are not known, so nothing is early or late."),
        )
        self.about.setText("\n".join(lines))

    def _mark(self, records: list[Record]) -> None:
        """Mark hits that arrive now on their drums."""
        if not self.isVisible():
            return
        for record in records[-16:]:
            data = record.data
            if messages.is_note_on(data):
                name = self._live_session.context_of(record).articulation_of(messages.channel(data), data[1])
                for key in (ALL, drum_of(name) if name else ALL):
                    if key in self.plots:
                        self.plots[key].mark(float(data[2]))

    # Editing

    def _stage(self) -> Velocity:
        return self._workbench.session.path.velocity

    @property
    def _path(self) -> CleaningPath:
        return self._workbench.session.path

    def _do(self, name: str, stage: Velocity, gesture: str | None = None) -> None:
        self._do_all(name, replace(self._path, velocity=stage), gesture)

    def _do_path(self, name: str, stage: str, setting: str, value: object) -> None:
        self._do_all(name, self._path.with_setting(stage, setting, value))

    def _do_all(self, name: str, path: CleaningPath, gesture: str | None = None) -> None:
        bench = self._workbench
        bench.do(name, edits.with_path(bench.session, path), gesture)

    def _shape(self, key: str, shape: Shape, gesture: str | None = None) -> None:
        stage = self._stage()
        shapes = {**dict(stage.shapes), key: shape}
        # A drum with the same settings as all drums has none of its own.
        if shape == Shape() and (key == ALL or ALL not in shapes):
            del shapes[key]
        name = tr("shape all velocities") if key == ALL else tr("shape {drum}").format(drum=self._title_of(key).lower())
        self._do(name, replace(stage, on=True, shapes=tuple(sorted(shapes.items()))), gesture)

    def _set(self, field: str, value: float, gesture: str) -> None:
        shapes = dict(self._stage().shapes)
        shape = shapes.get(self.key) or shapes.get(ALL) or Shape()
        self._shape(self.key, with_field(shape, field, value), gesture)

    def _vary(self, field: str, value: float, gesture: str) -> None:
        """Set how the velocities of the chosen drum are varied, which switches the stage on."""
        now: Scoped = getattr(self._path.vary, field)
        if self.key == ALL:
            changed = replace(now, value=value)
        elif self.key.startswith(TRACK):
            changed = now.with_track(self.key.removeprefix(TRACK), value)
        else:
            rows = tuple(row for row in now.articulations if row[0] != self.key)
            changed = replace(now, articulations=tuple(sorted((*rows, (self.key, value)))))
        path = self._path.with_setting("vary", field, changed)
        self._do_all(tr("vary velocities"), replace(path, vary=replace(path.vary, on=True)), gesture)

    def _reset(self) -> None:
        path = self._path
        left = tuple(item for item in path.velocity.shapes if item[0] != self.key)
        path = replace(path, velocity=replace(path.velocity, shapes=left))
        for name in VARIED:
            now: Scoped = getattr(path.vary, name)
            rows = tuple(row for row in now.articulations if row[0] != self.key)
            tracks = tuple(row for row in now.tracks if TRACK + row[0] != self.key)
            value = 0.0 if self.key == ALL else now.value
            path = path.with_setting("vary", name, replace(now, articulations=rows, tracks=tracks, value=value))
        self._do_all(tr("reset velocities"), path)

    def _even(self) -> None:
        """Show what matching would do; the player accepts it or not."""
        found = evened({name: one.arrived for name, one in self._drums.items()})
        if not found:
            self._workbench.message_shown.emit(
                tr("Too few hits: at least two drums with eight hits each are needed."), False
            )
            return
        told = [
            tr("{drum} {before:.0f} to {after:.0f}").format(
                drum=drum_title(name).lower(), before=before,
                after=leaves_as(shape, before),
            )
            for name, shape in sorted(found.items(), key=lambda item: sort_key(item[0]))
            for before in (self._stats[name].middle[0],)
        ]  # fmt: skip
        self._services.notices.offer(
            tr("A medium hit would change like this: {drums}.").format(drums=", ".join(told)),
            tr("Match them"), tr("Each drum gets a curve. Undo goes back."),
            lambda: self._do(
                tr("match pads"),
                replace(self._stage(), on=True, shapes=tuple(sorted({**dict(self._stage().shapes), **found}.items()))),
            ),
        )  # fmt: skip
