"""Scoped settings as plain JSON data: a number alone, or an object that names what has its own.

`{"value": 20, "articulations": {"snare.rim": 12}, "notes": [{"origins": [4, 9], "value": 0}]}`
"""

from __future__ import annotations

from typing import Any

from puresignal.core.errors import SettingsError
from puresignal.core.kit.articulations import is_articulation
from puresignal.core.path import condition
from puresignal.core.path.scoped import Scoped
from puresignal.core.path.setting import Scope, Setting
from puresignal.translation import tr

_GROUPS = {
    "inputs": Scope.INPUT, "tracks": Scope.TRACK, "articulations": Scope.ARTICULATION, "sentences": Scope.NOTES,
    "notes": Scope.NOTES,
}  # fmt: skip


def to_json(scoped: Scoped) -> object:
    """The plain form, as short as it can be."""
    if scoped.plain:
        return scoped.value
    found: dict[str, object] = {"value": scoped.value}
    for name in ("inputs", "tracks", "articulations"):
        if getattr(scoped, name):
            found[name] = dict(getattr(scoped, name))
    if scoped.sentences:
        found["sentences"] = [
            {"name": name, "where": condition.to_json(one), "value": value} for name, one, value in scoped.sentences
        ]
    if scoped.notes:
        found["notes"] = [{"origins": list(origins), "value": value} for origins, value in scoped.notes]
    return found


def from_json(data: object, setting: Setting, name: str, where: str) -> Scoped:
    """A scoped value from its plain form.

    Raises SettingsError that names the field, the value and the expected value
    """
    if not isinstance(data, dict):
        return Scoped(number(data, setting, name, where))
    assert isinstance(setting.default, Scoped)
    given = {key for key, scope in _GROUPS.items() if scope & setting.scope}
    for key in data:
        if key not in given and key != "value":
            known = ", ".join(sorted((*given, "value")))
            raise SettingsError(
                tr('"{name}" cannot be set by "{key}"', name=name, key=key),
                where,
                tr("Known are: {names}.", names=known),
            )
    found: dict[str, Any] = {"value": number(data.get("value", setting.default.value), setting, name, where)}
    for key in ("inputs", "tracks", "articulations"):
        rows = data.get(key, {})
        if not isinstance(rows, dict):
            raise SettingsError(
                tr('"{name}.{key}" is not a JSON object', name=name, key=key),
                where,
                tr("Write names and numbers there."),
            )
        for one in rows:
            if key == "articulations" and not is_articulation(one):
                raise SettingsError(
                    tr('"{name}" is set for "{one}", which is no articulation', name=name, one=shortened(one)),
                    where,
                    tr('Write a name like "snare.rim" there.'),
                )
        checked = ((str(one), number(value, setting, f"{name}.{key}.{one}", where)) for one, value in rows.items())
        found[key] = tuple(sorted(checked))
    found["sentences"] = _sentences(data.get("sentences", []), setting, name, where)
    found["notes"] = _groups(data.get("notes", []), setting, name, where)
    return Scoped(**found)


def _sentences(
    rows: object, setting: Setting, name: str, where: str
) -> tuple[tuple[str, condition.Condition, float], ...]:
    label = f"{name}.sentences"
    shape = tr('Write [{"name": text, "where": {"what": "snare"}, "value": number}] there.')
    if not isinstance(rows, list):
        raise SettingsError(tr('"{label}" is not a list', label=label), where, shape)
    found = []
    for row in rows:
        if not isinstance(row, dict) or not isinstance(row.get("name"), str) or not {"where", "value"} <= set(row):
            raise SettingsError(tr('"{label}" has a row that is no selection', label=label), where, shape)
        one = condition.from_json(row["where"], f'"{label}"', where)
        found.append((row["name"], one, number(row["value"], setting, label, where)))
    return tuple(found)


def _groups(rows: object, setting: Setting, name: str, where: str) -> tuple[tuple[tuple[int, ...], float], ...]:
    found, seen = [], set[int]()
    try:
        assert isinstance(rows, list)
        for row in rows:
            origins = row["origins"]
            if not all(isinstance(o, int) and not isinstance(o, bool) and o >= 0 for o in origins):
                raise ValueError
            if seen & set(origins):
                raise ValueError
            seen |= set(origins)
            found.append((tuple(sorted(origins)), number(row["value"], setting, f"{name}.notes", where)))
    except (AssertionError, TypeError, KeyError, ValueError) as error:
        raise SettingsError(
            tr('"{name}.notes" is not a list of groups of notes', name=name), where,
            tr('Write [{"origins": [numbers], "value": number}] there, each note once.'),
        ) from error  # fmt: skip
    return tuple(found)


def number(value: object, setting: Setting, name: str, where: str) -> float:
    """A number within a setting's range.

    Raises SettingsError that names the field, the value and the expected range
    """
    low, high = setting.low, setting.high
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not low <= value <= high:
        raise SettingsError(
            tr('"{name}" is {value}', name=name, value=shortened(value)),
            where,
            tr("Write a number from {low:g} to {high:g} there.", low=low, high=high),
        )
    return float(value)


def shortened(value: object) -> str:
    """A value as it stands in the file; only the beginning of a long one."""
    text = repr(value)
    return text if len(text) <= 60 else f"{text[:57]}…"


def schema(setting: Setting) -> dict[str, Any]:
    """The JSON schema of a scoped setting."""
    one = {"type": "number", "minimum": setting.low, "maximum": setting.high}
    parts: dict[str, Any] = {"value": one}
    for key, scope in _GROUPS.items():
        if not scope & setting.scope:
            continue
        parts[key] = {"type": "object", "additionalProperties": one}
        if key == "notes":
            group = {"origins": {"type": "array", "items": {"type": "integer", "minimum": 0}}, "value": one}
            parts[key] = {"type": "array", "items": {"type": "object", "required": list(group), "properties": group}}
        if key == "sentences":
            row = {"name": {"type": "string"}, "where": condition.SCHEMA, "value": one}
            parts[key] = {"type": "array", "items": {"type": "object", "required": list(row), "properties": row}}
    whole = {"type": "object", "additionalProperties": False, "properties": parts}
    return {"description": setting.tip, "anyOf": [one, whole]}
