"""The path's settings as plain JSON data, for files and sessions."""

from __future__ import annotations

from dataclasses import fields, replace
from typing import Any

from puresignal.core.errors import SettingsError
from puresignal.core.path import settings_values
from puresignal.core.path.cleaning_path import CleaningPath
from puresignal.core.path.crosstalk_model import KitModel
from puresignal.translation import tr

FORMAT = "pure-signal/settings"
VERSION = 1

_RANGES: dict[tuple[str, str], tuple[float, float] | tuple[str, ...]] = {
    ("identify", "unmapped"): ("drop", "keep"),
    ("identify", "tremble"): (0.0, 0.15),
    ("identify", "splash_ms"): (0.0, 200.0),
    ("thin", "every_ms"): (1.0, 50.0),
    ("doubles", "window_ms"): (0.0, 500.0),
    ("doubles", "ratio"): (0.0, 1.0),
    ("crosstalk", "after_ms"): (0.0, 30.0),
    ("crosstalk", "before_ms"): (0.0, 20.0),
    ("crosstalk", "ratio"): (0.0, 1.0),
    ("crosstalk", "min_confidence"): (0.0, 1.0),
    ("crosstalk", "lookahead_ms"): (0.0, 8.0),
    ("crosstalk", "live_ms"): (0.0, 8.0),
    ("ends", "given_ms"): (1.0, 1000.0),
    ("ends", "longest_ms"): (50.0, 60000.0),
    ("velocity", "seed"): (0, 2**31),
    ("velocity", "round"): (0, 2**31),
    ("split", "by"): ("drum", "family", "one"),
    ("target", "unmapped"): ("drop", "keep"),
}


_FORMER_NAMES = {("crosstalk", "sure"): "min_confidence", ("crosstalk", "profile"): "kit_model"}
"""Settings that had another name in files of version 0.1.0."""


def to_json(path: CleaningPath) -> dict[str, Any]:
    """Every setting of every stage."""
    stages = {}
    for one in fields(path):
        stage = getattr(path, one.name)
        stages[one.name] = {f.name: settings_values.to_json(getattr(stage, f.name)) for f in fields(stage)}
    return {"format": FORMAT, "version": VERSION, **stages}


def from_json(data: object, where: str, base: CleaningPath | None = None) -> CleaningPath:
    """A path from plain JSON data; settings that the data lacks stay as in `base`.

    Raises SettingsError that names the field, the value and the expected value
    """
    path = base or CleaningPath()
    if not isinstance(data, dict) or data.get("format") != FORMAT:
        raise SettingsError(tr('"format" is not "{value}"', value=FORMAT), where, tr("Choose a settings file."))
    version = data.get("version")
    if not isinstance(version, int) or isinstance(version, bool) or version < 1:
        raise SettingsError(
            tr('"version" is not a whole number from 1'), where, tr("Write {version} there.", version=VERSION)
        )
    if version > VERSION:
        raise SettingsError(
            tr(
                "These settings have version {version}; this program reads versions up to {version2}",
                version=version,
                version2=VERSION,
            ),
            where,
            tr("Update the program."),
        )
    names = {f.name for f in fields(path)}
    for name, values in data.items():
        if name in ("format", "version"):
            continue
        if name not in names:
            raise SettingsError(
                tr('There is no stage "{name}"', name=name),
                where,
                tr("Known are: {names}.", names=", ".join(sorted(names))),
            )
        if not isinstance(values, dict):
            raise SettingsError(
                tr('"{name}" is not a JSON object', name=name), where, tr("Write the stage's settings there.")
            )
        stage = getattr(path, name)
        known = {f.name: getattr(stage, f.name) for f in fields(stage)}
        checked = {}
        for given, value in values.items():
            key = _FORMER_NAMES.get((name, given), given)
            if key not in known:
                raise SettingsError(
                    tr('"{name}" has no setting "{key}"', name=name, key=key),
                    where,
                    tr("Known are: {names}.", names=", ".join(sorted(known))),
                )
            checked[key] = _checked(name, key, value, known[key], where)
        path = replace(path, **{name: replace(stage, **checked)})
    return path


def _checked(stage: str, key: str, value: object, now: object, where: str) -> object:
    if isinstance(now, tuple):
        return settings_values.shapes(value, f'"{stage}.{key}"', where)
    if isinstance(now, KitModel):
        return settings_values.kit_model(value, f'"{stage}.{key}"', where)
    allowed = _RANGES.get((stage, key))
    label = tr('"{stage}.{key}" is {value!r}', stage=stage, key=key, value=value)
    if isinstance(now, bool):
        if not isinstance(value, bool):
            raise SettingsError(label, where, tr("Write true or false there."))
        return value
    if allowed and isinstance(allowed[0], str):
        if value not in allowed:
            raise SettingsError(label, where, tr("Write one of {names} there.", names=", ".join(map(str, allowed))))
        return value
    low, high = allowed if allowed else (float("-inf"), float("inf"))
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not float(low) <= value <= float(high):
        raise SettingsError(label, where, tr("Write a number from {low:g} to {high:g} there.", low=low, high=high))
    if isinstance(now, int):
        if value != int(value):
            raise SettingsError(label, where, tr("Write a whole number there."))
        return int(value)
    return float(value)


def setting_range(stage: str, key: str) -> tuple[float, float]:
    """Lowest and highest value of a numeric setting, in its own unit."""
    low, high = _RANGES[stage, key][:2]
    return float(low), float(high)
