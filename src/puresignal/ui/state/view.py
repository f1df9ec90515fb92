"""The interface of a view for the window, so that it need not know what is inside."""

from __future__ import annotations

import importlib
from dataclasses import dataclass
from typing import ClassVar

from PySide6.QtWidgets import QWidget

from puresignal.ui.state.services import Services
from puresignal.ui.state.shown import Shown

TAKE = -1
"""The current take, in place of a live input's number."""


@dataclass(frozen=True)
class ViewAction:
    """An action that a view offers in the window's menus, also while another view is shown.

    label   for the menu; marked for translation
    key     its shortcut, empty for none
    method  name of the view's method that does it
    group   actions of one group stand together
    """

    label: str
    key: str
    method: str
    group: str = ""


@dataclass(frozen=True)
class ViewSpec:
    """The description of a view before it is made, and where it is.

    name     its name in header and menu; marked for translation
    tip      what it shows, in a sentence; marked for translation
    place    module and class, as "puresignal.ui.takes.takes_view:TakesView"; loaded when the view is first shown
    actions  what it offers in the menus
    """

    name: str
    tip: str
    place: str
    actions: tuple[ViewAction, ...] = ()

    def make(self, services: Services) -> View:
        """Load the view's module and make it."""
        module, _, name = self.place.partition(":")
        made: View = getattr(importlib.import_module(module), name)(services)
        return made


class View(QWidget):
    """One of the main views. Made when it is first shown."""

    def __init__(self, services: Services, parent: QWidget | None = None):
        super().__init__(parent)
        self._services = services

    shows_all: ClassVar[bool] = False
    """Whether it shows what is heard: all takes that are in, or the chosen one alone. Else it shows the chosen one."""

    shows_file: ClassVar[bool] = False
    """Whether it shows what the file will contain: all takes that are in, whatever is heard alone."""
    shows_maps: ClassVar[bool] = False
    """Whether the bar with the two note maps stands above it."""

    def show_take(self, shown: Shown | None) -> None:
        """Show the current take, or what to do if there is none."""
        raise NotImplementedError

    def show_settings(self) -> None:
        """Show settings that were changed, while the result of them is still worked out."""

    def first_focus(self) -> QWidget:
        """The widget that gets the keys when the view is shown."""
        return self

    def set_compact(self, compact: bool) -> None:
        """Use narrower columns in a small window."""

    def maps_shown(self) -> int:
        """The owner of the maps in the map bar: TAKE, or the number of a live input."""
        return TAKE

    def prepare_screenshot(self) -> None:
        """Select something, so that a picture of the view says what it is for."""
