"""Settings of earlier files that moved or changed their scale: random velocities and fine steps were part of the
shapes, and the confidence of crosstalk was overstated."""

from __future__ import annotations

import math
from typing import Any

from puresignal.core.path.velocity_curve import ALL

_MOVED = {"velocity.seed": "vary.seed", "velocity.round": "vary.round", "velocity.fine": "target.fine"}
_SURER = 1.8
"""Log odds by which the confidence of crosstalk was overstated before version 2."""
_AMOUNT, _BIAS = ("randomness", "varied"), ("bias", "vary_centre")


def moved(data: dict[Any, Any]) -> dict[Any, Any]:
    """Settings with what stood elsewhere in its present place; those of today are left as they are."""
    data = _apart(data)
    shapes = data.get("velocity.shapes")
    found: dict[str, Any] = {_MOVED.get(name, name): value for name, value in data.items()}
    if not isinstance(shapes, dict) or not all(isinstance(row, dict) for row in shapes.values()):
        return found
    amounts, biases = _of(shapes, _AMOUNT), _of(shapes, _BIAS)
    if not amounts and not biases:
        return found
    gone = {*_AMOUNT, *_BIAS}
    found["velocity.shapes"] = {
        key: {name: value for name, value in row.items() if name not in gone} for key, row in shapes.items()
    }
    # A drum with a shape of its own followed no other shape, also in this.
    found["vary.amount"] = _scoped(shapes, amounts)
    found["vary.bias"] = _scoped(shapes, biases)
    found["vary.on"] = data.get("velocity.on", True) is not False and any(amounts.values())
    return found


def told_as_chances(stage: str, values: dict[Any, Any]) -> dict[Any, Any]:
    """Settings of a stage from before version 2; the limit of confidence is converted to remove the same notes."""
    limit = values.get("min_confidence", values.get("sure"))
    if stage != "crosstalk" or not isinstance(limit, int | float) or not 0 < limit < 1:
        return values
    odds = math.log(limit / (1 - limit)) - _SURER
    others = {name: value for name, value in values.items() if name not in ("min_confidence", "sure")}
    return {**others, "min_confidence": round(1 / (1 + math.exp(-odds)), 2)}


def _apart(data: dict[Any, Any]) -> dict[Any, Any]:
    """Every setting of the velocity stage by itself, as "stage.setting"."""
    found: dict[Any, Any] = {}
    for name, values in data.items():
        if name == "velocity" and isinstance(values, dict):
            found |= {f"velocity.{key}": value for key, value in values.items()}
        else:
            found[name] = values
    return found


def _of(shapes: dict[Any, Any], names: tuple[str, ...]) -> dict[str, Any]:
    return {str(key): row[name] for key, row in shapes.items() for name in names if name in row}


def _scoped(shapes: dict[Any, Any], given: dict[str, Any]) -> dict[str, Any]:
    return {
        "value": given.get(ALL, 0.0),
        "articulations": {str(key): given.get(str(key), 0.0) for key in shapes if key != ALL},
    }
