"""Settings that are more than a number: velocity shapes and kit models, as plain JSON data."""

from __future__ import annotations

from dataclasses import fields
from itertools import pairwise
from typing import Any

from puresignal.core.errors import SettingsError
from puresignal.core.kit.articulations import is_articulation
from puresignal.core.path.crosstalk_model import HAND_MS, LEVELS, SHAKEN_AT_MS, SHAKEN_SPREAD_MS, KitModel
from puresignal.core.path.setting import settings_of
from puresignal.core.path.velocity_curve import ALL, NUMBERS, TRACK, Shape
from puresignal.translation import tr


def shapes_json(value: tuple[tuple[str, Shape], ...]) -> object:
    """The plain form of shapes, which lists only values that differ from the default."""
    usual = Shape()
    names = [f.name for f in fields(Shape)]
    return {
        key: {n: getattr(shape, n) for n in names if getattr(shape, n) != getattr(usual, n)} for key, shape in value
    }


def kit_model_json(value: KitModel) -> object:
    """The plain form of a kit model."""
    return {
        "alone": [[*pad, list(row)] for pad, row in value.alone],
        "shakes": [[*by, *shaken, *numbers] for by, shaken, *numbers in value.shakes],
        "hands_ms": value.hands_ms,
    }


def shapes(value: object, label: str, where: str) -> tuple[tuple[str, Shape], ...]:
    """Shapes by key from their plain form.

    Raises SettingsError that names the field, the value and the expected value
    """
    if not isinstance(value, dict):
        raise SettingsError(
            tr("{label} is not a JSON object", label=label), where, 'Write {"snare": {"scale": 1.2}} there.'
        )
    found = []
    for key, row in value.items():
        name = f'{label[:-1]}.{key}"'
        named = isinstance(key, str) and (key == ALL or key.startswith(TRACK) or is_articulation(key))
        if not isinstance(row, dict) or not named:
            raise SettingsError(
                tr("{name} is not a velocity shape", name=name),
                where,
                tr('Keys are drums, articulations, "track:…" or "*".'),
            )
        shape = Shape(**{str(field): _field(str(field), setting, name, where) for field, setting in row.items()})
        if shape.low > shape.high:
            raise SettingsError(tr("{name}: low is above high", name=name), where, tr("Swap them."))
        found.append((key, shape))
    return tuple(sorted(found, key=lambda item: item[0]))


def _field(field: str, given: object, name: str, where: str) -> Any:
    if field == "curve":
        return _curve(given, name, where)
    ranges = {one.name: one for one in settings_of(Shape) if one.name != "curve"}
    if field not in ranges:
        raise SettingsError(
            tr('{name} has no setting "{field}"', name=name, field=field),
            where,
            tr("Known are: curve, {names}.", names=", ".join(NUMBERS)),
        )
    low, high = ranges[field].low, ranges[field].high
    if isinstance(given, bool) or not isinstance(given, (int, float)) or not low <= given <= high:
        raise SettingsError(
            tr("{name}: {field} is {given!r}", name=name, field=field, given=given),
            where,
            tr("Write a number from {low:g} to {high:g}.", low=low, high=high),
        )
    return float(given)


def _curve(given: object, name: str, where: str) -> tuple[tuple[float, float], ...]:
    try:
        assert isinstance(given, (list, tuple))
        points = tuple((float(x), float(y)) for x, y in given)
    except (TypeError, ValueError, AssertionError):
        points = ()
    rising = all(a[0] < b[0] for a, b in pairwise(points))
    if len(points) < 2 or not rising or not all(0 <= v <= 127 for point in points for v in point):
        raise SettingsError(
            tr("{name}: curve is {given!r}", name=name, given=given),
            where,
            tr("Write [[in, out], ...] with rising in values, 0 to 127."),
        )
    return points


def kit_model(value: object, label: str, where: str) -> KitModel:
    """A kit model from its plain form; every number is checked.

    Raises SettingsError
    """

    def pad(channel: object, note: object) -> tuple[int, int]:
        if not isinstance(channel, int) or not isinstance(note, int) or not 0 <= channel <= 16 or not 0 <= note <= 127:
            raise ValueError
        return channel, note

    def number(value: object, low: float, high: float) -> float:
        if isinstance(value, bool) or not isinstance(value, (int, float)) or not low <= value <= high:
            raise ValueError
        return float(value)

    try:
        assert isinstance(value, dict)
        alone = []
        for channel, note, row in value.get("alone", []):
            if len(row) != LEVELS:
                raise ValueError
            alone.append((pad(channel, note), tuple(number(c, 0, 1e9) for c in row)))
        shakes = [
            (
                pad(a, b), pad(c, d), number(mean, -10, 0), number(spread, 0.01, 5), number(part, 0.001, 0.999),
                # Earlier versions did not know when a pad is shaken.
                number(when[0] if when else SHAKEN_AT_MS, -50, 50),
                number(when[1] if when else SHAKEN_SPREAD_MS, 0.01, 50),
            )
            for a, b, c, d, mean, spread, part, *when in value.get("shakes", [])
        ]  # fmt: skip
        hands_ms = number(value.get("hands_ms", HAND_MS), 1, 50)
    except (ValueError, TypeError, AssertionError, AttributeError, IndexError) as error:
        raise SettingsError(
            tr("{label} is not a kit model", label=label), where, tr("Leave it out, or learn it again from a take.")
        ) from error
    return KitModel(tuple(alone), tuple(shakes), hands_ms)


_POINT = {"type": "array", "items": {"type": "number", "minimum": 0, "maximum": 127}, "minItems": 2, "maxItems": 2}
SHAPES_SCHEMA: dict[str, Any] = {
    "type": "object",
    "additionalProperties": {
        "type": "object",
        "additionalProperties": False,
        "properties": {
            "curve": {"type": "array", "minItems": 2, "items": _POINT},
            **{
                one.name: {"type": "number", "minimum": one.low, "maximum": one.high, "description": one.tip}
                for one in settings_of(Shape)
                if one.name != "curve"
            },
        },
    },
}
_NUMBERS = {"type": "array", "items": {"type": "number", "minimum": 0}, "minItems": LEVELS, "maxItems": LEVELS}
KIT_MODEL_SCHEMA: dict[str, Any] = {
    "type": "object",
    "properties": {
        "alone": {
            "type": "array",
            "items": {
                "type": "array",
                "prefixItems": [
                    {"type": "integer", "minimum": 0, "maximum": 16},
                    {"type": "integer", "minimum": 0, "maximum": 127},
                    _NUMBERS,
                ],
                "minItems": 3,
                "maxItems": 3,
            },
        },
        "shakes": {
            "type": "array",
            "items": {"type": "array", "items": {"type": "number"}, "minItems": 7, "maxItems": 9},
        },
        "hands_ms": {"type": "number", "minimum": 1, "maximum": 50},
    },
}
