"""What a router is told: ports, maps and settings, as one JSON object. No session or file code is needed for it."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from typing import Any

from puresignal.core import notemap, settings
from puresignal.core.events import Port
from puresignal.core.notemap import NoteMap
from puresignal.core.path.context import Context
from puresignal.core.path.path import LivePath, Path

PANIC = b"panic\n"
"""What is sent in place of a setup to end every note at once."""


@dataclass(frozen=True)
class Setup:
    """Which ports are joined, and what happens between them.

    inputs, outputs  names as the command line takes them: exact, else the first that contains it
    """

    inputs: tuple[str, ...]
    outputs: tuple[str, ...]
    source: NoteMap | None = None
    target: NoteMap | None = None
    path: Path = field(default_factory=Path)
    client: str = "Pure Signal"


def to_bytes(setup: Setup) -> bytes:
    """One line of JSON."""
    data = {
        "inputs": list(setup.inputs),
        "outputs": list(setup.outputs),
        "source": None if setup.source is None else notemap.to_json(setup.source),
        "target": None if setup.target is None else notemap.to_json(setup.target),
        "path": settings.to_json(setup.path),
        "client": setup.client,
    }
    return json.dumps(data).encode() + b"\n"


def from_bytes(line: bytes) -> Setup:
    """The other way round. Comes from our own side of a socket pair, so what is wrong in it is a bug."""
    data: dict[str, Any] = json.loads(line)
    maps = [None if data[k] is None else notemap.from_json(data[k], k) for k in ("source", "target")]
    path = settings.from_json(data["path"], "path")
    return Setup(tuple(data["inputs"]), tuple(data["outputs"]), maps[0], maps[1], path, data["client"])


def live_path(setup: Setup) -> LivePath:
    """The path as it runs live: tables made once, here, and not while somebody plays."""
    ports = tuple(Port(name, i) for i, name in enumerate(setup.inputs)) or (Port(""),)
    context = Context(setup.source, setup.target, ports, 0.0, setup.path.split.by)
    return LivePath(setup.path, context)
