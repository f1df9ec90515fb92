"""Cleaning many files as a process: `python -m puresignal.commands.batch_process`, one job as a line of JSON on stdin.

The job: {"inputs": [files or folders], "out": folder or null, "source": note map or null to recognise it, "target":
note map or null, "settings": settings of the stages, "force": bool, "summary": file or null}. Without "out" the files
are only looked at, and nothing is written. It answers with lines of JSON: {"files": n}, then for each file {"file":
name, "map": name of the source map, "in": n, "out": n, "removed": n, "reasons": {reason: n}, "notes": [sentences]} or
{"file": name, "error": sentence}, and at the end {"ended": true} or {"error": [what, where, remedy]}. It ends when
stdin does.
"""

from __future__ import annotations

import os
import sys
import threading
from pathlib import Path
from typing import Any

from puresignal.commands import clean
from puresignal.commands.json_job import do_job, say
from puresignal.core.errors import PureSignalError
from puresignal.core.export import left_out
from puresignal.core.kit import note_map
from puresignal.core.path import settings_json
from puresignal.core.path.cleaning_path import make_context, run
from puresignal.io import note_map_file, report


def main() -> int:
    return do_job(_work, "cleaning a folder")  # not shown


def _work(asked: dict[str, Any], wanted: threading.Event) -> None:
    names = [Path(name) for name in asked["inputs"]]
    out = Path(asked["out"]) if asked.get("out") else None
    found = clean.inputs(names, out or Path(os.devnull))
    source, target = (
        None if asked.get(name) is None else note_map.from_json(asked[name], name) for name in ("source", "target")
    )
    job = clean.Job(source, target, settings_json.from_json(asked["settings"], "settings"), bool(asked.get("force")))
    say({"files": len(found)})
    if out is None:
        for path in found:
            if not wanted.is_set():
                return
            say(_looked_at(path, job))
        return
    targets = clean.outputs(found, names, f"{out}/", job.force)
    summary = Path(asked["summary"]) if asked.get("summary") else None
    if summary is not None:
        clean.check_told(found, targets, [summary], job.force)
    page = None if summary is None else clean.SummaryPage()
    for item in clean.clean_files(found, targets, job, False, page):
        # The file that is being written is finished first, so that nothing half written lies about.
        if not wanted.is_set():
            return
        if item.error is not None or item.report is None:
            say({"file": str(item.source), "error": str(item.error)})
            continue
        sums, told = item.report["sums"], item.report["warnings"]
        say({"file": str(item.source), "map": item.found_map or (source.name if source else ""), **_told(sums, told)})
    if summary is not None and page is not None:
        page.write(summary)


def _looked_at(path: Path, job: clean.Job) -> dict[str, Any]:
    """Numbers and sentences on what cleaning would do to a file."""
    try:
        take = clean.open_take(path)
        source = job.source or clean.likely_map(take, note_map_file.shipped("general-midi"))
        outcome = run(take, job.path, make_context(take, source, job.target, job.path))
    except PureSignalError as error:
        return {"file": str(path), "error": str(error)}
    told = [*take.notices, *left_out.left_out(take, outcome)]
    return {"file": str(path), "map": source.name, **_told(report.sums(outcome), told)}


def _told(sums: dict[str, Any], told: list[str]) -> dict[str, Any]:
    removed = sums["removed"]
    total = sum(removed.values())
    return {"in": sums["in"], "out": sums["out"], "removed": total, "reasons": removed, "notes": told}


if __name__ == "__main__":
    sys.exit(main())
