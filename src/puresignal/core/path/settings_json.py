"""The path's settings as plain JSON data, for files and sessions, and the schema of that data.

Everything here follows from what the stages declare with their settings.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import fields, replace
from typing import Any

from puresignal.core.errors import SettingsError
from puresignal.core.path import former_settings, scoped_json
from puresignal.core.path.cleaning_path import CleaningPath
from puresignal.core.path.scoped import Scoped
from puresignal.core.path.setting import Setting, settings_of
from puresignal.translation import tr

FORMAT = "pure-signal/settings"
VERSION = 2

_FORMER_NAMES = {("crosstalk", "sure"): "min_confidence", ("crosstalk", "profile"): "kit_model"}
"""Settings that had another name in files of version 0.1.0."""


def to_json(path: CleaningPath) -> dict[str, Any]:
    """Every setting of every stage; stages that not every take needs are left out while they are as usual."""
    stages = {
        stage.stage.key: {
            one.name: _plain(getattr(stage, one.name), one)
            for one in settings_of(stage)
            if not one.later or getattr(stage, one.name) != one.default
        }
        for stage in path.stages()
        if stage.stage.causal or stage != type(stage)()
    }
    return {"format": FORMAT, "version": VERSION, **{key: values for key, values in stages.items() if values}}


def _plain(value: Any, setting: Setting) -> object:
    if isinstance(value, Scoped):
        return scoped_json.to_json(value)
    return value if setting.codec is None else setting.codec.write(value)


def from_json(data: object, where: str, base: CleaningPath | None = None) -> CleaningPath:
    """A path from plain JSON data; settings that the data lacks stay as in `base`.

    A stage's settings stand in an object of their own, or each by itself as `"stage.setting"`.
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
    for name, values in _by_stage(former_settings.moved(data), where):
        if version < 2:
            values = former_settings.told_as_chances(name, values)
        path = _with_values(path, name, values, where)
    return path


def _by_stage(data: dict[Any, Any], where: str) -> Iterator[tuple[str, dict[Any, Any]]]:
    """Stage and values of each entry, also of those written as "stage.setting"."""
    for name, values in data.items():
        if name in ("format", "version"):
            continue
        stage, dot, key = str(name).partition(".")
        if dot:
            yield stage, {key: values}
        elif isinstance(values, dict):
            yield stage, values
        else:
            raise SettingsError(
                tr('"{name}" is not a JSON object', name=name), where, tr("Write the stage's settings there.")
            )


def _with_values(path: CleaningPath, name: str, values: dict[Any, Any], where: str) -> CleaningPath:
    stages = {stage.stage.key: stage for stage in path.stages() if fields(stage)}  # type: ignore[arg-type]
    if name not in stages:
        raise SettingsError(
            tr('There is no stage "{name}"', name=name),
            where,
            tr("Known are: {names}.", names=", ".join(sorted(stages))),
        )
    stage = stages[name]
    known = {one.name: one for one in settings_of(stage)}
    checked = {}
    for given, value in values.items():
        key = _FORMER_NAMES.get((name, given), given)
        if key not in known:
            raise SettingsError(
                tr('"{name}" has no setting "{key}"', name=name, key=key),
                where,
                tr("Known are: {names}.", names=", ".join(sorted(known))),
            )
        checked[key] = _checked(f"{name}.{key}", known[key], value, where)
    changed: Any = replace(stage, **checked)  # type: ignore[type-var]
    return replace(path, **{name: changed})


def _checked(name: str, setting: Setting, value: object, where: str) -> object:
    if setting.codec is not None:
        return setting.codec.read(value, f'"{name}"', where)
    if isinstance(setting.default, Scoped):
        return scoped_json.from_json(value, setting, name, where)
    label = tr('"{name}" is {value}', name=name, value=shortened(value))
    if isinstance(setting.default, bool):
        if not isinstance(value, bool):
            raise SettingsError(label, where, tr("Write true or false there."))
        return value
    if setting.choices:
        if value not in setting.choices:
            raise SettingsError(label, where, tr("Write one of {names} there.", names=", ".join(setting.choices)))
        return value
    number = scoped_json.number(value, setting, name, where)
    if isinstance(setting.default, int):
        if number != int(number):
            raise SettingsError(label, where, tr("Write a whole number there."))
        return int(number)
    return number


def shortened(value: object) -> str:
    """A value as it stands in the file; only the beginning of a long one."""
    return scoped_json.shortened(value)


def schema(path: CleaningPath | None = None) -> dict[str, Any]:
    """The JSON schema (draft 2020-12) of the settings of a path."""
    stages, single = {}, {}
    for stage in (path or CleaningPath()).stages():
        known = {one.name: _schema_of(one) for one in settings_of(stage)}
        if known:
            stages[stage.stage.key] = {"type": "object", "additionalProperties": False, "properties": known}
            single.update({f"{stage.stage.key}.{name}": of_one for name, of_one in known.items()})
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Pure Signal settings of the path",
        "type": "object",
        "required": ["format", "version"],
        "additionalProperties": False,
        "properties": {
            "format": {"const": FORMAT},
            "version": {"enum": list(range(1, VERSION + 1))},
            **stages,
            **single,
        },
    }


def _schema_of(setting: Setting) -> dict[str, Any]:
    if setting.codec is not None:
        return setting.codec.schema
    if isinstance(setting.default, Scoped):
        return scoped_json.schema(setting)
    if isinstance(setting.default, bool):
        return {"type": "boolean", "description": setting.tip}
    if setting.choices:
        return {"enum": list(setting.choices), "description": setting.tip}
    kind = "integer" if isinstance(setting.default, int) else "number"
    return {"type": kind, "minimum": setting.low, "maximum": setting.high, "description": setting.tip}


def table(path: CleaningPath | None = None) -> list[tuple[str, str, str, str]]:
    """Name, default, range and meaning of every setting, for documents and the command line."""
    rows = []
    for stage in (path or CleaningPath()).stages():
        for one in settings_of(stage):
            rows.append((f"{stage.stage.key}.{one.name}", _default(one), _range(one), _sentence(tr(one.tip))))
    return rows


def settings_table() -> str:
    """The table of all settings in Markdown."""
    lines = [tr("| setting | default | range | meaning |"), "|---|---|---|---|"]
    lines += [f"| `{name}` | {usual} | {allowed} | {meaning} |" for name, usual, allowed, meaning in table()]
    return "\n".join(lines)


def _default(setting: Setting) -> str:
    value = setting.default.value if isinstance(setting.default, Scoped) else setting.default
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, str):
        return f'"{value}"'
    return f"{value:g}" if isinstance(value, (int, float)) else "{}"


def _sentence(text: str) -> str:
    return f"{text[:1].upper()}{text[1:].rstrip('.')}."


def _range(setting: Setting) -> str:
    if setting.choices:
        return ", ".join(f'"{choice}"' for choice in setting.choices)
    if isinstance(setting.default, bool) or setting.codec is not None:
        return ""
    unit = f" {setting.unit}" if setting.unit not in ("", "%") else ""
    return tr("{low:.10g} to {high:.10g}{unit}", low=setting.low, high=setting.high, unit=unit)
