"""The preferences in use: read once, written at every change."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PySide6.QtCore import QObject, QTimer

from puresignal.core.errors import PureSignalError
from puresignal.io import preferences, work_folder
from puresignal.translation import tr
from puresignal.ui.state.notices import Notices


class PreferenceStore(QObject):
    """Holds the preferences; a disk that refuses is reported, and the change still holds until the end."""

    def __init__(self, notices: Notices, parent: QObject | None = None):
        super().__init__(parent)
        self._notices = notices
        self.now = preferences.Preferences()
        try:
            self.now = preferences.read()
        except PureSignalError as error:
            # Set aside, so that what the player had is not written over.
            aside = work_folder.set_aside(preferences.path())
            text = str(error) + (tr(" It was kept as {path}.", path=aside) if aside is not None else "")
            QTimer.singleShot(0, self, lambda: notices.tell(text, True))

    def change(self, **changed: Any) -> None:
        """Change fields of the preferences."""
        self.use(replace(self.now, **changed))

    def use(self, chosen: preferences.Preferences) -> None:
        """Use other preferences from now on."""
        self.now = chosen
        try:
            preferences.write(chosen)
        except PureSignalError as error:
            self._notices.tell(str(error), True)
