"""Settings that describe themselves: label, tip, unit, range and for whom they can be set, declared with the field.

A stage is a frozen dataclass. Each of its settings is a field made by `setting`, `switch` or `choice`; the path
panel, the settings file, its schema and the tables in the documents are made from what is declared there.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, fields
from enum import Flag, auto
from typing import Any


class Scope(Flag):
    """For whom a setting can be set. The most specific value applies: notes, articulation, track, input, session."""

    SESSION = auto()
    INPUT = auto()
    TRACK = auto()
    ARTICULATION = auto()
    NOTES = auto()


@dataclass(frozen=True)
class Codec:
    """How a setting that is more than a number or a word is stored.

    read    plain JSON data to value: (data, label for messages, where); raises SettingsError
    write   value to plain JSON data
    schema  JSON schema of the plain data
    """

    read: Callable[[object, str, str], object]
    write: Callable[[Any], object]
    schema: dict[str, Any]


@dataclass(frozen=True)
class Setting:
    """The description of one setting, for everything that shows or reads it.

    label    name in the path panel; empty: it has no control there
    tip      what it does, in a sentence
    unit     "ms", "%", or empty; "%" is a fraction shown times a hundred
    low      lowest value, and `high` the highest, in the unit of the field
    choices  allowed words of a setting that is a word
    step     smallest step of the slider
    reach    the slider's highest value, where the whole range would be too coarse
    scope    for whom it can be set
    codec    how it is stored, for a setting that is neither number, word, nor truth value
    default  as it is when nobody has set it
    later    whether it came after the format's version: left out while it is as usual, so that files stay as they were
    name     name of the field
    """

    label: str = ""
    tip: str = ""
    unit: str = ""
    low: float = 0.0
    high: float = 1.0
    choices: tuple[str, ...] = ()
    step: float = 1.0
    reach: float | None = None
    scope: Scope = Scope.SESSION
    codec: Codec | None = None
    default: object = None
    later: bool = False
    name: str = ""

    def said(self, value: float) -> str:
        """A value with its unit, as the player reads it."""
        return f"{value * 100:.0f} %" if self.unit == "%" else f"{value:g} {self.unit}".rstrip()


def setting(default: Any, tip: str, *, label: str = "", **about: Any) -> Any:
    """A dataclass field for a setting; `about` holds further values of `Setting`."""
    described = Setting(label=label, tip=tip, default=default, **about)
    return field(default=default, metadata={"setting": described})


def settings_of(stage: Any) -> tuple[Setting, ...]:
    """The settings of a stage, or of its class, in order."""
    found = []
    for one in fields(stage):
        described = one.metadata.get("setting")
        if described is None:
            raise TypeError(f"{stage}: the field {one.name} is not made by setting()")
        found.append(Setting(**{**{f.name: getattr(described, f.name) for f in fields(Setting)}, "name": one.name}))
    return tuple(found)


def setting_named(stage: Any, name: str) -> Setting:
    """One setting of a stage, or of its class.

    Raises KeyError if there is none of that name
    """
    for one in settings_of(stage):
        if one.name == name:
            return one
    raise KeyError(name)
