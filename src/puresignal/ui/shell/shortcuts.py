"""Shortcuts of the window: which action has which keys, changed by the player, and when a control goes first."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QAction, QKeyEvent, QKeySequence
from PySide6.QtWidgets import QAbstractButton, QAbstractItemView, QApplication, QComboBox, QWidget

from puresignal.translation import tr
from puresignal.ui.state.preference_store import PreferenceStore

_OTHERS = Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier | Qt.KeyboardModifier.MetaModifier
_PRESS = (Qt.Key.Key_Space, Qt.Key.Key_Return, Qt.Key.Key_Enter)


class Shortcuts(QObject):
    """The window's actions by name, with the keys in use."""

    def __init__(self, owner: QWidget, preferences: PreferenceStore):
        super().__init__(owner)
        self._owner, self._preferences = owner, preferences
        self.actions: dict[str, QAction] = {}
        self._usual: dict[str, str] = {}

    def add(self, label: str, key: str, act: Callable[[], object]) -> QAction:
        """Make an action. label: marked for translation; it names the action in the preferences too."""
        action = QAction(tr(label), self._owner)
        action.triggered.connect(lambda _=False: act())
        self._owner.addAction(action)
        self.actions[label], self._usual[label] = action, key
        action.setShortcut(QKeySequence(dict(self._preferences.now.shortcuts).get(label, key)))
        return action

    def usual(self, label: str) -> str:
        """The keys that an action has when nobody has changed them."""
        return self._usual[label]

    def change(self, label: str, keys: str) -> str:
        """Give an action other keys, empty for none. Returns the label of the action that had them, or empty.

        That action then has none.
        """
        sequence = QKeySequence(keys)
        taken = next(
            (other for other, action in self.actions.items()
             if other != label and not sequence.isEmpty() and action.shortcut() == sequence), "",
        )  # fmt: skip
        self.actions[label].setShortcut(sequence)
        if taken:
            self.actions[taken].setShortcut(QKeySequence())
        self._store()
        return taken

    def reset(self) -> None:
        """Give every action its usual keys."""
        for label, action in self.actions.items():
            action.setShortcut(QKeySequence(self._usual[label]))
        self._store()

    def _store(self) -> None:
        changed = {
            label: action.shortcut().toString(QKeySequence.SequenceFormat.PortableText)
            for label, action in self.actions.items()
            if action.shortcut() != QKeySequence(self._usual[label])
        }
        self._preferences.change(shortcuts=tuple(sorted(changed.items())))


class ControlsFirst(QObject):
    """Gives a focused control its own keys before any shortcut of the window.

    Space and Enter press buttons, tick boxes and table rows; letters search lists. Only the widget with the focus is
    watched: a filter on the whole application would cost a call for every event there is.
    """

    def __init__(self, app: QApplication, parent: QObject):
        super().__init__(parent)
        app.focusChanged.connect(self._move)

    def _move(self, old: QWidget | None, new: QWidget | None) -> None:
        if old is not None:
            old.removeEventFilter(self)
        if new is not None:
            new.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        kind = event.type()
        if (
            kind not in (QEvent.Type.ShortcutOverride, QEvent.Type.KeyPress)
            or watched is not QApplication.focusWidget()
        ):
            return False
        assert isinstance(event, QKeyEvent)
        if event.modifiers() & _OTHERS:
            return False
        if kind == QEvent.Type.ShortcutOverride:
            if self._wants(watched, event):
                event.accept()
            return False
        # Qt leaves Enter on a button to dialogs.
        if isinstance(watched, QAbstractButton) and event.key() in _PRESS[1:] and not event.isAutoRepeat():
            watched.click()
            return True
        return False

    @staticmethod
    def _wants(control: QObject, event: QKeyEvent) -> bool:
        if isinstance(control, QAbstractButton):
            return event.key() in _PRESS
        if isinstance(control, QAbstractItemView | QComboBox):
            return event.key() in _PRESS or event.text().isalnum()
        return event.key() in getattr(control, "OWN_KEYS", ())
