"""Dragging the chosen take's handle: moving and cropping it, on beats unless Alt is held."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication

from puresignal.ui.state.services import Services
from puresignal.ui.takes.time_strip import BEGIN, MOVE


class TakeGrip:
    """One drag is one step of the history."""

    def __init__(self, services: Services):
        self._workbench, self._actions = services.workbench, services.take_actions
        self._from: tuple[float, float] | None = None
        self._drags = 0

    def drag(self, what: str, seconds: float, second: float) -> None:
        """The pointer has moved. seconds: from where the drag began; second: of what is shown, where it is now."""
        seen = self._workbench.seen
        several = None if seen is None else seen.several
        if several is None or self._actions.ref() is None:
            return
        if self._from is None:
            self._from = self._actions.span()
            self._drags += 1
        begin, end = self._from
        gesture = f"grip {self._drags}"  # not shown
        if what == MOVE:
            wanted = self._on_beat(several.beat_of(several.second_of(begin) + seconds), begin)
            now, _ = self._actions.span()
            self._actions.move(wanted - now, gesture=gesture)
            return
        at = self._on_beat(several.beat_of(second))
        if what == BEGIN and at < end - 0.01:
            self._actions.crop(at, end, gesture=gesture)
        elif what != BEGIN and at > begin + 0.01:
            self._actions.crop(begin, at, gesture=gesture)

    def release(self) -> None:
        self._from = None

    @staticmethod
    def _on_beat(beat: float, begin: float = 0.0) -> float:
        """The nearest beat; a take that did not begin on one keeps its distance to it."""
        if QApplication.keyboardModifiers() & Qt.KeyboardModifier.AltModifier:
            return beat
        return round(beat - begin % 1.0) + begin % 1.0
