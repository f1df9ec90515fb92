"""The path at the right of Takes: its stages in order, with switch, settings and number of notes touched."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QFrame, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from puresignal.core.path.cleaning_path import CleaningPath, with_unmapped
from puresignal.core.path.crosstalk import Crosstalk
from puresignal.core.path.crosstalk_lesson import lesson
from puresignal.core.path.doubles import Doubles
from puresignal.core.path.ends import Ends
from puresignal.core.path.settings_json import setting_range
from puresignal.core.path.tally import Reason, Stage
from puresignal.core.path.thin import Thin
from puresignal.core.session import session as edits
from puresignal.translation import mark, tr
from puresignal.ui.state.workbench import Shown, Workbench
from puresignal.ui.widgets import text_format
from puresignal.ui.widgets.labelled_slider import LabelledSlider


class StageBox(QFrame):
    """One stage.

    switched  the stage was switched on or off
    counted   the figure was pressed
    """

    switched = Signal(bool)
    counted = Signal()

    def __init__(self, title: str, tip: str, switch: bool, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("stage")
        self.box: QCheckBox | None = None
        head: QWidget
        if switch:
            self.box = QCheckBox(title)
            self.box.setToolTip(tip)
            self.box.setAccessibleName(title)
            self.box.clicked.connect(self.switched)
            head = self.box
        else:
            head = QLabel(title)
            head.setToolTip(tip)
        head.setObjectName("stageName")
        self.figure = QPushButton("–")
        self.figure.setObjectName("tally")
        self.figure.setToolTip(tr("How many notes of this take this stage changed or removed. Press to select them."))
        self.figure.setAccessibleName(tr("{title}: select its notes").format(title=title))
        self.figure.clicked.connect(self.counted)
        top = QHBoxLayout()
        top.addWidget(head)
        top.addStretch(1)
        top.addWidget(self.figure)
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(14, 7 if switch else 4, 10, 8 if switch else 4)
        self.column.setSpacing(5)
        self.column.addLayout(top)

    def show_state(self, on: bool, count: int) -> None:
        if self.box is not None:
            self.box.setChecked(on)
        self.figure.setText(text_format.count(count))
        self.figure.setEnabled(count > 0)


class PathPanel(QWidget):
    """All stages.

    notes_requested  select the notes that a stage touched: the stage
    suggestion_made  a suggested action: its effect, its name, a tip, and the action
    """

    notes_requested = Signal(int)
    suggestion_made = Signal(str, str, str, object)

    def __init__(self, workbench: Workbench, parent: QWidget | None = None):
        super().__init__(parent)
        self._workbench = workbench
        self.setObjectName("rail")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        head = QLabel(tr("PATH"))
        head.setObjectName("section")
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 10, 0, 6)
        self.column.setSpacing(2)
        holder = QHBoxLayout()
        holder.setContentsMargins(14, 0, 14, 2)
        holder.addWidget(head)
        self.column.addLayout(holder)
        self.boxes: dict[Stage, StageBox] = {}
        self._shown: Shown | None = None

        identify = self._stage(
            Stage.IDENTIFY,
            mark("Drop unmapped notes"),
            mark("When off, notes that are not in the source map pass through unchanged."),
            True,
        )
        identify.switched.connect(
            lambda on: self._do(tr("drop unmapped notes"), lambda p: with_unmapped(p, "drop" if on else "keep"))
        )
        doubles = self._stage(
            Stage.DOUBLES,
            mark("Remove double triggers"),
            mark("Removes the weak second hit that a pad sends for one stroke."),
            True,
        )
        doubles.switched.connect(
            lambda on: self._do(tr("remove double triggers"), lambda p: replace(p, doubles=replace(p.doubles, on=on)))
        )
        self.window_ms = self._knob(
            doubles, "doubles", "window_ms", mark("Window"), "ms", Doubles().window_ms,
            mark("A second hit later than this after the first is kept."), 1.0, 120.0,
        )  # fmt: skip
        self.ratio = self._knob(
            doubles, "doubles", "ratio", mark("Softer than"), "%", Doubles().ratio,
            mark("A second hit with at least this fraction of the first one's velocity is kept."), 0.01, 1.0,
        )  # fmt: skip
        crosstalk = self._stage(
            Stage.CROSSTALK,
            mark("Remove crosstalk"),
            mark("Removes the weak note of a pad that a hard hit beside it has shaken."),
            True,
        )
        crosstalk.switched.connect(
            lambda on: self._do(tr("remove crosstalk"), lambda p: replace(p, crosstalk=replace(p.crosstalk, on=on)))
        )
        self.min_confidence = self._knob(
            crosstalk, "crosstalk", "min_confidence", mark("Minimum confidence"), "%", Crosstalk().min_confidence,
            mark("Confidence that a note is crosstalk, above which it is removed. Higher keeps more."), 0.01, 1.0,
        )  # fmt: skip
        self.live_ms = self._knob(
            crosstalk, "crosstalk", "live_ms", mark("Live look-ahead"), "ms", Crosstalk().live_ms,
            mark(
"Delays live output by this time, so that notes a shaken pad sends before the hit can be removed too. "
            "Takes always look ahead."
), 1.0, 8.0,
        )  # fmt: skip
        self.learn = QPushButton(tr("Learn from this take"))
        self.learn.setAccessibleName(tr("Learn the kit's pads from this take"))
        self.learn.setToolTip(tr("Learns how loud each pad is played and how much it is shaken, for playing live."))
        self.learn.clicked.connect(self._learn)
        crosstalk.column.addWidget(self.learn)
        ends = self._stage(
            Stage.ENDS, mark("Repair note ends"), mark("Gives a length to notes that have none or never end."), True
        )
        ends.switched.connect(
            lambda on: self._do(tr("repair note ends"), lambda p: replace(p, ends=replace(p.ends, repair=on)))
        )
        self.given_ms = self._knob(
            ends, "ends", "given_ms", mark("Default length"), "ms", Ends().given_ms,
            mark("Length given to a note without one."), 1.0, 200.0,
        )  # fmt: skip
        self._stage(
            Stage.TARGET, mark("Map to receiver"), mark("Each drum goes to the note that the receiver expects."), False
        )
        self._stage(Stage.TIDY, mark("End overlaps"), mark("A note struck again while it sounds ends there."), False)
        thin = self._stage(
            Stage.THIN,
            mark("Thin controllers"),
            mark("Reduces floods of controller messages to as many as can be heard; the last one always stays."),
            True,
        )
        # Notes pass it untouched, so a figure would say nothing.
        thin.figure.hide()
        thin.switched.connect(
            lambda on: self._do(tr("thin controllers"), lambda p: replace(p, thin=replace(p.thin, on=on)))
        )
        self.every_ms = self._knob(
            thin, "thin", "every_ms", mark("Interval"), "ms", Thin().every_ms,
            mark("Least time between messages of one controller."), 1.0, 50.0,
        )  # fmt: skip

    def _stage(self, stage: Stage, title: str, tip: str, switch: bool) -> StageBox:
        box = StageBox(tr(title), tr(tip), switch)
        box.counted.connect(lambda: self.notes_requested.emit(int(stage)))
        self.boxes[stage] = box
        self.column.addWidget(box)
        return box

    def _knob(
        self,
        box: StageBox,
        stage: str,
        key: str,
        label: str,
        unit: str,
        default: float,
        tip: str,
        step: float,
        most: float,
    ) -> LabelledSlider:
        low, high = setting_range(stage, key)
        knob = LabelledSlider(tr(label), unit, low, min(high, most), default, tr(tip), step)
        name = tr("set {setting}").format(setting=tr(label).lower())
        knob.moved.connect(
            lambda value, gesture: self._do(
                name, lambda p: replace(p, **{stage: replace(getattr(p, stage), **{key: value})}), gesture
            )
        )
        box.column.addWidget(knob)
        return knob

    def _do(self, name: str, change: Callable[[CleaningPath], CleaningPath], gesture: str | None = None) -> None:
        bench = self._workbench
        bench.do(name, edits.with_path(bench.session, change(bench.session.path)), gesture)

    def _learn(self) -> None:
        """Show what this take teaches about the kit's pads and what would change; the player accepts it or not."""
        shown, bench = self._shown, self._workbench
        if shown is None:
            return
        found = lesson(shown.take, bench.session.path, shown.context, shown.outcome.input_notes)
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
            changed = replace(latest, crosstalk=replace(latest.crosstalk, kit_model=found.kit_model))
            bench.do(tr("learn from a take"), edits.with_path(bench.session, changed))

        self.suggestion_made.emit(text, tr("Use it"), tr("Used from now on for playing live. Undo goes back."), use)

    def show_take(self, shown: Shown | None) -> None:
        """Show the settings, and what each stage did in the take."""
        path = self._workbench.session.path
        on = {
            Stage.IDENTIFY: path.identify.unmapped == "drop",
            Stage.DOUBLES: path.doubles.on,
            Stage.CROSSTALK: path.crosstalk.on,
            Stage.ENDS: path.ends.repair,
            Stage.THIN: path.thin.on,
        }
        for stage, box in self.boxes.items():
            count = 0
            if shown is not None:
                tally = shown.outcome.tally
                count = tally.touched(stage) if stage != Stage.IDENTIFY else tally.removed().get(Reason.UNMAPPED, 0)
            box.show_state(on.get(stage, True), count)
        self.window_ms.show_value(path.doubles.window_ms)
        self.ratio.show_value(path.doubles.ratio)
        self.given_ms.show_value(path.ends.given_ms)
        self.every_ms.show_value(path.thin.every_ms)
        self.every_ms.setVisible(path.thin.on)
        self.min_confidence.show_value(path.crosstalk.min_confidence)
        self.live_ms.show_value(path.crosstalk.live_ms)
        self._shown = shown
        for widget in (self.min_confidence, self.live_ms):
            widget.setEnabled(path.crosstalk.on)
        self.learn.setEnabled(path.crosstalk.on and shown is not None and shown.context.stands.any_shared)
        for knob in (self.window_ms, self.ratio):
            knob.setEnabled(path.doubles.on)
        self.given_ms.setEnabled(path.ends.repair)
