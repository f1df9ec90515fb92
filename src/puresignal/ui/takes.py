"""The Takes view: played beside clean, over bars and beats."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from puresignal.core.articulations import spoken
from puresignal.core.tally import REASON_WORDS, Reason, What
from puresignal.ui import drawing
from puresignal.ui.model import Shown, Workbench
from puresignal.ui.picture import picture
from puresignal.ui.timeline import Timeline


class TakesView(QWidget):
    """The timeline with its few controls, and a line that says what the pointer is on."""

    def __init__(self, workbench: Workbench, parent: QWidget | None = None):
        super().__init__(parent)
        self._workbench = workbench
        self._shown: Shown | None = None
        self._pointed = np.zeros(0, np.int64)
        self.timeline = Timeline()
        self.timeline.set_describe(self.describe)
        self.timeline.hovered.connect(self._hover)
        self.said = QLabel()
        self.said.setObjectName("faint")
        self.said.setAccessibleName(self.tr("What the pointer is on"))
        self.empty = QLabel(self.tr("No take yet. Open a MIDI file, or let the simulated drummer play one."))
        self.empty.setObjectName("faint")
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)

        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self._controls())
        column.addWidget(self.timeline, 1)
        column.addWidget(self.empty, 1)

    def _controls(self) -> QWidget:
        bar = QWidget()
        bar.setObjectName("bar")
        bar.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(bar)
        row.setContentsMargins(14, 8, 14, 8)
        row.setSpacing(6)
        self.show_group = QButtonGroup(self)
        self.show_buttons: dict[str, QPushButton] = {}
        for name, label, tip in (
            (drawing.PLAYED, "Played", "Every hit as it was played, in outline."),
            (drawing.CLEAN, "Clean", "The hits that leave, solid."),
            (drawing.BOTH, "Both", "What leaves is solid; what was taken out is an outline, struck through."),
        ):
            button = QPushButton(self.tr(label))
            button.setCheckable(True)
            button.setToolTip(self.tr(tip))
            button.setAccessibleName(self.tr(label))
            button.clicked.connect(lambda _=False, n=name: self.choose(n))
            self.show_group.addButton(button)
            self.show_buttons[name] = button
            row.addWidget(button)
        self.show_buttons[drawing.BOTH].setChecked(True)
        row.addSpacing(12)
        row.addWidget(self.said, 1)
        for label, name, tip, action in (
            (
                "\N{MINUS SIGN}",
                "Zoom out",
                "Show a longer stretch (minus key, or Ctrl and wheel).",
                lambda: self.timeline.zoom(1 / 1.5),
            ),
            ("+", "Zoom in", "Show a shorter stretch (plus key, or Ctrl and wheel).", lambda: self.timeline.zoom(1.5)),
            ("Whole take", "Show the whole take", "Everything in view (key 0).", lambda: self.timeline.show_all()),
        ):
            button = QPushButton(self.tr(label))
            button.setToolTip(self.tr(tip))
            button.setAccessibleName(self.tr(name))
            button.clicked.connect(lambda _=False, act=action: act())
            row.addWidget(button)
        return bar

    def choose(self, show: str) -> None:
        """ "played", "clean" or "both"."""
        self.show_buttons[show].setChecked(True)
        self.timeline.set_show(show)

    def show_take(self, shown: Shown | None) -> None:
        """The current take; zoom and place stay where it is the same one as before."""
        before, self._shown = self._shown, shown
        self.timeline.setVisible(shown is not None)
        self.empty.setVisible(shown is None)
        if shown is None:
            return
        same = before is not None and before.take is shown.take
        titles = dict(self._workbench.session.titles)
        self.timeline.show_picture(picture(shown.outcome, titles, shown.take.length), shown.take.tempo, not same)
        if not same:
            self.point_at(-1, -1)

    def point_at(self, what: int, reason: int) -> None:
        """Points at the notes behind a figure of the tally; (-1, -1) points at none."""
        if self._shown is None or (what, reason) == (-1, -1):
            self._pointed = np.zeros(0, np.int64)
            self.timeline.mark(self._pointed)
            return
        outcome = self._shown.outcome
        if what >= 0:
            self._pointed = outcome.tally.origins(What(what), Reason(reason))
        elif reason == -4:
            e = outcome.tally.entries
            unsure = (e.confidence < 0.6) & ((e.what == What.REMOVED) | (e.what == What.KEPT))
            self._pointed = np.unique(e.origin[unsure])
        else:
            self.choose(drawing.PLAYED if reason == -2 else drawing.CLEAN)
            self._pointed = np.zeros(0, np.int64)
        if what >= 0 and what == What.REMOVED:
            self.choose(drawing.BOTH)
        self.timeline.mark(self._pointed)
        self.step(1, first=True)

    def step(self, direction: int, first: bool = False) -> None:
        """To the next note pointed at, or the one before."""
        if self._shown is None or not len(self._pointed):
            return
        played = self._shown.outcome.played
        starts = np.sort(played.start[np.isin(played.origin, self._pointed)])
        begin, end = self.timeline.seconds_in_view()
        middle = (begin + end) / 2
        if first:
            self.timeline.bring_into_view(float(starts[0]) if not np.any((starts > begin) & (starts < end)) else middle)
            return
        at = np.searchsorted(starts, middle + direction * 1e-3 + (0.2 if direction > 0 else -0.2) * (end - begin))
        at = int(np.clip(at if direction > 0 else at - 1, 0, len(starts) - 1))
        self.timeline.bring_into_view(float(starts[at]))

    def describe(self, origin: int) -> str:
        """What a note is and what became of it, in a line or two."""
        if self._shown is None or origin < 0:
            return ""
        outcome, tempo = self._shown.outcome, self._shown.take.tempo
        played = outcome.played
        i = int(np.flatnonzero(played.origin == origin)[0])
        code = int(played.articulation[i])
        name = spoken(outcome.vocabulary[code]) if code >= 0 else self.tr("unknown")
        bar, beat, _ = tempo.position(float(played.start[i]))
        pattern = self.tr("{name} · velocity {velocity:g} · note {note}, channel {channel} · bar {bar}, beat {beat}")
        text = pattern.format(
            name=name, velocity=float(played.velocity[i]), note=int(played.note[i]), channel=int(played.channel[i]),
            bar=bar, beat=beat,
        )  # fmt: skip
        clean = np.flatnonzero(outcome.clean.origin == origin)
        if len(clean):
            notes = ", ".join(str(int(outcome.clean.note[c])) for c in clean)
            return self.tr("{text} · leaves as note {notes}").format(text=text, notes=notes)
        removed = [s for s in outcome.tally.trace(origin) if s.what == What.REMOVED]
        why = REASON_WORDS[removed[0].reason] if removed else ""
        return self.tr("{text} · taken out: {why}").format(text=text, why=why)

    def _hover(self, origin: int) -> None:
        self.said.setText(self.describe(origin))
