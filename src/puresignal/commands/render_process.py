"""Rendering as a process: `python -m puresignal.commands.render_process`, with one job as a line of JSON on stdin.

The job: {"session": file, "folder": path, "job": {fields of RenderJob}, "force": bool}. It answers with lines of JSON:
{"progress": 0..1, "file": name} as it goes, {"done": name, "seconds", "peak" in dB, "warnings"} for each file, and at
the end {"ended": true} or {"error": [what, where, remedy]}. It ends, and leaves nothing half written, when stdin does.
"""

from __future__ import annotations

import math
import sys
import threading
import time
from pathlib import Path
from typing import Any

from puresignal.commands import rendering
from puresignal.commands.json_job import do_job, say
from puresignal.commands.rendering import RenderJob
from puresignal.core.errors import FileAccessError
from puresignal.io import session_file
from puresignal.translation import tr

EVERY = 0.1


def main() -> int:
    return do_job(_render, "rendering")


def _render(asked: dict[str, Any], wanted: threading.Event) -> None:
    opened = session_file.read(Path(str(asked["session"])))
    given = dict(asked["job"])
    given["bars"] = tuple(given["bars"]) if given.get("bars") else None
    given["only"] = tuple(given.get("only") or ())
    job, folder = RenderJob(**given), Path(str(asked["folder"]))
    takes = {take.ident: take for take in opened.takes}
    found = rendering.parts(opened.session, takes, job)
    names = rendering.names(opened.session, found, job)
    there = [name for name in names if (folder / name).exists()]
    if there and not asked.get("force"):
        raise FileAccessError(
            tr("{n} of these files are there already", n=len(there)), str(folder),
            tr("Tick “Overwrite”, or choose other names."),
        )  # fmt: skip
    renderer, told = rendering.Renderer(opened.session, takes, job), 0.0
    for i, (part, name) in enumerate(zip(found, names, strict=True)):

        def progress(done: float, i: int = i, name: str = name) -> bool:
            nonlocal told
            now = time.monotonic()
            if now - told >= EVERY:
                told = now
                say({"progress": (i + done) / len(found), "file": name})
            return wanted.is_set()

        made = renderer.render(part, folder / name, progress)
        peak = round(20 * math.log10(max(made.peak, 1e-6)), 1)
        say({"done": name, "seconds": round(made.seconds, 2), "peak": peak, "warnings": list(made.warnings)})


if __name__ == "__main__":
    sys.exit(main())
