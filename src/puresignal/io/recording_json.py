"""How a session records, as JSON: read field by field, each checked."""

from __future__ import annotations

from dataclasses import fields, replace
from typing import Any

from puresignal.core.session import recording
from puresignal.core.session.recording import ClickSettings, RecordingSettings

RANGES: dict[str, tuple[float, float]] = {
    "count_in": (0, recording.MOST_BARS), "pre_roll": (0, recording.MOST_BARS), "early": (0, 4),
    "in_delay": (-1000, 1000), "out_delay": (-1000, 1000), "parts": (1, 4), "level": (-60, 12), "first": (0, 127),
    "beat": (0, 127),
}  # fmt: skip
"""Field: from, to."""
CHOICES = {
    "start": recording.STARTS, "after": (recording.STAY, recording.BACK),
    "after_play": (recording.STAY, recording.BACK), "rounds": (recording.LAYER, recording.REPLACE),
    "when": recording.WHENS,
}  # fmt: skip
"""Field: what it can be."""


def from_json(data: object) -> RecordingSettings:
    """The settings; what is missing is as usual.

    Raises ValueError with the name of the field that is wrong
    """
    if not isinstance(data, dict):
        raise ValueError("recording")
    known = _checked(RecordingSettings, {key: value for key, value in data.items() if key != "click"}, "recording")
    click = data.get("click", {})
    if not isinstance(click, dict):
        raise ValueError("recording.click")
    return replace(RecordingSettings(**known), click=ClickSettings(**_checked(ClickSettings, click, "recording.click")))


def _checked(kind: type[RecordingSettings] | type[ClickSettings], data: dict[str, Any], where: str) -> dict[str, Any]:
    usual = {field.name: field.default for field in fields(kind)}
    found = {}
    for name, value in data.items():
        if name not in usual:
            continue
        if name in CHOICES:
            good = value in CHOICES[name]
        elif name in RANGES:
            low, high = RANGES[name]
            number = isinstance(value, int | float) and not isinstance(value, bool)
            good = number and low <= value <= high and (isinstance(usual[name], float) or isinstance(value, int))
        else:
            good = isinstance(value, type(usual[name])) and len(str(value)) < 500
        if not good:
            raise ValueError(f"{where}.{name}")
        found[name] = value
    return found
