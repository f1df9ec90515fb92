"""A groove as a setting: its plain form in settings files and sessions."""

from __future__ import annotations

from typing import Any

from puresignal.core.errors import SettingsError
from puresignal.core.timing.groove import MOST_LATE, MOST_PLACES, NONE, Groove
from puresignal.translation import tr


def to_json(groove: Groove) -> object:
    """The plain form; null for none."""
    if not groove.late:
        return None
    return {"name": groove.name, "late": list(groove.late), "louder": list(groove.louder)}


def from_json(data: object, label: str, where: str) -> Groove:
    """A groove from its plain form.

    Raises SettingsError
    """
    if data is None:
        return NONE
    try:
        assert isinstance(data, dict)
        late, louder = data["late"], data["louder"]
        assert isinstance(late, list)
        assert isinstance(louder, list)
        assert 0 < len(late) == len(louder) <= MOST_PLACES
        assert all(_is_within(value, -MOST_LATE, MOST_LATE) for value in late)
        assert all(_is_within(value, 0.0, 4.0) for value in louder)
        name = data.get("name", "")
        assert isinstance(name, str)
        assert len(name) < 200
    except (AssertionError, KeyError) as error:
        raise SettingsError(
            tr("{label} is not a groove", label=label), where,
            tr("Write null, or as many numbers for late (milliseconds) as for louder (factors)."),
        ) from error  # fmt: skip
    return Groove(name, tuple(float(v) for v in late), tuple(float(v) for v in louder))


def _is_within(value: Any, low: float, high: float) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and low <= value <= high


SCHEMA: dict[str, Any] = {
    "anyOf": [
        {"type": "null"},
        {
            "type": "object",
            "required": ["late", "louder"],
            "properties": {
                "name": {"type": "string", "maxLength": 199},
                "late": {
                    "type": "array", "maxItems": MOST_PLACES,
                    "items": {"type": "number", "minimum": -MOST_LATE, "maximum": MOST_LATE},
                },
                "louder": {
                    "type": "array", "maxItems": MOST_PLACES,
                    "items": {"type": "number", "minimum": 0, "maximum": 4},
                },
            },
        },
    ]
}  # fmt: skip
