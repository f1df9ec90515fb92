"""The path at the right of Takes: its stages in order, with switch, settings and number of notes touched.

Everything shown here is what the stages say about themselves (puresignal.core.path.stage_description and setting).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QPushButton,
    QSizePolicy,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from puresignal.core.analysis import note_choice
from puresignal.core.analysis.grid_picture import GridPicture
from puresignal.core.analysis.taken_groove import groove_of
from puresignal.core.path import held_to_key
from puresignal.core.path.cleaning_path import CleaningPath
from puresignal.core.path.condition import ANYWHERE, Condition
from puresignal.core.path.crosstalk_lesson import Lesson, lesson
from puresignal.core.path.hand_edits import HandEdits
from puresignal.core.path.heard import Heard
from puresignal.core.path.held_to_key import HeldToKey
from puresignal.core.path.scoped import Scoped
from puresignal.core.path.setting import Scope, Setting, settings_of
from puresignal.core.path.stage_description import Stage
from puresignal.core.session import selections
from puresignal.core.session import session as edits
from puresignal.core.session.arrangement import NamedSelection
from puresignal.core.timing import grids
from puresignal.core.timing.groove import Groove
from puresignal.core.timing.session_time import Timeline
from puresignal.translation import count_tr, tr
from puresignal.ui.state.background import Background
from puresignal.ui.state.live_lessons import LiveLessons
from puresignal.ui.state.shown import Shown
from puresignal.ui.state.workbench import Workbench
from puresignal.ui.takes.groove_row import FROM_RANGE, GrooveRow
from puresignal.ui.widgets import note_symbols, text_format, theme
from puresignal.ui.widgets.labelled_slider import LabelledSlider
from puresignal.ui.widgets.plain_text import PlainLabel

OF_KITS = ("doubles", "crosstalk")  # not shown
"""Stages that are only for takes played on a kit."""
NAMED, SELECTED = "named:", "selected:"
"""The prefix of named selections' keys in the list of whom settings are for, and the key of the selected notes."""


@dataclass(frozen=True)
class Whom:
    """For what settings are set: a track, notes by a named sentence, or chosen notes; nothing: for everything."""

    track: str = ""
    sentence: tuple[str, Condition] | None = None
    notes: tuple[int, ...] = ()

    def __bool__(self) -> bool:
        return bool(self.track or self.sentence or self.notes)

    @property
    def scope(self) -> Scope:
        return Scope.TRACK if self.track else Scope.NOTES


def _differing(value: Scoped) -> str:
    """The settings with a value of their own, in a few words."""
    parts = [
        count_tr("{n} track differs", "{n} tracks differ", len(value.tracks)) if value.tracks else "",
        count_tr("{n} drum differs", "{n} drums differ", len(value.articulations)) if value.articulations else "",
        count_tr("{n} selection differs", "{n} selections differ", len(value.sentences)) if value.sentences else "",
    ]
    chosen = sum(len(origins) for origins, _ in value.notes)
    parts.append(count_tr("{n} note differs", "{n} notes differ", chosen) if chosen else "")
    return ", ".join(part for part in parts if part)


class StageBox(QFrame):
    """One stage.

    switched  the stage was switched on or off
    counted   the figure was pressed
    folded    its settings should be shown, or not
    """

    switched = Signal(bool)
    counted = Signal()
    folded = Signal()

    def __init__(self, stage: Stage, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("stage")
        title, tip = tr(stage.title), tr(stage.tip)
        self.box: QCheckBox | None = None
        head: QWidget
        if stage.switch is not None:
            self.box = QCheckBox(title)
            self.box.setToolTip(tip)
            self.box.setAccessibleName(title)
            self.box.clicked.connect(self.switched)
            head = self.box
        else:
            head = PlainLabel(title)
            head.setToolTip(tip)
        head.setObjectName("stageName")
        self.figure = QPushButton("–")
        self.figure.setObjectName("tally")
        self.figure.setToolTip(tr("How many notes of this take this stage changed or removed. Press to select them."))
        self.figure.setAccessibleName(tr("{title}: select its notes").format(title=title))
        self.figure.clicked.connect(self.counted)
        # Shown before it has a parent, it would be a window for a moment and take the focus.
        if stage.counted is None:
            self.figure.hide()
        self.fold = QToolButton()
        self.fold.setObjectName("fold")
        self.fold.setAutoRaise(True)
        self.fold.setToolTip(tr("Show or hide its settings."))
        self.fold.setAccessibleName(tr("{title}: show or hide the settings").format(title=title))
        self.fold.clicked.connect(self.folded)
        self.fold.hide()
        top = QHBoxLayout()
        top.setSpacing(2)
        top.addWidget(head)
        top.addWidget(self.fold)
        top.addStretch(1)
        top.addWidget(self.figure)
        self.body = QWidget()
        self.column = QVBoxLayout(self.body)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(5)
        whole = QVBoxLayout(self)
        space = (7, 8) if self.box is not None else (4, 4)
        whole.setContentsMargins(14, space[0], 10, space[1])
        whole.setSpacing(5)
        whole.addLayout(top)
        whole.addWidget(self.body)
        self.body.hide()

    def show_body(self, able: bool, is_open: bool) -> None:
        """Show the settings or fold them away. able: whether there are any to be shown now."""
        self.fold.setVisible(able)
        self.fold.setArrowType(Qt.ArrowType.DownArrow if is_open else Qt.ArrowType.RightArrow)
        self.body.setVisible(able and is_open)

    def show_state(self, on: bool, count: int) -> None:
        if self.box is not None:
            self.box.setChecked(on)
        self.figure.setText(text_format.count(count))
        self.figure.setEnabled(count > 0)


class PathPanel(QWidget):
    """All stages that have a title.

    boxes     by the stage's key
    controls  by stage's key and setting's name

    notes_requested  select the notes that a stage touched: the stage's number
    suggestion_made  a suggested action: its effect, its name, a tip, and the action
    orphans_requested  select edited notes that do not leave
    forgotten          take the edits of these back
    """

    notes_requested = Signal(int)
    suggestion_made = Signal(str, str, str, object)
    orphans_requested = Signal()
    forgotten = Signal()

    def __init__(
        self, workbench: Workbench, background: Background, lessons: LiveLessons, parent: QWidget | None = None
    ):
        super().__init__(parent)
        self._workbench, self._background, self._lessons = workbench, background, lessons
        self.setObjectName("rail")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        head = PlainLabel(tr("PATH"))
        head.setObjectName("section")
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 10, 0, 6)
        self.column.setSpacing(2)
        holder = QHBoxLayout()
        holder.setContentsMargins(14, 0, 14, 2)
        holder.addWidget(head)
        holder.addSpacing(8)
        holder.addWidget(PlainLabel(tr("for")))
        self.whom = QComboBox()
        self.whom.setAccessibleName(tr("Settings for"))
        self.whom.setToolTip(
            tr("For what settings are set: everything, or one track, named selection or the selected notes alone.")
        )
        self.whom.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.whom.addItem(tr("everything"), "")
        self.whom.activated.connect(lambda _: self.show_take(self._workbench.seen))
        # Origins of the selected notes behind the numbers of their takes.
        self.selection: tuple[int, ...] = ()
        holder.addWidget(self.whom, 1)
        self.column.addLayout(holder)
        self._counts: dict[Stage, int] = {}
        self._keys_were_opened = False
        # The range selected on the ruler, seconds of what is shown.
        self.stretch: tuple[float, float] | None = None
        self.boxes: dict[str, StageBox] = {}
        # Stages whose settings are shown; the others have theirs folded away.
        self.open = {"doubles", "crosstalk", "ends"}
        self.controls: dict[tuple[str, str], LabelledSlider | QComboBox] = {}
        for stage in workbench.session.path.stages():
            if stage.stage.title:
                self._add_stage(stage.stage, settings_of(stage))
        self.learn = QPushButton(tr("Learn from this take"))
        self.learn.setAccessibleName(tr("Learn the kit's pads from this take"))
        self.learn.setToolTip(tr("Learns how loud each pad is played and how much it is shaken, for playing live."))
        self.learn.clicked.connect(self._learn)
        self.boxes["crosstalk"].column.addWidget(self.learn)
        self.learn_live = QCheckBox(tr("Learn while I play"))
        self.learn_live.setToolTip(
            tr("Live, the kit is judged by what this sitting has shown so far. The session itself is not changed.")
        )
        self.learn_live.clicked.connect(lessons.set_on)
        lessons.changed.connect(self._show_lessons)
        self.boxes["crosstalk"].column.addWidget(self.learn_live)
        self._show_lessons()
        self.fits = PlainLabel()
        self.fits.setObjectName("faint")
        self.fits.setWordWrap(True)
        self.fits.setAccessibleName(tr("How well each grid fits"))
        self.fits.hide()
        self.boxes["timing"].column.insertWidget(0, self.fits)
        self.keys = PlainLabel()
        self.keys.setObjectName("faint")
        self.keys.setWordWrap(True)
        self.keys.setAccessibleName(tr("Likely keys"))
        self.keys.hide()
        self.boxes["key"].column.insertWidget(0, self.keys)
        self.key_list = QComboBox()
        self.key_list.setAccessibleName(tr("Keys that it could be in"))
        self.key_list.setToolTip(tr("The likeliest keys, each with how many notes it moves. As heard moves none."))
        self.key_list.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.key_list.activated.connect(lambda row: self._choose_key(self.key_list.itemData(row)))
        self.adopt_key = QPushButton(tr("Use as the session's key"))
        self.adopt_key.setToolTip(tr("The key in the header: files have it, touch surface and generators use it."))
        self.adopt_key.clicked.connect(self._adopt_key)
        for place, widget in enumerate((self.key_list, self.adopt_key)):
            self.boxes["key"].column.insertWidget(1 + place, widget)
            widget.hide()
        self.orphans = PlainLabel()
        self.orphans.setObjectName("faint")
        self.orphans.setWordWrap(True)
        self.forget_orphans = QPushButton(tr("Forget these edits"))
        self.forget_orphans.setToolTip(tr("Takes back the edits of notes that do not leave. Undo brings them again."))
        self.forget_orphans.clicked.connect(self.forgotten)
        self.show_orphans = QPushButton(tr("Select their notes"))
        self.show_orphans.setToolTip(tr("Selects the notes that were edited but do not leave."))
        self.show_orphans.clicked.connect(self.orphans_requested)
        for widget in (self.orphans, self.show_orphans, self.forget_orphans):
            self.boxes["edits"].column.addWidget(widget)
        self.groove = GrooveRow()
        self.groove.chosen.connect(self._use_groove)
        self.groove.asked.connect(self._take_groove)
        self.groove.told.connect(workbench.message_shown)
        column = self.boxes["timing"].column
        column.insertWidget(column.indexOf(self.controls["timing", "groove_time"]), self.groove)

    def _add_stage(self, stage: Stage, settings: tuple[Setting, ...]) -> None:
        box, title = StageBox(stage), tr(stage.title)
        box.switched.connect(lambda on: self._switch(stage, title, on))
        box.folded.connect(lambda: self._fold(stage.key))
        box.counted.connect(lambda: self.notes_requested.emit(int(stage)))
        self.boxes[stage.key] = box
        self.column.addWidget(box)
        for setting in settings:
            if setting.label:
                control = self._choice(stage, setting) if setting.choices else self._slider(stage, setting)
                self.controls[stage.key, setting.name] = control
                if isinstance(control, QComboBox):
                    row = QHBoxLayout()
                    row.addWidget(PlainLabel(tr(setting.label)))
                    row.addWidget(control, 1)
                    box.column.addLayout(row)
                else:
                    box.column.addWidget(control)

    def _switch(self, stage: Stage, title: str, on: bool) -> None:
        """Switch a stage; the settings of one that is switched on have the room to themselves."""
        if on:
            self.open = {stage.key}
        self._do(title.lower(), self._path.switched(stage.key, on))

    def _fold(self, key: str) -> None:
        self.open ^= {key}
        self.show_take(self._workbench.seen)

    def _slider(self, stage: Stage, setting: Setting) -> LabelledSlider:
        usual = setting.default.value if isinstance(setting.default, Scoped) else setting.default
        highest = setting.high if setting.reach is None else setting.reach
        assert isinstance(usual, int | float)
        slider = LabelledSlider(
            tr(setting.label), setting.unit, setting.low, highest, usual, tr(setting.tip), setting.step
        )
        slider.moved.connect(lambda value, gesture: self._set(stage, setting, value, gesture))
        return slider

    def _choice(self, stage: Stage, setting: Setting) -> QComboBox:
        combo = QComboBox()
        combo.setAccessibleName(tr(setting.label))
        combo.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        combo.setToolTip(tr(setting.tip))
        for choice in setting.choices:
            combo.addItem(tr(choice), choice)
            if choice in grids.NAMES and stage.key == "timing":
                self._name_grid(combo, choice, setting.name == "grid")
        combo.activated.connect(lambda: self._set(stage, setting, combo.currentData(), None))
        return combo

    @staticmethod
    def _name_grid(combo: QComboBox, name: str, with_symbol: bool) -> None:
        """A grid as fraction, symbol and name, in both vocabularies."""
        row, (one, other) = combo.count() - 1, grids.spoken(name)
        combo.setItemText(row, f"{name}  {one}")
        combo.setItemData(row, f"{one}, {other}", Qt.ItemDataRole.ToolTipRole)
        if with_symbol:
            grid = grids.grid_of(name)
            combo.setItemIcon(row, note_symbols.symbol(grid.value, grid.kind, theme.current().colour("ink")))

    def show_grid(self, found: GridPicture | None) -> None:
        """Show how well each grid fits what is played."""
        self.fits.setVisible(found is not None and bool(found.ranking))
        if found is None:
            return
        rows = [tr("{grid} {share:.0f} %").format(grid=self._grid_words(n), share=100 * s) for n, s in found.ranking]
        text = tr("Played on: {grids}.").format(grids=", ".join(rows[:4]))
        if found.swing > 0.5:
            text += " " + tr("Swing {part:.0f} %.").format(part=100 * found.swing)
        if len(found.between[0]):
            text += " " + tr("{n} between two lines (D).").format(n=text_format.counted(len(found.between[0]), "note"))
        self.fits.setText(text)

    def show_keys(self, found: tuple[tuple[str, int], ...]) -> None:
        """Show the likeliest keys with how many notes each would move, before any of them is chosen."""
        for widget in (self.keys, self.key_list, self.adopt_key):
            widget.setVisible(bool(found))
        if not found:
            return
        self.keys.setText(tr("It could be in:"))
        stage = self._path.key
        rows = [("", tr("as heard, moves nothing"))]
        rows += [(key, tr("{key} moves {n}", key=key, n=text_format.counted(moved, "note"))) for key, moved in found]
        if stage.on and stage.key != held_to_key.AUTO and stage.key not in dict(rows):
            rows.append((stage.key, stage.key))
        self.key_list.clear()
        for key, words in rows:
            self.key_list.addItem(words, key)
        now = "" if not stage.on else found[0][0] if stage.key == held_to_key.AUTO else stage.key
        self.key_list.setCurrentIndex(max(0, self.key_list.findData(now)))
        self.adopt_key.setEnabled(bool(now or found))

    def _choose_key(self, key: str) -> None:
        """Hold notes to a key, or leave them as they were heard."""
        path = self._path
        if key:
            path = path.with_setting("key", "key", key)
        self._do(tr("hold to {key}", key=key) if key else tr("notes as heard"), path.switched("key", bool(key)))

    def _adopt_key(self) -> None:
        """Give the session the chosen key, or the likeliest."""
        key = self.key_list.currentData() or self.key_list.itemData(1)
        if key:
            bench = self._workbench
            bench.do(tr("session in {key}", key=key), edits.with_key(bench.session, key))

    @staticmethod
    def _grid_words(name: str) -> str:
        swung = name.startswith("swung ")
        one = grids.spoken(name.removeprefix("swung "))[0]
        return tr("swung {notes}", notes=one) if swung else one

    def _use_groove(self, groove: Groove) -> None:
        self._do(tr("set groove"), self._path.with_setting("timing", "groove", groove))

    def _take_groove(self, of: str) -> None:
        """Use the groove of the chosen take, or of the range selected on the ruler."""
        bench, stretch = self._workbench, self.stretch if of == FROM_RANGE else None
        shown = bench.seen if of == FROM_RANGE else bench.own
        if shown is None or (of == FROM_RANGE and stretch is None):
            bench.message_shown.emit(tr("Select a range on the ruler first: drag over the bars."), True)
            self.groove.show_groove(self._path.timing.groove)
            return
        several = shown.several
        timeline = Timeline.from_tempo_map(shown.take.tempo) if several is None else several.timeline
        shift = 0.0 if several is None else several.shift
        groove = groove_of(tr("Groove of {name}", name=shown.ref.name), shown.outcome, timeline, shift, stretch)
        if groove is None:
            bench.message_shown.emit(tr("There are too few notes for a groove."), True)
            self.groove.show_groove(self._path.timing.groove)
            return
        self._use_groove(groove)

    @property
    def _path(self) -> CleaningPath:
        return self._workbench.session.path

    def _set(self, stage: Stage, setting: Setting, value: object, gesture: str | None) -> None:
        now = getattr(getattr(self._path, stage.key), setting.name)
        if isinstance(now, Scoped):
            assert isinstance(value, float)
            value = self._set_for(self._whom, now, value)
        name = tr("set {setting}").format(setting=tr(setting.label).lower())
        self._do(name, self._path.with_setting(stage.key, setting.name, value), gesture)

    @property
    def _whom(self) -> Whom:
        """For what settings are set now."""
        data = self.whom.currentData() or ""
        if data == SELECTED:
            return Whom(notes=self.selection)
        if data.startswith(NAMED):
            one = selections.find(self._workbench.session, data.removeprefix(NAMED))
            if one is not None and one.condition is not None and one.condition.is_of_notes:
                return Whom(sentence=(one.name, one.condition))
            if one is not None:
                return Whom(notes=self._notes_of(one))
        return Whom(track=data)

    def _notes_of(self, one: NamedSelection) -> tuple[int, ...]:
        """The notes of a selection as they are now."""
        shown = self._workbench.seen
        if one.condition is None or shown is None or shown.several is None:
            return one.notes
        several = shown.several
        rounds = several.rounds_of(shown.outcome.output_notes.origin, self._workbench.store.by_ident)
        found = note_choice.chosen(shown.outcome, several.timeline, several.shift, one.condition, rounds)
        return tuple(several.by_number(found).tolist())

    @staticmethod
    def _set_for(whom: Whom, now: Scoped, value: float) -> Scoped:
        """A setting with another value for whom it is set."""
        if whom.track:
            return now.with_track(whom.track, value)
        if whom.sentence is not None:
            return now.with_sentence(*whom.sentence, value)
        return now.with_notes(whom.notes, value) if whom.notes else replace(now, value=value)

    def show_selection(self, shown: Shown | None, origins: np.ndarray) -> None:
        """The selected notes, for which settings can be set."""
        several = None if shown is None else shown.several
        self.selection = () if several is None else tuple(several.by_number(origins).tolist())
        self.show_take(shown)

    def _show_tracks(self, shown: Shown | None) -> None:
        """The tracks that can have values of their own."""
        rows = [("", tr("everything"))]
        rows += [] if shown is None else [(entry.track.key, entry.title) for entry in shown.tracks]
        rows += [(NAMED + one.name, one.name) for one in self._workbench.session.selections]
        if self.selection:
            count = text_format.counted(len(self.selection), "note")
            rows.append((SELECTED, tr("selected: {notes}", notes=count)))
        if rows != [(self.whom.itemData(i), self.whom.itemText(i)) for i in range(self.whom.count())]:
            chosen = self.whom.currentData()
            self.whom.clear()
            for key, title in rows:
                self.whom.addItem(title, key)
            self.whom.setCurrentIndex(max(0, self.whom.findData(chosen)))

    def _do(self, name: str, path: CleaningPath, gesture: str | None = None) -> None:
        bench = self._workbench
        bench.do(name, edits.with_path(bench.session, path), gesture)

    def _learn(self) -> None:
        """Show what this take teaches about the kit's pads and what would change; the player accepts it or not."""
        # A kit learns from the chosen take, whatever plays with it.
        bench = self._workbench
        shown = bench.own
        if shown is None:
            return
        path = bench.session.path
        self.learn.setEnabled(False)
        self._background.run(
            "lesson",
            lambda: lesson(shown.take, path, shown.context, shown.outcome.input_notes),
            self._suggest,
        )

    def _show_lessons(self) -> None:
        self.learn_live.setChecked(self._lessons.on)
        hits = self._lessons.hits
        learnt = tr("Learn while I play: {hits} so far", hits=text_format.counted(hits, "hit"))
        self.learn_live.setText(learnt if self._lessons.on and hits else tr("Learn while I play"))

    def _suggest(self, found: Lesson) -> None:
        bench = self._workbench
        self.learn.setEnabled(True)
        text = tr(
            "Learnt {pads} and {pairs} that shake each other. Played live, this take would lose {before} to crosstalk "
            "removal as it is, and {after} with this model; looking 4 ms ahead {ahead}, 8 ms ahead {far}."
        ).format(
            pads=text_format.counted(len(found.kit_model.alone), "pad"),
            pairs=text_format.counted(len(found.kit_model.shakes), "pair"),
            before=text_format.counted(found.before, "note"),
            after=found.after,
            ahead=found.ahead[4.0],
            far=found.ahead[8.0],
        )

        def use() -> None:
            latest = bench.session.path
            changed = latest.with_setting("crosstalk", "kit_model", found.kit_model)
            bench.do(tr("learn from a take"), edits.with_path(bench.session, changed))

        self.suggestion_made.emit(text, tr("Use it"), tr("Used from now on for playing live. Undo goes back."), use)

    def show_take(self, shown: Shown | None) -> None:
        """Show the settings, and what each stage did in the take."""
        self._show_tracks(shown)
        self._counts = {
            one.stage: self._count(one.stage, shown) for one in self._path.stages() if one.stage.key in self.boxes
        }
        self._show_stages(shown)

    def show_settings(self) -> None:
        """Show the settings, while what comes of them is still worked out."""
        self._show_stages(self._workbench.seen)

    def _show_stages(self, shown: Shown | None) -> None:
        path = self._path
        whom = self._whom
        several = None if shown is None else shown.several
        has_heard = several is not None and any(ref.heard is not None for ref in several.refs)
        for stage in path.stages():
            about = stage.stage
            if about.key not in self.boxes:
                continue
            if about.key in OF_KITS:
                # Pads ring and shake each other; keys and voices do not.
                self.boxes[about.key].setVisible(several is None or any(ref.source is not None for ref in several.refs))
            if about == Heard.stage:
                # Only for notes that were heard in a recording.
                self.boxes[about.key].setVisible(has_heard)
            if about == HandEdits.stage:
                self.boxes[about.key].setVisible(several is not None and any(len(ref.edits) for ref in several.refs))
                lost = 0 if several is None else len(several.orphans())
                self.orphans.setText(
                    count_tr("{n} edited note does not leave: a stage or you removed it.",
                             "{n} edited notes do not leave: a stage or you removed them.", lost)
                )  # fmt: skip
                self.boxes[about.key].show_state(path.is_on(stage), self._counts.get(about, 0))
                self.boxes[about.key].show_body(lost > 0, lost > 0)
                continue
            on = path.is_on(stage)
            self.boxes[about.key].show_state(on, self._counts.get(about, 0))
            off_at_first = about.switch is not None and not path.is_on(type(stage)())
            has_controls = any((about.key, setting.name) in self.controls for setting in settings_of(stage))
            # What is seldom switched on takes no room until it is.
            # Keys of what was heard are to be seen before one is chosen.
            shows = on or not off_at_first or (about == HeldToKey.stage and has_heard)
            if about == HeldToKey.stage and has_heard and not self._keys_were_opened:
                self._keys_were_opened, self.open = True, self.open | {about.key}
            self.boxes[about.key].show_body(has_controls and shows, about.key in self.open)
            for setting in settings_of(stage):
                control = self.controls.get((about.key, setting.name))
                if control is None:
                    continue
                value = getattr(stage, setting.name)
                # What is the same for every track is set for everything.
                can = isinstance(value, Scoped) and bool(whom.scope & setting.scope)
                # Bars are known only where notes stand on the session's time.
                can = can and (about.on_timeline or whom.sentence is None or whom.sentence[1].place == ANYWHERE)
                control.setEnabled(on and (can or not whom))
                self._show_value(control, value, whom)
        if path.timing.groove != self.groove._now:
            self.groove.show_groove(path.timing.groove)
        on = path.crosstalk.on
        own = self._workbench.own
        self.learn.setEnabled(on and own is not None and own.context.stands.any_neighbours)

    @staticmethod
    def _show_value(control: LabelledSlider | QComboBox, value: object, whom: Whom) -> None:
        if isinstance(control, QComboBox):
            control.setCurrentIndex(control.findData(value))
            return
        if isinstance(value, Scoped):
            control.remark("" if whom else _differing(value))
            value = value.value_for(whom.track, whom.sentence[0] if whom.sentence else "", whom.notes)
        assert isinstance(value, int | float)
        control.show_value(value)

    @staticmethod
    def _count(stage: Stage, shown: Shown | None) -> int:
        """How many notes a stage touched, or, where it names the reasons that count, removed for them."""
        if shown is None or stage.counted is None:
            return 0
        tally = shown.outcome.tally
        if not stage.counted:
            return tally.touched(stage)
        return sum(tally.removed().get(reason, 0) for reason in stage.counted)
