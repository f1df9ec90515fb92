"""Selecting notes of Takes by a sentence, and keeping such selections under names."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QObject
from PySide6.QtWidgets import QWidget

from puresignal.core.analysis import note_choice
from puresignal.core.export.session_result import SeveralTakes
from puresignal.core.path.condition import Condition
from puresignal.core.session import selections
from puresignal.core.session.arrangement import NamedSelection
from puresignal.translation import tr
from puresignal.ui.state.shown import Shown
from puresignal.ui.state.workbench import Workbench
from puresignal.ui.takes.select_dialog import ADD, WITHIN, SelectDialog
from puresignal.ui.takes.timeline import Timeline
from puresignal.ui.widgets import text_format


class SentenceSelection(QObject):
    """The dialog with the sentence, made when it is first asked for, and what it does.

    point    selects notes and brings them into view
    stretch  the selected range, as the path's panel has it
    """

    def __init__(
        self, workbench: Workbench, timeline: Timeline, point: Callable[[np.ndarray], None],
        stretch: Callable[[], object], parent: QWidget,
    ):  # fmt: skip
        super().__init__(parent)
        self._workbench, self._timeline, self._point, self._stretch = workbench, timeline, point, stretch
        self._window = parent
        self._shown: Shown | None = None
        self.dialog: SelectDialog | None = None

    def show_take(self, shown: Shown | None) -> None:
        self._shown = shown
        if self.dialog is not None and shown is not None:
            self.dialog.show_take(shown)

    def ask(self) -> None:
        """Show the sentence by which notes are selected."""
        if self.dialog is None:
            self.dialog = SelectDialog(self._window)
            self.dialog.asked.connect(self._select)
            self.dialog.inverted.connect(self._invert)
            self.dialog.recalled.connect(self._recall)
            self.dialog.kept.connect(self._keep)
            self.dialog.forgotten.connect(self._forget)
        self.dialog.show_take(self._shown)
        self.dialog.stretch = self._stretch()  # type: ignore[assignment]
        self._show_names("")
        self.dialog.show()
        self.dialog.raise_()
        self.dialog.activateWindow()

    def _select(self, wanted: Condition, how: str) -> None:
        shown = self._shown
        if shown is None or shown.several is None or self.dialog is None:
            return
        self.dialog.stretch = self._stretch()  # type: ignore[assignment]
        found = self._found(shown, shown.several, wanted)
        before = self._timeline.selected
        if how == ADD:
            found = np.union1d(before, found)
        elif how == WITHIN:
            found = found[np.isin(found, before)]
        self._point(found)
        self._tell_count()

    def _found(self, shown: Shown, several: SeveralTakes, wanted: Condition) -> np.ndarray:
        """The notes for which a sentence holds."""
        rounds = None
        if wanted.round:
            rounds = several.rounds_of(shown.outcome.output_notes.origin, self._workbench.store.by_ident)
        return note_choice.chosen(shown.outcome, several.timeline, several.shift, wanted, rounds)

    def _show_names(self, current: str) -> None:
        assert self.dialog is not None
        self.dialog.show_names(tuple(one.name for one in self._workbench.session.selections), current)

    def _recall(self, name: str) -> None:
        """Select the notes that a name stands for."""
        shown, one = self._shown, selections.find(self._workbench.session, name)
        if shown is None or shown.several is None or one is None or self.dialog is None:
            return
        if one.condition is not None:
            self.dialog.show_condition(one.condition)
            found = self._found(shown, shown.several, one.condition)
        else:
            there = np.unique(shown.outcome.input_notes.origin)
            named = shown.several.of_numbers(np.array(one.notes, np.int64))
            found = named[np.isin(named, there)]
        self._point(found)
        self._tell_count()

    def _keep(self, name: str, wanted: Condition | None) -> None:
        """Keep a sentence, or the selected notes, under a name."""
        bench, shown = self._workbench, self._shown
        if shown is None or shown.several is None or self.dialog is None:
            return
        notes = () if wanted is not None else tuple(shown.several.by_number(self._timeline.selected).tolist())
        if wanted is None and not notes:
            self.dialog.tell(tr("Select notes first."))
            return
        one = NamedSelection(name, wanted, notes)
        bench.do(tr("keep selection {name}", name=name), selections.with_selection(bench.session, one))
        self._show_names(name)
        self.dialog.tell(tr("Kept. Stages can be set for it: PATH for {name}.", name=name))

    def _forget(self, name: str) -> None:
        bench = self._workbench
        if self.dialog is not None and selections.find(bench.session, name) is not None:
            bench.do(tr("forget selection {name}", name=name), selections.without_selection(bench.session, name))
            self._show_names("")

    def _invert(self) -> None:
        if self._shown is None:
            return
        every = np.unique(self._shown.outcome.output_notes.origin)
        self._point(every[~np.isin(every, self._timeline.selected)])
        self._tell_count()

    def _tell_count(self) -> None:
        if self.dialog is not None:
            self.dialog.tell(text_format.counted(len(self._timeline.selected), "note"))
