"""The trace of a note: what it arrived as, what each stage did and why, and the player's decision."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QGridLayout, QPushButton, QVBoxLayout, QWidget

from puresignal.core.kit.articulations import spoken
from puresignal.core.path.note_selection import reason_removed
from puresignal.core.path.tally import Action, NoteField, TraceStep
from puresignal.core.path.tidy import SAME_MOMENT
from puresignal.core.path.timing import BETWEEN
from puresignal.core.path.verdicts import Verdict
from puresignal.translation import mark, tr
from puresignal.ui.state.shown import Shown
from puresignal.ui.widgets import text_format
from puresignal.ui.widgets.plain_text import PlainLabel

_FIELDS = {
    NoteField.NOTE: mark("note"), NoteField.CHANNEL: mark("channel"), NoteField.VELOCITY: mark("velocity"),
}  # fmt: skip
"""Properties that change from one number to another."""


class TracePanel(QWidget):
    """Describes the selected notes.

    action_requested  "remove", "keep", "automatic", "other_line", "remove_alike", "keep_alike"
    """

    action_requested = Signal(str)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("rail")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        head = PlainLabel(tr("SELECTED NOTE"))
        head.setObjectName("section")
        self.title = PlainLabel()
        self.title.setObjectName("figure")
        self.title.setWordWrap(True)
        self.story = PlainLabel()
        self.story.setWordWrap(True)
        self.story.setTextFormat(Qt.TextFormat.PlainText)
        self.story.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.buttons: dict[str, QPushButton] = {}
        # The two that are used most stand above what is told, and so always in sight.
        first, grid = QGridLayout(), QGridLayout()
        for one in (first, grid):
            one.setSpacing(6)
        for i, (act, label, tip) in enumerate(
            (
                ("keep", mark("Keep"), mark("It was played: keep it, whatever the stages decide (K or Insert).")),
                ("remove", mark("Remove"), mark("It was not meant: remove it (X or Delete).")),
                ("keep_alike", mark("Keep all alike"), mark("Keep every note of this pad with the same outcome.")),
                (
                    "remove_alike",
                    mark("Remove all alike"),
                    mark("Remove every note of this pad with the same outcome."),
                ),
                (
                    "other_line",
                    mark("Other line"),
                    mark("It belongs on the other of its two lines: pull it there, or back (J)."),
                ),
                ("automatic", mark("Automatic"), mark("Clear your decision; the stages decide again (U).")),
            )
        ):
            button = QPushButton(tr(label))
            button.setToolTip(tr(tip))
            button.setAccessibleName(tr(label))
            button.clicked.connect(lambda _=False, a=act: self.action_requested.emit(a))
            if i < 2:
                first.addWidget(button, 0, i)
            else:
                grid.addWidget(button, i - 2, 0)
            self.buttons[act] = button
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 10, 14, 10)
        column.setSpacing(6)
        column.addWidget(head)
        column.addWidget(self.title)
        column.addLayout(first)
        column.addWidget(self.story)
        column.addLayout(grid)
        column.addStretch()

    def show_notes(self, shown: Shown | None, origins: np.ndarray) -> None:
        """Show one note's trace, or a count of several selected notes."""
        for button in self.buttons.values():
            button.setVisible(shown is not None and len(origins) > 0)
        if shown is None or not len(origins):
            self.title.setText("")
            self.story.setText(tr("Click a note to see what happened to it. Drag over several to select them."))
            return
        rows = shown.row_of_origin[origins]
        rows = rows[rows >= 0]
        self.buttons["automatic"].setEnabled(any(shown.verdict_of(int(o)) is not None for o in origins))
        single = len(rows) == 1
        e = shown.outcome.tally.entries
        between = np.isin(origins, e.origin[e.reason == int(BETWEEN)])
        self.buttons["other_line"].setVisible(bool(between.any()))
        for act in ("keep_alike", "remove_alike"):
            self.buttons[act].setVisible(single)
        if single:
            origin = int(origins[0])
            gone = reason_removed(shown.outcome, origin)
            self.buttons["keep"].setEnabled(gone != SAME_MOMENT)
            self._show_one(shown, int(rows[0]), origin, shown.verdict_of(origin))
            return
        self.buttons["keep"].setEnabled(True)
        clean = int(np.count_nonzero(np.isin(origins, shown.outcome.output_notes.origin)))
        self.title.setText(text_format.counted(len(rows), "note"))
        self.story.setText(
            tr("{kept} kept, {gone} removed").format(
                kept=text_format.count(clean), gone=text_format.count(len(rows) - clean)
            )
        )

    def _show_one(self, shown: Shown, row: int, origin: int, verdict: Verdict | None) -> None:
        outcome, tempo = shown.outcome, shown.take.tempo
        played, vocabulary = outcome.input_notes, outcome.vocabulary
        code = int(played.articulation[row])
        self.title.setText(spoken(vocabulary[code]) if code >= 0 else tr("unknown"))
        start = float(played.start[row])
        bar, beat, _ = tempo.position(start)
        lines = [
            tr("in: note {note}, channel {channel}, velocity {velocity:g}").format(
                note=int(played.note[row]), channel=int(played.channel[row]), velocity=float(played.velocity[row])
            ),
            tr("at {time:.3f} s, bar {bar}, beat {beat}").format(time=start, bar=bar, beat=beat),
        ]
        lines += [text for step in outcome.tally.trace(origin) if (text := self._say(step, vocabulary))]
        if verdict is not None and verdict.other_line:
            lines.append(tr("your decision: the other line"))
        if verdict is not None and verdict.keep is not None:
            lines.append(tr("your decision: keep") if verdict.keep else tr("your decision: remove"))
        leaves = np.flatnonzero(outcome.output_notes.origin == origin)
        for i in leaves.tolist():
            lines.append(
                tr("out: note {note}, channel {channel}, {length:.0f} ms long").format(
                    note=int(outcome.output_notes.note[i]),
                    channel=int(outcome.output_notes.channel[i]),
                    length=1000 * float(outcome.output_notes.end[i] - outcome.output_notes.start[i]),
                )
            )
        self.story.setText("\n".join(lines))

    def _say(self, step: TraceStep, vocabulary: tuple[str, ...]) -> str:
        stage, why = tr(step.stage.word), tr(step.reason.word)
        sure = tr(", confidence {sure:.0f} %").format(sure=step.confidence * 100) if step.confidence < 1 else ""
        if step.action == Action.REMOVED:
            return tr("{stage}: removed as {why}{sure}").format(stage=stage, why=why, sure=sure)
        if step.reason == BETWEEN:
            return tr("{stage}: {why}, at {before:.3f} s or at {after:.3f} s{sure}").format(
                stage=stage, why=why, before=step.before, after=step.after, sure=sure
            )
        if step.field == NoteField.START:
            ms = 1000 * (step.after - step.before)
            pattern = tr("{stage}: {ms:.0f} ms later, {why}") if ms > 0 else tr("{stage}: {ms:.0f} ms earlier, {why}")
            return pattern.format(stage=stage, ms=abs(ms), why=why)
        if step.action == Action.KEPT:
            return tr("{stage}: kept, but {why}{sure}").format(stage=stage, why=why, sure=sure)
        if step.action == Action.ADDED:
            return ""
        if step.field == NoteField.ARTICULATION:
            return tr("{stage}: {name}, {why}").format(stage=stage, name=spoken(vocabulary[int(step.after)]), why=why)
        if step.field == NoteField.END:
            return tr("{stage}: ends at {after:.3f} s, {why}").format(stage=stage, after=step.after, why=why)
        if step.field == NoteField.NONE:
            return tr("{stage}: {why}", stage=stage, why=why)
        field = tr(_FIELDS[step.field])
        return tr("{stage}: {field} {before:g} → {after:g}, {why}").format(
            stage=stage, field=field, before=round(step.before, 2), after=round(step.after, 2), why=why
        )
