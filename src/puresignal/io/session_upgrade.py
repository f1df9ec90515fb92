"""Sessions of version 1 as data of version 2."""

from __future__ import annotations

from typing import Any

from puresignal.core.session.live_input import LiveInput
from puresignal.core.session.take_ref import IMPORTED, PLAYED, SOUND

UNKNOWN_TEMPO = 500_000
"""Version 1 said 120 BPM of everything that was recorded: nothing was known of its tempo."""


def upgraded(data: dict[str, Any]) -> dict[str, Any]:
    """A session of version 1 as version 2 says it; what is wrong in it stays wrong, for the reader to tell.

    Its chosen take was its result: that one is in, and its tempo and meters are the session's. What played along is a
    take that sounds.
    """
    current = data.get("current")
    rows, removed = data.get("takes"), data.get("removed_takes", [])
    if not isinstance(rows, list):
        return {**data, "materials": []}
    known = any(isinstance(row, dict) and "in" in row for row in rows)
    takes: list[Any] = []
    # The chosen take has the plain names of tracks, to which settings of tracks refer.
    number = 2
    timeline = data.get("timeline")
    for row in rows:
        if not isinstance(row, dict):
            takes.append(row)
            continue
        chosen = row.get("ident") == current
        own = 1 if chosen else number
        number += not chosen
        takes.append(
            {
                **{key: value for key, value in row.items() if key != "tempo"},
                "kind": PLAYED if row.get("kind") == "captured" else row.get("kind"),
                "number": own,
                "channels": "" if chosen else f"{own}.",
                "in": row.get("in", True) if known else chosen,
                "grid": _grid(row.get("tempo")),
            }
        )
        if chosen and timeline is None:
            timeline = _grid(row.get("tempo"), whole=True)
    materials: list[Any] = []
    for row in (*rows, *(removed if isinstance(removed, list) else ())):
        if isinstance(row, dict):
            kind = PLAYED if row.get("kind") == "captured" else IMPORTED
            materials.append({**{key: row.get(key) for key in ("ident", "name", "tempo")}, "kind": kind})
    if data.get("backing") is not None:
        name = str(data["backing"].get("path", "")) if isinstance(data["backing"], dict) else ""
        takes.append(
            {
                "ident": "sound1",
                "number": number,
                "name": name.rpartition("/")[2],
                "kind": SOUND,
                "sound": data["backing"],
            }
        )
        number += 1
    inputs = data.get("inputs", [])
    if isinstance(inputs, list):
        inputs = [
            {**one, "ident": f"in{i + 1}", "monitor": one.get("heard", True)} if isinstance(one, dict) else one
            for i, one in enumerate(inputs)
        ] or [{"ident": "in1", "port": LiveInput().port, "channel": None, "output": None}]
    return {
        **data,
        "materials": materials,
        "takes": takes,
        "numbers": number,
        "timeline": timeline,
        "order": [],
        "track_order": data.get("order", []),
        "inputs": inputs,
        "view": {"current": current},
    }


def _grid(tempo: object, whole: bool = False) -> dict[str, Any] | None:
    """Beats of a recorded take, None if none are known. whole: also where 120 was only assumed."""
    if not isinstance(tempo, dict):
        return None
    tempos, meters, ppq = tempo.get("tempos"), tempo.get("meters") or [], tempo.get("ppq")
    try:
        if not whole and [row[1] for row in tempos or [[0, UNKNOWN_TEMPO]]] == [UNKNOWN_TEMPO]:
            return None
        beats = [[row[0] / ppq, 60e6 / row[1], False] for row in tempos or [[0, UNKNOWN_TEMPO]]]
        return {"tempos": beats, "meters": [[1, row[1], row[2]] for row in meters[:1]]}
    except (TypeError, IndexError, ZeroDivisionError, KeyError):
        # The material's own tempo is read, and told, apart from this.
        return None
